"""Curves that were taken one by one, put together over the places where each was taken."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import chain
from math import prod

import numpy as np

from ibexite.analysis.curve import Array, ArrayCurve, Curve, never
from ibexite.errors import SequenceError
from ibexite.holes import BAD, NEVER_MEASURED, NO_POINT

MOST_POINTS = 100_000_000

Place = tuple[int, ...]


def stacked(outer: Mapping[str, Array], own: Sequence[str], rows: Mapping[Place, Curve | None]) -> ArrayCurve:
    """Curves as one, over the axes of the places where they were taken and then their own.

    Curves may have other points than their neighbours: the axis then has the points of all, and where a curve has none,
    there is no point. A curve without any good value is bad (or never measured) at every point of the axis, so that
    what was lost cannot be taken for a shorter curve.

    Args:
        outer: the axes of the places, in order; shape (n,) each.
        own: the axes of the curves.
        rows: the curve at each place, None where it was never taken. Where there is no row, there is no point.

    Raises:
        SequenceError: all together they would have more than MOST_POINTS.
    """
    curves = {place: _whole(curve, own) for place, curve in rows.items()}
    filled = [curve for curve in curves.values() if curve is not None and _hole_everywhere(curve) is None]
    like = filled or [curve for curve in curves.values() if curve is not None]
    axes = {**outer, **{name: _joined([curve.axes[name] for curve in like]) for name in own}}
    shape = [len(points) for points in axes.values()]
    if prod(shape) > MOST_POINTS:
        raise SequenceError(
            f"curves over {' and '.join(own)} make {prod(shape):,} points with those of {' and '.join(outer)}",
            remedy="Use each in the turn that took it, or take them all at the same points.",
        )
    is_complex = any(curve.values.dtype.kind == "c" for curve in like)
    values = _full(shape, NO_POINT, complex if is_complex else float)
    for place, curve in curves.items():
        hole = NEVER_MEASURED if curve is None else _hole_everywhere(curve)
        if hole is not None:
            values[place] = _hole(hole, is_complex)
        elif curve is not None:
            _put(values[place], axes, curve)
    return ArrayCurve(axes, values)


def _whole(curve: Curve | None, own: Sequence[str]) -> Curve | None:
    """A curve, None for one without points."""
    return curve if curve is not None and curve.values.size and list(curve.axes) == list(own) else None


def _hole_everywhere(curve: Curve) -> float | None:
    """The kind of hole that a curve without any good value is; None for all others."""
    if not np.isnan(curve.values).all():
        return None
    return NEVER_MEASURED if never(curve.values).all() else BAD


def _hole(hole: float, is_complex: bool) -> float | complex:
    return complex(hole, hole) if is_complex else hole


def _full(shape: Sequence[int], hole: float, kind: type) -> Array:
    return np.full(shape, _hole(hole, kind is complex), dtype=kind)


def _joined(given: Sequence[Array]) -> Array:
    """The points of one axis of several curves: those of the first if all have them, else all, in their direction."""
    if not given:
        return np.empty(0)
    first = given[0]
    if all(points is first or np.array_equal(points, first) for points in given):
        return first
    if first.dtype.kind == "O" or any(len(np.unique(points)) < len(points) for points in given):
        keys = dict.fromkeys(chain.from_iterable(map(_numbered, given)))
        return np.array([point for point, _ in keys], dtype=first.dtype)
    falls = all((np.diff(points) < 0).all() for points in given)
    found: Array = np.unique(np.concatenate(given))
    return found[::-1] if falls else found


def _numbered(points: Array) -> list[tuple[object, int]]:
    """Each point with how often it came before in its curve."""
    seen: dict[object, int] = {}
    found = []
    for point in points.tolist():
        found.append((point, seen.get(point, 0)))
        seen[point] = seen.get(point, 0) + 1
    return found


def _put(target: Array, axes: Mapping[str, Array], curve: Curve) -> None:
    """Puts the values of a curve where its points are on the axes."""
    if target.shape == curve.values.shape and all(np.array_equal(x, axes[name]) for name, x in curve.axes.items()):
        target[...] = curve.values
        return
    target[np.ix_(*(_places(axes[name], points) for name, points in curve.axes.items()))] = curve.values


def _places(axis: Array, points: Array) -> Array:
    """Where some points are on an axis that has them all."""
    if axis.dtype.kind != "O" and len(np.unique(axis)) == len(axis):
        order = np.argsort(axis)
        found: Array = order[np.searchsorted(axis[order], points)]
        return found
    known = {key: at for at, key in enumerate(_numbered(axis))}
    return np.array([known[key] for key in _numbered(points)])
