"""Checks and watches of blocks that are carried out once more on values that were stored."""

from __future__ import annotations

from collections.abc import Callable
from types import TracebackType
from typing import Any

from ibexite.engine.frame_base import FrameBase
from ibexite.engine.frame_lines import BenchLines
from ibexite.engine.judge import At, Tally
from ibexite.engine.limit_errors import wrong_way_round
from ibexite.engine.retold_runtime import Retold
from ibexite.engine.tallies import ReportedTally, label_of, texts
from ibexite.engine.watch import Watching
from ibexite.holes import EQUAL, Counts
from ibexite.language import nodes
from ibexite.untyped import Measured
from ibexite.values import Quantity
from ibexite.verdicts import FAULTS_OF_UNIT, NO_REASON, Verdict, labelled

PASSED = (Verdict.PASS, NO_REASON)


class RetoldTally(ReportedTally):
    """A tally that tells no more than that where a single number lies between its limits and nothing else matters."""

    _passes = _is_touched = False

    def __init__(self, frame: FrameBase, statement: nodes.Check, *given: Any, **more: Any) -> None:
        super().__init__(frame, statement, *given, **more)
        self._as_passed = labelled(label_of(frame, statement, *texts(frame, statement)), Verdict.PASS)
        self._is_plain = not (self._is_guarded or self._mask is not None or statement.aligned or self._refers)
        assert isinstance(frame.runtime, Retold)
        self._retold = frame.runtime

    def judge(self, value: float, low: float, high: float, at: At = ()) -> None:
        """Judges one value."""
        if self._is_plain and self._retold.is_quick and not at and not self.behind:
            near = EQUAL * abs(value)
            if value - low > near and high - value > near:
                self._passes = True
                return
        super().judge(value, low, high, at)

    def stands_on(self, counts: Counts) -> None:
        """What is judged next was made of so many values."""
        self._is_touched = True
        super().stands_on(counts)

    def close(self) -> None:
        """Tells the result."""
        if self._passes and not self.judged:
            self._retold.found.append(PASSED)
            self._retold.labelled.append(self._as_passed)
        else:
            super().close()

    def renew(self) -> None:
        """As if nothing had been judged."""
        if not self._passes or self._is_touched or self.judged:
            super().renew()
        self._passes = self._is_touched = False


class RetoldRecording:
    """A recording: its curves are what was recorded then."""

    is_streamed = True  # nothing is polled

    def __init__(self, find: Callable[[], list[Measured]]) -> None:
        self._find = find

    def __call__(self, every: float, at: tuple[float | str, ...]) -> RetoldRecording:
        """The same."""
        return self

    def curves(self) -> list[Measured]:
        """What was recorded. Raises NeverReadError."""
        return self._find()

    def __enter__(self) -> None:
        """Nothing is begun."""

    def __exit__(self, *given: object) -> None:
        """Nothing is ended."""


class RetoldWatching(Watching):
    """A watch block: what it saw is judged when its lines are over, or came to what was not read any more for it."""

    def __init__(self, frame: BenchLines, statement: nodes.Watch, low: float, high: float, every: float) -> None:
        if low > high:
            raise wrong_way_round(low, high)
        self._frame, self._statement, self._low, self._high = frame, statement, low, high
        need = frame.scope.needs[statement.signal]
        assert isinstance(need.type, Quantity)
        self._type = need.type.as_declared()
        self._name, self._tally = f"{statement.signal}_watched", Tally(allowed=10**9)

    def __enter__(self) -> None:
        """Nothing is looked at."""

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        runtime = self._frame.runtime
        assert isinstance(runtime, Retold)
        in_a_row, reasons = 0, runtime.bad_reasons.get(self._name, [])
        try:
            for at, value in runtime.values.take_log(self._name):
                before = self._tally.failed
                self._tally.judge(value, self._low, self._high, (at,))
                if self._tally.failed > before:
                    self._trip(Verdict.FAIL, f"watch: {self._statement.signal} was {self._type.said(value, 6)}")
                in_a_row = in_a_row + 1 if value != value else 0
                if in_a_row > self._statement.allowing:
                    verdict = Verdict.FAIL if reasons and reasons[-1].code in FAULTS_OF_UNIT else Verdict.ERROR
                    told = reasons[-1].text if reasons else "no value"
                    self._trip(verdict, f"watch: {self._statement.signal} could not be read ({told})")
        finally:
            self._tell()
