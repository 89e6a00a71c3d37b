"""One run's dealings with time, the bench, the operator and the readers of events; what all its blocks share."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from ibexite import events
from ibexite.bench.interface import BenchLike, Timed
from ibexite.conditions import together
from ibexite.engine.files import ProjectFiles
from ibexite.engine.formula import as_time
from ibexite.engine.services import Clock, Halts, NotedClock, Services
from ibexite.errors import SequenceError
from ibexite.holes import Bad
from ibexite.language.program import Program
from ibexite.untyped import Fields, Measured
from ibexite.verdicts import Found, Reason, Verdict
from ibexite.wording import judged_text

if TYPE_CHECKING:
    from ibexite.engine.debugger import Debugger
    from ibexite.outside.children import Outside

SLICE = 0.25  # s; a wait is done in slices, so that whatever is watched is looked at


class ReadLine(Protocol):
    """What is known of a read line: under which conditions it was carried out, and what comes from it."""

    def names(self) -> list[str]:
        """Its readings, and what is computed from them."""

    def present(self) -> dict[str, str]:
        """What each condition was, in words; nothing as long as it was not carried out."""


def _outside(heed: Callable[[], None]) -> Outside:
    from ibexite.outside.children import Outside

    return Outside(heed)


class Runtime:
    """What the blocks of a run share."""

    def __init__(
        self,
        program: Program,
        bench: BenchLike,
        services: Services,
        emit: Callable[[events.Event], None],
        *,
        serial: str,
        trial: list[Reason],
        started: datetime.datetime,
        earlier_results: Callable[[str, str], Measured] | None,
    ) -> None:
        """`trial` takes the reasons why a pass would not count, as they are found; `earlier_results` gives those of
        tests that a retest takes over, None for one that is not known."""
        self.program, self.bench, self.emit, self.serial, self.trial = program, bench, emit, serial, trial
        self.clock: Clock = NotedClock(services.clock, bench.tell_time)
        self.operator, self.stop = services.operator, services.stop
        self.started, self.earlier_results = started, earlier_results
        self.began = self.clock.now()
        self.folder = Path(program.source.name).absolute().parent  # programs and pictures are looked for there
        self.records, self.kept = services.records, services.kept  # where attached files are kept, and those that are
        self.block = ""  # the test that is running, or "before unit"
        self.corner = ""  # the suffix of its corner, " [temp = -20 degC]"
        self.results: dict[
            tuple[str, str], Measured
        ] = {}  # of finished tests; a column is a function that makes its curve
        self.fresh: dict[tuple[str, str], Measured] = {}  # of the test that is running
        self.left_bad: dict[tuple[str, str], int] = {}  # how many bad values were left out of results, as `results`
        self.fresh_left_bad: dict[tuple[str, str], int] = {}
        self.found: list[Found] = []  # what checks, watches and instruments say of this test
        self.failed_text = ""  # of the first check of this block that did not pass, in words
        self.bad_reasons: dict[str, list[Reason]] = {}  # of this test, by reading
        self.held_back: list[Callable[[], None]] | None = None  # in after unit: what the operator gets when all is off
        self.watches: list[Timed] = []
        self.timing = services.timing
        self.from_file = ProjectFiles(program)
        self.debugger = self._debugger(services.halts) if services.halts is not None else None
        self.outside: Outside | None = None  # runs programs and Python functions
        self.outside_from = services.outside or _outside
        self.curves_used: dict[str, list[frozenset[str]]] | None = None  # made by the first frame
        self.told_conditions: dict[tuple[str, str], dict[str, str]] = {}  # of earlier blocks, by block and name
        self.conditions: list[ReadLine] = []  # the read lines of this block
        self.recordings = services.recordings
        self._tables = self._recordings = 0

    def _debugger(self, halts: Halts) -> Debugger:
        from ibexite.engine.debugger import Debugger

        return Debugger(self.program, halts, self._halted, self.from_file)

    def _halted(self, line: int, answer: str, values: Fields) -> None:
        """The run stood still, or a line is carried out again: told with the values of that moment."""
        self.mark_trial("halted", "the run was halted between its lines")
        self.emit(events.Halted(self.now(), self.block, line, answer, values))

    def entering(self, block: str) -> None:
        """A block begins, at which the run may halt."""
        if self.debugger is not None:
            self.debugger.entering(block)

    def begin_judging(self) -> None:
        """What follows is judged by itself: as if nothing had been judged, nor found bad."""
        self.found, self.bad_reasons, self.failed_text = [], {}, ""

    def now(self) -> float:
        """Seconds since the run began."""
        return round(self.clock.now() - self.began, 6)

    def wait(self, seconds: float) -> None:
        """Waits, beginning when the settings before have been carried out: settling is counted from then."""
        as_time(seconds)
        self.bench.complete()
        self.pause(seconds)
        if self.bench.is_ramping:
            self.bench.settled()

    def pause(self, seconds: float) -> None:
        """Waits; what is watched is looked at meanwhile."""
        if not self.watches and not self.bench.has_time_limits:
            self.clock.wait(seconds, self.stop.check)
            return
        end = self.clock.now() + seconds
        while (left := end - self.clock.now()) > 0:
            due = min(one.due for one in (self.bench.time_limits, *self.watches)) - self.clock.now()
            self.clock.wait(max(0.0, min(left, SLICE, due)), self.stop.check)
            self.tick()
            if self.bench.has_much_to_tell:
                self._tell_traffic()

    def judged(self, event: events.Judged) -> None:
        """A check is done: its verdict counts, and everybody is told."""
        self.found.append((event.verdict, event.reason))
        if event.verdict != Verdict.PASS and not self.failed_text:
            text = judged_text(event.row())
            said = event.reason.text or f"{text.value_with_unit}, against {text.limits}"
            self.failed_text = f"{event.subject.label}: {said}"
        self.emit(event)

    def mark_trial(self, code: str, text: str) -> None:
        """A reason why a pass would not count; once each."""
        reason = Reason(code, text)
        if reason not in self.trial:
            self.trial.append(reason)

    def tick(self) -> None:
        """Looks at what is watched, as far as it is due."""
        self.bench.time_limits.look()
        for watch in tuple(self.watches):
            watch.look()

    # --- blocks ------------------------------------------------------------------------------------------------------

    def begin_block(self, block: str, corner_text: str) -> None:
        """A block begins; `corner_text` says in which corner of its group."""
        self.corner = f" [{corner_text}]" if corner_text else ""
        self.conditions = []
        self.block, self.fresh, self.fresh_left_bad = block + self.corner, {}, {}
        self.bench.expects_limiting = False

    def expect_limiting(self) -> None:
        """The test says that a source may limit."""
        self.bench.expects_limiting = True

    def tell_conditions(self) -> None:
        """Tells under which conditions the values of this block came to be."""
        for line in self.conditions:
            found = line.present()
            for name in line.names() if found else ():
                known = self.told_conditions.get((self.block, name), {})
                self.told_conditions[self.block, name] = together((known, found))
            if found:
                self.emit(events.Conditions(self.now(), self.block, line.names(), found))
        self.conditions = []

    def keep_results(self) -> None:
        """The test has come to its end: from now on other tests may use its results."""
        self.results |= self.fresh
        self.left_bad |= self.fresh_left_bad

    def result_of(self, test: str, name: str) -> Measured:
        """A result of another test; in a group that is repeated, that of the same corner."""
        key = (test + self.corner, name)
        key = key if key in self.results else (test, name)
        if key not in self.results and self.earlier_results is not None:
            found = self.earlier_results(test + self.corner, name)
            if found is not None:
                self.results[key] = found
        if key not in self.results:
            raise SequenceError(
                f"{test}.{name} has no value: that test was not run to its end", remedy=f"Run {test} as well."
            )
        found = self.results[key]
        return found() if callable(found) else found

    def next_table(self) -> int:
        """A number for a table."""
        self._tables += 1
        return self._tables

    def next_recording(self) -> int:
        """A number for a recording."""
        self._recordings += 1
        return self._recordings

    # --- what is collected between events ----------------------------------------------------------------------------

    def take_traffic(self) -> events.Said:
        """What was said to instruments since last asked."""
        return self.bench.take_said() or events.NOTHING_SAID

    def flush(self) -> None:
        """Tells of traffic that no other event carries."""
        self.take_bad()
        if self.bench.has_messages or self.bench.has_much_to_tell:
            self._tell_traffic()

    def _tell_traffic(self) -> None:
        io = self.take_traffic()
        self.emit(events.Traffic(self.now(), io))

    def tell_closings(self, block: str) -> None:
        """Tells of relays that have closed."""
        closings = self.bench.take_closings()
        if closings:
            closed = [(instrument, channel, times) for (instrument, channel), times in closings.items()]
            self.emit(events.RelaysClosed(self.now(), block, closed, self.take_traffic()))

    def take_bad(self) -> list[Bad]:
        """The bad readings since last asked; their reasons are kept for the checks of this test."""
        bad = self.bench.bad
        if not bad:
            return []
        taken = list(bad)
        for name, reason, _ in taken:
            self.bad_reasons.setdefault(name, []).append(reason)
        bad.clear()
        return taken
