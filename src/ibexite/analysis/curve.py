"""A labelled curve: values over one or several named axes, NaN where there is none. Units are looked at elsewhere."""

from __future__ import annotations

import math
import operator
import warnings
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from ibexite.errors import SequenceError

Array = np.ndarray[Any, np.dtype[Any]]


@dataclass(frozen=True, slots=True, eq=False)
class Curve:
    """Values of shape (n of each axis, in order) over axes {name: values, shape (n,)}."""

    axes: dict[str, Array]
    values: Array

    def __post_init__(self) -> None:
        assert self.values.shape == tuple(len(axis) for axis in self.axes.values())

    def grid(self) -> list[Array]:
        """The values of each axis at every point, each of the shape of the values."""
        return list(np.meshgrid(*self.axes.values(), indexing="ij"))

    def __add__(self, other: Any) -> Curve:
        return combine(operator.add, self, other)

    def __radd__(self, other: Any) -> Curve:
        return combine(operator.add, other, self)

    def __sub__(self, other: Any) -> Curve:
        return combine(operator.sub, self, other)

    def __rsub__(self, other: Any) -> Curve:
        return combine(operator.sub, other, self)

    def __mul__(self, other: Any) -> Curve:
        return combine(operator.mul, self, other)

    def __rmul__(self, other: Any) -> Curve:
        return combine(operator.mul, other, self)

    def __truediv__(self, other: Any) -> Curve:
        return combine(operator.truediv, self, other)

    def __rtruediv__(self, other: Any) -> Curve:
        return combine(operator.truediv, other, self)

    def __neg__(self) -> Curve:
        return Curve(self.axes, -self.values)


def combine(operation: Callable[..., Any], *operands: Any) -> Curve:
    """An operation point by point; operands may be curves over some of the axes, or single values.

    Results that are not finite (a division by zero) are holes.

    Raises:
        SequenceError: two operands have different values on an axis of the same name.
    """
    axes = joined_axes(*operands)
    with np.errstate(all="ignore"):
        values = np.asarray(operation(*(spread(operand, axes) for operand in operands)))
    values = np.broadcast_to(values, tuple(len(axis) for axis in axes.values()))
    if values.dtype.kind == "f" and not np.isfinite(values).all():
        values = np.where(np.isfinite(values), values, math.nan)
    return Curve(axes, values)


def joined_axes(*operands: Any) -> dict[str, Array]:
    """All axes of the operands in the order of first appearance."""
    axes: dict[str, Array] = {}
    for operand in operands:
        if not isinstance(operand, Curve):
            continue
        for name, values in operand.axes.items():
            if name in axes and axes[name] is not values and not np.array_equal(axes[name], values):
                raise SequenceError(
                    f"two curves have different points on the axis {name}", remedy="Measure both at the same points."
                )
            axes.setdefault(name, values)
    return axes


def spread(operand: Any, axes: dict[str, Array]) -> Any:
    """The values of an operand, shaped so that they broadcast over the axes; a single value as it is."""
    if not isinstance(operand, Curve):
        return operand
    own = [name for name in axes if name in operand.axes]
    values = operand.values.transpose([list(operand.axes).index(name) for name in own])
    return values.reshape([len(axes[name]) if name in operand.axes else 1 for name in axes])


def _reduce(function: Callable[..., Any], curve: Curve, axis: str) -> Curve | float:
    place = list(curve.axes).index(axis)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # all holes: the result is a hole, which is right
        values = function(curve.values, axis=place)
    rest = {name: points for name, points in curve.axes.items() if name != axis}
    return Curve(rest, np.asarray(values)) if rest else float(values)


def largest(curve: Curve, axis: str) -> Curve | float:
    """The largest value along an axis, in the unit of the curve; holes are left out, nothing but holes is a hole."""
    return _reduce(np.nanmax, curve, axis)


def smallest(curve: Curve, axis: str) -> Curve | float:
    """The smallest value along an axis; holes as in `largest`."""
    return _reduce(np.nanmin, curve, axis)


def mean(curve: Curve, axis: str) -> Curve | float:
    """The arithmetic mean along an axis; holes as in `largest`."""
    return _reduce(np.nanmean, curve, axis)


def at(curve: Curve, axis: str, value: float) -> Curve | float:
    """The value at a point of an axis, interpolated linearly between its two neighbours.

    A hole at a neighbour makes a hole; a point of the grid is taken as it is.

    Raises:
        SequenceError: the point lies beyond the ends of the axis.
    """
    place = list(curve.axes).index(axis)
    points = curve.axes[axis]
    rising = np.argsort(points)
    right = int(np.searchsorted(points[rising], value))
    if right < len(points) and points[rising[right]] == value:
        values = np.take(curve.values, rising[right], axis=place)
    elif 0 < right < len(points):
        a, b = rising[right - 1], rising[right]
        share = (value - points[a]) / (points[b] - points[a])
        values = (1 - share) * np.take(curve.values, a, axis=place) + share * np.take(curve.values, b, axis=place)
    else:
        raise SequenceError(
            f"{axis} = {value:g} lies beyond the ends of the curve",
            remedy=f"It was measured from {points.min():g} to {points.max():g} (base units).",
        )
    rest = {name: p for name, p in curve.axes.items() if name != axis}
    return Curve(rest, np.asarray(values)) if rest else float(values)


def _either(of_array: Callable[[Any], Any], of_number: Callable[[float], float]) -> Callable[[Any], Any]:
    def apply(x: Any) -> Any:
        if isinstance(x, Curve):
            return combine(of_array, x)
        try:
            return of_number(x)
        except (ValueError, OverflowError):  # the root of a negative number, the logarithm of zero
            return math.nan

    return apply


absolute = _either(np.abs, abs)
root = _either(np.sqrt, math.sqrt)
db_amplitude = _either(lambda x: 20 * np.log10(x), lambda x: 20 * math.log10(x))
db_power = _either(lambda x: 10 * np.log10(x), lambda x: 10 * math.log10(x))


def raised(x: Any, exponent: Any) -> Any:
    """x to the power of exponent; NaN where that is not a real number."""
    if isinstance(x, Curve) or isinstance(exponent, Curve):
        return combine(np.power, x, exponent)
    try:
        return math.pow(x, exponent)
    except (ValueError, OverflowError):
        return math.nan


def compared(sign: str, left: Any, right: Any) -> Any:
    """A comparison point by point; a hole compares as false."""
    operation = {
        ">=": operator.ge,
        "<=": operator.le,
        ">": operator.gt,
        "<": operator.lt,
        "==": operator.eq,
        "!=": operator.ne,
    }[sign]
    if isinstance(left, Curve) or isinstance(right, Curve):
        return combine(operation, left, right)
    return operation(left, right)


def logic(word: str, *operands: Any) -> Any:
    """and, or, not of conditions, point by point."""
    operation: Callable[..., Any] = {"and": np.logical_and, "or": np.logical_or, "not": np.logical_not}[word]
    if any(isinstance(operand, Curve) for operand in operands):
        return combine(operation, *operands)
    return bool(operation(*operands))
