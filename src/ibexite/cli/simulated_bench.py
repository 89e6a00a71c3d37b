"""The simulated bench in a process of its own: from a bench file to a plan, started and stopped with a run."""

from __future__ import annotations

import ipaddress
import json
import re
import subprocess
import sys
from types import TracebackType
from typing import Any

from ibexite.bench.file import BenchFile, InstrumentFact, SimulatedFact
from ibexite.errors import BenchError, MistakeError, did_you_mean
from ibexite.instruments.link import parse_address
from ibexite.protocols.scpi import INFINITY
from ibexite.simulate.plan import KINDS, STIMULUS, TROUBLES, SimulationPlan, StandIn, Trouble, connectable
from ibexite.simulate.products import NOTHING, PRODUCTS
from ibexite.simulate.world import UNWIRED


def make_plan(
    file: BenchFile, serial: str, *, own_ports: bool, presets: dict[str, list[float | None]] | None = None
) -> SimulationPlan:
    """The plan for the stand-ins of a bench file. An instrument without one gets that of its class, wired to nothing.

    Args:
        serial: serial number of the unit in the simulated fixture.
        own_ports: take free ports of this machine instead of the addresses in the file.
        presets: prepared readings in base units by signal, or by role.reading; None for an overload.

    Raises:
        MistakeError: the file names a product that does not exist, or wires a stand-in to what is not there.
    """
    product = file.product or NOTHING
    if product not in PRODUCTS:
        raise MistakeError(
            f"there is no simulated product {product!r}",
            where=f"{file.path}: simulation.product",
            remedy=did_you_mean(product, [name for name in PRODUCTS if name != NOTHING]),
        )
    if not file.product and any(fact.simulated and fact.simulated.wiring for fact in file.instruments.values()):
        raise MistakeError(
            "no simulated product",
            where=f"{file.path}: simulation.product",
            remedy=f"Add [simulation] with product = one of: {', '.join(n for n in PRODUCTS if n != NOTHING)}.",
        )
    raw = _raw_presets(file, presets or {})
    stand_ins = [
        _stand_in(file, fact, product, own_ports, raw.get(fact.name, {})) for fact in file.instruments.values()
    ]
    return SimulationPlan(product, serial, tuple(stand_ins))


def _raw_presets(file: BenchFile, presets: dict[str, list[float | None]]) -> dict[str, dict[str, list[float]]]:
    """Prepared readings as each instrument would answer them, by its channel or the name of the reading."""
    raw: dict[str, dict[str, list[float]]] = {}
    for name, values in presets.items():
        role, dot, reading = name.partition(".")
        signal = file.signals.get(name)
        if signal is None and (not dot or role not in file.roles):
            raise MistakeError(
                f"there is no signal or role.reading {name!r}",
                where="readings",
                remedy=did_you_mean(name, file.signals),
            )
        fact = file.roles[signal.role if signal else role]
        profile = file.instruments[fact.instrument].profile
        commands = profile.readings.get(signal.reading if signal else reading)
        if commands is None:
            raise MistakeError(
                f"{role} has no reading {reading!r}", where="readings", remedy=did_you_mean(reading, profile.readings)
            )
        by_channel = profile.instrument_class.name in ("multimeter", "oscilloscope")
        key = str(signal.channel if signal else fact.channel) if by_channel else commands.feature.name
        raw.setdefault(fact.instrument, {})[key] = [
            INFINITY if v is None else commands.unit.from_base(signal.raw_value(v) if signal else v) for v in values
        ]
    return raw


