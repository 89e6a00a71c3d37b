"""The lines of masks at the points of a curve, and whether a curve covers a mask."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ibexite.analysis.curve import Array, AxisLine
from ibexite.holes import EQUAL, NEVER_MEASURED
from ibexite.mask import Line, Mask, Piece

_TIGHTER: dict[str, Callable[..., Array]] = {"low": np.fmax, "high": np.fmin}
_UNLIMITED = {"low": -math.inf, "high": math.inf}


def line_of(mask: Mask, side: str) -> AxisLine:
    """The lower or upper line of a mask as limits along its axis; it has no value where the mask has no such line.

    Args:
        side: low or high.
    """

    def on(points: Array) -> Array:
        found = _side_at(mask, side, points, points)
        return np.where(np.isnan(found), NEVER_MEASURED, found)

    return AxisLine(mask.axis, on)


def limit_of(mask: Mask, side: str) -> AxisLine:
    """What a mask demands on one side along its axis: infinite where it has a line of the other side only, no value
    where it has none.

    Args:
        side: low or high.
    """
    return AxisLine(mask.axis, lambda points: limits_at(mask, points)[("low", "high").index(side)])


def limits_at(mask: Mask, points: Array, moved: Array | None = None) -> tuple[Array, Array]:
    """The lower and the upper limit at points of the axis.

    Args:
        points: places on the axis in base units, shape (n,).
        moved: where these points lie on the axis of a mask that was moved along it, shape (…, n); not given: there. A
            point that is limited by a line is so wherever that moves: beyond its end by the limit at the end.

    Returns:
        Two arrays of the shape of the points (as they are moved): infinite where there is no line of that side, never
        measured where there is none of either.
    """
    at = points if moved is None else moved
    low, high = _side_at(mask, "low", points, at), _side_at(mask, "high", points, at)
    beside = np.isnan(low) & np.isnan(high)
    return _limits(low, "low", beside), _limits(high, "high", beside)


def _limits(found: Array, side: str, beside: Array) -> Array:
    found[np.isnan(found)] = _UNLIMITED[side]
    found[beside] = NEVER_MEASURED
    return found


def _side_at(mask: Mask, side: str, points: Array, moved: Array) -> Array:
    """The tightest of all lines of a side; NaN where there is none."""
    whole: Array = np.full(np.shape(moved), math.nan)
    for piece in mask.pieces:
        line = getattr(piece, side)
        if line:
            whole = _TIGHTER[side](whole, _line_at(line, mask, _TIGHTER[side], points, moved))
    return whole


def _line_at(line: Line, mask: Mask, tighter: Callable[..., Array], points: Array, moved: Array) -> Array:
    x, y = np.array(line).T
    is_mine = _within(points, x[0], x[-1])
    at = np.where(is_mine, np.clip(moved, x[0], x[-1]), moved)
    at = _on_points(at, x)
    left, right = np.searchsorted(x, at, "left"), np.searchsorted(x, at, "right")
    last = len(x) - 1
    below, above = np.clip(left - 1, 0, last), np.clip(left, 0, last)
    between = _between(at, x[below], x[above], y[below], y[above], mask)
    is_point = right > left  # a point of the line; where it comes twice, there is a step
    values = np.where(is_point, tighter(y[above], y[np.clip(right - 1, 0, last)]), between)
    return np.where((at >= x[0]) & (at <= x[-1]), values, math.nan)


def _within(points: Array | float, begin: float, end: float) -> Array:
    """Whether points lie between two others, or are as good as equal to them."""
    at = np.asarray(points)
    inside: Array = (at >= begin - EQUAL * abs(begin)) & (at <= end + EQUAL * abs(end))
    return inside


def _on_points(at: Array, x: Array) -> Array:
    """Places that are as good as equal to points of a line are these."""
    above = np.clip(np.searchsorted(x, at), 0, len(x) - 1)
    for near in (x[above], x[np.maximum(above - 1, 0)]):
        at = np.where(np.abs(at - near) <= EQUAL * np.abs(near), near, at)
    return at


def _between(at: Array, x1: Array, x2: Array, y1: Array, y2: Array, mask: Mask) -> Array:
    with np.errstate(all="ignore"):
        share = np.log(at / x1) / np.log(x2 / x1) if mask.is_log_axis else (at - x1) / (x2 - x1)
        found: Array = y1 * (y2 / y1) ** share if mask.is_log_value else y1 + (y2 - y1) * share
    return found


def uncovered(mask: Mask, measured: Array) -> tuple[str, tuple[Piece, ...]] | None:
    """How points do not cover a mask as they have to.

    Args:
        measured: the places on the axis where there is a value, shape (n,) with n > 0, in base units.

    Returns:
        What is wrong, in words between "the data" and the pieces of which it is true; None if nothing is.
    """
    begin, end = float(measured.min()), float(measured.max())
    for piece in mask.pieces:
        is_met = bool(_within(measured, piece.begin, piece.end).any())
        if piece.is_whole and not is_met:
            return "has no point in", (piece,)
        if piece.is_whole and not (_within(piece.begin, begin, end) and _within(piece.end, begin, end)):
            return "does not reach from end to end of", (piece,)
    if not any(_within(measured, piece.begin, piece.end).any() for piece in mask.pieces):
        return "lies beside", mask.pieces
    return None
