"""The points of a sweep, computed as decimals: 0.1 A + 2 x 0.1 A is 300 mA, and both ends are exact."""

from __future__ import annotations

import math
from decimal import Decimal, localcontext

from ibexite.errors import MistakeError

MAX_POINTS = 10_000_000  # of a loop, and turns


def exact(value: float | Decimal) -> Decimal:
    """The decimal that a float shows."""
    return value if isinstance(value, Decimal) else Decimal(repr(float(value)))


def by_step(start: Decimal, end: Decimal, step: Decimal) -> list[Decimal]:
    """start, start + step, … end, up or down, both ends included.

    Raises:
        MistakeError: the step is not positive, or does not fit; `remedy` then holds the nearest ends which would,
            as base values in `error.ends`.

    >>> [str(p) for p in by_step(Decimal("0.1"), Decimal("0.4"), Decimal("0.1"))]
    ['0.1', '0.2', '0.3', '0.4']
    """
    if step <= 0:
        raise MistakeError("the step is not positive", remedy="A sweep downwards has a positive step too.")
    span = end - start
    count = abs(span) / step
    _bound(float(count) + 1)
    whole = int(count.to_integral_value(rounding="ROUND_HALF_EVEN"))
    sign = -1 if span < 0 else 1
    if abs(abs(span) - whole * step) > min(step, abs(span)) * Decimal("1e-9"):
        below = int(count)
        raise StepDoesNotFit(start + sign * below * step, start + sign * (below + 1) * step)
    return [start + sign * i * step for i in range(whole)] + [end] if whole else [start]


class StepDoesNotFit(MistakeError):
    """The step does not lead from start to end; `ends` are the nearest ends to which it does."""

    def __init__(self, nearer: Decimal, farther: Decimal) -> None:
        ends = " or ".join(f"{float(end):.9g}" for end in (nearer, farther))
        super().__init__("the step does not fit", remedy=f"It would lead to {ends} (base units).")
        self.ends = (nearer, farther)


def linear(start: Decimal, end: Decimal, count: int) -> list[Decimal]:
    """`count` points with equal distances, both ends included."""
    _count(count, start == end)
    return [start + (end - start) * i / (count - 1) for i in range(count - 1)] + [end] if count > 1 else [start]


def logarithmic(start: Decimal, end: Decimal, count: int) -> list[Decimal]:
    """`count` points with equal ratios, both ends included. Each is the decimal nearest to the exact value, so that
    decades and octaves are exact.

    >>> [float(p) for p in logarithmic(Decimal(20), Decimal(20000), 4)]
    [20.0, 200.0, 2000.0, 20000.0]

    Raises:
        MistakeError: an end is zero or the ends have different signs.
    """
    _count(count, start == end)
    if start == 0 or end == 0 or (start < 0) != (end < 0):
        raise MistakeError("a logarithmic sweep cannot reach or cross zero", remedy="Begin above zero.")
    # With so many digits to spare, the points rounded to 40 are exact where they are whole: there is 2 kHz in it.
    with localcontext() as context:
        context.prec = 70
        step = (end / start).ln() / max(1, count - 1)
        ratio = step.exp()
        inner, at = [], start
        for _ in range(1, count - 1):
            at *= ratio
            inner.append(at)
        context.prec = 40
        inner = [(+point).normalize() for point in inner]
    return [start, *inner, end] if count > 1 else [start]


def per_ratio(start: Decimal, end: Decimal, amount: Decimal, ratio: int) -> list[Decimal]:
    """`amount` points for each ratio of 10 (decade) or 2 (octave), both ends included, up or down.

    The steps are equal ratios, as near to the wanted ones as both ends allow.

    >>> [float(p) for p in per_ratio(Decimal(100), Decimal(1000), Decimal(2), 10)]
    [100.0, 316.22776601683796, 1000.0]

    Raises:
        MistakeError: an end is zero or the ends have different signs, or the amount is not positive.
    """
    if amount <= 0:
        raise MistakeError("the number of points is not positive", remedy="Write, for example: at 10 per decade")
    if start == 0 or end == 0 or (start < 0) != (end < 0):
        raise MistakeError("a logarithmic sweep cannot reach or cross zero", remedy="Begin above zero.")
    steps = abs(math.log(end / start)) / math.log(ratio) * float(amount)
    _bound(steps + 1)
    return logarithmic(start, end, max(1, round(steps)) + 1)


def _count(count: int, same_ends: bool) -> None:
    if count < 1 or (count == 1 and not same_ends):
        raise MistakeError(f"{count} points do not reach from one end to the other", remedy="Take 2 or more.")
    _bound(count)


def _bound(count: float) -> None:
    if count > MAX_POINTS:
        shown = f"{count:,.0f}" if count < 1e15 else f"{count:.1e}"
        raise MistakeError(f"{shown} points are too many", remedy=f"A sweep has at most {MAX_POINTS:,}.")


def joined(segments: list[list[Decimal]]) -> list[Decimal]:
    """The points of all segments; where one begins at the end of the one before, that point comes once."""
    points: list[Decimal] = []
    for segment in segments:
        points.extend(segment[1:] if points and points[-1] == segment[0] else segment)
    return points
