"""Carries out one test and looks at the instruments behind it: what counts of it, and whether others may follow."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from ibexite import events
from ibexite.engine.blocks import block_of
from ibexite.engine.course import Course
from ibexite.engine.leaving import TestOver, UnitOver
from ibexite.engine.runtime import Runtime
from ibexite.engine.skipping import corner_of
from ibexite.errors import BenchError, CeilingError, DamageError, IbexiteError, NoAnswerError, RecordsError, RouteError
from ibexite.language.program import Case
from ibexite.verdicts import Judgement, Reason, Verdict, verdict_of_test


@dataclass(slots=True)
class OneTest:
    """One test while it is carried out. `stopping` says why the tests behind it cannot be run."""

    case: Case
    runtime: Runtime
    course: Course
    problems: list[Reason] = field(default_factory=list)
    stopping: Reason | None = None
    left: Reason | None = None  # the line that left it
    is_doubtful: bool = False
    duration: float = 0.0

    def carry_out(self) -> None:
        """Runs its lines, then looks at the instruments."""
        runtime, clock = self.runtime, self.runtime.clock
        runtime.begin_judging()
        began = clock.now()
        try:
            self._lines()
        except TestOver as over:
            if over.verdict == Verdict.SKIPPED:
                self.left = over.reason
            else:
                runtime.found.append((over.verdict, over.reason))
        except UnitOver as over:
            self.left = self.stopping = Reason("stop", f"stopped: {over.reason}")
        except DamageError as error:  # a fact about the unit, which is over
            runtime.found.append((Verdict.FAIL, Reason("damage", error.what)))
            runtime.emit(events.Problem(runtime.now(), f"{self.case.name}: {error.what}"))
            self.left = self.stopping = Reason("stop", f"stopped: {error.what}")
            self._attempt(runtime.bench.settle_links)
        except IbexiteError as error:
            self._note(error)
            self._attempt(runtime.bench.settle_links)  # replies that nobody has taken any more
        runtime.watches.clear()
        runtime.tell_conditions()
        self.duration = clock.now() - began
        if self.stopping is None or self.stopping.code != "bench":  # else nothing follows that could suffer from it
            self._attempt(self._look_at_instruments)
        for _, text in runtime.bench.take_doubts():  # that came up while something else went wrong
            self.problems.append(Reason("doubt", text))
            self.is_doubtful = True

    def _lines(self) -> None:
        case, runtime = self.case, self.runtime
        run = block_of(runtime, case.test.name, case.test.body, corner=corner_of(case), corner_text=case.corner_text)
        run()
        runtime.keep_results()

    def _attempt(self, deed: Callable[[], None]) -> None:
        try:
            deed()
        except IbexiteError as error:
            self._note(error)

    def _note(self, error: IbexiteError) -> None:
        """An error of a line or of an instrument. Raises RecordsError: it ends the run."""
        self.problems.append(self.course.reason_of(error))
        if isinstance(error, RecordsError):
            raise error
        if isinstance(error, NoAnswerError):
            self.stopping = self.stopping or Reason("answer", f"nobody answered in {self.case.name}")
        elif isinstance(error, BenchError) and not isinstance(error, CeilingError | RouteError):
            self.stopping = self.stopping or Reason("bench", f"the bench failed in {self.case.name}")

    def _look_at_instruments(self) -> None:
        """Once a test: did a source limit (its set points were then not true), did an instrument report errors, are
        they as they were believed? It is doubtful if nobody knows which answers belong to which questions. That is
        asked last: its answers prove those before it."""
        runtime, name = self.runtime, self.case.name
        for role in runtime.bench.take_limiting():
            runtime.emit(events.Limiting(runtime.now(), name, role))
            if not runtime.bench.expects_limiting:
                why = Reason("limiting", f"{role} was at its limit: its set points were not true")
                runtime.found.append((Verdict.FAIL, why))
        errors = runtime.bench.read_errors()
        for finding in runtime.bench.prove():
            if finding.kind in ("tripped", "off"):  # a fact about the unit
                runtime.found.append((Verdict.FAIL, Reason(finding.kind, finding.text)))
                runtime.emit(events.Problem(runtime.now(), f"{name}: {finding.text}"))
            else:
                self.problems.append(Reason(finding.kind, finding.text))
                self.is_doubtful = self.is_doubtful or finding.kind == "doubt"
        if errors:
            text = f"{'; '.join(errors)}. Look at the settings of this test."
            self.problems.append(Reason("reported", text))

    def judgement(self) -> Judgement:
        """What counts of it, and why."""
        return verdict_of_test(self.runtime.found, problems=self.problems, left=self.left, is_doubtful=self.is_doubtful)
