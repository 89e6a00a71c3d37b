"""A labelled curve: values over one or several named axes, and arithmetic on it. Units are looked at elsewhere.

Holes are NaN; a value that was never measured stays one through all arithmetic (see ibexite.holes).
"""

from __future__ import annotations

import math
import operator
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product
from typing import Any

import numpy as np

from ibexite.errors import SequenceError
from ibexite.holes import (
    BAD,
    EQUAL,
    NEVER_MEASURED,
    NO_POINT,
    PAYLOAD,
    PAYLOAD_NO_POINT,
    Bound,
    decide,
    hole_of,
    is_equal,
)

Array = np.ndarray[Any, np.dtype[Any]]
_MASK = np.uint64(0x7FFF_FFFF_FFFF_FFFF)


@dataclass(frozen=True, slots=True, eq=False)
class Curve:
    """Values of shape (n of each axis, in order) over axes {name: values, shape (n,)}. May be complex. `bounds` tells
    what is known of holes that are only bounded, by their place in the flattened values; computing drops it.

    The points of an axis stand in the order in which they were measured. Texts, as values or as points, are arrays of
    objects; their holes are NaN as everywhere.
    """

    axes: dict[str, Array]
    values: Array
    bounds: Mapping[int, Bound] = field(default_factory=dict)

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
        return combine(operator.neg, self)


@dataclass(frozen=True, slots=True, eq=False)
class Line:
    """Limits that take the points of the curve that they meet: a line along an axis, or a formula of such lines."""

    axis: str
    on: Callable[[Array], Array]  # its values at points of the axis; never measured where it has none

    __add__ = Curve.__add__
    __radd__ = Curve.__radd__
    __sub__ = Curve.__sub__
    __rsub__ = Curve.__rsub__
    __mul__ = Curve.__mul__
    __rmul__ = Curve.__rmul__
    __truediv__ = Curve.__truediv__
    __rtruediv__ = Curve.__rtruediv__
    __neg__ = Curve.__neg__


def curve_of_rows(axes: Mapping[str, Sequence[float | str]], values: Sequence[float | str]) -> Curve:
    """A curve from rows: the axis values of each, shape (n,), and the value, shape (n,).

    The points of an axis stand in the order of their first row; one that comes twice in one pass stands twice. Where
    there is no row, there is no point.
    """
    columns = [list(column) for column in axes.values()]
    rows = list(zip(*columns, strict=True))
    found = array_of(values)
    if len(columns) == 1:
        return Curve({next(iter(axes)): array_of(columns[0])}, found)
    points = [list(dict.fromkeys(column)) for column in columns]
    places = [{x: i for i, x in enumerate(mine)} for mine in points]
    whole = np.full([len(mine) for mine in points], NO_POINT, dtype=found.dtype)
    for row, value in zip(rows, values, strict=True):
        whole[tuple(place[x] for place, x in zip(places, row, strict=True))] = value
    return Curve({name: array_of(mine) for name, mine in zip(axes, points, strict=True)}, whole)


def array_of(values: Sequence[float | str]) -> Array:
    """Numbers as floats; where there are texts among them, all as objects."""
    return np.array(values, dtype=object if any(isinstance(value, str) for value in values) else float)


def line_through(axis: str, x: Array, y: Array, *, is_log: bool = False) -> Line:
    """A line through points: x rises, both have shape (n,). Between the points it is straight, on a logarithmic axis if
    `is_log`; beyond its ends it has no value, so that nothing is judged there."""

    def on(points: Array) -> Array:
        known, at = (np.log(x), np.log(points)) if is_log else (x, points)
        return np.where((points < x[0]) | (points > x[-1]), NEVER_MEASURED, np.interp(at, known, y))

    return Line(axis, on)


def never(values: Any) -> Array:
    """True where a value was never measured; shape of the values."""
    return _has_payload(values, PAYLOAD) | _has_payload(values, PAYLOAD_NO_POINT)


def no_point(values: Any) -> Array:
    """True where a pass of a ragged or refined sweep has no point at all; shape of the values."""
    return _has_payload(values, PAYLOAD_NO_POINT)


def is_hole(values: Any) -> Array:
    """True where there is no value, of numbers or texts; shape of the values."""
    values = np.asarray(values)
    if values.dtype.kind == "O":
        return np.array([value != value for value in values.ravel()], dtype=bool).reshape(values.shape)
    return np.isnan(values) if values.dtype.kind in "fc" else np.zeros(values.shape, dtype=bool)


