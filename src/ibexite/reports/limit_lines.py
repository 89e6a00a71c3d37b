"""Where the limits of a check are drawn: over the points that were judged, and nowhere else."""

from __future__ import annotations

import math
from collections.abc import Iterator
from itertools import groupby
from typing import Any

from ibexite.holes import EQUAL
from ibexite.records.grids import Grid
from ibexite.untyped import Fields

Point = tuple[float, float]  # a value of x, and a limit
Key = tuple[float, ...]  # the values of all axes of a row, in the order of the result's


def limit_lines(result: Fields, grid: Grid, x: str, key: str) -> list[list[Point]]:
    """The lines of a check's limit (`key` is low or high) along x, from left to right, in base units: one level over
    all that was judged, or, where limits are no constants, one for each run of points along x, each different one once.
    A line is interrupted where points were measured and not judged. `grid` has the subject of the result."""
    if not result["limits"]:
        return [] if result[key] is None else _level(result, grid, x, key)
    place, column = _names(result).index(x), len(result["axes"]) + (key == "high")
    families: dict[Key, list[Point]] = {}
    for point in result["limits"]:
        if point[column] is not None:
            families.setdefault(_others(point[: len(result["axes"])], place), []).append((point[place], point[column]))
    if not families:
        return []
    left_out: dict[Key, set[float]] = {}
    judged = {tuple(point[: len(result["axes"])]) for point in result["limits"]}
    for at, _ in _measured(result, grid):
        if at not in judged:
            left_out.setdefault(_others(at, place), set()).add(at[place])
    lines = {
        tuple(run) for others, points in families.items() for run in _runs(sorted(points), left_out.get(others, set()))
    }
    return [list(line) for line in sorted(lines)]


def numbered(result: Fields, grid: Grid) -> Fields:
    """A result in which texts along an axis are what they are in a figure: their numbers in the grid. Told of all of
    them, for nobody asks for the least and greatest text."""
    texts = {c["name"]: {text: float(n) for n, text in enumerate(c["labels"])} for c in grid.columns if c["labels"]}
    axes = [(i, texts[name]) for i, name in enumerate(_names(result)) if name in texts]
    if not axes:
        return result

    def point(entry: list[Any]) -> list[Any]:
        entry = list(entry)
        for i, numbers in axes:
            entry[i] = numbers.get(entry[i], entry[i])
        return entry

    extent = {name: [0.0, len(mine) - 1.0] for name, mine in texts.items() if name in _names(result)}
    return {
        **result,
        "failing": list(map(point, result["failing"])),
        "limits": list(map(point, result["limits"])),
        "extent": result["extent"] | extent,
    }


def _level(result: Fields, grid: Grid, x: str, key: str) -> list[list[Point]]:
    """A constant limit. It holds where anything was judged; which points were not is known of those beyond it that did
    not fail."""
    level, (begin, end) = result[key], result["extent"][x]
    place, failing = _names(result).index(x), set(map(tuple, result["failing"]))
    whole = [(begin, level), (end, level)] if begin < end else [(begin, level)]
    if len(failing) < result["failed"]:
        return [whole]  # it is not known which of all failed
    holds: dict[float, bool] = {}
    for at, value in _measured(result, grid):
        beyond = value - level if key == "high" else level - value
        was_left_out = beyond > EQUAL * abs(value) and at not in failing
        holds[at[place]] = holds.get(at[place], False) or not was_left_out
    left_out = {at for at, is_held in holds.items() if not is_held}
    if not left_out:
        return [whole]
    return list(_runs([(at, level) for at in sorted(holds) if holds[at]], left_out))


def _measured(result: Fields, grid: Grid) -> list[tuple[Key, float]]:
    """The rows in which the subject has a value, within what was judged; none where the axes are others."""
    names = _names(result)
    if set(names) != set(grid.axes):
        return []
    extent = [result["extent"][name] for name in names]
    rows = zip(zip(*(grid.column(name) for name in names), strict=True), grid.column(result["subject"]), strict=True)
    return [
        (at, value)
        for at, value in rows
        if math.isfinite(value) and all(low <= a <= high for a, (low, high) in zip(at, extent, strict=True))
    ]


def _names(result: Fields) -> list[str]:
    return [axis["name"] for axis in result["axes"]]


def _others(at: Any, place: int) -> Key:
    return tuple(v for i, v in enumerate(at) if i != place)


def _runs(points: list[Point], left_out: set[float]) -> Iterator[list[Point]]:
    """The points from left to right, in runs between which something was left out."""
    places = sorted([(at, True) for at in left_out] + [(at, False) for at, _ in points])
    wanted = iter(points)
    for is_left_out, run in groupby(places, key=lambda place: place[1]):
        if not is_left_out:
            yield [next(wanted) for _ in run]
