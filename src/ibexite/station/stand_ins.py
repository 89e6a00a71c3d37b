"""From a bench file to the plan of its stand-ins, checked: the product there is, and wired to what it has."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.bench.entries import InstrumentEntry, SignalEntry, SimulatedEntry, TroubleEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.simulated_entries import trouble_of
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import replaced
from ibexite.instruments.address import Address, Hislip, Program, RawSocket, Serial, Usbtmc, Vxi11, parse_address
from ibexite.plain_file import is_file
from ibexite.simulate.nature import ROOM, UNWIRED
from ibexite.simulate.plan import STIMULUS, SimulationPlan, StandIn, Trouble
from ibexite.simulate.products import DESCRIBED, NOTHING, OWN, PRODUCTS, connectable
from ibexite.simulate.troubles import NEEDS_MESSAGE, WAYS
from ibexite.station.manuals import manual_of
from ibexite.station.prepared import Readings
from ibexite.station.prepared_waves import PreparedWave

if TYPE_CHECKING:
    from ibexite.station.product_model import ProductModel

Presets = dict[str, list[float | str]]


def make_plan(file: BenchFile, serial: str, *, own_ports: bool, presets: Readings | None = None) -> SimulationPlan:
    """The plan for the stand-ins of a bench file. An instrument without one gets that of its class, wired to nothing.

    Args:
        serial: serial number of the unit in the simulated fixture.
        own_ports: take free ports of this machine instead of the addresses in the file; for addresses elsewhere that is
            always done.
        presets: prepared readings in base units by signal, or by role.reading; None for an overload.

    Raises:
        MistakeError: the file names a product that does not exist, or wires a stand-in to what is not there.
    """
    product, model = file.product or NOTHING, None
    if product.endswith((".toml", ".py")):
        product, model = _own_product(file)
    elif product not in PRODUCTS:
        raise MistakeError(
            f"there is no simulated product {product!r}",
            where=f"{file.path}: simulation.product",
            remedy=did_you_mean(product, [name for name in PRODUCTS if name != NOTHING])
            + " One of your own is named by its file, my_product.toml.",
        )
    if not file.product and any(fact.simulated and fact.simulated.wiring for fact in file.instruments.values()):
        raise MistakeError(
            "no simulated product",
            where=f"{file.path}: simulation.product",
            remedy=f"Add [simulation] with product = one of: {', '.join(n for n in PRODUCTS if n != NOTHING)}.",
        )
    raw = raw_presets(file, presets or {})
    stand_ins = [
        _stand_in(file, fact, product, model, own_ports, raw.get(fact.name, {})) for fact in file.instruments.values()
    ]
    data = None if model is None else {"path": str(model)} if isinstance(model, Path) else model.data
    return SimulationPlan(product, serial, tuple(stand_ins), data)


def _own_product(file: BenchFile) -> tuple[str, ProductModel | Path]:
    """The kind of a product of one's own, and its model, or its Python file (which the simulated bench runs)."""
    path = file.path.parent / file.product
    if path.suffix == ".toml":
        from ibexite.station.product_model import read_model

        return DESCRIBED, read_model(path)
    if not is_file(path):
        raise MistakeError("there is no such file", where=f"{file.path}: simulation.product", remedy="Check the path.")
    return OWN, path.absolute()


def _connectable(product: str, model: ProductModel | Path | None, kind: str) -> tuple[str, ...] | None:
    """What an instrument can be wired to; None where nobody knows before the product is run."""
    if isinstance(model, Path):
        return None
    return connectable(product, kind) if model is None else model.connectable(kind)


