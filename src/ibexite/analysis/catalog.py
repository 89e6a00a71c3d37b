"""The functions of formulas, as compiled code calls them: with curves, single values, and the names of axes.

Here the plain functions of the other modules are applied along an axis of a labelled curve. Which function means what
is in the table of ibexite.functions; `find` gives the callable of an entry.
"""

from __future__ import annotations

import importlib
import math
from collections.abc import Callable
from functools import cache
from typing import Any

import numpy as np

from ibexite.analysis import features, shaping
from ibexite.analysis.curve import (
    Array,
    ArrayCurve,
    AxisLine,
    Curve,
    SampledCurve,
    combine,
    is_curve,
    line_through,
    never,
    no_point,
)  # fmt: skip
from ibexite.analysis.pointwise import compared, logic
from ibexite.errors import SequenceError
from ibexite.holes import NEVER_MEASURED, NO_POINT, NO_REFERENCE
from ibexite.untyped import Measured


@cache
def find(name: str) -> Callable[..., Any]:
    """The callable of a target, "module.function", wrapped as its kind demands.

    Targets: pointwise.*, wiring.* and waves.* are called as they are; statistics.* and features.* take an axis away;
    shaping.* keep it.
    """
    module_name, _, function_name = name.partition(".")
    if module_name == "catalog":
        own: Callable[..., Any] = globals()[function_name]
        return own
    function: Callable[..., Any] = getattr(importlib.import_module(f"ibexite.analysis.{module_name}"), function_name)
    if module_name in ("pointwise", "wiring", "waves"):
        return function
    return _keeping(function) if module_name == "shaping" else _consuming(function)


# Functions that take the points in the order in which they were measured, whichever way x goes.
_IN_ORDER = ("crossing", "crossings", "slope")


def _rows(curve: Curve, axis: str) -> tuple[Array, Array, dict[str, Array], tuple[int, ...]]:
    """x, the values as rows along the axis, the other axes, and their shape."""
    place = list(curve.axes).index(axis)
    moved = np.moveaxis(curve.values, place, -1)
    rest = {name: points for name, points in curve.axes.items() if name != axis}
    x = curve.axes[axis]
    return x, moved.reshape(math.prod(moved.shape[:-1]), len(x)), rest, moved.shape[:-1]


def _measured(x: Array, row: Array) -> tuple[Array, Array]:
    """The points that this row has, in the order of measurement.

    Where no x stands twice but they do not go one way (points were added between others, as a search and a refined
    sweep do), the order is that of the way from the first two on.
    """
    there = ~no_point(row)
    x, row = x[there], row[there]
    steps = np.diff(x)
    if len(x) < 3 or (steps > 0).all() or (steps < 0).all() or len(np.unique(x)) < len(x):
        return x, row
    order = np.argsort(x, kind="stable")
    order = order if x[1] > x[0] else order[::-1]
    return x[order], row[order]


def _rising(x: Array, row: Array) -> tuple[Array, Array]:
    """The points of a row with x rising, without those that were never measured.

    Raises:
        ValueError: one x stands twice: there are two values for it.
    """
    there = ~never(row)
    x, row = x[there], row[there]
    if len(np.unique(x)) < len(x):
        raise ValueError(
            "there are several values at the same point, as in a sweep up and down. Sweep up and down in two sweeps,"
            " each with names of its own, and take the branch that is meant"
        )
    order = np.argsort(x, kind="stable")
    return x[order], row[order]


def _numbers(result: Measured) -> Measured:
    """A result, or several; what is too large for a number is a hole."""
    return np.where(np.isinf(result), math.nan, result)[()] if np.isinf(result).any() else result


def _consuming(function: Callable[..., Any]) -> Callable[..., Any]:
    is_statistic = function.__module__.endswith("statistics")
    is_in_order = function.__name__ in _IN_ORDER

    def apply(curve: Curve, axis: str, *arguments: Measured, field: str = "", **options: Measured) -> Measured:
        x, rows, rest, shape = _rows(curve, axis)
        results = []
        for row in rows:
            if not len(row) or never(row).all():
                results.append(NEVER_MEASURED)
                continue
            try:
                points, values = (x, row) if is_statistic else _measured(x, row) if is_in_order else _rising(x, row)
                with np.errstate(all="ignore"):
                    found = function(points, values, *arguments, **options)
            except ValueError as error:
                raise SequenceError(
                    f"{function.__name__} along {axis}: {error}", remedy="Look at its points."
                ) from None
            results.append(_numbers(getattr(found, field) if field else found))
        return ArrayCurve(rest, np.array(results).reshape(shape)) if rest else results[0]

    return apply


def _keeping(function: Callable[..., Any]) -> Callable[..., Any]:
    def apply(curve: Curve, axis: str, *arguments: Measured, **options: Measured) -> Curve:
        x, rows, rest, shape = _rows(curve, axis)
        made = np.where(no_point(rows), NO_POINT, NEVER_MEASURED).astype(curve.values.dtype)
        for i, row in enumerate(rows):
            measured = np.flatnonzero(~never(row))
            if not len(measured):
                continue
            order = measured[np.argsort(x[measured], kind="stable")]
            try:
                _rising(x, row)
                with np.errstate(all="ignore"):
                    made[i, order] = _numbers(function(x[order], row[order], *arguments, **options))
            except ValueError as error:
                raise SequenceError(
                    f"{function.__name__} along {axis}: {error}", remedy="Look at its points."
                ) from None
        place = list(curve.axes).index(axis)
        return curve.with_values(np.moveaxis(made.reshape(*shape, len(x)), -1, place))

    return apply