def _has_payload(values: Any, payload: int) -> Array:
    values = np.asarray(values)
    if values.dtype.kind == "O":
        values = np.where(is_hole(values), values, 0.0).astype(float)
    if values.dtype.kind == "c":
        values = values.real
    if values.dtype.kind != "f":
        return np.zeros(values.shape, dtype=bool)
    bits: Array = np.ascontiguousarray(values, dtype=np.float64).view(np.uint64).reshape(values.shape)
    return (bits & _MASK) == payload


def combine(operation: Callable[..., Any], *operands: Any, resolves_holes: bool = False) -> Any:
    """An operation point by point; operands may be curves over some of the axes, lines, or single values.

    Results that are not finite (a division by zero) are holes, and so is what any hole is an operand of: never measured
    if all holes among the operands are, else bad.

    Args:
        resolves_holes: the operation itself knows what to make of holes (and, or).

    Returns:
        A curve; of lines and single values alone a line.

    Raises:
        SequenceError: two operands have different values on an axis of the same name, or lines lie along several.
    """
    lines = {operand.axis for operand in operands if isinstance(operand, Line)}
    if lines and not any(isinstance(operand, Curve) for operand in operands):
        return _combined_line(operation, operands, lines)
    axes = joined_axes(*operands)
    shape = tuple(len(axis) for axis in axes.values())
    spread_out = [spread(operand, axes) for operand in operands]
    with np.errstate(all="ignore"):
        values = np.array(np.broadcast_to(np.asarray(operation(*spread_out)), shape))
    if values.dtype.kind not in "fc":
        return Curve(axes, values)
    lost = ~np.isfinite(values)
    bad, unmeasured, missing = (np.zeros(shape, dtype=bool) for _ in range(3))
    for operand in spread_out:
        mine = np.asarray(operand)
        if mine.dtype.kind in "fcO":
            holes, nevers = is_hole(mine), never(mine)
            bad |= holes & ~nevers
            unmeasured |= nevers
            missing |= no_point(mine)
    if not resolves_holes:
        lost |= bad | unmeasured
    if lost.any():
        values[lost] = BAD
        values[lost & unmeasured & ~bad] = NEVER_MEASURED
        values[lost & missing & ~bad] = NO_POINT
    return Curve(axes, values)


def _combined_line(operation: Callable[..., Any], operands: tuple[Any, ...], axes: set[str]) -> Line:
    if len(axes) > 1:
        raise SequenceError(
            f"lines along {' and '.join(sorted(axes))} meet no curve", remedy="Combine each with a curve over its axis."
        )
    (axis,) = axes

    def on(points: Array) -> Array:
        given = [Curve({axis: points}, o.on(points)) if isinstance(o, Line) else o for o in operands]
        found: Array = combine(operation, *given).values
        return found

    return Line(axis, on)


def joined_axes(*operands: Any) -> dict[str, Array]:
    """All axes of the operands in the order of first appearance."""
    axes: dict[str, Array] = {}
    for operand in operands:
        if not isinstance(operand, Curve):
            continue
        for name, values in operand.axes.items():
            if name in axes and axes[name] is not values and not np.array_equal(axes[name], values):
                raise SequenceError(
                    f"two curves have different points on the axis {name}",
                    remedy="Measure both at the same points, or bring one onto the other: onto(a, b).",
                )
            axes.setdefault(name, values)
    for operand in operands:
        if isinstance(operand, Line) and operand.axis not in axes:
            raise SequenceError(
                f"a line along {operand.axis} meets no curve over {operand.axis}",
                remedy="Compare or combine it with a curve, or take one value of it with at().",
            )
    return axes


def spread(operand: Any, axes: dict[str, Array]) -> Any:
    """The values of an operand, shaped so that they broadcast over the axes; a single value as it is."""
    if isinstance(operand, Line):
        operand = Curve({operand.axis: axes[operand.axis]}, operand.on(axes[operand.axis]))
    if not isinstance(operand, Curve):
        return operand
    own = [name for name in axes if name in operand.axes]
    values = operand.values.transpose([list(operand.axes).index(name) for name in own])
    return values.reshape([len(axes[name]) if name in operand.axes else 1 for name in axes])


def each_point(*operands: Any) -> Iterator[tuple[tuple[Any, ...], tuple[Any, ...]]]:
    """The points over all axes of some operands: the axis values, and the value of each operand there, in Python's own
    types. Raises SequenceError as joined_axes does."""
    axes = joined_axes(*operands)
    shape = tuple(map(len, axes.values()))
    spread_out = [np.broadcast_to(np.asarray(spread(x, axes), dtype=object), shape).ravel() for x in operands]
    points = product(*(axis.tolist() for axis in axes.values()))
    return zip(points, zip(*spread_out, strict=True), strict=True)


