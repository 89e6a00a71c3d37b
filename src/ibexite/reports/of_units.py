"""The model of pictures of many units: plain data, which spread_figure draws."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from ibexite.frozen import frozen
from ibexite.values import Quantity

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array


@frozen
class UnitCurves:
    """A curve of many units, and lines that are proposed for it. Arrays in base units: x, mean, low and high of shape
    (points,), values of shape (units, points)."""

    name: str
    axis: str
    axis_kind: Quantity
    kind: Quantity
    x: Array
    values: Array
    mean: Array
    low: Array
    high: Array


@frozen
class CurvesOfUnits:
    """A picture of them; `outlying` says which units are like no other."""

    title: str
    curves: UnitCurves
    outlying: tuple[int, ...]
    told: str


@frozen
class ValuesOfUnits:
    """A picture of single values of many units: of each a name, the values, both limits (None for none), all in base
    units."""

    title: str
    rows: tuple[tuple[str, Quantity, Sequence[float], float | None, float | None], ...]
    told: str
