"""Compares recordings with a bench before anything is switched on: whether it records these signals, side by side, so
fast; and whether no line of the block talks to the instrument meanwhile."""

from __future__ import annotations

from collections.abc import Iterator

from ibexite import units
from ibexite.bench.file import BenchFile
from ibexite.bench.stream_signals import stream_role
from ibexite.errors import SequenceError
from ibexite.language import nodes
from ibexite.language.program import Program, RecordUse

ROOM = 1e-9  # by so much an interval may be beyond the range of an instrument: decimals


def vet_recordings(program: Program, file: BenchFile) -> None:
    """Reports recordings that this bench cannot make."""
    for use in program.recordings:
        names = [use.signals.get(reading.source, reading.source) for reading in use.node.readings]
        if any(name not in file.signals for name in names):
            continue  # told already
        try:
            role = stream_role(file, names)
        except SequenceError as error:
            use.source.report(use.node.span, error.what, "", error.remedy)
            continue
        if role:
            _look_at_stream(program, use, role, file)
        else:
            _look_at_polls(use, names, file)


def _look_at_stream(program: Program, use: RecordUse, role: str, file: BenchFile) -> None:
    instrument = file.roles[role].instrument
    profile = file.instruments[instrument].profile
    assert profile.stream is not None
    extent = profile.settings["interval"].extent
    least, most = extent if extent is not None else (0.0, float("inf"))
    least = max(least, profile.stream.fastest)
    if use.every is not None and not least * (1 - ROOM) <= use.every <= most * (1 + ROOM):
        ends = " to ".join(units.format_value(float(f"{end:.9g}"), units.SECOND) for end in (least, most))
        use.source.report(
            use.node.every.span, f"{instrument} does not stream so", "", f"It takes a sample every {ends}."
        )
    for statement in nodes.walk(use.node.body):
        for name in _talked_to(program, statement, use, file):
            if name == instrument:
                use.source.report(
                    statement.span, f"{instrument} is recording", "",
                    "Within the block no line talks to it: do this before or behind it.",
                )  # fmt: skip


def _talked_to(program: Program, statement: nodes.Statement, use: RecordUse, file: BenchFile) -> Iterator[str]:
    """The instruments that a line talks to."""
    roles: list[str] = []
    signals: list[str] = []
    match statement:
        case nodes.Set(assignments=assignments):
            roles = [one.role for one in assignments]
        case nodes.Do(role=role) | nodes.Send(role=role):
            roles = [role]
        case nodes.Play(role=role, readings=readings):
            roles, signals = [role], [reading.source for reading in readings]
        case nodes.Record(readings=readings):
            signals = [reading.source for reading in readings]
        case nodes.Read(readings=readings) | nodes.WaitReading(read=nodes.Read(readings=readings)):
            roles = [reading.role for reading in readings if reading.role is not None]
            signals = [reading.source for reading in readings if reading.role is None]
        case nodes.Watch(signal=signal):
            signals = [signal]
        case nodes.Measure() if statement in program.measures:
            given = program.measures[statement].roles.values()
            roles = [name for name in given if name in file.roles]
            signals = [name for name in given if name in file.signals]
    named = [use.signals.get(name, name) for name in signals]
    roles = [use.signals.get(name, name) for name in roles]
    roles += [file.signals[name].role for name in named if name in file.signals]
    yield from dict.fromkeys(file.roles[name].instrument for name in roles if name in file.roles)


def _look_at_polls(use: RecordUse, names: list[str], file: BenchFile) -> None:
    """Whether the instruments answer so often."""
    slowest: dict[str, float] = {}
    for name in names:
        instrument = file.roles[file.signals[name].role].instrument
        slowest[instrument] = slowest.get(instrument, 0.0) + file.instruments[instrument].profile.answer_time
    for instrument, seconds in slowest.items():
        if use.every is not None and use.every < seconds:
            told = units.format_value(seconds, units.SECOND)
            use.source.report(
                use.node.every.span, f"{instrument} cannot be polled so often", "",
                f"It takes {told} to answer. A digitizer that streams is quicker.",
            )  # fmt: skip


def record_settings(use: RecordUse, file: BenchFile) -> list[tuple[str, str]]:
    """The settings that a recording sets: role and setting."""
    role = stream_role(file, [use.signals.get(reading.source, reading.source) for reading in use.node.readings])
    settings = file.instruments[file.roles[role].instrument].profile.settings if role else {}
    return [(role, setting) for setting in ("interval", "trigger") if setting in settings]