def at(curve: Curve | AxisLine, places: dict[str, float], *, log: bool = False) -> Measured:
    """The value at a point of one axis or several, interpolated between neighbours.

    Raises:
        SequenceError: the point lies beyond the ends of an axis.
    """
    if isinstance(curve, AxisLine):
        return float(curve.on(np.array([places[curve.axis]]))[0])
    take = _consuming(shaping.at)
    for axis, value in places.items():
        try:
            curve = take(curve, axis, value, log=log)
        except SequenceError as error:
            raise SequenceError(
                f"{axis} = {error.what.partition(': ')[2]}", remedy="Take a point within the curve."
            ) from None
    return curve


def points_of(curve: Curve, axis: str) -> Curve:
    """The points of an axis, as a curve over it."""
    points = np.asarray(curve.axes[axis], dtype=float)
    sampling = curve.sampling
    return SampledCurve(sampling, points) if sampling is not None else ArrayCurve({axis: points}, points)


def crossings(curve: Curve, axis: str, level: float, **options: Measured) -> Curve:
    """All crossings along an axis, over the new axis `crossing` (1, 2, …); rows with fewer are filled up with holes."""
    x, rows, rest, shape = _rows(curve, axis)
    try:
        found = [features.crossings(*_measured(x, row), level, **options) for row in rows]
    except ValueError as error:
        raise SequenceError(f"crossing along {axis}: {error}", remedy="Look at its points.") from None
    longest = max(map(len, found), default=0)
    values = np.full((len(found), longest), NEVER_MEASURED)
    for row, mine in zip(values, found, strict=True):
        row[: len(mine)] = mine
    return ArrayCurve({**rest, "crossing": np.arange(1.0, longest + 1)}, values.reshape(*shape, longest))


def onto(curve: Curve, like: Curve, *, log: bool = False, is_reference: bool = False) -> Curve:
    """A curve at the points of another one, along the one axis in whose points they differ. Where both have one axis
    only, under different names, the result takes the name of the second. Beyond its ends it was never measured; a
    reference is bad there, for what is measured there is not to pass unseen.

    Raises:
        SequenceError: they differ in more than one axis.
    """
    if len(curve.axes) == len(like.axes) == 1:
        curve = ArrayCurve(dict(zip(like.axes, curve.axes.values(), strict=True)), curve.values)
    differing = [a for a in curve.axes if a in like.axes and not np.array_equal(curve.axes[a], like.axes[a])]
    if not differing:
        return curve
    if len(differing) > 1:
        raise SequenceError(
            f"the curves differ along {' and '.join(differing)}", remedy="onto() brings one axis together at a time."
        )
    axis = differing[0]
    x, rows, rest, shape = _rows(curve, axis)
    points = like.axes[axis]
    try:
        made = np.array([shaping.onto(*_rising(x, row), points, log=log) for row in rows])
    except ValueError as error:
        raise SequenceError(f"onto along {axis}: {error}", remedy="Look at its points.") from None
    if is_reference:
        made = np.where(never(made), NO_REFERENCE, made)
    axes = {name: points if name == axis else own for name, own in curve.axes.items()}
    place = list(axes).index(axis)
    return ArrayCurve(axes, np.moveaxis(made.reshape(*shape, len(points)), -1, place))


def line(axis: str, *pairs: tuple[float, float], log: bool = False) -> AxisLine:
    """A line through points (x, y).

    Raises:
        SequenceError: fewer than two points, or x does not rise, or is not positive on a logarithmic axis.
    """
    x, y = (np.array(values, dtype=float) for values in zip(*pairs, strict=True))
    if len(x) < 2 or (np.diff(x) <= 0).any() or (log and x[0] <= 0):
        raise SequenceError(
            "a line needs two points or more, from left to right" + (", above zero" if log else ""),
            remedy="Write them in rising order.",
        )
    return line_through(axis, x, y, is_log=log)


def number(x: Measured, factor: float, offset: float) -> Measured:
    """The bare number of a value in a unit."""
    return combine(lambda v: (v - offset) / factor, x) if is_curve(x) else (x - offset) / factor


def inside(x: Measured, low: Measured, high: Measured) -> Measured:
    """Whether a value lies within limits, the limits included; a hole where any of them is one."""
    return logic("and", compared(">=", x, low), compared("<=", x, high))


def statistics_n(curve: Curve, axis: str) -> tuple[int, int, bool]:
    """Of how many values a result along an axis was made, how many there could have been, and whether it is a single
    one; of a curve of results the values of all of them."""
    size, is_single = curve.values.size, len(curve.axes) == 1
    return size - int(np.isnan(curve.values).sum()), size - int(never(curve.values).sum()), is_single
