"""Looks at many stored runs at once: choosing them, one value or curve of all of them. Standard library only."""

from __future__ import annotations

import sys
from array import array
from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ibexite.errors import MistakeError, did_you_mean
from ibexite.events import SideRef
from ibexite.records.lookup import Lookup
from ibexite.records.side_file import EvenPoints, SideValues
from ibexite.untyped import Fields

AT_ONCE = 500  # runs in one statement
# What runs can be chosen by, as conditions of SQL with one value each.
CHOICES = {
    "serial": "serial = ?", "lot": "lot = ?", "product": "product = ?", "sequence": "sequence = ?",
    "bench": "bench = ?", "verdict": "verdict = ?", "operator": "operator = ?", "station": "station = ?",
    "since": "started >= ?", "until": "started < ?",
}  # fmt: skip


class Chosen(NamedTuple):
    """A run that was chosen."""

    id: str
    serial: str
    verdict: str
    row: Fields  # of the table of runs, without what is long


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
    rows = lookup.select(
        "SELECT runs.id AS id, serial, product, verdict, is_trial, started, lot, sequence, sequence_file, "
        "sequence_sha256, params, broken_off FROM runs JOIN units ON units.id = unit_id "
        f"WHERE {' AND '.join(clauses)} ORDER BY number, started, runs.id", *(value for _, value in conditions),
    )  # fmt: skip
    return [Chosen(row["id"], row["serial"], row["verdict"], row) for row in rows]


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


def columns_of(lookup: Lookup, runs: Sequence[str], test: str, name: str) -> Iterator[Fields]:
    """A column of a test in each of some runs, and the axes of all tables of that test: rows of curves with the run,
    those of a run one behind the other."""
    for part in _parts(runs):
        yield from lookup.select(
            "SELECT run_id AS run, grid, curves.position AS position, curves.name AS name, origin, unit, shown, "
            "length, curves.kind AS kind, labels, data, start, step, side, side_begin, place "
            "FROM tests JOIN curves ON test_id = tests.id "
            f"WHERE run_id IN ({_marks(part)}) AND tests.name = ? AND (curves.name = ? OR origin = 'sweep') "
            "ORDER BY run_id, grid, curves.position", *part, test, name,
        )  # fmt: skip


def conditions_of(lookup: Lookup, runs: Sequence[str], test: str) -> Iterator[Fields]:
    """Under which conditions the values of a test came to be: run, names and conditions, both in JSON."""
    for part in _parts(runs):
        yield from lookup.select(
            "SELECT run_id AS run, names, conditions FROM tests JOIN conditions ON test_id = tests.id "
            f"WHERE run_id IN ({_marks(part)}) AND tests.name = ?", *part, test,
        )  # fmt: skip


def numbers_of(lookup: Lookup, row: Fields) -> Sequence[float]:
    """The values of a row of curves, wherever they are."""
    if row["step"] is not None:
        return EvenPoints(row["start"], row["step"], row["length"])
    if row["side"]:
        return SideValues(lookup.records, SideRef(row["side"], row["side_begin"], row["length"]))
    values = array("d", row["data"])
    if sys.byteorder == "big":
        values.byteswap()
    return values


def _parts(runs: Sequence[str]) -> Iterator[Sequence[str]]:
    for begin in range(0, len(runs), AT_ONCE):
        yield runs[begin : begin + AT_ONCE]


def _marks(part: Sequence[str]) -> str:
    return ", ".join("?" * len(part))
