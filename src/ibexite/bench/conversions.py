"""From what a meter answers to what a signal means: a chain of steps, each with its inverse. Linear ones are one factor
and one offset in the loop over points; what cannot be converted is NaN, and so a bad reading.
"""

from __future__ import annotations

import bisect
import math
from collections.abc import Callable, Sequence

from ibexite.frozen import frozen
from ibexite.units import Dimension

Function = Callable[[float], float]


@frozen
class Step:
    """One step of a conversion. Of a linear one (value = scale * x + offset) both are told; of others they are None."""

    text: str  # in words, for the report
    dimension: Dimension  # of what it gives
    forward: Function
    backward: Function
    scale: float | None = None
    offset: float = 0.0


def linear(text: str, dimension: Dimension, scale: float, offset: float = 0.0) -> Step:
    """A step value = scale * x + offset; scale is not 0."""
    return Step(text, dimension, lambda x: x * scale + offset, lambda y: (y - offset) / scale, scale, offset)


def curved(text: str, dimension: Dimension, forward: Function, backward: Function) -> Step:
    """Any other step."""
    return Step(text, dimension, forward, backward)


@frozen
class Chain:
    """Steps, one behind the other; without any the value is the reading itself."""

    steps: tuple[Step, ...] = ()

    @property
    def text(self) -> str:
        """In words, for the report."""
        return ", ".join(step.text for step in self.steps)

    @property
    def is_linear(self) -> bool:
        """True if one factor and one offset do all of it."""
        return all(step.scale is not None for step in self.steps)

    @property
    def scale(self) -> float:
        """Of a linear chain: value = reading * scale + offset."""
        return math.prod(step.scale or 1.0 for step in self.steps)

    @property
    def offset(self) -> float:
        """Of a linear chain."""
        offset = 0.0
        for step in self.steps:
            offset = offset * (step.scale or 1.0) + step.offset
        return offset

    def value(self, reading: float) -> float:
        """The value of a reading, both in base units; NaN where it has none."""
        for step in self.steps:
            reading = step.forward(reading)
        return reading

    def reading(self, value: float) -> float:
        """The reading that gives a value: for prepared readings of a simulated bench."""
        for step in reversed(self.steps):
            value = step.backward(value)
        return value

    def compiled(self) -> Function:
        """The same as `value`, with linear steps that follow one another made one."""
        merged: list[Function] = []
        scale, offset, is_pending = 1.0, 0.0, False
        for step in self.steps:
            if step.scale is not None:
                scale, offset, is_pending = scale * step.scale, offset * step.scale + step.offset, True
                continue
            if is_pending:
                merged.append(linear("", step.dimension, scale, offset).forward)
                scale, offset, is_pending = 1.0, 0.0, False
            merged.append(step.forward)
        if is_pending:
            merged.append(lambda x, scale=scale, offset=offset: x * scale + offset)  # type: ignore[misc]
        if len(merged) == 1:
            return merged[0]
        if len(merged) == 2:
            first, second = merged
            return lambda x: second(first(x))
        return self.value


class Interpolation:
    """Straight lines through points; NaN beyond them. `x` rises, both are as long."""

    def __init__(self, x: Sequence[float], y: Sequence[float]) -> None:
        self._x, self._y = list(x), list(y)

    def __call__(self, x: float) -> float:
        xs, ys = self._x, self._y
        if not xs[0] <= x <= xs[-1]:
            return math.nan
        i = min(bisect.bisect_right(xs, x), len(xs) - 1)
        share = (x - xs[i - 1]) / (xs[i] - xs[i - 1])
        return ys[i - 1] + share * (ys[i] - ys[i - 1])


def polynomial(coefficients: Sequence[float]) -> Function:
    """c0 + c1 x + c2 x^2 + …"""
    reverse = tuple(reversed(coefficients))

    def value(x: float) -> float:
        result = 0.0
        for coefficient in reverse:
            result = result * x + coefficient
        return result

    return value


def solved(function: Function, low: float, high: float) -> Function:
    """The inverse of a function that rises or falls all the way between two places; NaN for what it does not reach."""
    first, last = function(low), function(high)

    def inverse(y: float) -> float:
        if not min(first, last) <= y <= max(first, last):
            return math.nan
        a, b = low, high
        for _ in range(200):
            middle = (a + b) / 2
            if middle in (a, b):
                break
            if (function(middle) < y) == (first < last):
                a = middle
            else:
                b = middle
        return (a + b) / 2

    return inverse