def raw_presets(file: BenchFile, presets: Readings, others: Readings | None = None) -> dict[str, Presets]:
    """Prepared readings as each instrument would answer them: by channel or name of the reading, and by both. `others`
    are prepared as well, for cold junctions."""
    raw: dict[str, Presets] = {}
    if not presets:
        return raw
    from ibexite.protocols.scpi import INFINITY

    prepared = {**(others or {}), **presets}
    for name, values in presets.items():
        role, dot, reading = name.partition(".")
        signal = file.signals.get(name)
        if signal is None and (not dot or role not in file.roles):
            raise MistakeError(
                f"there is no signal or role.reading {name!r}",
                where="readings",
                remedy=did_you_mean(name, file.signals),
            )
        if signal is not None and signal.correction is not None:
            raise MistakeError(
                f"{name} is corrected over frequency, and nobody knows at which one it will be read", where="readings",
                remedy=f'Prepare what its instrument answers: "{signal.role}.{signal.reading}"',
            )  # fmt: skip
        fact = file.roles[signal.role if signal else role]
        profile = file.instruments[fact.instrument].profile
        commands = profile.readings.get(signal.reading if signal else reading)
        if commands is None:
            raise MistakeError(
                f"{role} has no reading {reading!r}", where="readings", remedy=did_you_mean(reading, profile.readings)
            )
        by_channel = profile.instrument_class.name in ("multimeter", "oscilloscope")
        key = str(signal.channel if signal else fact.channel) if by_channel else commands.feature.name
        given: list[float | str] = []
        for value in values:
            if isinstance(value, PreparedWave):
                assert signal is not None  # that is recorded
                given.append(value.told(signal))
            elif value is None or isinstance(value, str):
                given.append(INFINITY if value is None else value)
            else:
                given.append(commands.unit.from_base(_raw(file, signal, value, prepared) if signal else value))
        mine = raw.setdefault(fact.instrument, {})
        mine[key] = mine[f"{commands.feature.name}:{signal.channel if signal else fact.channel}"] = given
    return raw


def _raw(file: BenchFile, signal: SignalEntry, value: float, presets: Readings) -> float:
    """The reading that gives a value. Of a thermocouple: with its cold junction as it is prepared, or at 23 degC."""
    if signal.junction is None:
        return signal.raw_value(value)
    from ibexite.analysis import thermocouples

    prepared = presets.get(signal.junction.signal) or [ROOM]
    cold = prepared[0] if isinstance(prepared[0], float) else ROOM
    kind = signal.junction.kind
    return signal.chain.reading(thermocouples.voltage(kind, value) - thermocouples.voltage(kind, cold))


def _trouble(t: TroubleEntry) -> Trouble:
    return Trouble(t.query, t.how, t.nth, t.times, t.command, t.pause, t.message, t.longest)


def _stand_in(
    file: BenchFile, fact: InstrumentEntry, product: str, model: ProductModel | Path | None, own_ports: bool,
    presets: Presets,
) -> StandIn:  # fmt: skip
    simulated = fact.simulated or SimulatedEntry(_identity_for(fact), {}, 0.0, ())
    where = f"{file.path}: instruments.{fact.name}.simulated"
    kind = fact.profile.instrument_class.name
    known = _connectable(product, model, kind)
    for channel, target in simulated.wiring.items():
        if known is not None and target not in known:
            raise MistakeError(
                f"{file.product} has no {target!r} for a {kind}",
                where=f"{where}.wiring.{channel}",
                remedy=did_you_mean(target, known),
            )
    if simulated.wiring and kind in STIMULUS and 1 not in simulated.wiring:
        example = known[0] if known else "…"
        raise MistakeError(
            "channel 1 is not wired", where=f"{where}.wiring", remedy=f'Write: wiring = {{ 1 = "{example}" }}'
        )
    for trouble in simulated.trouble:
        if trouble.how not in WAYS:
            raise MistakeError(
                f"there is no trouble {trouble.how!r}", where=f"{where}.trouble", remedy=did_you_mean(trouble.how, WAYS)
            )
        if (trouble.how in NEEDS_MESSAGE) != bool(trouble.message) and trouble.how != "swap":
            raise MistakeError(
                f"the trouble {trouble.how!r} takes {'a' if trouble.how in NEEDS_MESSAGE else 'no'} message",
                where=f"{where}.trouble", remedy="With a message: " + ", ".join(NEEDS_MESSAGE) + ".",
            )  # fmt: skip
    wiring = {**_channels_of(file, fact, known), **simulated.wiring}
    link, host, port, device = _place(parse_address(fact.address), own_ports)
    return StandIn(
        fact.name,
        kind,
        simulated.identity,
        host,
        port,
        wiring,
        simulated.answer_time,
        tuple(
            Trouble(t.query, t.how, t.nth, t.times, t.command, t.pause, t.message, t.longest) for t in simulated.trouble
        ),
        presets,
        link,
        device,
        bool(fact.link.get("overlapped")),
        fact.profile.terminator,
        fact.profile.reply_terminator,
        fact.profile.greeting,
        manual_of(fact.profile),
    )


