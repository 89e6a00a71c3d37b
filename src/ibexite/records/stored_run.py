"""A stored run as it is read back, as plain data: its tests, results and values. Standard library only."""

from __future__ import annotations

import datetime
from array import array
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import chain
from typing import TYPE_CHECKING

from ibexite.untyped import Fields
from ibexite.values import Type, is_words, stored_type

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve


@dataclass(frozen=True, slots=True)
class Grid:
    """Curves over the same axes, row by row; axes first. Values are float64 in base units, NaN for a hole. Axes with
    even steps are kept as those, long series are read when they are looked at."""

    columns: list[Fields]
    data: list[Sequence[float]]

    @property
    def axes(self) -> list[str]:
        """The names of the axes."""
        return [c["name"] for c in self.columns if c["origin"] == "sweep"]

    def columns_as_text(self) -> list[Fields]:
        """The columns without their values, for listing."""
        return [{key: c[key] for key in ("name", "origin", "unit", "shown", "length")} for c in self.columns]

    @property
    def place(self) -> Fields:
        """Of a curve that was read within loops: where, and what is known of their axes."""
        return dict(self.columns[0]["place"])

    def column(self, name: str) -> Sequence[float]:
        """The values of a column; of texts their numbers."""
        return self.data[[c["name"] for c in self.columns].index(name)]

    def values(self, name: str) -> Sequence[float | str]:
        """The values of a column, texts as texts."""
        at = [c["name"] for c in self.columns].index(name)
        labels = self.columns[at]["labels"]
        return [labels[int(n)] if n == n else n for n in self.data[at]] if labels else self.data[at]

    def curve(self, name: str) -> Curve:
        """A column as a curve over all axes: the same that was recorded."""
        import numpy as np

        from ibexite.analysis.curve import SampledCurve, Sampling, curve_of_rows

        first = self.columns[0]
        if first["step"] is not None:
            return SampledCurve(Sampling(first["name"], first["start"], first["step"]), np.array(self.column(name)))
        return curve_of_rows({axis: self.values(axis) for axis in self.axes}, self.values(name))

    def has(self, name: str) -> bool:
        """True if there is a column or axis of this name."""
        return any(c["name"] == name for c in self.columns)


def put_together(grids: list[Grid]) -> list[Grid]:
    """Tables to be shown and exported: curves of one name that were read within loops become one, with the axes of the
    loops in front."""
    found: dict[object, list[Grid]] = {}
    for number, grid in enumerate(grids):
        names = tuple(c["name"] for c in grid.columns)
        found.setdefault((names, *grid.place["at"]) if grid.place else number, []).append(grid)
    return [mine[0] if not mine[0].place else _joined(mine) for mine in found.values()]


def _joined(grids: list[Grid]) -> Grid:
    first = grids[0]
    outer = [{**first.columns[0], "step": None, **axis, "labels": []} for axis in first.place["axes"]]
    columns = [{**c, "place": {}, "length": sum(len(g.data[0]) for g in grids)} for c in [*outer, *first.columns]]
    data: list[Sequence[float]] = []
    for axis in outer:
        values = [grid.place["at"][axis["name"]] for grid in grids]
        if isinstance(values[0], str):
            axis_column = columns[len(data)]
            axis_column["labels"] = list(dict.fromkeys(values))
            values = [float(axis_column["labels"].index(value)) for value in values]
        each = zip(values, grids, strict=True)
        data.append(array("d", (value for value, grid in each for _ in range(len(grid.data[0])))))
    data += [array("d", chain.from_iterable(grid.data[i] for grid in grids)) for i in range(len(first.columns))]
    return Grid(columns, data)


@dataclass(frozen=True, slots=True)
class TestRecord:
    """A stored test."""

    __test__ = False  # not for pytest
    row: Fields
    results: list[Fields]
    grids: list[Grid]
    bad_readings: list[Fields]
    figures: list[Fields]
    calls: list[Fields]

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


@dataclass(frozen=True, slots=True)
class RunRecord:
    """A stored run with all that belongs to it. JSON columns are decoded."""

    row: Fields
    parts: list[TestRecord]  # the tests and the blocks around them, in their order
    files: list[Fields]

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
