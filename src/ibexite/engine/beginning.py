"""What is told of a run at its beginning: the sequence, its files, its parameters, the instruments."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping
from pathlib import Path

from ibexite import __version__, events, units
from ibexite.bench.entries import RouteEntry
from ibexite.bench.file import BenchFile
from ibexite.bench.interface import BenchLike, Connected
from ibexite.bench.route_entries import excluded
from ibexite.classes import PLAYER, RECORDER
from ibexite.engine.orders import Identity, Orders
from ibexite.engine.services import Services
from ibexite.language import constants, nodes
from ibexite.language.program import PlayUse, Program
from ibexite.untyped import Fields


def sequence_hash(program: Program) -> str:
    """The SHA-256 of a sequence as it runs."""
    return _sha256(program.source.text.encode())


def run_started(
    program: Program, bench: BenchFile, identity: Identity, orders: Orders, clock: float,
    services: Services,
) -> events.RunStarted:  # fmt: skip
    """The first event of a run; `clock` is the time in s at which it began, on its own clock."""
    sequence, source, earlier = program.sequence, program.source, orders.earlier
    return events.RunStarted(
        identity.run,
        identity.started.isoformat(timespec="milliseconds"),
        identity.serial,
        identity.operator,
        identity.station,
        __version__,
        {
            "title": sequence.title,
            "product": sequence.product,
            "revision": sequence.revision,
            "file": source.name,
            "sha256": identity.sequence_sha256,
        },
        {"name": bench.name, "file": str(bench.path), "sha256": bench.sha256, "position": bench.position},
        [_param(param, program, orders) for param in sequence.params if param.name in program.params],
        [{"test": c.name, "title": c.title, "gate": c.test.is_gate, "tags": list(c.tags)} for c in program.cases],
        identity.lot,
        files_of(program, bench),
        identity.retest_of,
        earlier.first_run if earlier else "",
        earlier.first_verdict if earlier and not earlier.is_first_pass else "",
        clock,
        identity.number,
        {**orders.as_told(), **services.as_told(), "text": source.text if orders.is_measurement else ""},
    )


def signals_needed(program: Program, bench: BenchFile) -> list[str]:
    """The signals of a sequence, with those that they stand on (cold junctions)."""
    named = [need.name for need in program.sequence.needs if need.is_signal]
    if bench.button and any(s.kind == "button" for s in _statements(program) if isinstance(s, nodes.Ask)):
        named.append(bench.button)
    junctions = [bench.signals[name].junction for name in named]
    return list(dict.fromkeys([*named, *(junction.signal for junction in junctions if junction is not None)]))


def play_settings(use: PlayUse, bench: BenchFile) -> list[tuple[str, str]]:
    """The settings that a play line sets: role and setting."""
    switch = bench.instruments[bench.roles[use.role].instrument].profile.instrument_class.switch
    found = [(use.role, setting) for setting in (*PLAYER, switch)]
    for reading in use.node.readings:
        signal = bench.signals[use.signals.get(reading.source, reading.source)]
        found += [(signal.role, setting) for setting in RECORDER]
    return list(dict.fromkeys(found))


def routes_needed(program: Program, bench: BenchFile) -> list[RouteEntry]:
    """The routes of a sequence, with those that exclude them: whether these are open must be known."""
    named = [need.name for need in program.sequence.needs if need.is_route]
    others = [name for pair in excluded(bench.routes) if set(pair) & set(named) for name in pair]
    return [bench.routes[name] for name in dict.fromkeys([*named, *others])]


def worn_relays(program: Program, bench: BenchLike, closings: Mapping[tuple[str, int], int]) -> list[str]:
    """The relays of the routes of a sequence that have closed as often as they are rated for, in words."""
    told, connected = {}, bench.connected()
    for route in routes_needed(program, bench.file):
        name = bench.file.roles[route.switch].instrument
        identity = connected[name].identity if name in connected else ""
        for channel in route.channels:
            count = closings.get((identity, channel), 0)
            if route.rated and count >= route.rated:
                told[name, channel] = (
                    f"relay {channel} of {name} has closed {count} times, and is rated for {route.rated} "
                    f"(route {route.name})"
                )
    return list(told.values())


def instruments_of(program: Program, bench: BenchFile) -> list[str]:
    """The instruments behind all needs, in the order of the bench file."""
    roles = [need.name for need in program.sequence.needs if need.is_role]
    for route in routes_needed(program, bench):
        roles += [route.switch, *route.only_while_off]
    for name in signals_needed(program, bench):
        signal = bench.signals[name]
        roles += [signal.role, *([signal.correction.role] if signal.correction and signal.correction.role else [])]
    used = {bench.roles[role].instrument for role in roles}
    return [name for name in bench.instruments if name in used]


def files_of(program: Program, bench: BenchFile) -> list[dict[str, str]]:
    """The other files that take part: shared files, masks, references, Python files, programs, profiles."""
    found = {source.name: (_sha256(source.text.encode()), "") for source in program.shared}
    found |= {path: (digest, "") for path, digest in program.python_files}
    for use in program.measures.values():
        facts = use.measurement
        if facts.kind != "sequence":
            found[facts.origin] = (facts.sha256, facts.version)
    for name in instruments_of(program, bench):
        profile = bench.instruments[name].profile
        found[f"profile {profile.name}"] = (profile.sha256, "")
    for signal in (bench.signals[name] for name in signals_needed(program, bench)):
        for path in signal.files:
            found[str(path)] = (_sha256(path.read_bytes()) if path.is_file() else "", "")
    for name, path in _programs(program).items():
        found[name] = (_sha256(path.read_bytes()) if path.is_file() else "", "")
    found |= {mask.path: (mask.sha256, "") for mask in program.masks.values()}
    found |= {one.path: (one.sha256, "") for one in program.references.values() if one is not None}
    return [{"name": n, "sha256": digest, "version": version} for n, (digest, version) in sorted(found.items())]


def _programs(program: Program) -> dict[str, Path]:
    """The programs of all call lines, by the name that the sequence gives them."""
    folder = Path(program.source.name).absolute().parent
    calls = [s for s in _statements(program) if isinstance(s, nodes.CallExecutable)]
    return {call.program: folder / call.program for call in calls}


def _statements(program: Program) -> Iterator[nodes.Statement]:
    """All lines that may be carried out."""
    sequence = program.sequence
    bodies = [sequence.before_lot, sequence.before_unit, *(test.body for test in sequence.tests)]
    bodies += [sequence.after_unit, sequence.after_lot]
    bodies += [use.measurement.node.body for use in program.measures.values() if use.measurement.node is not None]
    for body in bodies:
        yield from nodes.walk(body)


def instrument(bench: BenchFile, name: str, connected: Connected) -> Fields:
    """What is told of an instrument that has answered."""
    fact = bench.instruments[name]
    calibration = fact.calibration
    return {
        "name": name,
        "identity": connected.identity,
        "address": fact.address,
        "profile": fact.profile.name,
        "simulated": connected.is_simulated,
        "roles": [r.name for r in bench.roles.values() if r.instrument == name],
        "due": calibration.due.isoformat() if calibration else "",
        "certificate": calibration.certificate if calibration else "",
    }


def signal(bench: BenchFile, name: str) -> Fields:
    """What is told of a signal that is used."""
    fact = bench.signals[name]
    calibration = fact.calibration
    return {
        "name": name,
        "read": f"{fact.role}.{fact.reading}, channel {fact.channel}",
        "unit": "yes or no" if fact.is_yes_no else units.symbol_of(fact.dimension),
        "conversion": fact.conversion,
        "accuracy": fact.accuracy.text if fact.accuracy is not None else "",
        "due": calibration.due.isoformat() if calibration else "",
        "certificate": calibration.certificate if calibration else "",
    }


def _param(param: nodes.Param, program: Program, orders: Orders) -> Fields:
    kind, value = program.param_types[param.name], program.params[param.name]
    is_given = any(text.startswith(f"{param.name} = ") for text in program.overrides)
    return {
        "name": param.name,
        "value": constants.written(value, kind.dimension, kind.shown),
        "help": param.help,
        "given": is_given,  # from outside: a retest takes it along
        "by_hand": is_given and param.name not in orders.variant_params,
    }


def _sha256(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
