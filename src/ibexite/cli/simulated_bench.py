"""The simulated bench in a process of its own: from a bench file to a plan, started and stopped with a run."""

from __future__ import annotations

import ipaddress
import json
import subprocess
import sys
from types import TracebackType
from typing import Any

from ibexite.bench.file import BenchFile, InstrumentFact
from ibexite.errors import BenchError, MistakeError, did_you_mean
from ibexite.instruments.link import parse_address
from ibexite.simulate.plan import KINDS, TROUBLES, SimulationPlan, StandIn, Trouble, connectable
from ibexite.simulate.products import PRODUCTS


def make_plan(file: BenchFile, serial: str, *, own_ports: bool) -> SimulationPlan:
    """The plan for the stand-ins of a bench file.

    Args:
        serial: serial number of the unit in the simulated fixture.
        own_ports: take free ports of this machine instead of the addresses in the file.

    Raises:
        MistakeError: the file names no product or no stand-in, or wires it to what does not exist.
    """
    name = str(file.path)
    if not file.product:
        raise MistakeError(
            "no simulated product",
            where=f"{name}: simulation.product",
            remedy=f"Add [simulation] with product = one of: {', '.join(PRODUCTS)}.",
        )
    if file.product not in PRODUCTS:
        raise MistakeError(
            f"there is no simulated product {file.product!r}",
            where=f"{name}: simulation.product",
            remedy=did_you_mean(file.product, PRODUCTS),
        )
    stand_ins = [_stand_in(file, fact, own_ports) for fact in file.instruments.values() if fact.simulated]
    if not stand_ins:
        raise MistakeError(
            "no instrument has a simulated stand-in",
            where=name,
            remedy='Add, for example: simulated = { identity = "Firnline,PS-36", wiring = { 1 = "battery" } }',
        )
    return SimulationPlan(file.product, serial, tuple(stand_ins))


def _stand_in(file: BenchFile, fact: InstrumentFact, own_ports: bool) -> StandIn:
    simulated = fact.simulated
    assert simulated is not None
    where = f"{file.path}: instruments.{fact.name}.simulated"
    kind = fact.profile.instrument_class.name
    if kind not in KINDS:
        raise MistakeError(f"there is no simulated {kind}", where=where, remedy="There is: " + ", ".join(KINDS) + ".")
    known = connectable(file.product, kind)
    for channel, target in simulated.wiring.items():
        if target not in known:
            raise MistakeError(
                f"{file.product} has no {target!r} for a {kind}",
                where=f"{where}.wiring.{channel}",
                remedy=did_you_mean(target, known),
            )
    if kind != "multimeter" and 1 not in simulated.wiring:
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
    host, port = ("127.0.0.1", 0) if own_ports else parse_address(fact.address)
    return StandIn(
        fact.name,
        kind,
        simulated.identity,
        host,
        port,
        simulated.wiring,
        simulated.answer_time,
        tuple(Trouble(t.query, t.how, t.nth, t.times) for t in simulated.trouble),
    )


def is_on_this_machine(address: str) -> bool:
    """True for loopback addresses."""
    host = parse_address(address)[0]
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return host == "localhost"


class SimulatedBench:
    """A running simulated bench; as a context manager it gives the bench file moved to its ports."""

    def __init__(self, file: BenchFile, serial: str) -> None:
        self.file = file
        self._plan = make_plan(file, serial, own_ports=True)
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
        self._stop()

    def _stop(self) -> None:
        assert self._process.stdin and self._process.stdout
        self._process.stdin.close()
        self._process.wait(5)
        self._process.stdout.close()