def is_curve(x: Any) -> bool:
    """True for curves and lines."""
    return isinstance(x, Curve | Line)


def pointwise(of_array: Callable[..., Any], of_number: Callable[..., Any]) -> Callable[..., Any]:
    """A function for curves, point by point, and for single values; what has no result is a hole."""

    def apply(*operands: Any) -> Any:
        if any(map(is_curve, operands)):
            return combine(of_array, *operands)
        if any(x != x for x in operands):
            return hole_of(*operands)
        try:
            return of_number(*operands)
        except (ValueError, OverflowError, ZeroDivisionError):  # the root of a negative number, the logarithm of zero
            return math.nan

    return apply


absolute = pointwise(np.abs, abs)
root = pointwise(np.sqrt, math.sqrt)
exponential = pointwise(np.exp, math.exp)
natural_log = pointwise(np.log, math.log)
decimal_log = pointwise(np.log10, math.log10)
sine = pointwise(np.sin, math.sin)
cosine = pointwise(np.cos, math.cos)
tangent = pointwise(np.tan, math.tan)
db_amplitude = pointwise(lambda x: 20 * np.log10(x), lambda x: 20 * math.log10(x))
db_power = pointwise(lambda x: 10 * np.log10(x), lambda x: 10 * math.log10(x))
amplitude_ratio = pointwise(lambda x: 10 ** (x / 20), lambda x: 10 ** (x / 20))
power_ratio = pointwise(lambda x: 10 ** (x / 10), lambda x: 10 ** (x / 10))
raised = pointwise(np.power, math.pow)
real_part = pointwise(np.real, lambda z: complex(z).real)
imaginary_part = pointwise(np.imag, lambda z: complex(z).imag)
phase = pointwise(np.angle, lambda z: math.atan2(complex(z).imag, complex(z).real))
rectangular = pointwise(lambda a, b: a + 1j * np.asarray(b), complex)
polar = pointwise(lambda r, a: r * np.exp(1j * np.asarray(a)), lambda r, a: r * complex(math.cos(a), math.sin(a)))
level_of_power = pointwise(lambda x: 10 * np.log10(x) + 30, lambda x: 10 * math.log10(x) + 30)
level_of_voltage = db_amplitude
power_of_level = pointwise(lambda x: 10 ** ((x - 30) / 10), lambda x: 10 ** ((x - 30) / 10))
voltage_of_level = amplitude_ratio


_SIGNS: dict[str, Callable[[Any, Any], Any]] = {
    ">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "==": operator.eq, "!=": operator.ne,
}  # fmt: skip


def compared(sign: str, left: Any, right: Any) -> Any:
    """A comparison point by point: True or False (curves: 1 or 0); where a side is a hole, so is the result."""
    operation = _SIGNS[sign]
    if is_curve(left) or is_curve(right):
        return combine(lambda a, b: _compared_arrays(sign, np.asarray(a), np.asarray(b)), left, right)
    if left != left or right != right:
        return hole_of(left, right)
    if is_equal(left, right):
        return sign in (">=", "<=", "==")
    return operation(left, right)


def _compared_arrays(sign: str, a: Array, b: Array) -> Any:
    if "O" in (a.dtype.kind, b.dtype.kind):
        return np.asarray(_SIGNS[sign](a.astype(object), b.astype(object))).astype(float)
    found = _SIGNS[sign](a, b)
    a, b = (x.astype(float) if x.dtype.kind in "bi" else x for x in (a, b))
    same = np.abs(a - b) <= EQUAL * np.maximum(np.abs(a), np.abs(b))
    return np.where(same, sign in (">=", "<=", "=="), found).astype(float)


def logic(word: str, *operands: Any) -> Any:
    """and, or, not of conditions, point by point, in Kleene's three-valued logic: a hole is neither yes nor no."""
    if any(map(is_curve, operands)):
        operation: Callable[..., Any] = {"and": _all_of, "or": _any_of, "not": lambda x: 1.0 - x}[word]
        return combine(operation, *operands, resolves_holes=True)
    return decide(word, *operands)


def _all_of(*operands: Any) -> Any:
    given = np.broadcast_arrays(*(np.asarray(x, dtype=float) for x in operands))
    least = np.minimum.reduce([np.where(np.isnan(x), 1.0, x) for x in given])
    holes = np.logical_or.reduce([np.isnan(x) for x in given])
    return np.where((least > 0) & holes, math.nan, least)


def _any_of(*operands: Any) -> Any:
    return 1.0 - _all_of(*(1.0 - np.asarray(x, dtype=float) for x in operands))
