"""A stored run as it is read back, as plain data: its tests, results and values. Standard library only."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import NamedTuple

from ibexite.conditions import together
from ibexite.records.grids import Grid
from ibexite.untyped import Fields
from ibexite.values import Type, is_words, stored_type


@dataclass(frozen=True, slots=True)
class TestRecord:
    """A stored test."""

    __test__ = False  # not for pytest
    row: Fields
    results: list[Fields]
    grids: list[Grid]  # what came turn by turn is put together
    bad_readings: list[Fields]
    figures: list[Fields]
    calls: list[Fields]
    conditions: list[Fields] = field(default_factory=list)

    def conditions_of(self, name: str) -> dict[str, str]:
        """Under which conditions a value came to be, in words, with all of them where its readings differ; of what was
        not read nor computed from readings (the place that a search found) those of the whole test."""
        mine = [entry for entry in self.conditions if name in entry["names"]] or self.conditions
        return together(entry["conditions"] for entry in mine)

    def single_words(self) -> Iterator[tuple[str, Type, str]]:
        """The single values that are held as texts: name, type, text."""
        for grid in self.grids:
            column = grid.columns[0]
            if not grid.axes and is_words(column) and len(column["labels"]) == 1:
                yield column["name"], stored_type(column), column["labels"][0]

    def grid_with(self, name: str, *others: str) -> Grid | None:
        """The grid that has a column of this name (not as an axis), and the other columns or axes as well."""
        return next(
            (
                g
                for g in self.grids
                if any(c["name"] == name and c["origin"] != "sweep" for c in g.columns)
                and all(g.has(other) for other in others if other)
            ),
            None,
        )


class Attempt(NamedTuple):
    """One time that a test was carried out."""

    run: str
    when: str  # local time
    operator: str
    verdict: str
    reason: str

    @property
    def told(self) -> str:
        """In words."""
        by = f" by {self.operator}" if self.operator else ""
        return f"{self.verdict}, {self.when}{by}, run {self.run}{f': {self.reason}' if self.reason else ''}"


@dataclass(frozen=True, slots=True)
class RunRecord:
    """A stored run with all that belongs to it. JSON columns are decoded."""

    row: Fields
    parts: list[TestRecord]  # the tests and the blocks around them, in their order
    files: list[Fields]
    attempts: dict[str, list[Attempt]] = field(default_factory=dict)  # of a merged result, by test

    def attempts_of(self, test: str) -> list[str]:
        """Every attempt of a test that was carried out more than once, in words."""
        found = self.attempts.get(test, [])
        return [attempt.told for attempt in found] if len(found) > 1 else []

    @property
    def started_text(self) -> str:
        """When it was started, in the local time of its station."""
        return local_time(self.row["started"], self.row["utc_offset"])

    @property
    def bench_text(self) -> str:
        """The bench, with the position at which the unit was."""
        return ", ".join(part for part in (self.row["bench"], self.row["position"]) if part)

    @property
    def blocks(self) -> list[TestRecord]:
        """What stands around the tests (before unit, ...), as far as it gave values."""
        return [part for part in self.parts if part.row["kind"] == "block"]

    @property
    def tests(self) -> list[TestRecord]:
        """The tests."""
        return [part for part in self.parts if part.row["kind"] == "test"]

    @property
    def verdict_text(self) -> str:
        """The verdict as it is shown everywhere: with the trial mark."""
        return verdict_text(self.row["verdict"], bool(self.row["is_trial"]))


def verdict_text(verdict: str, is_trial: bool) -> str:
    """PASS, FAIL, ERROR or ABORTED, with the trial mark."""
    return verdict.upper() + (" (trial)" if is_trial else "")


def local_time(started: str, offset: str) -> str:
    """A time in UTC as the local time that it was, to the second.

    >>> local_time("2026-11-25T09:02:39.123+00:00", "+02:00")
    '2026-11-25 11:02:39'
    """
    zone = datetime.datetime.strptime(offset, "%z").tzinfo if offset else None
    return datetime.datetime.fromisoformat(started).astimezone(zone or datetime.UTC).strftime("%Y-%m-%d %H:%M:%S")
