"""Runs a vetted program on a bench for one unit. Whatever happens, `after unit` and the safe state are carried out."""

from __future__ import annotations

import traceback
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

from ibexite import events, verdicts
from ibexite.bench.bench import Bench, SafeDeed
from ibexite.bench.file import BenchFile
from ibexite.bench.guardian import Guardian
from ibexite.engine import beginning
from ibexite.engine.orders import Identity, Orders, Outcome
from ibexite.engine.runtime import Runtime, TestOver, UnitOver
from ibexite.engine.services import Clock, Operator
from ibexite.engine.tables import Table
from ibexite.errors import (
    BenchError,
    CeilingError,
    IbexiteError,
    NoAnswerError,
    RecordsError,
    SequenceError,
    StopRun,
)
from ibexite.language import nodes
from ibexite.language.constants import Value
from ibexite.language.program import Case, Program
from ibexite.verdicts import ERROR, FAIL, PASS, SKIPPED, Judgement

Reader = Callable[[events.Event], None]


class Stopping(Exception):
    """The tests that follow are skipped: the code of their skip, and why."""

    def __init__(self, code: str, why: str) -> None:
        super().__init__(why)
        self.code, self.why = code, why


class Run:
    """One run. The journal gets every event first: without it nothing goes on. Views get it after that; one that breaks
    is taken out.

    The guardian makes the bench safe if this process dies; without one (tests) nobody does.
    """

    def __init__(
        self,
        program: Program,
        bench_file: BenchFile,
        identity: Identity,
        clock: Clock,
        operator: Operator,
        journal: Reader,
        views: Iterable[Reader] = (),
        guardian: Guardian | None = None,
        orders: Orders | None = None,
    ) -> None:
        self.program, self.bench_file, self.identity = program, bench_file, identity
        self.orders = orders or Orders()
        self.bench = Bench(bench_file)
        self._journal: Reader | None = journal
        self._views = list(views)
        self._guardian = guardian
        self.outcome = Outcome()
        self.runtime = Runtime(program, self.bench, clock, operator, self.emit)
        self.runtime.serial = identity.serial
        self.runtime.folder = Path(program.source.name).absolute().parent
        self.runtime.trial = self.outcome.trial
        self.clock = clock
        self._running = ""  # the test that has begun and not ended
        self._is_prepared = False  # the bench is connected: from then on `after unit` has something to do
        self._is_cleaning = False
        self._is_broken = False  # something failed outside the tests
        self._is_aborted = False
        self._block = ""
        self._left: dict[tuple[str, str], float] = {}  # the state that `before unit` left
        self._is_changed = False  # a test has run since that state was there

    def emit(self, event: events.Event) -> None:
        """Passes an event to the journal, then to the views.

        Raises:
            RecordsError: the journal failed; while cleaning up it is only noted.
        """
        try:
            if self._journal is not None:
                self._journal(event)
        except Exception as error:
            self._journal = None
            lost = error if isinstance(error, RecordsError) else RecordsError(f"the journal broke: {error!r}")
            self._note_error(lost)
            if not self._is_cleaning:
                raise lost from None
        for view in tuple(self._views):
            try:
                view(event)
            except Exception as error:
                self._views.remove(view)
                self.outcome.broken_views.append(f"{type(error).__name__}: {error}")

    # --- the whole run -----------------------------------------------------------------------------------------------

    def carry_out(self, before_cleaning: Callable[[], None] = lambda: None) -> Outcome:
        """Runs everything. `before_cleaning` is called first when cleaning up (to hold off further signals)."""
        try:
            self._carry_out_tests()
            before_cleaning()
        except (StopRun, KeyboardInterrupt) as stop:  # a signal while an error was noted, or just before this moment
            self._abort(stop.reason if isinstance(stop, StopRun) else "interrupted")
        finally:
            self._clean_up()
        self._end()
        return self.outcome

    def _carry_out_tests(self) -> None:
        try:
            self.emit(beginning.run_started(self.program, self.bench_file, self.identity, self.orders))
            self._prepare()
            self._before_unit()
            self._tests()
        except StopRun as stop:
            self._abort(stop.reason)
        except KeyboardInterrupt:
            self._abort("interrupted")
        except IbexiteError as error:
            self._note_error(error)
        except Exception as error:  # a mistake of ours: the bench is made safe and the run recorded all the same
            self._note_error(IbexiteError(f"internal error: {error!r}", where=self._line_of(error)))

    def _abort(self, reason: str) -> None:
        self._is_aborted = True
        self.outcome.reason = reason

    def _note_error(self, error: IbexiteError) -> None:
        """An error outside the tests; the first one is told."""
        self._is_broken = True
        where = error.where or self._line_of(error)
        text = f"{where}: {error.what}" if where else error.what
        self.outcome.reason = self.outcome.reason or (f"{text}. {error.remedy}" if error.remedy else text)

    def _line_of(self, error: BaseException) -> str:
        """The line of the sequence that an error passed through; compiled code carries its line numbers."""
        names = {source.name for source in self.program.sources}
        places = [(f.filename, f.lineno) for f in traceback.extract_tb(error.__traceback__) if f.filename in names]
        return f"{places[-1][0]}:{places[-1][1]}" if places else ""

    # --- before the tests --------------------------------------------------------------------------------------------

    def _prepare(self) -> None:
        needed = beginning.instruments_of(self.program, self.bench_file)
        self._mark_trials(needed)
        who = f"run {self.identity.run} of {self.program.source.name} for {self.identity.serial}"
        self.bench.connect(needed, who + (f" by {self.identity.operator}" if self.identity.operator else ""))
        instruments = [beginning.instrument(self.bench, name) for name in needed]
        self.emit(events.BenchConnected(self.runtime.now(), instruments))
        self._is_prepared = True
        if self._guardian is not None:  # from here on outputs may go on
            self._guardian.watch(self.bench, self.runtime.began)
        if self.runtime.timing is not None:
            self.runtime.timing.listen(self.bench)
        if self.runtime.debugger is not None:
            self.runtime.debugger.tell = self._halted
        if self.orders.earlier is not None:
            self.runtime.earlier_results = self.orders.earlier.result
        self.bench.protect()
        self.bench.learn_state(self._settings())
        self.bench.take_limiting()
        self._flush()

    def _mark_trials(self, needed: list[str]) -> None:
        """What is known of the trial before anything is connected."""
        mark, program = self.runtime.mark_trial, self.program
        today = self.identity.started.date()
        for name in needed:
            calibration = self.bench_file.instruments[name].calibration
            if calibration is not None and calibration.due < today:
                mark("calibration", f"calibration of {name} was due on {calibration.due.isoformat()}")
        for text in program.overrides:
            if text.partition(" = ")[0] not in self.orders.variant_params:
                mark("parameter", f"parameter set by hand: {text}")
        if program.placeholders:
            names = ", ".join(dict.fromkeys(program.placeholders))
            mark("placeholder", f"limits that nobody has approved: {names}")

    def _settings(self) -> list[tuple[str, str]]:
        """All settings that any line may change, also those of measurements from outside."""
        settings = dict.fromkeys((point.role, point.assignment.setting) for point in self.program.set_points)
        for use in self.program.measures.values():
            if use.measurement.kind != "sequence":
                for name in use.roles.values():
                    role = self.bench_file.roles.get(name)
                    if role is not None:
                        profile = self.bench_file.instruments[role.instrument].profile
                        settings |= dict.fromkeys((name, setting) for setting in profile.settings)
        return list(settings)

    def _before_unit(self) -> None:
        sequence = self.program.sequence
        for block, body in (("before lot", sequence.before_lot), ("before unit", sequence.before_unit)):
            if not body or (block == "before lot" and not self.orders.begins_lot):
                continue
            self._enter(block)
            self.runtime.verdicts, self.runtime.bad_reasons, self.runtime.failed_text = [], {}, ""
            try:
                self.runtime.compile(block, body)()
            except UnitOver as over:
                raise SequenceError(f"{block} stopped: {over.reason}", remedy="No test was run.") from None
            if any(verdict != PASS for verdict, _ in self.runtime.verdicts):
                what = self.runtime.failed_text
                raise SequenceError(f"{block} did not pass: {what}", remedy="No test was run.")
        self._flush()
        errors = self.bench.read_errors()
        if errors:
            raise BenchError("; ".join(errors), remedy="Look at the settings in before unit.")
        self.bench.take_limiting()
        found = self.bench.prove()
        if found:
            raise BenchError("; ".join(f.text for f in found), remedy="No test was run. Look at the instrument.")
        self._left = dict(self.bench.state)

    def _enter(self, block: str) -> None:
        if self.runtime.debugger is not None:
            self.runtime.debugger.entering(block)

    def _halted(self, line: int, answer: str, values: dict[str, Any]) -> None:
        """The run stood still, or a line is carried out again: told with the values of that moment."""
        self.runtime.mark_trial("halted", "the run was halted between its lines")
        self.emit(events.Halted(self.runtime.now(), self.runtime.block, line, answer, values))

    # --- the tests ---------------------------------------------------------------------------------------------------

    def _tests(self) -> None:
        skipping: tuple[str, str] | None = None
        previous: Case | None = None
        last_ran = ""
        for case in self.program.cases:
            before, previous = previous, case
            if self._is_taken_over(case):
                skipping = skipping or self._gate(case)
                continue
            skip = self._reason_to_skip(case, skipping)
            keeps = case.test.keeps_state and before is not None
            if skip is None and keeps and before is not None and before.name != last_ran:
                skip = ("state", f"it keeps the state of {before.name}, which was not run")
            if skip is not None:
                self._test_ended(case, Judgement(SKIPPED, skip=skip[0]), skip[1], 0.0)
                skipping = skipping or self._gate(case)
                continue
            undecided = self._condition(case)
            if isinstance(undecided, str):
                self._test_ended(case, Judgement(ERROR), undecided, 0.0)
            else:
                last_ran = case.name
                try:
                    self._test(case, keeps=keeps)
                except Stopping as stop:
                    skipping = skipping or (stop.code, stop.why)
            skipping = skipping or self._gate(case) or self._stop_on_fail(case)
        if self._is_changed and self._restore():
            self._is_broken = True

    def _gate(self, case: Case) -> tuple[str, str] | None:
        """Why the tests behind a gate are skipped: unless it passes, they are. One that was not selected closes
        nothing: whoever selects tests wants them to run, and it is a trial."""
        facts = self.outcome.facts[case.name]
        if not case.test.is_gate or facts.verdict == PASS or facts.skip == "selection":
            return None
        return "gate", f"gate {case.name} did not pass ({self.outcome.facts[case.name].verdict})"

    def _stop_on_fail(self, case: Case) -> tuple[str, str] | None:
        verdict = self.outcome.facts[case.name].verdict
        if self.orders.stops_on_fail and verdict in (FAIL, ERROR):
            return "stop", f"stopped after {case.name} ({verdict})"
        return None

    def _is_taken_over(self, case: Case) -> bool:
        """In a retest: a test that is not run again keeps the result of the earlier run."""
        earlier = self.orders.earlier
        if earlier is None or self.orders.selection.chooses(case) or case.name not in earlier.tests:
            return False
        test = earlier.tests[case.name]
        self.outcome.facts[case.name] = test.facts
        self.emit(
            events.TestEnded(
                self.runtime.now(), case.name, test.facts.verdict, test.reason, test.duration,
                test.facts.has_failed, test.facts.skip, test.run,
            )
        )  # fmt: skip
        return True

    def _reason_to_skip(self, case: Case, skipping: tuple[str, str] | None) -> tuple[str, str] | None:
        """The code of the skip and why; None for a test that is to be run. A condition that is not met goes before all
        else that is found on the way: then the sequence itself says that the test is not for this unit."""
        if case.is_off:
            return "off", "switched off in the sequence"
        if not self.orders.selection.chooses(case):
            return "selection", "not selected"
        if self._condition(case) is False:
            return "condition", "its condition is not met"
        if skipping is not None:
            return skipping
        for name, _ in case.test.needs_pass:
            found = self._needed(case, name)
            if any(verdict != PASS for verdict in found):
                told = ", ".join(dict.fromkeys(v for v in found if v != PASS))
                return "needs", f"it needs {name} to pass ({told})"
        return None

    def _needed(self, case: Case, name: str) -> list[str]:
        """The verdicts of a test that another one needs: that of the same corner, or of all corners."""
        facts = self.outcome.facts
        if case.corner_text and (same := f"{name} [{case.corner_text}]") in facts:
            return [facts[same].verdict]
        names = [other.name for other in self.program.cases if other.test.name == name]
        return [facts[n].verdict if n in facts else "not run" for n in names]

    def _corner(self, case: Case) -> tuple[str, Value] | None:
        return (case.group.corner, case.corner) if case.group is not None and case.corner is not None else None

    def _condition(self, case: Case) -> bool | str:
        """Whether the conditions of a test hold; a text that says why nobody can decide."""
        for condition in (case.group.condition if case.group else None, case.test.condition):
            if condition is None:
                continue
            try:
                if not self._holds(case, condition):
                    return False
            except SequenceError as error:
                return f"its condition: {error.what}. {error.remedy}"
        return True

    def _holds(self, case: Case, condition: nodes.Expr) -> bool:
        return self.runtime.condition(case.test.name, condition, self._corner(case), case.corner_text)

    def _test(self, case: Case, *, keeps: bool) -> None:
        """Runs one test. Raises Stopping: the tests behind it cannot be run."""
        if self._guardian is not None:
            self._guardian.look()
        if self._is_changed and not keeps and self._restore():
            self._is_broken = True
            why = "the bench failed while it was set back"
            self._test_ended(case, Judgement(SKIPPED, skip="bench"), why, 0.0)
            raise Stopping("bench", why)
        runtime = self.runtime
        runtime.verdicts, runtime.bad_reasons, runtime.failed_text = [], {}, ""
        began = self.clock.now()
        self._running, self._is_changed = case.name, True
        self._enter(case.name)
        self.emit(events.TestStarted(runtime.now(), case.name, case.title))
        problems: list[str] = []
        stopping: Stopping | None = None
        left = ""  # the code of the line that left it
        why_left = ""
        try:
            corner = self._corner(case)
            runtime.compile(case.test.name, case.test.body, corner=corner, corner_text=case.corner_text)()
            runtime.keep_results()
        except TestOver as over:
            if over.verdict == SKIPPED:
                left, why_left = "line", over.reason
            else:
                runtime.verdicts.append((over.verdict, over.reason))
        except UnitOver as over:
            left, why_left = "stop", f"stopped: {over.reason}"
            stopping = Stopping("stop", why_left)
        except IbexiteError as error:
            problems.append(self._told(error))
            stopping = self._stopping(error, case)
        runtime.watches.clear()
        duration = self.clock.now() - began
        is_doubtful = False
        if stopping is None or stopping.code != "bench":  # else nothing follows that could suffer from it
            try:
                is_doubtful = self._look_at_instruments(case, problems)
            except IbexiteError as error:
                problems.append(self._told(error))
                stopping = stopping or self._stopping(error, case)
        for _, text in self.bench.take_doubts():  # that came up while something else went wrong
            problems.append(text)
            is_doubtful = True
        self._flush()
        facts = verdicts.verdict_of_test(
            [verdict for verdict, _ in runtime.verdicts],
            is_broken=bool(problems), is_left=bool(left), is_doubtful=is_doubtful,
        )  # fmt: skip
        if facts.verdict == SKIPPED:
            facts = facts._replace(skip=left)
        self._test_ended(case, facts, self._reason(facts, problems, why_left), duration)
        self._running = ""
        if stopping is not None:
            raise stopping

    def _told(self, error: IbexiteError) -> str:
        """An error of a test in one line."""
        where = error.where if error.where and ":" in error.where else self._line_of(error) or error.where
        problem = f"{where}: {error.what}" if where else error.what
        return f"{problem}. {error.remedy}" if error.remedy else problem

    @staticmethod
    def _stopping(error: IbexiteError, case: Case) -> Stopping | None:
        """Whether an error in a test ends the tests of this unit. Raises RecordsError: it ends the run."""
        if isinstance(error, RecordsError):
            raise error
        if isinstance(error, NoAnswerError):
            return Stopping("answer", f"nobody answered in {case.name}")
        if isinstance(error, BenchError) and not isinstance(error, CeilingError):
            return Stopping("bench", f"the bench failed in {case.name}")
        return None

    def _look_at_instruments(self, case: Case, problems: list[str]) -> bool:
        """Once a test: did a source limit (its set points were then not true), did an instrument report errors, are
        they as they were believed? True if it is in doubt which answers belong to which questions. That is asked last:
        its answers prove those before it."""
        for role in self.bench.take_limiting():
            self.emit(events.Limiting(self.runtime.now(), case.name, role))
            if not self.runtime.expects_limiting:
                self.runtime.verdicts.append((FAIL, f"{role} was at its limit: its set points were not true"))
        errors = self.bench.read_errors()
        is_doubtful = False
        for finding in self.bench.prove():
            if finding.kind in ("tripped", "off"):  # a fact about the unit
                self.runtime.verdicts.append((FAIL, finding.text))
                self.emit(events.Problem(self.runtime.now(), f"{case.name}: {finding.text}"))
            else:
                problems.append(finding.text)
                is_doubtful = is_doubtful or finding.kind == "doubt"
        if errors:
            problems.append(f"{'; '.join(errors)}. Look at the settings of this test.")
        return is_doubtful

    def _reason(self, facts: Judgement, problems: list[str], why_left: str) -> str:
        """The reason that is told with the verdict of a test."""
        found = self.runtime.verdicts
        if facts.verdict == ERROR:
            return problems[0] if problems else next((r for v, r in found if v == ERROR), "")
        if facts.verdict == FAIL:
            return next((r for v, r in found if v == FAIL and r), "")
        if facts.verdict == SKIPPED:
            return why_left
        return next((reason for _, reason in found if reason), "")

    def _restore(self) -> bool:
        """Back to the state that `before unit` left, and asked whether it is; true if that fails."""
        try:
            changed = self.bench.restore(self._left, self.runtime.wait)
            if changed:
                found = [finding.text for finding in self.bench.prove()] + self.bench.read_errors()
                if found:
                    raise BenchError("; ".join(found))
                self.bench.take_limiting()
                self.emit(events.Restored(self.runtime.now(), [f"{role}.{setting}" for role, setting in changed]))
            self._is_changed = False
            self._flush()
        except IbexiteError as error:
            if isinstance(error, RecordsError):
                raise
            self._is_changed = False
            self._note_error(BenchError(f"setting back failed: {error.what}", where=error.where))
            self.emit(events.Problem(self.runtime.now(), f"setting back failed: {error.what}"))
            return True
        return False

    def _test_ended(self, case: Case, facts: Judgement, reason: str, duration: float) -> None:
        self.outcome.facts[case.name] = facts
        self.emit(
            events.TestEnded(
                self.runtime.now(), case.name, facts.verdict, reason, round(duration, 6), facts.has_failed, facts.skip
            )
        )

    def _flush(self) -> None:
        """Traffic that no other event carries."""
        io = self.runtime.take_traffic()
        self.runtime.take_bad()
        if io:
            self.emit(events.Traffic(self.runtime.now(), io))

    # --- the end -----------------------------------------------------------------------------------------------------

    def _clean_up(self) -> None:
        """`after unit` line by line, then the safe state, then what the operator is told. Nothing here may raise."""
        self._is_cleaning = True
        if self._guardian is not None:
            self._guardian.stand_back()
        self.runtime.held_back = []
        if self._is_prepared and self._can_talk():
            try:
                self._after_unit()
            except Exception as error:  # whatever it is, everything is switched off next
                self._tell_of_cleaning(error)
        deeds = self.bench.make_safe()
        self._flush()
        self.emit(events.MadeSafe(self.runtime.now(), [{"role": d.role, "problem": d.problem} for d in deeds]))
        not_safe = [deed.role for deed in deeds if deed.problem]
        self.outcome.is_safe = not not_safe
        if not_safe:
            self._not_safe(deeds)
        else:
            self._say_what_was_held_back()
        if self._guardian is not None and not self._guardian.dismiss(not_safe):
            self.emit(events.Problem(self.runtime.now(), "the guardian process had ended before the run did"))
        for close in (self.bench.close, *([self.runtime.outside.close] if self.runtime.outside is not None else [])):
            try:
                close()
            except Exception as error:
                self._tell_of_cleaning(error)

    def _after_unit(self) -> None:
        sequence = self.program.sequence
        self.runtime.debugger = None  # nobody is asked while cleaning up
        for block, body in (("after unit", sequence.after_unit), ("after lot", sequence.after_lot)):
            if block == "after lot" and not self.orders.ends_lot:
                continue
            self._block = block
            try:
                self.runtime.compile(block, body, self._tell_of_cleaning)()
            except Exception as error:
                self._tell_of_cleaning(error)
        errors = self.bench.read_errors()
        if errors:
            self._tell_of_cleaning(BenchError("; ".join(errors)))

    def _say_what_was_held_back(self) -> None:
        """Texts of `after unit` for the operator: everything is off now."""
        waiting, self.runtime.held_back = self.runtime.held_back or [], None
        self.runtime.block = self._block = "after unit"
        for say in waiting:
            try:
                say()
            except Exception as error:
                self._tell_of_cleaning(error)

    def _tell_of_cleaning(self, error: Exception) -> None:
        """A line of `after unit` failed: then a pass is none."""
        what = error.what if isinstance(error, IbexiteError) else repr(error)
        text = ", ".join(part for part in (self._block, self._line_of(error)) if part) + f": {what}"
        self._is_broken = True
        self.outcome.reason = self.outcome.reason or text
        self.emit(events.Problem(self.runtime.now(), text))

    def _can_talk(self) -> bool:
        try:
            for session in self.bench.sessions.values():
                session.settle_link()
        except Exception as error:
            what = error.what if isinstance(error, IbexiteError) else repr(error)
            self._tell_of_cleaning(IbexiteError(f"after unit was left out: {what}"))
            return False
        return True

    def _not_safe(self, deeds: Iterable[SafeDeed]) -> None:
        problems = "; ".join(f"{deed.role}: {deed.problem}" for deed in deeds if deed.problem)
        self.outcome.reason = f"NOT SAFE. {problems}. Switch it off by hand. {self.outcome.reason}".strip()
        self._is_broken = True

    def _end(self) -> None:
        """The verdict. It is told when the journal has it on disk, and only then."""
        outcome, cases, earlier = self.outcome, self.program.cases, self.orders.earlier
        self._skip_the_rest()
        if self.bench.is_simulated or self.orders.is_simulated:
            outcome.trial.insert(0, verdicts.Reason("simulated", "simulated bench"))
        outcome.trial += verdicts.left_out(outcome.facts.items())
        if earlier is not None:
            names = {c.name for c in cases} & set(earlier.tests)
            taken = {earlier.tests[n].run for n in names if outcome.facts[n] is earlier.tests[n].facts}
            outcome.trial += [r for r in earlier.reasons(taken) if r not in outcome.trial]
        outcome.verdict = verdicts.verdict_of_unit(
            outcome.facts.values(), is_aborted=self._is_aborted, is_broken=self._is_broken,
            needs_no_check=self.orders.is_measurement,
        )  # fmt: skip
        if (
            outcome.verdict == ERROR
            and not outcome.reason
            and not any(facts.verdict == ERROR for facts in outcome.facts.values())
        ):
            outcome.reason = "nothing was judged"
        if self._journal is not None:
            self._tell_end(outcome, self._journal)
        if self._journal is None:  # the disk is full just now: what nobody can prove is no pass
            outcome.verdict = ERROR if outcome.verdict == PASS else outcome.verdict
        self._tell_end(outcome, None)

    def _tell_end(self, outcome: Outcome, journal: Reader | None) -> None:
        """Tells the end to the journal, or (None) to the views."""
        passed = sum(facts.verdict == PASS for facts in outcome.facts.values())
        trial = [reason._asdict() for reason in outcome.trial]
        event = events.RunEnded(
            self.runtime.now(), outcome.verdict, outcome.reason, trial, passed, len(self.program.cases)
        )
        views, kept = self._views, self._journal
        if journal is not None:
            self._views = []
            self.emit(event)
            self._views = views
        else:
            self._journal = None
            self.emit(event)
            self._journal = kept

    def _skip_the_rest(self) -> None:
        for case in self.program.cases:
            if case.name in self.outcome.facts:
                continue
            facts = Judgement("aborted") if case.name == self._running else Judgement(SKIPPED, skip="broken_off")
            if case.name == self._running and FAIL in (verdict for verdict, _ in self.runtime.verdicts):
                facts = facts._replace(has_failed=True)
            self._test_ended(case, facts, "the run was broken off", 0.0)


# Where an exception from a signal would lose what was measured: in an event on its way to the journal, in a row.
RECORDING = frozenset({Run.emit.__code__, Table.__call__.__code__})
