"""A labelled curve: values over one or several named axes, and arithmetic on it. Units are looked at elsewhere.

Holes are NaN; a value that was never measured stays one through all arithmetic (see ibexite.holes).
"""

from __future__ import annotations

import operator
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import product
from typing import Any

import numpy as np

from ibexite.errors import SequenceError
from ibexite.holes import (
    BAD,
    NEVER_MEASURED,
    NO_POINT,
    PAYLOAD,
    PAYLOAD_NO_POINT,
    PAYLOAD_NO_REFERENCE,
    Bound,
)
from ibexite.untyped import Measured

Array = np.ndarray[Any, np.dtype[Any]]
_MASK = np.uint64(0x7FFF_FFFF_FFFF_FFFF)


class Curve:
    """Values over one or several named axes: what all forms of a curve have in common.

    The points of an axis stand in the order in which they were measured. Texts, as values or as points, are arrays of
    objects; their holes are NaN as everywhere.
    """

    __slots__ = ()
    values: Array  # of shape (n of each axis, in order); may be complex

    @property
    def axes(self) -> dict[str, Array]:
        """The points of each axis, shape (n,)."""
        raise NotImplementedError

    @property
    def bounds(self) -> Mapping[int, Bound]:
        """What is known of holes that are only bounded, by their place in the flattened values."""
        return {}

    @property
    def sampling(self) -> Sampling | None:
        """The axis of an evenly sampled curve, None for any other."""
        return None

    def with_values(self, values: Array) -> Curve:
        """Other values at the same points."""
        return ArrayCurve(self.axes, values)

    def grid(self) -> list[Array]:
        """The values of each axis at every point, each of the shape of the values."""
        return list(np.meshgrid(*self.axes.values(), indexing="ij"))

    def __add__(self, other: Measured) -> Curve:
        return _applied(operator.add, self, other)

    def __radd__(self, other: Measured) -> Curve:
        return _applied(operator.add, other, self)

    def __sub__(self, other: Measured) -> Curve:
        return _applied(operator.sub, self, other)

    def __rsub__(self, other: Measured) -> Curve:
        return _applied(operator.sub, other, self)

    def __mul__(self, other: Measured) -> Curve:
        return _applied(operator.mul, self, other)

    def __rmul__(self, other: Measured) -> Curve:
        return _applied(operator.mul, other, self)

    def __truediv__(self, other: Measured) -> Curve:
        return _applied(operator.truediv, self, other)

    def __rtruediv__(self, other: Measured) -> Curve:
        return _applied(operator.truediv, other, self)

    def __neg__(self) -> Curve:
        return _applied(operator.neg, self)


@dataclass(frozen=True, slots=True, eq=False)
class ArrayCurve(Curve):
    """A curve with the points of each axis as an array."""

    axes: dict[str, Array] = field()  # else what Curve says of it would be taken for its default
    values: Array = field()
    bounds: Mapping[int, Bound] = field(default_factory=dict)  # computing drops it

    def __post_init__(self) -> None:
        assert self.values.shape == tuple(len(axis) for axis in self.axes.values())


@dataclass(frozen=True, slots=True)
class Sampling:
    """An axis with even steps: its first point and the step, in base units."""

    axis: str
    start: float
    step: float

    def points(self, count: int) -> Array:
        """Its first points, shape (count,)."""
        return self.start + self.step * np.arange(count)


@dataclass(frozen=True, slots=True, eq=False)
class SampledCurve(Curve):
    """A curve over one axis with even steps, such as a waveform: its points are computed when they are asked for."""

    sampling: Sampling = field()
    values: Array = field()

    @property
    def axes(self) -> dict[str, Array]:
        """The points of its axis."""
        return {self.sampling.axis: self.sampling.points(len(self.values))}

    def with_values(self, values: Array) -> Curve:
        """Other values at the same points."""
        return SampledCurve(self.sampling, values)


MOST_AT_ONCE = 50_000_000  # values of a recording: 400 MB


