"""Judges values against limits: point by point inside a sweep, whole curves after it. One result a check line."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from typing import Any

MAX_FAILING_KEPT = 500


@dataclass(slots=True)
class Tally:
    """What a check has seen so far. A margin is the distance to the nearer limit, negative beyond it.

    What always holds: NaN never passes; a point passes when it is not beyond a limit, compared unrounded.
    """

    is_strict: bool = False
    judged: int = 0
    failed: int = 0
    bad: int = 0
    margin: float = math.inf
    value: float = math.nan
    low: float = -math.inf
    high: float = math.inf
    at: tuple[float, ...] = ()
    failing: list[tuple[float, ...]] = field(default_factory=list)
    least: list[float] = field(default_factory=list)
    most: list[float] = field(default_factory=list)

    def judge(self, value: float, low: float, high: float, at: tuple[float, ...] = ()) -> None:
        """Judges one value; `at` are the axis values of the sweeps around it."""
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
            self.bad += 1
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

    def judge_curve(self, value: Any, low: Any, high: Any, where: Any, at: tuple[float, ...] = ()) -> None:
        """Judges a curve (or a single value) where the condition holds."""
        if all(isinstance(x, float | int) for x in (value, low, high, where)):
            if where:
                self.judge(value, low, high, at)
            return
        import numpy as np

        from ibexite.analysis.curve import joined_axes, spread

        axes = joined_axes(value, low, high, where)
        shape = tuple(len(axis) for axis in axes.values())
        flat = [np.broadcast_to(spread(x, axes), shape).ravel() for x in (value, low, high, where)]
        chosen = np.flatnonzero(flat[3])
        values, lows, highs = (x[chosen].astype(float) for x in flat[:3])
        margins = np.fmin(np.where(np.isnan(values), math.nan, values - lows), highs - values)
        margins[np.isnan(lows) | np.isnan(highs)] = math.nan
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
        """pass, fail or error, and why. A hole is never a pass: it fails where it is a fact about the unit, else it
        leaves the check undecided, which is an error."""
        if self.failed:
            return "fail", ""
        if self.judged == 0:
            return "error", "nothing was judged"
        if self.bad:
            reasons = list(dict.fromkeys(hole_reasons)) or ["a value could not be computed"]
            told = f"{self.bad} of {self.judged} bad ({'; '.join(reasons[:3])})" if self.judged > 1 else reasons[0]
            by_unit = all(reason == fault_of_unit for reason in reasons)
            return ("fail", told) if by_unit else ("error", f"undecided: {told}")
        return "pass", ""