def _place(address: Address, own_ports: bool) -> tuple[str, str, int, str]:
    """Over which link a stand-in is served, and where: host, port (0: a free one) and name at the host. At the address
    in the bench file, if that is on this machine and wanted."""
    host, port = "127.0.0.1", 0
    if isinstance(address, RawSocket | Hislip) and address.is_on_this_machine and not own_ports:
        host, port = address.host, address.port
    if isinstance(address, Hislip):
        return "hislip", host, port, address.sub_address
    if isinstance(address, Vxi11):
        is_here = address.is_on_this_machine and not own_ports and address.port_mapper != 111
        return "vxi11", address.host if is_here else host, address.port_mapper if is_here else 0, address.device
    if isinstance(address, Serial):
        return "serial", host, 0, ""
    if isinstance(address, Usbtmc):
        return "usb", host, 0, ""
    if isinstance(address, Program):
        return "program", host, 0, ""
    return "socket", host, port, ""


def _identity_for(fact: InstrumentEntry) -> str:
    """What a stand-in that the bench file does not describe says it is: it must fit what the file expects."""
    plain = fact.identity.replace(".*", "").replace("\\", "")
    if not fact.identity or re.match(fact.identity, plain):
        return plain or f"Simulated,{fact.profile.instrument_class.name}"
    raise MistakeError(
        "nobody can guess an identity for its stand-in", where=f"{fact.name}: identity",
        remedy=f'Add to [instruments.{fact.name}]: simulated = {{ identity = "…" }}',
    )  # fmt: skip


def _channels_of(file: BenchFile, fact: InstrumentEntry, known: tuple[str, ...] | None) -> dict[int, str]:
    """The channels that the roles and signals of a bench need, those of signals wired to a quantity of their name where
    the product has it."""
    roles = {role.name: role.channel for role in file.roles.values() if role.instrument == fact.name}
    applies = fact.profile.instrument_class.name in STIMULUS  # wired to nothing, each has a terminal of its own
    return ({} if applies else dict.fromkeys(roles.values(), UNWIRED)) | {
        signal.channel: signal.name if signal.name in (known or ()) else UNWIRED
        for signal in file.signals.values() if signal.role in roles
    }  # fmt: skip


def with_troubles(file: BenchFile, texts: Iterable[str]) -> BenchFile:
    """The bench with more troubles of its stand-ins, each a text as ibexite.bench.file.trouble_of reads it; they go
    before those of the file. Raises MistakeError."""
    instruments = dict(file.instruments)
    for text in texts:
        name, trouble = trouble_of(text)
        fact = instruments.get(name)
        if fact is None:
            what = f"{name!r} is no instrument of this bench"
            raise MistakeError(what, where="--trouble", remedy=did_you_mean(name, instruments))
        before = fact.simulated or SimulatedEntry(_identity_for(fact), {}, 0.0, ())
        simulated = replaced(before, trouble=(trouble, *before.trouble))
        instruments[name] = replaced(fact, simulated=simulated)
    return replaced(file, instruments=instruments)
