"""A gain over frequency, of a reference: what a stimulus is shaped by. No NumPy: references are plain data."""

from __future__ import annotations

import math

from ibexite.reference import Axis, Reference, ReferenceValue
from ibexite.stimulus import Gain
from ibexite.units import HERTZ
from ibexite.values import Quantity


def gain_of(
    reference: Reference, value: ReferenceValue, *, is_inverse: bool, at: float | None, most_age: float
) -> Gain:
    """The gain that a curve over a frequency stands for: its size, or one over that; taken as 1 at a frequency in Hz.

    Raises:
        ValueError: it is no such curve, has holes or zeros, or a unit where no frequency is named at which it is 1.
    """
    kind = value.type
    if not isinstance(kind, Quantity) or len(value.axes) != 1 or value.axes[0].type.dimension != HERTZ:
        raise ValueError(f"{value.name} is no curve over a frequency")
    is_level = kind.dimension.kind in ("db", "level")
    if not is_level and kind.dimension.kind != "linear":
        raise ValueError(f"{value.name} is {kind}")
    points = sorted(zip(_points(value.axes[0], len(value.values)), value.values, strict=True))
    sizes = [_size(number, is_level=is_level) for _, number in points]
    frequencies = [float(f) for f, _ in points]
    if len(points) < 2 or frequencies[0] <= 0 or any(not size > 0 or math.isinf(size) for size in sizes):
        raise ValueError(f"{value.name} has holes, zeros, or fewer than two points")
    if at is None and (kind.dimension.kind == "level" or not (is_level or kind.dimension.is_plain)):
        raise ValueError(f"{value.name} is {kind}: say at which frequency it counts as 1, such as at 40 kHz")
    if at is not None and not frequencies[0] <= at <= frequencies[-1]:
        raise ValueError(
            f"{value.name} has no value at {at:g} Hz, only from {frequencies[0]:g} to {frequencies[-1]:g} Hz"
        )
    one = 1.0 if at is None else _between(frequencies, sizes, at)
    factors = [one / size if is_inverse else size / one for size in sizes]
    return Gain(reference.name, tuple(frequencies), tuple(factors), reference.origin.measured, most_age)


def _points(axis: Axis, count: int) -> list[float]:
    if axis.sampling is not None:
        start, step = axis.sampling
        return [start + step * i for i in range(count)]
    return [float(point) for point in axis.points]


def _size(number: float | complex | str | None, *, is_level: bool) -> float:
    if not isinstance(number, int | float | complex):
        return math.nan
    return 10 ** (number.real / 20) if is_level else abs(number)


def _between(frequencies: list[float], sizes: list[float], at: float) -> float:
    """The size at a frequency: straight between its neighbours over the logarithm of the frequency."""
    pairs = list(zip(frequencies, sizes, strict=True))
    for (f1, a), (f2, b) in zip(pairs, pairs[1:], strict=False):
        if f1 <= at <= f2:
            return a + (b - a) * math.log(at / f1) / math.log(f2 / f1)
    return sizes[-1]
