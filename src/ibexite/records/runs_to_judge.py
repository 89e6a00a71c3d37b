"""Many stored runs with what it takes to judge them again: of each test its single numbers and verdicts, which the
store puts together, all else when it is asked for. Standard library only."""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cache, cached_property
from typing import NamedTuple

from ibexite.records.lookup import Lookup
from ibexite.records.retold_values import RetoldValues
from ibexite.records.stored_run import TestRecord
from ibexite.untyped import Fields
from ibexite.verdicts import RECORD_SEPARATOR, UNIT_SEPARATOR

AT_ONCE = 50  # runs that are read together
_IS_SINGLE = (
    "length = 1 AND kind = 'quantity' AND origin <> 'sweep' AND place = '' AND side = '' AND step IS NULL "
    "AND length(data) = 8"
)


class TestToJudge:
    """A test or block of a run."""

    __test__ = False  # not for pytest

    def __init__(self, row: Fields, lookup: Lookup, *, has_bad: bool) -> None:
        """`has_bad`: there were bad readings."""
        self.row, self._lookup, self._has_bad = row, lookup, has_bad

    @cached_property
    def labelled(self) -> str:
        """What its checks were called and their verdicts, in their order, joined: see ibexite.verdicts.labelled."""
        joined = self._lookup.joined("label || ? || verdict", "?")
        query = f"SELECT {joined} FROM results WHERE test_id = ?"
        ((text,),) = self._lookup.tuples(query, UNIT_SEPARATOR, RECORD_SEPARATOR, self.row["id"])
        return text or ""

    def whole(self) -> TestRecord:
        """All of it."""
        return self._lookup.test(self.row)

    def values(self) -> RetoldValues:
        """Its values, as they are taken once. A test in which a name comes twice, or that has a loop of a single turn,
        has no single numbers."""
        lookup, number = self._lookup, self.row["id"]
        ((others, turns),) = lookup.tuples(
            "SELECT count(*), sum(CASE WHEN origin = 'sweep' AND length = 1 THEN 1 ELSE 0 END) FROM curves "
            f"WHERE test_id = ? AND NOT ({_IS_SINGLE})", number,
        )  # fmt: skip
        ((names, units, data),) = lookup.tuples(
            f"SELECT {lookup.joined('name', '?')}, {lookup.joined('unit', '?')}, "
            f"{lookup.joined(lookup.in_hex('data'), '?')} FROM curves WHERE test_id = ? AND {_IS_SINGLE}",
            RECORD_SEPARATOR, RECORD_SEPARATOR, "", number,
        )  # fmt: skip
        told = _told(names, units) if names is not None and not turns else None
        if told is None:
            return RetoldValues(self.whole, {}, {}, has_more=bool(others or names), has_bad=self._has_bad)
        numbers = struct.unpack(f"<{len(told.names)}d", bytes.fromhex(data))
        singles = dict(zip(told.names, numbers, strict=True))
        return RetoldValues(self.whole, singles, told.units, has_more=bool(others), has_bad=self._has_bad)


class _Told(NamedTuple):
    """The names of single numbers, and their base units."""

    names: list[str]
    units: dict[str, str]


@cache
def _told(names: str, units: str) -> _Told | None:
    """Taken apart, for the tests of all units once; None where a name comes twice."""
    found = names.split(RECORD_SEPARATOR)
    of_names = dict(zip(found, units.split(RECORD_SEPARATOR), strict=True))
    return _Told(found, of_names) if len(of_names) == len(found) else None


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
    bad = {number for (number,) in lookup.tuples(
        f"SELECT DISTINCT test_id FROM tests JOIN bad_readings ON test_id = tests.id WHERE {meant}", *runs
    )}  # fmt: skip
    for row in lookup.select(f"SELECT * FROM tests WHERE {meant} ORDER BY position", *runs):
        found[row["run_id"]].parts[row["name"]] = TestToJudge(row, lookup, has_bad=row["id"] in bad)
    return found