class StreamedCurve(SampledCurve):
    """A recording: its values lie on the disk, and are read when they are looked at.

    Args:
        count: how many there are.
        load: gives those from one to before another, in base units, shape (n,).
    """

    __slots__ = ("_load", "_loaded", "count")
    _load: Callable[[int, int], Array]
    _loaded: Array | None
    count: int

    def __init__(self, sampling: Sampling, count: int, load: Callable[[int, int], Array]) -> None:
        for name, value in (("sampling", sampling), ("count", count), ("_load", load), ("_loaded", None)):
            object.__setattr__(self, name, value)

    @property
    def values(self) -> Array:  # type: ignore[override]
        """All of them. Raises SequenceError: they are too many to be computed with at once."""
        if self._loaded is None:
            self._refuse_too_many(self.count)
            object.__setattr__(self, "_loaded", self._load(0, self.count))
            assert self._loaded is not None
        return self._loaded

    def part(self, begin: int, end: int) -> SampledCurve:
        """The curve of some of its points, which alone are read."""
        self._refuse_too_many(end - begin)
        sampling = self.sampling
        start = sampling.start + sampling.step * begin
        return SampledCurve(Sampling(sampling.axis, start, sampling.step), self._load(begin, end))

    @staticmethod
    def _refuse_too_many(count: int) -> None:
        if count > MOST_AT_ONCE:
            raise SequenceError(
                f"a recording of {count:,} samples is more than is computed with at once ({MOST_AT_ONCE:,})",
                remedy="Take a part of it: cut(trace.i_in, 0 s, 10 s)",
            )


@dataclass(frozen=True, slots=True, eq=False)
class AxisLine:
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
        return ArrayCurve({next(iter(axes)): array_of(columns[0])}, found)
    points = [list(dict.fromkeys(column)) for column in columns]
    places = [{x: i for i, x in enumerate(mine)} for mine in points]
    whole = np.full([len(mine) for mine in points], NO_POINT, dtype=found.dtype)
    for row, value in zip(rows, values, strict=True):
        whole[tuple(place[x] for place, x in zip(places, row, strict=True))] = value
    return ArrayCurve({name: array_of(mine) for name, mine in zip(axes, points, strict=True)}, whole)


def array_of(values: Sequence[float | str]) -> Array:
    """Numbers as floats; where there are texts among them, all as objects."""
    return np.array(values, dtype=object if any(isinstance(value, str) for value in values) else float)


def line_through(axis: str, x: Array, y: Array, *, is_log: bool = False) -> AxisLine:
    """A line through points: x rises, both have shape (n,). Between the points it is straight, on a logarithmic axis if
    `is_log`; beyond its ends it has no value, so that nothing is judged there."""

    def on(points: Array) -> Array:
        known, at = (np.log(x), np.log(points)) if is_log else (x, points)
        return np.where((points < x[0]) | (points > x[-1]), NEVER_MEASURED, np.interp(at, known, y))

    return AxisLine(axis, on)


def never(values: Measured) -> Array:
    """True where a value was never measured; shape of the values."""
    return _has_payload(values, PAYLOAD, PAYLOAD_NO_POINT)


def no_point(values: Measured) -> Array:
    """True where a pass of a ragged or refined sweep has no point at all; shape of the values."""
    return _has_payload(values, PAYLOAD_NO_POINT)


def no_reference(values: Measured) -> Array:
    """True where a reference has nothing to compare with; shape of the values."""
    return _has_payload(values, PAYLOAD_NO_REFERENCE)


def is_hole(values: Measured) -> Array:
    """True where there is no value, of numbers or texts; shape of the values."""
    values = np.asarray(values)
    if values.dtype.kind == "O":
        return np.array([value != value for value in values.ravel()], dtype=bool).reshape(values.shape)
    return np.isnan(values) if values.dtype.kind in "fc" else np.zeros(values.shape, dtype=bool)


def _has_payload(values: Measured, *payloads: int) -> Array:
    values = np.asarray(values)
    if values.dtype.kind == "O":
        values = np.where(is_hole(values), values, 0.0).astype(float)
    if values.dtype.kind == "c":
        values = values.real
    if values.dtype.kind != "f":
        return np.zeros(values.shape, dtype=bool)
    found: Array = np.asarray(np.isnan(values))
    if found.any():  # holes are few: only they are copied
        bits = values[found].astype(np.float64, copy=False).view(np.uint64)
        found[found] = np.isin(bits & _MASK, payloads)
    return found


