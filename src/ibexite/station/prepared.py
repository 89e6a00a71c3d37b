"""Prepared readings and answers, for rehearsals on stand-ins."""

from __future__ import annotations

import json
from collections.abc import Collection
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.station.prepared_waves import EXAMPLE, PreparedWave, wave_of
from ibexite.toml_reader import TomlTable, read_toml
from ibexite.units import parse_quantity
from ibexite.untyped import Fields, Measured
from ibexite.values import YES_NO, Compound, Quantity, Type, Words, YesNo

if TYPE_CHECKING:
    from ibexite.bench.entries import SignalEntry
    from ibexite.bench.file import BenchFile


Readings = dict[str, list[float | str | PreparedWave | None]]
"""Prepared readings in base units, by signal or role.reading; None for an overload, of records files."""


@dataclass(frozen=True, slots=True)
class Prepared:
    """Readings and answers for a rehearsal."""

    readings: Readings = field(default_factory=dict)
    answers: Fields = field(default_factory=dict)
    of_tests: dict[str, Readings] = field(default_factory=dict)  # of single tests, by name


def read_prepared(path: Path, bench: BenchFile, tests: Collection[str]) -> Prepared:
    """Prepared readings and answers from a TOML file.

    [readings] holds for each signal (or "role.reading") one value or a list of them, taken in turn, the last again and
    again; "overload" is one too; of a signal that is recorded a WAV file each. [tests.NAME] holds those that one test
    has in place of them; [answers] holds for a part of each question its answer.

    Raises:
        MistakeError: with the path to the value that is wrong.
    """
    table = read_toml(path, what="file of readings")
    readings, of_tests = table.table("readings"), table.tables("tests")
    answers = table.table("answers")
    for name in of_tests:
        if name not in tests:
            table.table("tests").note(name, f"there is no test {name!r}", did_you_mean(name, tests))
    found = _readings(readings, bench, path.parent)
    by_test = {name: _readings(entry, bench, path.parent) for name, entry in of_tests.items()}
    given = {part: answers.value(part) for part in answers}
    table.finish()
    return Prepared(found, {part: _answer(answer) for part, answer in given.items()}, by_test)


def _readings(table: TomlTable, bench: BenchFile, folder: Path) -> Readings:
    found: Readings = {}
    for name in table:
        value = table.value(name)
        entries = value if isinstance(value, list) else [value]
        signal, where = bench.signals.get(name), table.where(name)
        if signal is not None and signal.is_record:
            found[name] = [_wave(where, entry, signal, folder) for entry in entries]
        else:
            found[name] = [_reading(where, name, entry, bench) for entry in entries]
    return found


def _wave(where: str, entry: object, signal: SignalEntry, folder: Path) -> PreparedWave:
    if not isinstance(entry, dict):
        raise MistakeError(f"{signal.name} is a record, not one value", where=where, remedy=EXAMPLE)
    return wave_of(where, entry, signal, folder)


def _reading(where: str, name: str, entry: object, bench: BenchFile) -> float | str | None:
    if entry == "overload":
        return None
    kind = _type_of(name, bench)
    if isinstance(kind, Compound):
        try:
            kind.form.text(entry)
        except ValueError as error:
            raise MistakeError(f"it is {error}", where=where, remedy="Write it as a program would give it.") from None
        return json.dumps(entry)
    if isinstance(entry, bool) or (isinstance(kind, YesNo) and entry in ("yes", "no")):
        return float(entry in (True, "yes"))
    if isinstance(kind, Words):
        return str(entry)
    try:
        quantity = parse_quantity(str(entry))
    except UnitError as error:
        raise MistakeError(error.what, where=where, remedy=error.remedy) from None
    if isinstance(kind, Quantity) and quantity.dimension != kind.dimension:
        raise MistakeError(
            f"{entry!r} has another unit than the reading", where=where, remedy="Write it with its unit."
        )
    return float(quantity)


def _type_of(name: str, bench: BenchFile) -> Type | None:
    """The type of a signal, or of role.reading; None where there is none (which is told later)."""
    signal = bench.signals.get(name)
    if signal is not None:
        return YES_NO if signal.is_digital else Quantity((), signal.dimension) if signal.threshold is None else None
    role, _, reading = name.partition(".")
    if role not in bench.roles:
        return None
    commands = bench.instruments[bench.roles[role].instrument].profile.readings.get(reading)
    return commands.feature.type if commands is not None else None


def _answer(answer: object) -> Measured:
    if isinstance(answer, str):
        try:
            return float(parse_quantity(answer))
        except UnitError:
            return answer
    return float(answer) if isinstance(answer, int) and not isinstance(answer, bool) else answer
