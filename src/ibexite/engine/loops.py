"""What decides which value a loop takes next: repeats, searches, refined sweeps. Plain iterators; no instruments here.

Each is asked for its next value by the loop, and told in between what came of the last one.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Generator, Iterator

from ibexite.errors import SequenceError
from ibexite.holes import Bound
from ibexite.language.points import MAX_POINTS


class Turns:
    """The turns of a `repeat`: so many, for a time, or until `held` is set; a new one every so many seconds.

    Turns begin at 0, T, 2T … as long as the time is not over, both ends included: for 200 ms every 50 ms makes five. A
    turn that takes longer than `every` delays the next one; what was missed is not made up for.
    """

    def __init__(
        self,
        now: Callable[[], float],
        wait: Callable[[float], None],
        *,
        times: float = math.inf,
        seconds: float = math.inf,
        every: float = 0.0,
        timeout: float = math.inf,
    ) -> None:
        self._now, self._wait = now, wait
        self._times, self._seconds, self._every, self._timeout = times, seconds, every, timeout
        self.held = False
        self.elapsed = 0.0  # s from the beginning of the first turn to that of the present one

    def __iter__(self) -> Iterator[float]:
        began = due = self._now()
        count = 0
        if not self._times >= 1 or (self._times < math.inf and self._times % 1) or not self._seconds >= 0:
            raise SequenceError("the number of turns is not a number of turns", remedy="What it depends on is bad.")
        while count < self._times and not self.held:
            if count == MAX_POINTS:
                raise SequenceError(
                    f"the loop has made {count:,} turns and has not ended",
                    remedy="So many are kept at most: let more time pass between them, with every.",
                )
            if count:
                due += self._every
                left = due - self._now()
                begins = max(due, self._now()) if left < 0 or not self._every else due  # one that is late begins now
                if begins - began > self._seconds * (1 + 1e-9):
                    return
                if left > 0:
                    self._wait(left)
                else:
                    due = self._now()
            self.elapsed = self._now() - began if count else 0.0
            if self.elapsed > self._timeout:
                raise SequenceError(
                    f"the condition did not hold within {self._timeout:g} s",
                    remedy="Raise the timeout, or look at the unit.",
                )
            count += 1
            yield float(count)


class SearchTurns:
    """Finds the first value at which a condition holds, on the way from `start` to `end`, to a resolution.

    It walks in coarse steps until the condition holds, then goes back between the last value where it did not hold and
    this one, in halves, in whole steps of the resolution; it never goes past the first coarse value at which the
    condition held. `halving` begins with the two ends instead and halves from there: quicker, where the way does not
    matter. After each value `held` must be set.
    """

    def __init__(self, start: float, end: float, step: float | None, resolution: float, *, halving: bool,
                 rounded: Callable[[float], float] = float) -> None:  # fmt: skip
        self._span = abs(end - start)
        if not (math.isfinite(self._span) and resolution > 0 and (step is None or step > 0)):
            raise SequenceError(
                "the ends or the resolution of the search are no numbers", remedy="What they depend on is bad."
            )
        self._start, self._end, self._sign = start, end, math.copysign(1.0, end - start)
        self._resolution, self._rounded = resolution, rounded
        self._steps = max(1, math.ceil(self._span / resolution - 1e-9))  # fine steps from start to end
        coarse = step if step is not None else max(resolution, self._span / 12)
        self._coarse = self._steps if halving else max(1, round(coarse / resolution))
        self.held: bool | None = None
        self._found: float | Bound = Bound(end, end < start)

    def _at(self, number: int) -> float:
        """The value after so many fine steps, as it can be set; the ends are exact."""
        if number >= self._steps:
            return self._rounded(self._end)
        value = self._start + self._sign * number * self._resolution
        return self._rounded(float(f"{value:.14g}"))  # 0.1 + 2 x 0.1 shall be 0.3 here too

    def __iter__(self) -> Iterator[float]:
        before = 0
        if (yield from self._try(0)):
            self._found = Bound(self._start, self._sign > 0, is_closed=True)
            return
        number = 0
        while number < self._steps:
            before, number = number, min(self._steps, number + self._coarse)
            if (yield from self._try(number)):
                break
        else:
            self._found = Bound(self._end, self._sign < 0)
            return
        while number - before > 1:
            middle = (before + number) // 2
            if (yield from self._try(middle)):
                number = middle
            else:
                before = middle
        self._found = self._at(number)

    def _try(self, number: int) -> Generator[float, None, bool]:
        self.held = None
        yield self._at(number)
        assert self.held is not None
        return bool(self.held)

    def result(self) -> float:
        """The first value at which the condition held, to the resolution; a bound if it never did, or did at once."""
        return self._found


class Refined:
    """The points of a refined sweep: first the given ones, then further ones where a column bends or nears a limit.

    Between two neighbours the error of the straight line is estimated from the second divided differences on both
    sides, times the square of their distance over 8 (C. de Boor, A Practical Guide to Splines, chapter III); the
    interval with the largest error gets a point in its middle, on a logarithmic axis in its geometric one. Near a
    limit it is the interval with the largest step in the column for its distance from the limit. It ends when `most`
    points were measured, or when the largest error (the largest step) is below 1/2000 of the range of the column.
    """

    def __init__(
        self,
        points: list[float],
        most: int,
        *,
        is_log: bool,
        limits: Callable[[], list[tuple[float, float]]] | None = None,
        rounded: Callable[[float], float] = float,
    ) -> None:
        self._rounded = rounded
        self._points, self._most, self._is_log, self._limits = points, most, is_log, limits
        self._seen: dict[float, float] = {}

    def tell(self, x: float, y: float) -> None:
        """The value of the column at a point."""
        self._seen[x] = y

    def __iter__(self) -> Iterator[float]:
        yield from self._points
        tried = len(self._points)
        while tried < self._most:
            new = self._next()
            if new is None:
                return
            tried += 1
            yield new
            self._seen.setdefault(new, math.nan)

    def _next(self) -> float | None:
        known = sorted((x, y) for x, y in self._seen.items() if y == y)
        if len(known) < 4:
            return None
        at = [math.log(x) if self._is_log else x for x, _ in known]
        y = [value for _, value in known]
        weights = self._near_limits(y) if self._limits is not None else self._bends(at, y)
        place = max(range(len(weights)), key=weights.__getitem__)
        if weights[place] <= 0:
            return None
        middle = (at[place] + at[place + 1]) / 2
        new = self._rounded(float(f"{math.exp(middle) if self._is_log else middle:.12g}"))
        return new if new not in self._seen and known[place][0] < new < known[place + 1][0] else None

    @staticmethod
    def _bends(at: list[float], y: list[float]) -> list[float]:
        second = [0.0] * len(at)
        for i in range(1, len(at) - 1):
            left, right = (y[i] - y[i - 1]) / (at[i] - at[i - 1]), (y[i + 1] - y[i]) / (at[i + 1] - at[i])
            second[i] = abs(right - left) * 2 / (at[i + 1] - at[i - 1])
        errors = [max(second[i], second[i + 1]) * (at[i + 1] - at[i]) ** 2 / 8 for i in range(len(at) - 1)]
        least = (max(y) - min(y)) / 2000
        return [error if error > least else 0.0 for error in errors]

    def _near_limits(self, y: list[float]) -> list[float]:
        """An interval weighs by its step in the column, and the more the nearer it comes to a limit."""
        assert self._limits is not None
        limits = [limit for pair in self._limits() for limit in pair if math.isfinite(limit)]
        spread = (max(y) - min(y)) or 1.0
        weights = []
        for a, b in zip(y, y[1:], strict=False):
            away = min((_distance(limit, a, b) for limit in limits), default=math.inf)
            step = abs(b - a) / spread
            weights.append(step / (0.02 + away / spread) if step > 1 / 2000 else 0.0)
        return weights


def _distance(limit: float, a: float, b: float) -> float:
    """How far a limit is from an interval; 0 within it."""
    return 0.0 if min(a, b) <= limit <= max(a, b) else min(abs(a - limit), abs(b - limit))
