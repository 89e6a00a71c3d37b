"""Long curves as they are drawn: of each of many stretches the least and greatest value, and a hole where one is; and
the points that failed."""

from __future__ import annotations

from array import array
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from ibexite.records.grids import Grid
from ibexite.records.stream_file import StreamValues
from ibexite.untyped import Fields

FROM = 200_000  # rows, from which on a curve is thinned
STRETCHES = 4_000
_CHUNK = 1 << 20  # values that are looked at together


def thinned(grid: Grid, results: Sequence[Fields] = ()) -> Grid:
    """The same grid, or of a long curve over one axis some of its rows: those of the least and the greatest value of
    each stretch, of a hole in it, and of the points of results that failed. The key `holes` of its column says how many
    it has in all; nothing else of it is another one, so that `length` is that of the whole."""
    count = len(grid.data[0])
    if count < FROM or len(grid.axes) != 1 or len(grid.columns) != 2 or grid.columns[1]["labels"]:
        return grid
    extremes, holes = _rows_that_count(grid.data[1], count)
    rows = sorted(extremes | _rows_that_failed(grid, results))
    columns = [grid.columns[0], {**grid.columns[1], "holes": holes}]
    return replace(grid, columns=columns, data=[array("d", _picked(values, rows)) for values in grid.data])


def _rows_that_count(values: Sequence[float], count: int) -> tuple[set[int], int]:
    """Which rows are kept, from the first to the last, and how many holes there are."""
    size = -(-count // STRETCHES)
    rows, holes = {0, count - 1}, 0
    for begin, chunk in _chunks(values, count, size * max(1, _CHUNK // size)):
        for at in range(0, len(chunk), size):
            stretch = chunk[at : at + size]
            is_hole = np.isnan(stretch)
            lost = int(is_hole.sum())
            holes += lost
            if lost:
                rows.add(begin + at + int(is_hole.argmax()))
            if lost < len(stretch):
                rows |= {begin + at + int(np.nanargmin(stretch)), begin + at + int(np.nanargmax(stretch))}
    return rows, holes


def _rows_that_failed(grid: Grid, results: Sequence[Fields]) -> set[int]:
    """The rows of points that failed, of those that results on the curve still know."""
    axis, name = grid.data[0], grid.columns[1]["name"]
    own = [one for one in results if one["subject"] == name and [a["name"] for a in one["axes"]] == grid.axes]
    places = [(point, bisect_left(axis, point)) for one in own for (point,) in one["failing"]]
    return {row for point, row in places if row < len(axis) and axis[row] == point}


def _chunks(values: Sequence[float], count: int, size: int) -> Iterator[tuple[int, Any]]:
    """Stretches of the values, each with the number of its first; of a recording no more is read at a time."""
    whole = None if isinstance(values, StreamValues) else np.asarray(values, dtype=float)
    for begin in range(0, count, size):
        end = min(begin + size, count)
        if isinstance(values, StreamValues):
            yield begin, values.between(begin, end)
        elif whole is not None:
            yield begin, whole[begin:end]


def _picked(values: Sequence[float], rows: Sequence[int]) -> Iterator[float]:
    return (values[row] for row in rows)