def _applied(operation: Callable[..., Any], *operands: Measured) -> Curve:
    found: Curve = combine(operation, *operands)
    return found


def combine(operation: Callable[..., Any], *operands: Measured, resolves_holes: bool = False) -> Measured:
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
    lines = {operand.axis for operand in operands if isinstance(operand, AxisLine)}
    if lines and not any(isinstance(operand, Curve) for operand in operands):
        return _combined_line(operation, operands, lines)
    axes = joined_axes(*operands)
    shape = tuple(len(axis) for axis in axes.values())
    spread_out = [spread(operand, axes) for operand in operands]
    with np.errstate(all="ignore"):
        values = np.array(np.broadcast_to(np.asarray(operation(*spread_out)), shape))
    if values.dtype.kind not in "fc":
        return _like(operands, axes, values)
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
        for operand in reversed(spread_out):  # which may say why it is bad
            mine = np.asarray(operand)
            if mine.dtype.kind == "f" and values.dtype.kind == "f" and np.isnan(mine).any():
                which = lost & np.isnan(mine) & ~never(mine)  # bad beats never measured
                values[which] = np.broadcast_to(mine, shape)[which]
        values[lost & unmeasured & ~bad] = NEVER_MEASURED
        values[lost & missing & ~bad] = NO_POINT
    return _like(operands, axes, values)


def _like(operands: tuple[Measured, ...], axes: dict[str, Array], values: Array) -> Curve:
    """A curve made of operands: evenly sampled as all of them are."""
    curves = [operand for operand in operands if isinstance(operand, Curve)]
    first = curves[0].sampling if curves else None
    if first is not None and all(curve.sampling == first for curve in curves):
        return SampledCurve(first, values)
    return ArrayCurve(axes, values)


def _combined_line(operation: Callable[..., Any], operands: tuple[Measured, ...], axes: set[str]) -> AxisLine:
    if len(axes) > 1:
        raise SequenceError(
            f"lines along {' and '.join(sorted(axes))} meet no curve", remedy="Combine each with a curve over its axis."
        )
    (axis,) = axes

    def on(points: Array) -> Array:
        given = [ArrayCurve({axis: points}, o.on(points)) if isinstance(o, AxisLine) else o for o in operands]
        found: Array = combine(operation, *given).values
        return found

    return AxisLine(axis, on)


def joined_axes(*operands: Measured) -> dict[str, Array]:
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
        if isinstance(operand, AxisLine) and operand.axis not in axes:
            raise SequenceError(
                f"a line along {operand.axis} meets no curve over {operand.axis}",
                remedy="Compare or combine it with a curve, or take one value of it with at().",
            )
    return axes


def spread(operand: Measured, axes: dict[str, Array]) -> Measured:
    """The values of an operand, shaped so that they broadcast over the axes; a single value as it is."""
    if isinstance(operand, AxisLine):
        operand = ArrayCurve({operand.axis: axes[operand.axis]}, operand.on(axes[operand.axis]))
    if not isinstance(operand, Curve):
        return operand
    own = [name for name in axes if name in operand.axes]
    values = operand.values.transpose([list(operand.axes).index(name) for name in own])
    return values.reshape([len(axes[name]) if name in operand.axes else 1 for name in axes])


def each_point(*operands: Measured) -> Iterator[tuple[tuple[Measured, ...], tuple[Measured, ...]]]:
    """The points over all axes of some operands: the axis values, and the value of each operand there, in Python's own
    types. Raises SequenceError as joined_axes does."""
    axes = joined_axes(*operands)
    shape = tuple(map(len, axes.values()))
    spread_out = [np.broadcast_to(np.asarray(spread(x, axes), dtype=object), shape).ravel() for x in operands]
    points = product(*(axis.tolist() for axis in axes.values()))
    return zip(points, zip(*spread_out, strict=True), strict=True)


def is_curve(x: Measured) -> bool:
    """True for curves and lines."""
    return isinstance(x, Curve | AxisLine)