def _stand_in(
    file: BenchFile, fact: InstrumentFact, product: str, own_ports: bool, presets: dict[str, list[float]]
) -> StandIn:
    simulated = fact.simulated or SimulatedFact(_identity_for(fact), {}, 0.0, ())
    where = f"{file.path}: instruments.{fact.name}.simulated"
    kind = fact.profile.instrument_class.name
    if kind not in KINDS:
        raise MistakeError(f"there is no simulated {kind}", where=where, remedy="There is: " + ", ".join(KINDS) + ".")
    known = connectable(product, kind)
    for channel, target in simulated.wiring.items():
        if target not in known:
            raise MistakeError(
                f"{product} has no {target!r} for a {kind}",
                where=f"{where}.wiring.{channel}",
                remedy=did_you_mean(target, known),
            )
    if simulated.wiring and kind in STIMULUS and 1 not in simulated.wiring:
        raise MistakeError(
            "channel 1 is not wired", where=f"{where}.wiring", remedy=f'Write: wiring = {{ 1 = "{known[0]}" }}'
        )
    for trouble in simulated.trouble:
        if trouble.how not in TROUBLES:
            raise MistakeError(
                f"there is no trouble {trouble.how!r}",
                where=f"{where}.trouble",
                remedy=did_you_mean(trouble.how, TROUBLES),
            )
    wiring = {**_channels_of(file, fact, known), **simulated.wiring}
    host, port = ("127.0.0.1", 0) if own_ports else parse_address(fact.address)
    return StandIn(
        fact.name,
        kind,
        simulated.identity,
        host,
        port,
        wiring,
        simulated.answer_time,
        tuple(Trouble(t.query, t.how, t.nth, t.times) for t in simulated.trouble),
        presets,
    )


def _identity_for(fact: InstrumentFact) -> str:
    """What a stand-in that the bench file does not describe says it is: it must fit what the file expects."""
    plain = fact.identity.replace(".*", "").replace("\\", "")
    if not fact.identity or re.match(fact.identity, plain):
        return plain or f"Simulated,{fact.profile.instrument_class.name}"
    raise MistakeError(
        "nobody can guess an identity for its stand-in", where=f"{fact.name}: identity",
        remedy=f'Add to [instruments.{fact.name}]: simulated = {{ identity = "…" }}',
    )  # fmt: skip


def _channels_of(file: BenchFile, fact: InstrumentFact, known: tuple[str, ...]) -> dict[int, str]:
    """The channels that the signals of a bench need, wired to a quantity of their name where the product has it."""
    roles = {role.name for role in file.roles.values() if role.instrument == fact.name}
    return {
        signal.channel: signal.name if signal.name in known else UNWIRED
        for signal in file.signals.values() if signal.role in roles
    }  # fmt: skip


def is_on_this_machine(address: str) -> bool:
    """True for loopback addresses."""
    host = parse_address(address)[0]
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


class SimulatedBench:
    """A running simulated bench; as a context manager it gives the bench file moved to its ports."""

    def __init__(self, file: BenchFile, serial: str, presets: dict[str, list[float | None]] | None = None) -> None:
        self.file = file
        self._plan = make_plan(file, serial, own_ports=True, presets=presets)
        # A session of its own: a Ctrl-C in the terminal must not take the instruments away before they are safe.
        self._process = subprocess.Popen(
            [sys.executable, "-m", "ibexite.simulate.server"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
            start_new_session=True,
        )

    def __enter__(self) -> BenchFile:
        process = self._process
        assert process.stdin and process.stdout
        process.stdin.write(json.dumps(self._plan.as_data()) + "\n")
        process.stdin.flush()
        line = process.stdout.readline()
        answer: dict[str, Any] = json.loads(line) if line else {"error": "its process ended"}
        if "error" in answer:
            self._stop()
            raise BenchError(f"the simulated bench did not start: {answer['error']}")
        return self.file.moved_to(answer["ports"])

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stop(is_safe=error is None)

    def advance(self, seconds: float) -> None:
        """Lets the time of the simulated world jump ahead; returns when it has."""
        process = self._process
        assert process.stdin and process.stdout
        try:
            process.stdin.write(json.dumps({"advance": seconds}) + "\n")
            process.stdin.flush()
            answer = process.stdout.readline()
        except OSError:
            answer = ""
        if not answer:
            raise BenchError("the simulated bench ended while the run went on")

    def _stop(self, *, is_safe: bool = True) -> None:
        assert self._process.stdin and self._process.stdout
        try:
            if is_safe:
                self._process.stdin.write(json.dumps({"end": True}) + "\n")
            self._process.stdin.close()
        except OSError:
            pass  # it has ended already
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process.stdout.close()
