"""Readings that go on beside the lines: watches, and waits for readings."""

from __future__ import annotations

import math
from collections import deque
from collections.abc import Callable
from types import TracebackType
from typing import Any

from ibexite import events
from ibexite.engine.frame_lines import BenchLines
from ibexite.engine.judge import Tally
from ibexite.engine.leaving import TestOver, UnitOver
from ibexite.engine.limit_errors import wrong_way_round
from ibexite.engine.tallies import judged, source_text
from ibexite.errors import SequenceError
from ibexite.language import nodes
from ibexite.language.source import Span
from ibexite.untyped import Fields, Measured
from ibexite.values import Quantity, Type, column_of
from ibexite.verdicts import FAULTS_OF_UNIT, NO_REASON, Reason, Verdict

DRIFT_READINGS = 5  # how many readings drift(x) looks back, unless the wait asks for more in a row


class Log:
    """Rows of readings over the time since they began, as a table of the test."""

    def __init__(self, frame: BenchLines, axis: str, metas: list[Fields]) -> None:
        self._runtime = frame.runtime
        self._number = frame.runtime.next_table()
        self._began = frame.runtime.clock.now()
        time = {"name": axis, "unit": "s", "shown": "", "origin": "sweep"}
        frame.runtime.emit(
            events.TableStarted(frame.runtime.now(), frame.block, self._number, [time], metas, *frame.around())
        )

    def row(self, values: list[Measured]) -> None:
        """Records a row."""
        runtime = self._runtime
        elapsed = round(runtime.clock.now() - self._began, 6)
        runtime.emit(
            events.Row(
                runtime.now(), self._number, (elapsed,), tuple(values), runtime.take_bad(), runtime.take_traffic()
            )
        )


class Waiting:
    """A `wait reading` line: reads until its condition holds so many times in a row."""

    def __init__(self, frame: BenchLines, statement: nodes.WaitReading) -> None:
        self._frame, self._statement = frame, statement
        self._read = frame.read_line(statement.read)
        self._names = [reading.name for reading in statement.read.readings]
        self._told_as = [frame.prefix + name for name in self._names]
        self._types = [self._type(reading) for reading in statement.read.readings]
        self._last: dict[str, deque[tuple[float, float]]] = {
            name: deque(maxlen=max(DRIFT_READINGS, statement.count)) for name in self._names
        }

    def __call__(self, every: float, timeout: float, condition: Callable[..., Any]) -> None:
        """Raises SequenceError: the condition did not hold in time."""
        runtime, statement = self._frame.runtime, self._statement
        log = Log(
            self._frame,
            "waited",
            [column_of(name, kind) for name, kind in zip(self._told_as, self._types, strict=True)],
        )
        for past in self._last.values():
            past.clear()
        runtime.bench.complete()
        began = due = runtime.clock.now()
        in_a_row = 0
        values: list[Measured] = []
        while True:
            values = self._read()
            at = runtime.clock.now() - began
            for name, value in zip(self._names, values, strict=True):
                if value == value and not isinstance(value, str):
                    self._last[name].append((at, value))
            log.row(values)
            met = condition(*values, self._drift)
            in_a_row = in_a_row + 1 if met == met and met else 0  # a bad reading begins anew
            if in_a_row >= statement.count:
                return
            due = max(due + every, runtime.clock.now())
            if due - began > timeout:
                break
            runtime.pause(due - runtime.clock.now())
        said = ", ".join(
            f"{name} = {'no value' if value != value else kind.said(value)}"
            for name, value, kind in zip(self._names, values, self._types, strict=True)
        )
        raise SequenceError(
            f"the wait for {' and '.join(self._names)} ran out of time after {timeout:g} s, last {said}",
            remedy="Raise the timeout, or look at the unit and the bench.",
        )

    def _type(self, reading: nodes.Reading) -> Type:
        kind = reading.type or (self._frame.scope.needs[reading.source].type if reading.role is None else None)
        if kind is None:
            return Quantity((), self._frame.item(reading).dimension)
        return kind.as_declared() if isinstance(kind, Quantity) else kind

    def _drift(self, name: str) -> float:
        """The slope of the best straight line through the last readings, per second; NaN while they are too few."""
        past = self._last[name]
        if len(past) < (past.maxlen or 0):
            return math.nan
        mean_t = sum(t for t, _ in past) / len(past)
        mean_y = sum(y for _, y in past) / len(past)
        spread = sum((t - mean_t) ** 2 for t, _ in past)
        return sum((t - mean_t) * (y - mean_y) for t, y in past) / spread if spread else math.nan


