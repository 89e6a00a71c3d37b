"""Families of very many curves, such as spectra over time, as maps; and how columns of grids are named and shown."""

from __future__ import annotations

import numpy as np

from ibexite import units
from ibexite.records.grids import Grid
from ibexite.reports.model import MapSpec
from ibexite.units import Unit
from ibexite.untyped import Fields
from ibexite.wording import is_log_spaced

MOST_CURVES = 40  # of a family over a number; more are drawn as a map


def in_unit(name: str, unit: Unit) -> str:
    """A name with its unit, for an axis."""
    return f"{name} in {unit.symbol}" if unit.symbol else name


def meta_of(grid: Grid, name: str) -> Fields:
    """What is told of a column."""
    return next(c for c in grid.columns if c["name"] == name)


def unit_of(grid: Grid, name: str) -> Unit:
    """The unit in which a column is shown."""
    meta = meta_of(grid, name)
    dimension = units.parse_unit(meta["unit"]).dimension if meta["unit"] else units.PLAIN
    if meta["shown"]:
        return units.parse_unit(meta["shown"])
    return units.unit_for(*grid.column(name), dimension=dimension)


def is_map(grid: Grid, x: str, by: str) -> bool:
    """Whether a curve over two axes of numbers has so many members that nobody could tell them apart as lines."""
    if not by or set(grid.axes) != {x, by} or any(meta_of(grid, axis)["labels"] for axis in (x, by)):
        return False
    counts = [len(np.unique(np.asarray(grid.column(axis), dtype=float))) for axis in (x, by)]
    return counts[1] > MOST_CURVES and counts[0] > 1


def map_of(name: str, grid: Grid, x: str, by: str) -> MapSpec:
    """The map of a curve over two axes."""
    shown = [unit_of(grid, key) for key in (x, by, name)]
    columns = [np.asarray(grid.column(key), dtype=float) for key in (x, by, name)]
    xs, at_x = np.unique(columns[0], return_inverse=True)
    ys, at_y = np.unique(columns[1], return_inverse=True)
    values = np.full((len(xs), len(ys)), np.nan)
    values[at_x, at_y] = columns[2]
    xs, ys, values = (
        (one - float(unit.offset)) / float(unit.factor) for one, unit in zip((xs, ys, values), shown, strict=True)
    )
    x_label, y_label, label = (in_unit(key, unit) for key, unit in zip((x, by, name), shown, strict=True))
    is_log_x, is_log_y = (is_log_spaced(points.tolist()) for points in (xs, ys))
    return MapSpec(x_label, y_label, label, xs, ys, values, is_log_x, is_log_y)
