"""Looks at many stored runs at once: choosing them, one value or curve of all of them. Standard library only."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from ibexite.errors import MistakeError, did_you_mean
from ibexite.events import SideRef
from ibexite.records.lookup import Lookup
from ibexite.records.side_file import EvenPoints, SideValues
from ibexite.untyped import Fields, Measured

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array

AT_ONCE = 500  # runs in one statement
# What runs can be chosen by, as conditions of SQL with one value each.
CHOICES = {
    "serial": "serial = ?", "lot": "lot = ?", "product": "product = ?", "sequence": "sequence = ?",
    "bench": "bench = ?", "verdict": "verdict = ?", "operator": "operator = ?", "station": "station = ?",
    "since": "started >= ?", "until": "started < ?",
}  # fmt: skip


# By the code of a reason of a trial: in quotes it stands nowhere else.
_IS_SIMULATED = "is_trial = 1 AND trial LIKE '%\"simulated\"%'"


class Chosen(NamedTuple):
    """A run that was chosen."""

    id: str
    serial: str
    product: str
    sequence: str
    verdict: str
    lot: str
    broken_off: str  # why, if it did not end by itself
    is_simulated: bool


def chosen_runs(lookup: Lookup, conditions: Sequence[tuple[str, str]]) -> list[Chosen]:
    """The runs that meet all conditions (key of CHOICES, value), in the order of their starting.

    Raises:
        MistakeError: there is no such key.
    """
    clauses = ["1 = 1"]
    for key, _ in conditions:
        if key not in CHOICES:
            raise MistakeError(f"runs cannot be chosen by {key!r}", where="--where", remedy=did_you_mean(key, CHOICES))
        clauses.append(CHOICES[key])
    rows = lookup.tuples(
        f"SELECT runs.id, serial, product, sequence, verdict, lot, broken_off, {_IS_SIMULATED} "
        "FROM runs JOIN units ON units.id = unit_id "
        f"WHERE {' AND '.join(clauses)} ORDER BY number, started, runs.id", *(value for _, value in conditions),
    )  # fmt: skip
    return list(map(Chosen._make, rows))


def params_of(lookup: Lookup, runs: Sequence[str]) -> set[str]:
    """The parameters that runs had, in JSON."""
    return {
        text for part in _parts(runs)
        for (text,) in lookup.tuples(f"SELECT DISTINCT params FROM runs WHERE id IN ({_marks(part)})", *part)
    }  # fmt: skip


def single_results(lookup: Lookup, runs: Sequence[str]) -> Iterator[Fields]:
    """The results of single numbers of runs that no bad value spoils: run, test, label, subject, value, low, high,
    unit, shown, kind."""
    for part in _parts(runs):
        yield from lookup.select(
            "SELECT run_id AS run, tests.name AS test, label, subject, value, low, high, unit, shown, "
            "results.kind AS kind FROM tests JOIN results ON test_id = tests.id "
            f"WHERE run_id IN ({_marks(part)}) AND results.kind = 'quantity' AND axes = '[]' "
            "AND (bad = 0 OR results.reason_code = 'no_limit') AND value IS NOT NULL ORDER BY results.id", *part,
        )  # fmt: skip


def judged_numbers(lookup: Lookup, runs: Sequence[str]) -> dict[str, list[str]]:
    """The names of the single numbers that checks judged in any of some runs, by test."""
    found: dict[str, dict[str, None]] = {}
    for part in _parts(runs):
        for test, name in lookup.tuples(
            "SELECT DISTINCT tests.name, subject FROM tests JOIN results ON test_id = tests.id "
            f"WHERE run_id IN ({_marks(part)}) AND results.kind = 'quantity' AND axes = '[]' AND subject <> ''", *part,
        ):  # fmt: skip
            found.setdefault(test, {})[name] = None
    return {test: list(names) for test, names in found.items()}


class AlikeColumns(NamedTuple):
    """Columns over one axis in several runs, which have the same points."""

    axis: Fields  # what kind of values each has
    column: Fields
    points: Array
    runs: list[str]
    data: list[bytes]  # of each run the values, float64


_WORDS = ("name", "unit", "shown", "kind", "labels")
_NUMBERS = ("data", "start", "step", "side", "side_begin", "length")


_FROM = (
    "FROM tests JOIN curves AS col ON col.test_id = tests.id JOIN curves AS axis "
    "ON axis.test_id = tests.id AND axis.grid = col.grid AND axis.origin = 'sweep' WHERE run_id IN ({}) "
    "AND tests.name = ? AND col.name = ? AND col.origin <> 'sweep' AND col.place = ''"
)


def columns_of(lookup: Lookup, runs: Sequence[str], test: str, name: str) -> Iterator[AlikeColumns]:
    """A column of a test over one axis in each of some runs, those that are alike together."""
    usual: tuple[object, ...] = ()  # the points of the axis and what is told of both, as nearly all runs have it
    for part in _parts(runs):
        if not usual:
            row = next(_whole_rows(lookup, part, test, name), None)
            if row is None:
                continue
            usual = row[8:]
        alike = _like(lookup, part, test, name, usual)
        if alike.runs:
            yield alike
        if len(alike.runs) < len(part):
            those = set(alike.runs)
            yield from _grouped(lookup, [run for run in part if run not in those], test, name)


def _whole_rows(lookup: Lookup, runs: Sequence[str], test: str, name: str) -> Iterator[tuple[Measured, ...]]:
    query = (
        f"SELECT run_id, col.id, {_of('col', _NUMBERS)}, {_of('axis', _NUMBERS)}, {_of('axis', _WORDS)}, "
        f"{_of('col', _WORDS)} " + _FROM
    )
    return lookup.tuples(query.format(_marks(runs)), *runs, test, name)


def _like(lookup: Lookup, runs: Sequence[str], test: str, name: str, usual: tuple[object, ...]) -> AlikeColumns:
    """The columns that have the points of the usual axis, and whose values lie in the store itself: compared there,
    which is quicker than to look at what is the same again and again."""
    keys = [f"axis.{key}" for key in (*_NUMBERS, *_WORDS)] + [f"col.{key}" for key in _WORDS]
    same = " AND ".join(f"{key} IS ?" for key in keys)
    query = f"SELECT run_id, col.data, col.step IS NULL AND col.side = '' AND {same} " + _FROM
    found: dict[str, bytes] = {}
    apart: set[str] = set()
    for run, data, is_same in lookup.tuples(query.format(_marks(runs)), *usual, *runs, test, name):
        if not is_same or run in found:  # or the column has several axes
            apart.add(run)
        found[run] = data
    mine = {run: data for run, data in found.items() if run not in apart} if apart else found
    return _columns(lookup, usual, mine)


def _grouped(lookup: Lookup, runs: Sequence[str], test: str, name: str) -> Iterator[AlikeColumns]:
    """Columns of any kind, those that are alike together; a column with several axes is none."""
    groups: dict[tuple[object, ...], dict[tuple[str, int], bytes]] = {}
    several: set[tuple[str, int]] = set()
    for row in _whole_rows(lookup, runs, test, name):
        key, data = row[:2], row[2]
        if row[4] is not None or row[5]:
            data = _numbers(lookup, *row[2:8]).tobytes()
        if any(key in group for group in groups.values()):
            several.add(key)
        groups.setdefault(row[8:], {})[key] = data
    for told, found in groups.items():
        mine = {run: data for (run, number), data in found.items() if (run, number) not in several}
        if mine:
            yield _columns(lookup, told, mine)


def _columns(lookup: Lookup, told: tuple[Measured, ...], values: dict[str, bytes]) -> AlikeColumns:
    numbers, words = told[: len(_NUMBERS)], told[len(_NUMBERS) :]
    axis, about = (dict(zip(_WORDS, cells, strict=True)) for cells in (words[:5], words[5:]))
    return AlikeColumns(axis, about, _numbers(lookup, *numbers), list(values), list(values.values()))


def _of(table: str, keys: Sequence[str]) -> str:
    return ", ".join(f"{table}.{key}" for key in keys)


def conditions_of(lookup: Lookup, runs: Sequence[str], test: str) -> Iterator[tuple[str, str, str]]:
    """Under which conditions the values of a test came to be: run, names and conditions, both in JSON."""
    for part in _parts(runs):
        yield from lookup.tuples(
            "SELECT run_id, names, conditions FROM tests JOIN conditions ON test_id = tests.id "
            f"WHERE run_id IN ({_marks(part)}) AND tests.name = ?", *part, test,
        )  # fmt: skip


def _numbers(
    lookup: Lookup, data: Measured, start: Measured, step: Measured, side: Measured, begin: Measured, length: Measured
) -> Array:
    """The values of a row of curves, wherever they are."""
    import numpy as np

    if step is not None:
        return np.asarray(EvenPoints(start, step, length))
    if side:
        return np.asarray(SideValues(lookup.records, SideRef(side, begin, length)))
    return np.frombuffer(data, "<f8")


def _parts(runs: Sequence[str]) -> Iterator[Sequence[str]]:
    for begin in range(0, len(runs), AT_ONCE):
        yield runs[begin : begin + AT_ONCE]


def _marks(part: Sequence[str]) -> str:
    return ", ".join("?" * len(part))
