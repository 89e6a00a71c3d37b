"""Judges values against limits: point by point inside a sweep, whole curves after it. One result a check line."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from ibexite import verdicts
from ibexite.engine.limit_errors import negative_guard, too_wide_a_guard, wrong_way_round
from ibexite.events import MOST_LIMITS
from ibexite.holes import EQUAL, Bound, Counts, is_never_measured, why_bad
from ibexite.untyped import Measured
from ibexite.verdicts import FAULTS, FAULTS_OF_UNIT, NO_REASON, Found, Reason, Verdict

if TYPE_CHECKING:
    from ibexite.engine.judged_points import Block, JudgedPoints

MOST_WHYS = 20  # holes of a block that are asked why they are
MAX_FAILING_KEPT = 500
At = tuple[float | str, ...]  # the axis values of a point


@dataclass(slots=True)
class Tally:
    """What a check has seen so far. A margin is the distance to the nearer limit, negative beyond it.

    What always holds: NaN never passes; a point passes when it is not beyond a limit, compared unrounded (values that
    are as good as equal are equal, see ibexite.holes). Which points count: those that were measured and for which there
    are limits; of them, a bad value and a `where` that nobody can decide count as bad. All else does not count.
    """

    is_strict: bool = False
    guard: Measured = 0.0  # the limits move inwards by so much: a number, or a curve over axes of what is judged
    worst_guard: float = math.nan  # that of the worst point
    uncertainty: Measured = 0.0  # of what is judged, as `guard`
    has_third_verdict: bool = False  # within the guard on both sides of a limit nothing is decided
    undecided: int = 0  # points there
    rule: str = ""  # what is told of a guard
    allowed: int = 0  # bad values that do not matter
    is_fixed: bool = False  # all points have the same limits: they are constants
    judged: int = 0
    failed: int = 0
    bad: int = 0
    behind: int = 0  # bad values that were left out of what is judged
    n: tuple[int, int] | None = None  # of how many values the judged one was made
    margin: float = math.inf
    value: float = math.nan
    low: float = -math.inf
    high: float = math.inf
    at: At = ()
    bound: str = ""  # below, above, at most or at least when the worst value is only known to lie there
    moved: str = ""  # how its limits were moved onto what is judged, in words
    trouble: Reason | None = None  # why it cannot pass, whatever the numbers say
    whys: list[str] = field(default_factory=list)  # why values could not be computed, as far as it is known
    failing: list[At] = field(default_factory=list)
    least: list[Measured] = field(default_factory=list)  # of each axis
    most: list[Measured] = field(default_factory=list)
    limits: list[At] = field(default_factory=list)  # at, low, high of each point, once they differ
    _low: float = math.nan  # the limits of all points so far; NaN, which equals nothing, before the first point
    _high: float = math.nan
    _same: list[float | str] = field(default_factory=list)  # the axis values of these points

    def renew(self) -> None:
        """As if nothing had been judged."""
        fresh = Tally(self.is_strict, allowed=self.allowed, is_fixed=self.is_fixed, rule=self.rule,
                      has_third_verdict=self.has_third_verdict)  # fmt: skip
        for name in Tally.__dataclass_fields__:
            setattr(self, name, getattr(fresh, name))

    @property
    def told_guard(self) -> float:
        """By how much the limits of the worst point stand inside; of no point at all, those of the last."""
        if self.worst_guard == self.worst_guard:
            return self.worst_guard
        return self.guard if isinstance(self.guard, float) and self.guard == self.guard else 0.0

    def stands_on(self, counts: Counts) -> None:
        """What is judged next was made of so many values."""
        self.behind += counts.bad
        if counts.of:
            self.n = (counts.good, counts.of)

    def judge(self, value: float, low: float, high: float, at: At = ()) -> None:
        """Judges one value; `at` are the axis values of the sweeps around it."""
        if self.guard:
            low, high = self._guarded(low, high)
        self.judged += 1
        below, above = value - low, high - value
        margin = below if below <= above else above if above < below else math.nan
        if not margin > EQUAL * abs(value):
            if margin != margin:  # value or limit is a hole
                self._judge_hole(value, low, high, at)
                return
            if margin >= -EQUAL * abs(value):
                margin = 0.0
            if margin < 0 or self.is_strict:
                if low > high:
                    raise wrong_way_round(low, high)
                if self.has_third_verdict and margin >= -2 * self.guard:
                    self.undecided += 1
                else:
                    self.failed += 1
                    if len(self.failing) < MAX_FAILING_KEPT:
                        self.failing.append(at)
        if margin < self.margin:
            self.margin, self.value, self.low, self.high, self.at = margin, value, low, high, at
            self.bound, self.worst_guard = "", self.guard
        if not at:
            return
        if not self.is_fixed:
            self._keep_limits(at, low, high)
        if not self.least:
            self.least, self.most = list(at), list(at)
        else:
            for i, x in enumerate(at):
                if x < self.least[i]:
                    self.least[i] = x
                elif x > self.most[i]:
                    self.most[i] = x

    def _keep_limits(self, at: At, low: float, high: float) -> None:
        """Once limits are not the same everywhere, they are kept for each point."""
        if not self.limits:
            if not self._same:
                self._low, self._high = low, high
            if self._low == low and self._high == high:
                if len(self._same) < MOST_LIMITS * len(at):
                    self._same.extend(at)
                return
            self.limits = [(*place, self._low, self._high) for place in zip(*[iter(self._same)] * len(at), strict=True)]
            del self._same[:]
        if len(self.limits) < MOST_LIMITS:
            self.limits.append((*at, low, high))

    def judge_where(self, where: Measured, value: float, low: float, high: float, at: At = ()) -> None:
        """Judges a value if a condition holds; where nobody knows whether it holds, the value counts as bad."""
        if where != where:
            if not any(map(is_never_measured, (where, value, low, high))):
                self.judged += 1
                self.bad += 1
        elif where:
            self.judge(value, low, high, at)

    def _guarded(self, low: float, high: float) -> tuple[float, float]:
        if low > high:
            raise wrong_way_round(low, high)
        if self.guard < 0:
            raise negative_guard()
        low, high = low + self.guard, high - self.guard
        if low > high:
            raise too_wide_a_guard()
        return low, high

    def _judge_hole(self, value: float, low: float, high: float, at: At) -> None:
        if isinstance(value, Bound) and low == low and high == high:
            self._judge_bound(value, low, high, at)
        elif is_never_measured(value) or is_never_measured(low) or is_never_measured(high):
            self.judged -= 1
        else:
            self.bad += 1
            self._note_why((value, low, high))

    def _note_why(self, values: Iterable[float]) -> None:
        """Notes why there is no value, where what computed it says so."""
        for value in values:
            text = why_bad(value)
            if text and text not in self.whys:
                self.whys.append(text)

    def _judge_bound(self, value: Bound, low: float, high: float, at: At) -> None:
        """A value that is only known to lie below (above) a limit, or at it: decided when all such values agree."""
        limit, is_below = value.limit, value.is_below
        near, far, far_end = (high, low, -math.inf) if is_below else (-low, -high, -math.inf)
        place = limit if is_below else -limit  # as if it were known to lie below `place`
        may_touch = value.is_closed and self.is_strict  # the bound itself may be the value, and does not pass
        passes = far == far_end and (place < near if may_touch else place <= near)
        fails = place < far or (place == far and (not value.is_closed or self.is_strict))
        if not passes and not fails:
            self.bad += 1
            return
        margin = (place - far) if fails else (near - place)
        if fails and self.has_third_verdict:
            self.undecided += 1
            fails = False
        self.failed += fails
        if fails and len(self.failing) < MAX_FAILING_KEPT:
            self.failing.append(at)
        if margin < self.margin:
            self.margin, self.value, self.low, self.high, self.at = margin, limit, low, high, at
            self.bound, self.worst_guard = value.word, self.guard if isinstance(self.guard, float) else math.nan

    def judge_curve(self, value: Measured, low: Measured, high: Measured, where: Measured, at: At = ()) -> None:
        """Judges a curve (or a single value) where the condition holds. Its points are looked at in blocks, so that
        long curves take no more memory; what their limits have of mistakes is found before any point is judged."""
        if all(isinstance(x, float | int) for x in (value, low, high, where)):
            self.judge_where(where, value, low, high, at)
            return
        if isinstance(self.guard, float) and self.guard < 0:
            raise negative_guard()
        from ibexite.engine.judged_points import JudgedPoints

        points = JudgedPoints(value, low, high, where, self.guard)
        self.look_at(points, at)
        varies = points.limits_vary()
        for block in points.blocks():
            self._judge_block(points, block, at, varies)

    def look_at(self, points: JudgedPoints, at: At) -> None:
        """What is to be found out of the points of a curve before they are judged."""

    def _judge_block(self, points: JudgedPoints, block: Block, at: At, varies: bool) -> None:
        margins = block.margins()
        good, holes = block.good(margins)
        fails = good[(margins[good] <= 0) if self.is_strict else (margins[good] < 0)]
        if self.has_third_verdict:
            is_open = margins[fails] >= -2 * points.guards_at(block.places[fails])
            self.undecided += int(is_open.sum())
            fails = fails[~is_open]

        def at_point(i: int) -> At:
            return at + points.place(block.places[i])

        self.judged += len(margins)
        self.failed += len(fails)
        self.bad += len(holes)
        if len(holes):
            self._note_why(block.values[holes[:MOST_WHYS]].tolist())
        for i, bound in points.bounds_in(block):  # of these no more is known; they are judged by that
            self.bad -= 1
            self._judge_bound(bound, float(block.lows[i]), float(block.highs[i]), at_point(i))
        self.failing += [at_point(i) for i in fails[: MAX_FAILING_KEPT - len(self.failing)]]
        if not len(good):
            return
        worst = int(good[margins[good].argmin()])
        if margins[worst] < self.margin:
            self.margin, self.value, self.bound = float(margins[worst]), float(block.values[worst]), ""
            self.low, self.high, self.at = float(block.lows[worst]), float(block.highs[worst]), at_point(worst)
            self.worst_guard = points.guard_at(block.places[worst])
        least, most = points.extent(block.places[good])
        self.least = list(map(min, self.least or [*at, *least], [*at, *least]))
        self.most = list(map(max, self.most or [*at, *most], [*at, *most]))
        if varies:
            room = MOST_LIMITS - len(self.limits)
            self.limits += [(*at_point(i), float(block.lows[i]), float(block.highs[i])) for i in good[:room]]

    def verdict(self, hole_reasons: list[Reason]) -> Found:
        """pass, fail or error, and why. A hole is never a pass unless it is allowed and told: it fails where it is a
        fact about the unit, else it leaves the check undecided, which is an error: verdicts.verdict_of_check."""
        reasons = list(dict.fromkeys(hole_reasons)) or [
            Reason("undecided", text) for text in self.whys or ["a value could not be computed"]
        ]
        by_unit = all(reason.code in FAULTS_OF_UNIT for reason in reasons)
        bad = self.bad + self.behind
        verdict = verdicts.verdict_of_check(
            self.judged, self.failed, bad, self.allowed, bad_by_unit=by_unit, none_left=self.bad == self.judged
        )
        if self.trouble is not None and (not self.failed or self.trouble.code == "reference"):
            return Verdict.ERROR, self.trouble  # by limits of a reference that does not hold nothing has failed either
        if self.failed:
            return verdict, Reason("limit", "")
        if self.undecided:
            many = f"{self.undecided} of {self.judged} points lie" if self.judged > 1 else "it lies"
            return Verdict.ERROR, Reason("guard_zone", f"undecided: {many} nearer to a limit than the uncertainty")
        if verdict == Verdict.PASS and not bad:
            return verdict, NO_REASON
        if self.judged == 0:
            return verdict, Reason("nothing", "nothing was judged")
        told = self._told(reasons)
        if verdict == Verdict.PASS:
            return verdict, Reason("bad", f"{told}, {self.allowed} allowed")
        if verdict == Verdict.FAIL:
            return verdict, Reason(reasons[0].code, told)
        return verdict, Reason(reasons[0].code if reasons[0].code in FAULTS else "bad", f"undecided: {told}")

    def _told(self, reasons: list[Reason]) -> str:
        why = "; ".join(reason.text for reason in reasons[:3])
        parts = []
        if self.bad:
            parts.append(f"{self.bad} of {self.judged} bad ({why})" if self.judged > 1 else reasons[0].text)
        if self.behind:
            many = f"{self.behind} bad value{'s' if self.behind > 1 else ''}"
            parts.append(f"{many} left out of it" + (f" ({why})" if not self.bad else ""))
        return ", ".join(parts)
