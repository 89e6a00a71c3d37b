"""Judges values against limits: point by point inside a sweep, whole curves after it. One result a check line."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

from ibexite.errors import SequenceError
from ibexite.holes import Bound, is_never_measured

MAX_FAILING_KEPT = 500


@dataclass(slots=True)
class Tally:
    """What a check has seen so far. A margin is the distance to the nearer limit, negative beyond it.

    What always holds: NaN never passes; a point passes when it is not beyond a limit, compared unrounded. What was
    never measured is not judged, and does not count.
    """

    is_strict: bool = False
    guard: float = 0.0  # the limits move inwards by so much
    allowed: int = 0  # bad values that do not matter
    judged: int = 0
    failed: int = 0
    bad: int = 0
    margin: float = math.inf
    value: float = math.nan
    low: float = -math.inf
    high: float = math.inf
    at: tuple[float, ...] = ()
    bound: str = ""  # "below" or "above" when the value is only known to lie beyond `value`
    failing: list[tuple[float, ...]] = field(default_factory=list)
    least: list[float] = field(default_factory=list)
    most: list[float] = field(default_factory=list)

    def judge(self, value: float, low: float, high: float, at: tuple[float, ...] = ()) -> None:
        """Judges one value; `at` are the axis values of the sweeps around it."""
        if self.guard:
            low, high = self._guarded(low, high)
        self.judged += 1
        below, above = value - low, high - value
        margin = below if below <= above else above if above < below else math.nan
        if margin > 0 or (margin == 0 and not self.is_strict):
            pass
        elif margin <= 0:
            self.failed += 1
            if len(self.failing) < MAX_FAILING_KEPT:
                self.failing.append(at)
        else:  # NaN: value or limit is a hole
            self._judge_hole(value, low, high, at)
            return
        if margin < self.margin:
            self.margin, self.value, self.low, self.high, self.at = margin, value, low, high, at
        if not self.least:
            self.least, self.most = list(at), list(at)
        else:
            for i, x in enumerate(at):
                if x < self.least[i]:
                    self.least[i] = x
                elif x > self.most[i]:
                    self.most[i] = x

    def judge_where(self, where: Any, value: float, low: float, high: float, at: tuple[float, ...] = ()) -> None:
        """Judges a value if a condition holds; where nobody knows whether it holds, the value counts as bad."""
        if where != where:
            if not is_never_measured(where):
                self.judged += 1
                self.bad += 1
        elif where:
            self.judge(value, low, high, at)

    def _guarded(self, low: float, high: float) -> tuple[float, float]:
        low, high = low + self.guard, high - self.guard
        if low > high:
            raise SequenceError("the guard is wider than the tolerance", remedy="Nothing could pass.")
        return low, high

    def _judge_hole(self, value: float, low: float, high: float, at: tuple[float, ...]) -> None:
        if isinstance(value, Bound) and low == low and high == high:
            self._judge_bound(value, low, high, at)
        elif is_never_measured(value) or is_never_measured(low) or is_never_measured(high):
            self.judged -= 1
        else:
            self.bad += 1

    def _judge_bound(self, value: Bound, low: float, high: float, at: tuple[float, ...]) -> None:
        """A value that is only known to lie below (above) a limit: decided when all such values agree."""
        limit, is_below = value.limit, value.is_below
        passes = (low == -math.inf and limit <= high) if is_below else (high == math.inf and limit >= low)
        fails = limit <= low if is_below else limit >= high
        if not passes and not fails:
            self.bad += 1
            return
        self.bound = "below" if is_below else "above"
        margin = (limit - low if is_below else high - limit) if fails else (high - limit if is_below else limit - low)
        self.failed += fails
        if fails and len(self.failing) < MAX_FAILING_KEPT:
            self.failing.append(at)
        if margin < self.margin:
            self.margin, self.value, self.low, self.high, self.at = margin, limit, low, high, at

    def judge_curve(self, value: Any, low: Any, high: Any, where: Any, at: tuple[float, ...] = ()) -> None:
        """Judges a curve (or a single value) where the condition holds."""
        if all(isinstance(x, float | int) for x in (value, low, high, where)):
            self.judge_where(where, value, low, high, at)
            return
        import numpy as np

        from ibexite.analysis.curve import joined_axes, never, spread

        axes = joined_axes(value, low, high, where)
        shape = tuple(len(axis) for axis in axes.values())
        flat = [
            np.broadcast_to(np.asarray(spread(x, axes), dtype=float), shape).ravel() for x in (value, low, high, where)
        ]
        unmeasured = np.logical_or.reduce([never(x) for x in flat])
        undecided = np.isnan(flat[3])
        chosen = np.flatnonzero(((flat[3] != 0) | undecided) & ~unmeasured)
        values, lows, highs = (x[chosen] for x in flat[:3])
        if self.guard:
            lows, highs = lows + self.guard, highs - self.guard
            if (lows > highs).any():
                raise SequenceError("the guard is wider than the tolerance", remedy="Nothing could pass.")
        margins = np.fmin(np.where(np.isnan(values), math.nan, values - lows), highs - values)
        margins[np.isnan(lows) | np.isnan(highs) | undecided[chosen]] = math.nan
        good = np.flatnonzero(~np.isnan(margins))
        fails = good[(margins[good] <= 0) if self.is_strict else (margins[good] < 0)]
        self.judged += len(chosen)
        self.failed += len(fails)
        self.bad += len(chosen) - len(good)
        points = list(axes.values())

        def at_point(i: int) -> tuple[float, ...]:
            places = np.unravel_index(chosen[i], shape)
            return at + tuple(float(axis[p]) for axis, p in zip(points, places, strict=True))

        self.failing += [at_point(i) for i in fails[: MAX_FAILING_KEPT - len(self.failing)]]
        if len(good):
            self._take_worst(values, lows, highs, margins, int(good[margins[good].argmin()]), at_point)
            self._take_extent(points, np.unravel_index(chosen[good], shape), at)

    def _take_worst(self, values: Any, lows: Any, highs: Any, margins: Any, worst: int, at_point: Any) -> None:
        if margins[worst] < self.margin:
            self.margin, self.value = float(margins[worst]), float(values[worst])
            self.low, self.high, self.at = float(lows[worst]), float(highs[worst]), at_point(worst)

    def _take_extent(self, points: list[Any], places: tuple[Any, ...], at: tuple[float, ...]) -> None:
        least = list(at) + [float(axis[p].min()) for axis, p in zip(points, places, strict=True)]
        most = list(at) + [float(axis[p].max()) for axis, p in zip(points, places, strict=True)]
        self.least = list(map(min, self.least, least)) if self.least else least
        self.most = list(map(max, self.most, most)) if self.most else most

    def verdict(self, hole_reasons: list[str], fault_of_unit: str) -> tuple[str, str]:
        """pass, fail or error, and why. A hole is never a pass unless it is allowed and told: it fails where it is a
        fact about the unit, else it leaves the check undecided, which is an error."""
        if self.failed:
            return "fail", ""
        if self.judged == 0:
            return "error", "nothing was judged"
        if self.bad == 0:
            return "pass", ""
        reasons = list(dict.fromkeys(hole_reasons)) or ["a value could not be computed"]
        told = f"{self.bad} of {self.judged} bad ({'; '.join(reasons[:3])})" if self.judged > 1 else reasons[0]
        if self.bad <= self.allowed and self.bad < self.judged:
            return "pass", f"{told}, {self.allowed} allowed"
        by_unit = all(reason == fault_of_unit for reason in reasons)
        return ("fail", told) if by_unit else ("error", f"undecided: {told}")
