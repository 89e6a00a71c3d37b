"""The columns of a sweep while it runs: one row an iteration, kept as arrays over the axes and emitted as an event.

Ragged sweeps (an inner sweep whose ends change with the outer one) share one axis that holds all their points; where a
point was not visited there is a hole.
"""

from __future__ import annotations

import math
from array import array
from collections.abc import Iterable
from typing import Any

import numpy as np

from ibexite.analysis.curve import Curve
from ibexite.events import Row


class Axis:
    """The points of one sweep variable. They are registered when the sweep begins, so that its size is known then."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.points: array[float] = array("d")
        self._first: Iterable[float] | None = None
        self._places: dict[tuple[float, int], int] = {}  # made only when a later pass has other points

    def run(self, points: Iterable[float]) -> Iterable[tuple[int, float]]:
        """The pairs (place on the axis, value) of one pass. A value that comes twice in a pass has two places."""
        if self._first is None:
            self._first = points
            self.points = array("d", points)
        if points is self._first:
            return enumerate(points)
        if not self._places:
            self._places = {key: place for place, key in enumerate(_numbered(self.points))}
        pairs = []
        for key in _numbered(points):
            place = self._places.setdefault(key, len(self.points))
            if place == len(self.points):
                self.points.append(key[0])
            pairs.append((place, key[0]))
        return pairs

    def __len__(self) -> int:
        return len(self.points)

    def curve(self) -> Curve:
        """The axis as a curve over itself."""
        points = np.array(self.points)
        return Curve({self.name: points}, points)


def _numbered(points: Iterable[float]) -> list[tuple[float, int]]:
    """Each point with how often it came before."""
    seen: dict[float, int] = {}
    numbered = []
    for point in points:
        numbered.append((point, seen.get(point, 0)))
        seen[point] = seen.get(point, 0) + 1
    return numbered


class Table:
    """Columns over the axes of nested sweeps. Calling it stores and emits a row."""

    def __init__(self, number: int, axes: tuple[Axis, ...], columns: tuple[str, ...], runtime: Any) -> None:
        self.number, self.axes, self.columns = number, axes, columns
        self._runtime = runtime
        self._values = np.empty((0,) * len(axes) + (len(columns),))  # the last axis is that of the columns

    def __call__(self, place: tuple[int, ...], x: tuple[float, ...], values: tuple[float, ...]) -> None:
        """Stores the values of one row (NaN for a hole) and emits the event."""
        try:
            self._values[place] = values
        except IndexError:
            self._grow()
            self._values[place] = values
        runtime = self._runtime
        bad = runtime.take_bad() if runtime.bench.bad else []
        runtime.emit(Row(runtime.clock.now() - runtime.began, self.number, x, values, bad, runtime.take_traffic()))

    def _grow(self) -> None:
        old = self._values
        self._values = np.full((*map(len, self.axes), len(self.columns)), math.nan)
        self._values[tuple(slice(n) for n in old.shape)] = old

    def curve(self, column: str, place: tuple[int, ...] = ()) -> Curve:
        """A column as a curve over all axes, or over the inner ones at one place of the outer ones."""
        if self._values.shape[:-1] != tuple(map(len, self.axes)):
            self._grow()
        rest = self.axes[len(place) :]
        axes = {axis.name: np.array(axis.points) for axis in rest}
        where: Any = (*place, ..., self.columns.index(column))
        return Curve(axes, self._values[where])
