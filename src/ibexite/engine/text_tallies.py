"""Tallies of checks that judge texts, and what is held as a text: by a pattern, by being equal, or by a list of what is
otherwise."""

from __future__ import annotations

import math
import re
from collections import Counter

from ibexite import differences
from ibexite.connections import wiring_of
from ibexite.differences import Difference, NotKnownError, NoToleranceError, Tolerance
from ibexite.engine.tallies import ReportedTally
from ibexite.holes import BAD, hole_of
from ibexite.language import constants, nodes
from ibexite.untyped import Measured
from ibexite.values import Connections, Table, Words
from ibexite.verdicts import Reason


class TextTally(ReportedTally):
    """Judges texts against a pattern or other texts: for each point whether it holds, as 1 or 0 of at least 1."""

    _said = _demand = ""  # the text of the worst point, and what was demanded of it

    def renew(self) -> None:
        """As if nothing had been judged."""
        super().renew()
        self._said = self._demand = ""

    def judge_text(self, value: Measured, wanted: Measured, where: Measured, at: tuple[float | str, ...]) -> None:
        """Judges a text, or a curve of them point by point, where the condition holds."""
        if all(isinstance(x, str | float | bool) for x in (value, wanted, where)):
            self._judge_one(value, wanted, where, at)
            return
        from ibexite.analysis.curve import each_point

        for place, (value_here, wanted_here, where_here) in each_point(value, wanted, where):
            self._judge_one(value_here, wanted_here, where_here, at + place)

    def _judge_one(self, value: Measured, wanted: Measured, where: Measured, at: tuple[Measured, ...]) -> None:
        statement, before = self._statement, self.margin
        assert statement.criterion is not None
        is_pattern = statement.criterion.kind == "matches"
        kind = self._frame.runtime.program.types[statement.value]
        assert isinstance(kind, Words)
        demand = f'matches "{wanted}"' if is_pattern else "the same" if wanted != wanted else kind.as_demanded(wanted)
        if not isinstance(value, str) or not isinstance(wanted, str):
            self.judge_where(where, hole_of(value, wanted), 1.0, math.inf, at)
            self._demand = self._demand or demand
            return
        if kind.has_holes(value) or kind.has_holes(wanted):
            self.judge_where(where, BAD, 1.0, math.inf, at)
            self._said, self._demand = self._said or kind.said(value), self._demand or demand
            return
        holds = re.fullmatch(wanted, value) is not None if is_pattern else kind.is_same(value, wanted)
        self.judge_where(where, float(holds), 1.0, math.inf, at)
        if self.margin < before:
            self._said, self._demand = kind.as_judged(value, wanted)[:200], demand

    def close(self) -> None:
        """Emits the result; a text has no number, and no margin."""
        self.value, self.low, self.high, self.margin = math.nan, -math.inf, math.inf, math.inf
        self.tell(self._said, self._demand)


class ComparingTally(TextTally):
    """Judges whether connections, tables or texts are the same as others, and lists what is otherwise: at the first
    place that is not the same, and of connections over several turns what comes and goes."""

    _found: tuple[Difference, ...] = ()
    _judged: Counter[tuple[str, str]] = Counter()  # how often each value was compared with each wanted one

    def renew(self) -> None:
        """As if nothing had been judged."""
        super().renew()
        self._found, self._judged = (), Counter()

    def _judge_one(self, value: Measured, wanted: Measured, where: Measured, at: tuple[Measured, ...]) -> None:
        before, kind = self.margin, self._frame.runtime.program.types[self._statement.value]
        assert isinstance(kind, Words) and self._statement.criterion is not None
        self._demand = "no differences"
        if not isinstance(value, str) or not isinstance(wanted, str):
            self.judge_where(where, hole_of(value, wanted), 1.0, math.inf, at)
            return
        found = self._between(value, wanted)
        if isinstance(found, Reason):
            self.trouble = self.trouble or found
            return
        self.judge_where(where, float(not found), 1.0, math.inf, at)
        if where == where and where:
            self._found = self._found or found
            self._judged = self._judged or Counter()
            self._judged[value, wanted] += 1
        if self.margin < before:
            self._said = f"{len(found)} difference{'s' if len(found) > 1 else ''}" if found else kind.said(value)

    def _usual(self) -> tuple[str, str]:
        """A value, and what it was to be, whose nets are those of most turns."""
        nets = {pair: wiring_of(pair[0]).nets for pair in self._judged}
        times: Counter[object] = Counter()
        for pair, count in self._judged.items():
            times[nets[pair]] += count
        return max(self._judged, key=lambda pair: times[nets[pair]])

    def _between(self, value: str, wanted: str) -> tuple[Difference, ...] | Reason:
        kind, criterion = self._frame.runtime.program.types[self._statement.value], self._statement.criterion
        assert criterion is not None
        tolerances = tuple(self._tolerance(expr) for expr in criterion.tolerances)
        try:
            if isinstance(kind, Connections):
                return tuple(differences.of_connections(value, wanted, tolerances))
            if isinstance(kind, Table):
                return tuple(differences.of_tables(value, wanted, tolerances))
            return tuple(differences.of_texts(value, wanted))
        except NoToleranceError as error:
            told = f"nothing says how far values may be apart ({error}): write +/- 5 %, +/- 200 mohm"
            return Reason("no_limit", told)
        except NotKnownError as error:
            return Reason("reference", f"what it is compared with has no value of {error}")

    def _tolerance(self, expr: nodes.Expr) -> Tolerance:
        kind = self._frame.runtime.program.types[expr]
        size = constants.number(expr, self._frame.known)
        assert size is not None  # it was looked at when it was vetted
        is_part = kind.dimension.is_plain and kind.shown in ("%", "ppm")
        return Tolerance(float(size), None if is_part else kind.dimension)

    def close(self) -> None:
        """Emits the result with the list. What is open now and then is told as that, once, and not as missing."""
        kind = self._frame.runtime.program.types[self._statement.value]
        coming = differences.intermittent(Counter({value: n for (value, _), n in self._judged.items()})
                                          ) if isinstance(kind, Connections) else []  # fmt: skip
        if coming:
            usual = self._between(*self._usual())
            self._found = (*(usual if not isinstance(usual, Reason) else ()), *coming)
        self.value, self.low, self.high, self.margin = math.nan, -math.inf, math.inf, math.inf
        self.tell(self._said, self._demand, self._found)