class Watching:
    """A `watch` block: a signal is read every so often while the lines of the block run."""

    def __init__(self, frame: BenchLines, statement: nodes.Watch, low: float, high: float, every: float) -> None:
        if low > high:
            raise wrong_way_round(low, high)
        if low != low or high != high:
            raise SequenceError("the limits of a watch must have values", remedy="What they depend on is bad.")
        self._frame, self._statement, self._low, self._high, self._every = frame, statement, low, high, every
        need = frame.scope.needs[statement.signal]
        assert isinstance(need.type, Quantity)
        self._type = need.type.as_declared()
        name = f"{statement.signal}_watched"
        self._line = frame.runtime.bench.read_line(
            [frame.runtime.bench.signal_item(name, frame.played_by(statement.signal))], together=False, averaging=1
        )
        self._name, self._tally = name, Tally(allowed=10**9)  # bad readings trip it by themselves
        self._is_looking = False
        self._bad_in_a_row = 0
        self.due = math.inf

    def __enter__(self) -> None:
        self._log = Log(self._frame, "watched", [column_of(self._name, self._type)])
        self._began = self.due = self._frame.runtime.clock.now()
        self._frame.runtime.watches.append(self)
        try:
            self.look()
        except BaseException:  # nothing is left that was not entered
            self._end()
            raise

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        try:
            if kind is None:
                self.due = 0.0
                self.look()
        finally:
            self._end()

    def _end(self) -> None:
        self._frame.runtime.watches.remove(self)
        self._tell()

    def look(self) -> None:
        """Reads and judges if it is due. Raises TestOver or UnitOver: the limits were passed, or nobody can see."""
        runtime = self._frame.runtime
        now = runtime.clock.now()
        if now < self.due or self._is_looking:
            return
        self.due = now + self._every
        self._is_looking = True
        try:
            (value,) = self._line()
        finally:
            self._is_looking = False
        bad = runtime.bench.bad[-1].reason if value != value and runtime.bench.bad else NO_REASON
        self._log.row([value])
        before = self._tally.failed
        self._tally.judge(value, self._low, self._high, (round(now - self._began, 6),))
        if self._tally.failed > before:
            shown = self._type.said(value, 6)
            self._trip(Verdict.FAIL, f"watch: {self._statement.signal} was {shown}")
        self._bad_in_a_row = self._bad_in_a_row + 1 if value != value else 0
        if self._bad_in_a_row > self._statement.allowing:  # what cannot be seen cannot be watched
            verdict = Verdict.FAIL if bad.code in FAULTS_OF_UNIT else Verdict.ERROR
            self._trip(verdict, f"watch: {self._statement.signal} could not be read ({bad.text or 'no value'})")

    def _trip(self, verdict: Verdict, why: str) -> None:
        if self._statement.is_stopping:
            self._frame.runtime.found.append((verdict, Reason("watch", why)))
            raise UnitOver(why)
        raise TestOver(verdict, Reason("watch", why))

    def _tell(self) -> None:
        frame, tally, runtime = self._frame, self._tally, self._frame.runtime
        axis = {"name": "watched", "unit": "s", "shown": "", "origin": "sweep"}
        subject = events.Subject(
            frame.source.line_of(self._statement.span.start), f"watch {self._statement.signal}",
            source_text(frame.source, self._whole_line()), self._name, self._type.unit,
            self._type.shown or "",
        )  # fmt: skip
        found = tally.verdict(runtime.bad_reasons.get(self._name, []))
        runtime.judged(judged(frame, subject, tally, found, [axis]))

    def _whole_line(self) -> Measured:
        source = self._frame.source
        line = source.line_of(self._statement.span.start)
        start = self._statement.span.start - source.position(self._statement.span.start)[1] + 1
        return Span(start, start + len(source.line_text(line)))
