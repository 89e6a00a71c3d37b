"""The stored values of a test as grids: columns over the same axes, row by row. Those that came turn by turn of a loop
are put together. Standard library only; NumPy where curves are asked for."""

from __future__ import annotations

import re
from array import array
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from itertools import accumulate, chain
from typing import TYPE_CHECKING, Any, NamedTuple

from ibexite.records.lazy_numbers import LazyNumbers
from ibexite.untyped import Fields
from ibexite.values import is_words

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve


class Turn(NamedTuple):
    """What one turn of loops gave: where they were, and the grid."""

    at: tuple[float | str, ...]
    grid: Grid


@dataclass(frozen=True, slots=True)
class Grid:
    """Curves over the same axes, row by row; axes first. Values are float64 in base units, NaN for a hole. Axes with
    even steps are kept as those, long series are read when they are looked at. What came turn by turn has the axes of
    the loops in front."""

    columns: list[Fields]
    data: list[Sequence[float]]
    turns: list[Turn] = field(default_factory=list)

    @property
    def axes(self) -> list[str]:
        """The names of the axes."""
        return [c["name"] for c in self.columns if c["origin"] == "sweep"]

    def columns_as_text(self) -> list[Fields]:
        """The columns without their values, for listing."""
        return [{key: c[key] for key in ("name", "origin", "unit", "shown", "length")} for c in self.columns]

    @property
    def place(self) -> Fields:
        """Of what came in one turn of loops: where, and what is known of their axes."""
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

        from ibexite.analysis.curve import SampledCurve, Sampling, StreamedCurve, curve_of_rows
        from ibexite.records.stream_file import StreamValues

        column = next(c for c in self.columns if c["name"] == name)
        if self.turns and self.turns[0].grid.axes and not is_words(column):
            return self._stacked(name)
        first = self.columns[0]
        if first["step"] is not None:
            values = self.column(name)
            if isinstance(values, StreamValues):
                return StreamedCurve(
                    Sampling(first["name"], first["start"], first["step"]), len(values), values.between
                )
            return SampledCurve(Sampling(first["name"], first["start"], first["step"]), np.array(self.column(name)))
        return curve_of_rows({axis: self.values(axis) for axis in self.axes}, self.values(name))

    def _stacked(self, name: str) -> Curve:
        from ibexite.analysis.curve import array_of
        from ibexite.analysis.stacking import stacked

        own = self.turns[0].grid.axes
        outer = self.axes[: -len(own)]
        columns = list(zip(*(turn.at for turn in self.turns), strict=True))
        if len(outer) == 1:  # a value that comes twice stands twice
            points: list[Any] = list(columns)
            places: list[tuple[int, ...]] = [(i,) for i in range(len(self.turns))]
        else:
            points = [tuple(dict.fromkeys(column)) for column in columns]
            places = [tuple(mine.index(x) for mine, x in zip(points, t.at, strict=True)) for t in self.turns]
        axes = {axis: array_of(mine) for axis, mine in zip(outer, points, strict=True)}
        return stacked(axes, own, {at: t.grid.curve(name) for at, t in zip(places, self.turns, strict=True)})

    def has(self, name: str) -> bool:
        """True if there is a column or axis of this name."""
        return any(c["name"] == name for c in self.columns)


def put_together(grids: list[Grid]) -> list[Grid]:
    """Grids of the same columns that came turn by turn as one, in the place of the first."""
    found: dict[object, list[Grid]] = {}
    for number, grid in enumerate(grids):
        names = tuple(c["name"] for c in grid.columns)
        found.setdefault((names, *grid.place["at"]) if grid.place else number, []).append(grid)
    return [_joined(mine) if mine[0].place else mine[0] for mine in found.values()]


def _joined(grids: list[Grid]) -> Grid:
    first, lengths = grids[0], [len(grid.data[0]) for grid in grids]
    outer = [{**first.columns[0], "step": None, "n": "", "bound": "", **axis} for axis in first.place["axes"]]
    turns = [Turn(tuple(grid.place["at"][axis["name"]] for axis in outer), grid) for grid in grids]
    columns, data = [], []
    for i, axis in enumerate(outer):
        values, labels = _numbers([turn.at[i] for turn in turns])
        columns.append({**axis, "labels": labels})
        data.append(InARow([Repeated(value, length) for value, length in zip(values, lengths, strict=True)]))
    for i, column in enumerate(first.columns):
        mine = [grid.data[i] for grid in grids]
        if any(grid.columns[i]["labels"] for grid in grids):
            numbers, labels = _numbers(list(chain.from_iterable(grid.values(column["name"]) for grid in grids)))
            mine = [numbers]
        else:
            labels = []
        columns.append({**column, "labels": labels, "step": None, "n": "", "bound": _bounds(grids, i)})
        data.append(InARow(mine))
    return Grid([{**c, "place": {}, "length": sum(lengths)} for c in columns], list(data), turns)


def _numbers(values: Sequence[float | str]) -> tuple[array[float], list[str]]:
    """Values as numbers, and what those of texts stand for."""
    labels = list(dict.fromkeys(value for value in values if isinstance(value, str)))
    return array("d", (labels.index(v) if isinstance(v, str) else v for v in values)), labels


def _bounds(grids: list[Grid], column: int) -> str:
    """What is known of values that are only bounded, with the rows that they have now."""
    told, before = [], 0
    for grid in grids:
        text = grid.columns[column]["bound"]
        if text:
            text = text if grid.axes else f"row 1: {text}"
            told.append(re.sub(r"row (\d+)", lambda found, before=before: f"row {before + int(found[1])}", text))
        before += len(grid.data[0])
    return "; ".join(told)


class Repeated(LazyNumbers):
    """One number many times."""

    def __init__(self, value: float, count: int) -> None:
        self._value, self._count = value, count

    def __len__(self) -> int:
        return self._count

    def at(self, place: int) -> float:
        """Always the same."""
        return self._value

    def array(self) -> Any:
        """As floats."""
        import numpy as np

        return np.full(self._count, self._value)


class InARow(LazyNumbers):
    """Several series one behind the other; none is read before it is looked at."""

    def __init__(self, parts: Sequence[Sequence[float]]) -> None:
        self._parts = parts
        self._ends = list(accumulate(map(len, parts)))

    def __len__(self) -> int:
        return self._ends[-1] if self._ends else 0

    def at(self, place: int) -> float:
        """From the series that it lies in."""
        part = bisect_right(self._ends, place)
        return self._parts[part][place - self._ends[part]]

    def __iter__(self) -> Iterator[float]:
        return chain.from_iterable(self._parts)

    def array(self) -> Any:
        """As floats."""
        import numpy as np

        return np.concatenate([np.asarray(part, dtype=float) for part in self._parts])
