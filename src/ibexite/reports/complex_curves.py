"""A complex curve as it is drawn: its size, and its phase below."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.records.grids import Grid
from ibexite.records.stored_run import TestRecord
from ibexite.untyped import Fields


def size_and_phase(test: TestRecord, name: str, *others: str) -> list[tuple[str, Grid]]:
    """The size of a curve that was stored in two parts and its phase in rad, each under its name with its grid, over
    the same other columns; none where there is no such curve."""
    real, imaginary = (test.grid_with(f"{name}.{part}", *others) for part in ("re", "im"))
    if real is None or imaginary is None or len(real.data[0]) != len(imaginary.data[0]):
        return []
    values = np.asarray(real.column(f"{name}.re"), dtype=float) + 1j * np.asarray(imaginary.column(f"{name}.im"))
    meta = next(column for column in real.columns if column["name"] == f"{name}.re")
    size = _grid(real, {**meta, "name": f"abs({name})"}, np.abs(values))
    angle = {**meta, "name": f"phase({name})", "unit": "rad", "shown": "deg"}
    return [(f"abs({name})", size), (f"phase({name})", _grid(real, angle, np.angle(values)))]


def _grid(like: Grid, column: Fields, values: Array) -> Grid:
    kept = [(c, data) for c, data in zip(like.columns, like.data, strict=True) if c["origin"] == "sweep"]
    return replace(
        like, columns=[*(c for c, _ in kept), column], data=[*(data for _, data in kept), values.tolist()], turns=[]
    )


def unwrapped(angles: Array) -> Array:
    """Angles in rad, shape (n,), without jumps by a turn between neighbours; holes stay where they are."""
    found, is_there = angles.copy(), ~np.isnan(angles)
    found[is_there] = np.unwrap(angles[is_there])
    return found
