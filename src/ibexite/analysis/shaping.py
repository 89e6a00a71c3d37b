"""Curves from curves: plain functions on arrays. x is strictly rising; x and y have shape (n,), as has the result."""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.statistics import mean_value
from ibexite.holes import NEVER_MEASURED


def smooth_points(x: Array, y: Array, points: float, *, kind: str = "plain") -> Array:
    """The running mean over `points` points around each, in the unit of y; a hole stays one.

    Near the ends the window shrinks alike on both sides, so that a straight slope stays straight.

    Args:
        kind: what y is; see `mean_value`.

    Raises:
        ValueError: `points` is not odd and positive.

    >>> smooth_points(np.arange(4.0), np.array([0.0, 3.0, 6.0, 3.0]), 3).tolist()
    [0.0, 3.0, 4.0, 3.0]
    """
    if points < 1 or points % 2 != 1:
        raise ValueError("the number of points must be odd, such as 5")
    half = int(points) // 2
    widths = [min(half, i, len(y) - 1 - i) for i in range(len(y))]
    return _windowed(y, [(i - w, i + w + 1) for i, w in enumerate(widths)], kind)


def smooth_octaves(x: Array, y: Array, per_octave: float, *, kind: str = "plain") -> Array:
    """The mean over a window of 1/per_octave octave around each point (x > 0), in the unit of y; a hole stays one.

    Near the ends the window shrinks alike on both sides (in octaves), so that a straight slope stays straight.

    Args:
        kind: what y is; see `mean_value`.

    Raises:
        ValueError: an x or the width is not positive.
    """
    if per_octave <= 0 or (x <= 0).any():
        raise ValueError("a window in octaves takes a positive axis and a positive width")
    at = np.log2(x)
    half = np.minimum(0.5 / per_octave, np.minimum(at - at[0], at[-1] - at)) if len(x) else at
    begins = np.searchsorted(at, at - half - 1e-12, side="left")
    ends = np.searchsorted(at, at + half + 1e-12, side="right")
    return _windowed(y, list(zip(begins, ends, strict=True)), kind)


def _windowed(y: Array, windows: list[tuple[int, int]], kind: str) -> Array:
    parts = [y[a:b] for a, b in windows]
    means = [y[i] if np.isnan(y[i]) else mean_value(part[~np.isnan(part)], kind) for i, part in enumerate(parts)]
    return np.array(means, dtype=y.dtype)


def cumulative(x: Array, y: Array) -> Array:
    """The area below y from the first point on, by the trapezoid rule, in the product of the units of y and x.

    From a hole on the result is a hole.

    >>> cumulative(np.array([0.0, 1.0, 3.0]), np.array([2.0, 2.0, 4.0])).tolist()
    [0.0, 2.0, 8.0]
    """
    areas = np.diff(x) * (y[1:] + y[:-1]) / 2
    return np.concatenate([[0.0 * y[0]], np.cumsum(areas)])  # 0 times a hole is one


def derivative(x: Array, y: Array) -> Array:
    """The local slope of y over x, in the unit of y over that of x: second order inside, first order at the ends.

    Source: B. Fornberg, Math. Comp. 51 (1988), table for uneven grids with three points.
    """
    return np.gradient(y, x) if len(x) > 1 else np.full(len(x), math.nan)


def at(x: Array, y: Array, value: float, *, log: bool = False) -> float | complex:
    """y at a value of x, straight between its two neighbours (with `log` over the logarithm of x).

    A point of the grid is taken as it is; a hole at a neighbour makes a hole.

    Raises:
        ValueError: the value lies beyond the ends of x.
    """
    right = int(np.searchsorted(x, value))
    if right < len(x) and x[right] == value:
        at_it: float | complex = y[right].item()
        return at_it
    if not 0 < right < len(x):
        raise ValueError(f"{value:g} lies beyond the ends, {x[0]:g} to {x[-1]:g} (base units)")
    a, b = x[right - 1], x[right]
    share = math.log(value / a) / math.log(b / a) if log else (value - a) / (b - a)
    between: float | complex = ((1 - share) * y[right - 1] + share * y[right]).item()
    return between


def onto(x: Array, y: Array, points: Array, *, log: bool = False) -> Array:
    """y at other points of x, shape (m,): straight between neighbours, never measured beyond the ends of x."""
    inside = (points >= x[0]) & (points <= x[-1]) if len(x) else np.zeros(len(points), dtype=bool)
    values = [at(x, y, float(p), log=log) if i else NEVER_MEASURED for p, i in zip(points, inside, strict=True)]
    return np.array(values, dtype=y.dtype)
