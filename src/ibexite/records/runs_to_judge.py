"""Many stored runs with what it takes to judge them again, read some at once: their single numbers and verdicts at
first, all else of a test when it is asked for. Standard library only."""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from ibexite.records.lookup import Lookup
from ibexite.records.retold_values import RetoldValues
from ibexite.records.stored_run import TestRecord
from ibexite.untyped import Fields

AT_ONCE = 50  # runs that are read together
_IS_SINGLE = (
    "length = 1 AND curves.kind = 'quantity' AND origin <> 'sweep' AND place = '' AND side = '' AND step IS NULL"
)


@dataclass(slots=True)
class TestToJudge:
    """A test or block of a run. `verdicts` has what each check is called and its verdict, in their order."""

    __test__ = False  # not for pytest
    row: Fields
    lookup: Lookup
    verdicts: list[tuple[str, str]] = field(default_factory=list)
    singles: dict[str, float] = field(default_factory=dict)
    units: dict[str, str] = field(default_factory=dict)  # of these
    has_more: bool = False  # than single numbers
    has_bad: bool = False

    def whole(self) -> TestRecord:
        """All of it."""
        return self.lookup.test(self.row)

    def values(self) -> RetoldValues:
        """Its values, as they are taken once."""
        return RetoldValues(self.whole, self.singles, self.units, has_more=self.has_more, has_bad=self.has_bad)


@dataclass(slots=True)
class RunToJudge:
    """A run. Of its row the columns that matter."""

    row: Fields
    parts: dict[str, TestToJudge]


def runs_to_judge(lookup: Lookup, runs: Sequence[str]) -> Iterator[RunToJudge]:
    """The runs, in the order that they are asked for."""
    for begin in range(0, len(runs), AT_ONCE):
        part = runs[begin : begin + AT_ONCE]
        found = _read(lookup, part)
        yield from (found[run] for run in part)


def _read(lookup: Lookup, runs: Sequence[str]) -> dict[str, RunToJudge]:
    meant = f"run_id IN ({', '.join('?' * len(runs))})"
    found: dict[str, RunToJudge] = {}
    for row in lookup.select(
        "SELECT runs.id AS id, serial, started, verdict, reason_code, trial, params, sequence_file "
        f"FROM runs JOIN units ON units.id = unit_id WHERE runs.id IN ({', '.join('?' * len(runs))})", *runs,
    ):  # fmt: skip
        row |= {key: json.loads(row[key]) for key in ("trial", "params")}
        found[row["id"]] = RunToJudge(row, {})
    tests: dict[int, TestToJudge] = {}
    for row in lookup.select(f"SELECT * FROM tests WHERE {meant} ORDER BY position", *runs):
        tests[row["id"]] = found[row["run_id"]].parts[row["name"]] = TestToJudge(row, lookup)
    last, mine = 0, list[tuple[str, str]]()
    for number, label, verdict in lookup.tuples(
        f"SELECT test_id, label, results.verdict FROM tests JOIN results ON test_id = tests.id WHERE {meant} "
        "ORDER BY results.id", *runs,
    ):  # fmt: skip
        if number != last:  # those of a test come one after the other
            last, mine = number, tests[number].verdicts
        mine.append((label, verdict))
    for (number,) in lookup.tuples(
        f"SELECT DISTINCT test_id FROM tests JOIN bad_readings ON test_id = tests.id WHERE {meant}", *runs
    ):
        tests[number].has_bad = True
    _read_singles(lookup, meant, runs, tests)
    return found


def _read_singles(lookup: Lookup, meant: str, runs: Sequence[str], tests: Mapping[int, TestToJudge]) -> None:
    """The single numbers. A test in which a name comes twice, or that has a loop of a single turn, has none of them."""
    unpack = struct.Struct("<d").unpack
    doubtful: set[int] = set()
    last, singles, told = 0, dict[str, float](), dict[str, str]()
    for number, name, unit, data, is_axis in lookup.tuples(
        f"SELECT test_id, curves.name, unit, CASE WHEN {_IS_SINGLE} THEN data END, origin = 'sweep' AND length = 1 "
        f"FROM tests JOIN curves ON test_id = tests.id WHERE {meant}", *runs,
    ):  # fmt: skip
        if number != last:
            last, singles, told = number, tests[number].singles, tests[number].units
        if data is None:
            tests[number].has_more = True
            if is_axis:
                doubtful.add(number)
        elif name in singles:
            doubtful.add(number)
        else:
            (singles[name],), told[name] = unpack(data), unit
    for number in doubtful:
        tests[number].singles, tests[number].units, tests[number].has_more = {}, {}, True
