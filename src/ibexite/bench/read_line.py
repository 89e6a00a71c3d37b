"""A `read` line made ready: which queries it takes.

Without `together` the readings are taken one after the other, as written. With it, all instruments are asked before
any is waited for, one open query on each; the channels of one scanner become one scan.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Sequence
from math import nan

from ibexite import units
from ibexite.bench.dependent import Joining
from ibexite.bench.interface import TRIES
from ibexite.bench.query import BadReading, Item, Query
from ibexite.errors import LinkError
from ibexite.holes import Bad
from ibexite.instruments.session import Reconnected, Session
from ibexite.instruments.times import MOST_PAUSE
from ibexite.units import Dimension
from ibexite.untyped import Measured
from ibexite.verdicts import BAD_READINGS, Reason

MOST_SETTLING = 100  # readings


class ReadLine:
    """Takes the readings of one line. `bad` receives what may not be used; its value is then NaN."""

    def __init__(
        self,
        items: list[Item],
        *,
        together: bool,
        averaging: int,
        bad: list[Bad],
        tries: int = TRIES,
        settled: tuple[float, bool] | None = None,
    ) -> None:
        self._joining = Joining(items)
        self.items, self.averaging, self.bad = items, averaging, bad
        items = self._joining.whole
        self._tries, self._settled = tries, settled
        self._rounds = _rounds(items) if together else [[_query(i.session, [i], [n])] for n, i in enumerate(items)]
        is_alone = [
            len(round_) == len(round_[0].items) == 1 and not round_[0].has_reply_to_itself for round_ in self._rounds
        ]
        self._places = [(r, r[0].places[0] if alone else -1) for r, alone in zip(self._rounds, is_alone, strict=True)]
        self._sessions = list({id(item.session): item.session for item in items}.values())
        self._is_set_up, self._is_plain = False, averaging == 1 and settled is None
        for session in self._sessions:
            session.when_forgotten.append(self._forget)

    def _forget(self) -> None:
        self._is_set_up = False

    @property
    def whole(self) -> list[Item]:
        """The items, with those that they need behind them."""
        return self._joining.whole

    def last_query(self, session: Session) -> Query | None:
        """The last query of the line to an instrument."""
        asked = [query for round_ in self._rounds for query in round_ if query.session is session]
        return asked[-1] if asked else None

    def __call__(self) -> list[Measured]:
        """The values in base units, in the order of the line: numbers and curves; NaN for a bad one."""
        try:
            return self._once() if self._is_set_up and self._is_plain else self._take_all()
        except Reconnected as error:  # once more from the set-ups on; other instruments may still be answering
            if not all(item.commands.may_repeat for item in self._joining.whole):
                remedy = f"Its profile says that a reading must not be repeated. {error.remedy}"
                raise LinkError(error.what, where=error.where, remedy=remedy) from None
            for session in self._sessions:
                session.settle_link()
        try:
            return self._take_all()
        except Reconnected as error:
            raise LinkError(error.what, where=error.where, remedy=error.remedy) from None

    def _take_all(self) -> list[float]:
        if not self._is_set_up:
            self._is_set_up = True  # first: a link that is opened anew meanwhile takes it back
            for round_ in self._rounds:
                for query in round_:
                    query.configure()
        if self._settled is not None:
            return self._until_settled(*self._settled)
        return self._once() if self.averaging == 1 else self._mean()

    def _until_settled(self, tolerance: float, is_relative: bool) -> list[float]:
        """Readings until two in a row agree, both of them good; what does not settle is bad."""
        known = len(self.bad)
        values = self._settle(tolerance, is_relative)
        holes = {item.name for item, value in zip(self.items, values, strict=True) if value != value}
        # The last word on each value: what was bad on the way and is good now is not told.
        self.bad[known:] = {b.name: b for b in self.bad[known:] if b.name in holes}.values()
        return values

    def _settle(self, tolerance: float, is_relative: bool) -> list[float]:
        take = self._once if self.averaging == 1 else self._mean
        before = take()
        for _ in range(MOST_SETTLING):
            now = take()
            apart = [i for i, (a, b) in enumerate(zip(before, now, strict=True))
                     if not abs(a - b) <= (tolerance * abs(b) if is_relative else tolerance)]  # fmt: skip
            before = now
            if not apart:
                return now
        for i in apart:
            if before[i] == before[i]:  # else it is told already that it is bad
                reason = Reason("unsettled", f"{BAD_READINGS['unsettled']} in {MOST_SETTLING} readings")
                self.bad.append(Bad(self.items[i].name, reason, f"{before[i]:.9g}"))
            before[i] = nan
        return before

    def _mean(self) -> list[float]:
        """The mean of so many readings, of levels that of their powers, of angles that of their directions. Where one
        reading stays bad, the mean is bad: nobody knows what it would have been."""
        known = len(self.bad)
        takes = [self._once() for _ in range(self.averaging)]
        told: dict[str, Bad] = {}
        for bad in self.bad[known:]:
            told.setdefault(bad.name, bad)
        self.bad[known:] = told.values()  # one entry for one value that is missing
        return [
            mean_of(values, item.dimension) for values, item in zip(zip(*takes, strict=True), self.items, strict=True)
        ]

    def _once(self) -> list[Measured]:
        before = len(self.bad)
        values: list[Measured] = [nan] * len(self._joining.whole)
        for round_, place in self._places:
            if place >= 0:  # one reading by itself
                query = round_[0]
                try:
                    values[place] = query.value()
                except BadReading as error:
                    self._again(query, values, [Bad(query.items[0].name, error.reason, error.raw)])
                continue
            for query in round_:
                query.send()
            for query in round_:
                bad = query.take(values)
                if bad:
                    self._again(query, values, bad)
        return self._joining.join(values, self.bad, before) if self._joining else values

    def _again(self, query: Query, values: list[float], bad: list[Bad]) -> None:
        """Repeats a query with a bad reply, after a pause that grows: it may be busy. What stays bad is kept as
        missing, with its reason."""
        session = query.session
        pause = session.profile.waits.repeating
        for _ in range(self._tries - 1 if query.items[0].commands.may_repeat else 0):
            session.user.heed()
            session.user.wait(pause)
            pause = min(2 * pause, MOST_PAUSE)
            query.send()
            bad = query.take(values)
            if not bad:
                return
        self.bad.extend(bad)


def allowing_line(line: ReadLine, items: Sequence[Item]) -> Callable[[], list[Measured]]:
    """A read line in which instruments have the time-outs of its readings, where their profiles say them; the line
    itself where they do not."""
    waits: dict[Session, float] = {}
    for item in items:
        if item.commands.timeout is not None:
            waits[item.session] = max(waits.get(item.session, 0.0), item.commands.timeout)
    if not waits:
        return line

    def take() -> list[Measured]:
        with contextlib.ExitStack() as stack:
            for session, seconds in waits.items():
                stack.enter_context(session.allowing(seconds))
            return line()

    return take


def mean_of(values: Sequence[float], dimension: Dimension) -> float:
    """The mean of some readings of a dimension; NaN if one of them is NaN, or if directions cancel one another out.

    Levels and ratios in dB: the level of the mean power. Angles: the direction of the mean unit vector, as near to the
    first value as whole turns allow (K. V. Mardia, P. E. Jupp, Directional Statistics, 2.2). All else: arithmetic.
    """
    if any(v != v for v in values):
        return nan
    if dimension.kind in ("level", "db"):
        top = max(values)
        return top + 10 * math.log10(sum(10 ** ((v - top) / 10) for v in values) / len(values))
    if dimension == units.RADIAN:
        x, y = sum(map(math.cos, values)), sum(map(math.sin, values))
        if math.hypot(x, y) < 1e-9 * len(values):
            return nan
        return values[0] + math.remainder(math.atan2(y, x) - values[0], 2 * math.pi)
    return sum(values) / len(values)


def _query(session: Session, items: list[Item], places: list[int]) -> Query:
    if items[0].commands.layout is not None:
        from ibexite.bench.read_parts import PartsQuery

        return PartsQuery(session, items, places)
    if items[0].commands.curve is None:
        return Query(session, items, places)
    from ibexite.bench.read_curve import CurveQuery

    return CurveQuery(session, items, places)


def _rounds(items: list[Item]) -> list[list[Query]]:
    """One open query an instrument: the first of each, then the second of each, …"""
    groups: dict[tuple[int, object], list[int]] = {}
    for place, item in enumerate(items):
        # Channels of one scanner share a query; every other reading has its own.
        groups.setdefault((id(item.session), item.commands.select or place), []).append(place)
    queries: dict[int, list[Query]] = {}
    for (session, _), places in groups.items():
        queries.setdefault(session, []).append(_query(items[places[0]].session, [items[p] for p in places], places))
    longest = max(map(len, queries.values()))
    return [[mine[n] for mine in queries.values() if n < len(mine)] for n in range(longest)]
