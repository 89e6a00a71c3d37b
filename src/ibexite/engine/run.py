"""Runs a vetted program on a bench for one unit: the order of things. Whatever happens, `after unit` and the safe state
are carried out."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from ibexite import events, verdicts
from ibexite.bench.interface import BenchLike
from ibexite.engine import beginning
from ibexite.engine.blocks import block_of
from ibexite.engine.cleaning import Cleaning
from ibexite.engine.course import Course
from ibexite.engine.leaving import UnitOver
from ibexite.engine.one_test import OneTest
from ibexite.engine.orders import Earlier, Identity, Orders, Outcome
from ibexite.engine.record_facts import record_settings
from ibexite.engine.runtime import Runtime
from ibexite.engine.services import Services
from ibexite.engine.skipping import Skipping
from ibexite.engine.telling import Reader, Teller
from ibexite.errors import BenchError, IbexiteError, NeverSaid, RecordsError, SequenceError, StopRun
from ibexite.language.program import Case, Program
from ibexite.verdicts import Judgement, Reason, Verdict


class Run:
    """One run. The guardian makes the bench safe if this process dies; without one (tests) nobody does."""

    def __init__(
        self,
        program: Program,
        bench: BenchLike,
        identity: Identity,
        services: Services,
        journal: Reader,
        views: Iterable[Reader] = (),
        orders: Orders | None = None,
    ) -> None:
        self.program, self.bench, self.identity = program, bench, identity
        self.orders, self.services = orders or Orders(), services
        self.course = Course(program)
        self.outcome = self.course.outcome
        self.outcome.run = identity.run
        self._teller = Teller(identity.run, journal, views, self._journal_lost)
        self.emit = self._teller.__call__
        earlier = self.orders.earlier
        self.runtime = Runtime(
            program, self.bench, services, self.emit, serial=identity.serial, started=identity.started,
            trial=self.outcome.trial,
            earlier_results=earlier.result if earlier is not None else None,
        )  # fmt: skip
        services.stop.when_heeded = lambda reason: self.bench.tell("", "!", reason)
        self._skipping = Skipping(program, self.orders, self.runtime, self.outcome.facts)
        self._running = ""  # the test that has begun and not ended
        self._is_prepared = False  # the bench is connected
        self._is_cleaning = False
        self._left: Any = None  # the state that `before unit` left
        self._is_changed = False  # a test has run since that state was there

    def _journal_lost(self, error: RecordsError) -> None:
        """Without a journal nothing goes on but the clean-up."""
        self.course.note_error(error)
        if not self._is_cleaning:
            raise error from None

    # --- the whole run -----------------------------------------------------------------------------------------------

    def carry_out(self) -> Outcome:
        """Runs everything. Raises NeverSaid: it is a replay, and ends here."""
        is_connected = True
        try:
            self._carry_out_tests()
        except (StopRun, KeyboardInterrupt) as stop:  # while an error was noted
            self._abort(_why(stop))
        except NeverSaid:  # there is nothing that could be made safe
            is_connected = False
            raise
        finally:
            if is_connected:
                self._clean_up()
        self._end()
        return self.outcome

    def _clean_up(self) -> None:
        reason = self.services.stop.seal()
        if reason and not self.course.is_aborted:  # asked for when the last test had just ended
            self._abort(reason)
        self._is_cleaning = True
        cleaning = Cleaning(self.runtime, self.course, self.orders, self.services.guardian)
        cleaning.carry_out(is_prepared=self._is_prepared)

    def _abort(self, reason: str) -> None:
        self.services.stop.heed(reason)
        self.course.abort(reason)

    def _carry_out_tests(self) -> None:
        try:
            self.emit(
                beginning.run_started(
                    self.program, self.bench.file, self.identity, self.orders, self.runtime.began,
                    self.services,
                )
            )  # fmt: skip
            self.services.stop.check()
            self._prepare()
            self._before_unit()
            self._tests()
        except (StopRun, KeyboardInterrupt) as stop:
            self._abort(_why(stop))
        except IbexiteError as error:
            self.course.note_error(error)
        except Exception as error:  # a mistake of ours: the bench is made safe and the run recorded all the same
            self.course.note_error(IbexiteError(f"internal error: {error!r}", where=self.course.line_of(error)))

    # --- before the tests --------------------------------------------------------------------------------------------

    def _prepare(self) -> None:
        needed = beginning.instruments_of(self.program, self.bench.file)
        self._mark_trials(needed)
        who = f"run {self.identity.run} of {self.program.source.name} for {self.identity.serial}"
        who += f" by {self.identity.operator}" if self.identity.operator else ""
        clock, heed = self.runtime.clock, self.services.stop.check
        self.bench.connect(
            needed, who, heed=heed, now=clock.now, wait=lambda seconds: clock.wait(seconds, heed),
            stamp=clock.stamp,
        )  # fmt: skip
        instruments = [beginning.instrument(self.bench.file, name, it) for name, it in self.bench.connected().items()]
        named = beginning.signals_needed(self.program, self.bench.file)
        signals = [beginning.signal(self.bench.file, name) for name in named]
        self.emit(events.BenchConnected(self.runtime.now(), instruments, signals))
        for text in beginning.worn_relays(self.program, self.bench, self.services.closings):
            self.emit(events.Problem(self.runtime.now(), text))
        self._is_prepared = True
        if self.services.guardian is not None:  # from here on outputs may go on
            self.bench.rescued_by(self.services.guardian, self.runtime.began)
        if self.services.timing is not None:
            self.services.timing.listen(self.bench)
        self.bench.protect()
        self.bench.learn_state(self._settings())
        self.bench.open_routes(self.runtime.wait)
        self.bench.take_limiting()
        self.runtime.flush()

    def _mark_trials(self, needed: list[str]) -> None:
        """What is known of the trial before anything is connected."""
        mark, program = self.runtime.mark_trial, self.program
        own = self.orders.earlier.own if self.orders.earlier is not None else ()
        for reason in (*own, *self.orders.trial):
            mark(reason.code, reason.text)
        today = self.identity.started.date()
        for name in needed:
            calibration = self.bench.file.instruments[name].calibration
            if calibration is not None and calibration.due < today:
                mark("calibration", f"calibration of {name} was due on {calibration.due.isoformat()}")
        for name in beginning.signals_needed(program, self.bench.file):
            calibration = self.bench.file.signals[name].calibration
            if calibration is not None and calibration.due < today:
                mark("calibration", f"calibration of the signal {name} was due on {calibration.due.isoformat()}")
        for text in program.overrides:
            if text.partition(" = ")[0] not in self.orders.variant_params:
                mark("parameter", f"parameter set by hand: {text}")
        for path, why in program.objections.items():
            if why:
                mark("unapproved", f"{path}: {why}")
        if program.placeholders:
            names = ", ".join(dict.fromkeys(program.placeholders))
            mark("placeholder", f"limits that nobody has approved: {names}")

    def _settings(self) -> list[tuple[str, str]]:
        """All settings that any line may change, also those of measurements from outside."""
        settings = dict.fromkeys((point.role, point.assignment.setting) for point in self.program.set_points)
        for play in self.program.plays:
            settings |= dict.fromkeys(beginning.play_settings(play, self.bench.file))
        for recording in self.program.recordings:
            settings |= dict.fromkeys(record_settings(recording, self.bench.file))
        for use in self.program.measures.values():
            if use.measurement.kind != "sequence":
                for name in use.roles.values():
                    role = self.bench.file.roles.get(name)
                    if role is not None:
                        profile = self.bench.file.instruments[role.instrument].profile
                        settings |= dict.fromkeys((name, setting) for setting in profile.settings)
        return list(settings)

    def _before_unit(self) -> None:
        sequence = self.program.sequence
        for block, body in (("before lot", sequence.before_lot), ("before unit", sequence.before_unit)):
            if body and (block != "before lot" or self.orders.begins_lot):
                self._block_before_tests(block, body)
        self.runtime.flush()
        errors = self.bench.read_errors()
        if errors:
            raise BenchError("; ".join(errors), remedy="Look at the settings in before unit.")
        self.bench.take_limiting()
        found = self.bench.prove()
        if found:
            raise BenchError("; ".join(f.text for f in found), remedy="No test was run. Look at the instrument.")
        self._left = self.bench.standing()

    def _block_before_tests(self, block: str, body: Any) -> None:
        runtime = self.runtime
        runtime.entering(block)
        runtime.begin_judging()
        try:
            block_of(runtime, block, body)()
        except UnitOver as over:
            raise SequenceError(f"{block} stopped: {over.reason}", remedy="No test was run.") from None
        runtime.tell_conditions()
        if any(verdict != Verdict.PASS for verdict, _ in runtime.found):
            raise SequenceError(f"{block} did not pass: {runtime.failed_text}", remedy="No test was run.")

    # --- the tests ---------------------------------------------------------------------------------------------------

    def _tests(self) -> None:
        skipping = self._skipping
        for case in self.program.cases:
            self.services.stop.check()
            if self._is_taken_over(case):
                skipping.done(case, was_run=False)
                continue
            skip = skipping.reason(case)
            if skip is None:
                self._run_or_refuse(case)
            else:
                self._test_ended(case, Judgement(Verdict.SKIPPED, reason=skip))
            skipping.done(case, was_run=skip is None)
        if self._is_changed:
            self._restore()

    def _run_or_refuse(self, case: Case) -> None:
        """Runs a test, if it can be decided whether it is to be run."""
        condition = self._skipping.condition(case)
        if isinstance(condition, str):
            self._test_ended(case, Judgement(Verdict.ERROR, reason=Reason("condition", condition)))
            return
        self._skipping.has_run(case)
        if self.services.guardian is not None:
            self.services.guardian.look()
        if self._is_changed and not self._skipping.keeps(case) and not self._restore():
            why = Reason("bench", "the bench failed while it was set back")
            self._test_ended(case, Judgement(Verdict.SKIPPED, reason=why))
            self._skipping.close(why)
            return
        self._test(case)

    def _is_taken_over(self, case: Case) -> bool:
        """In a retest: a test that is not run again keeps the result of the earlier run."""
        earlier = self.orders.earlier
        if earlier is None or self.orders.selection.chooses(case) or case.name not in earlier.tests:
            return False
        test = earlier.tests[case.name]
        self.outcome.facts[case.name] = test.facts
        self.emit(
            events.TestEnded(
                self.runtime.now(), case.name, test.facts.verdict, test.facts.reason, test.duration,
                test.facts.has_failed, test.run,
            )
        )  # fmt: skip
        return True

    def _test(self, case: Case) -> None:
        test = OneTest(case, self.runtime, self.course)
        self._running, self._is_changed = case.name, True
        self.runtime.entering(case.name)
        self.emit(events.TestStarted(self.runtime.now(), case.name, case.title))
        test.carry_out()
        self.runtime.flush()
        self._test_ended(case, test.judgement(), test.duration)
        self._running = ""
        if test.stopping is not None:
            self._skipping.close(test.stopping)

    def _restore(self) -> bool:
        """Back to the state that `before unit` left, and asked whether it is; false if that fails."""
        self._is_changed = False
        try:
            changed = self.bench.restore(self._left, self.runtime.wait)
            if changed:
                found = [finding.text for finding in self.bench.prove()] + self.bench.read_errors()
                if found:
                    raise BenchError("; ".join(found))
                self.bench.take_limiting()
                self.runtime.tell_closings("")
                self.emit(events.Restored(self.runtime.now(), [f"{role}.{setting}" for role, setting in changed]))
            self.runtime.flush()
        except IbexiteError as error:
            if isinstance(error, RecordsError):
                raise
            self.course.note_error(BenchError(f"setting back failed: {error.what}", where=error.where), "restore")
            self.emit(events.Problem(self.runtime.now(), f"setting back failed: {error.what}"))
            return False
        return True

    def _test_ended(self, case: Case, facts: Judgement, duration: float = 0.0) -> None:
        self.outcome.facts[case.name] = facts
        self.emit(
            events.TestEnded(
                self.runtime.now(), case.name, facts.verdict, facts.reason, round(duration, 6), facts.has_failed
            )
        )

    # --- the end -----------------------------------------------------------------------------------------------------

    def _end(self) -> None:
        """The verdict. It is told when the journal has it on disk, and only then."""
        self._skip_the_rest()
        self._judge_unit()
        ended = self._ended()
        self._teller.in_two_steps(ended, lambda: self._as_recorded(ended))
        self.outcome.broken_views = self._teller.broken_views

    def _judge_unit(self) -> None:
        outcome, earlier = self.outcome, self.orders.earlier
        kept = earlier.reasons(self._taken_over(earlier)) if earlier is not None else []
        is_simulated = any(instrument.is_simulated for instrument in self.bench.connected().values())
        for reference in self.program.references.values() if not (is_simulated or self.orders.is_simulated) else ():
            if reference is not None and reference.origin.is_simulated:
                text = f"the reference {reference.name} was measured on a simulated bench"
                self.runtime.mark_trial("reference", text)
        outcome.trial[:] = verdicts.trial_of(
            outcome.trial, outcome.facts, is_simulated=is_simulated or self.orders.is_simulated, kept=kept
        )
        outcome.verdict = verdicts.verdict_of_unit(
            outcome.facts.values(), is_aborted=self.course.is_aborted, is_broken=self.course.is_broken,
            needs_no_check=self.orders.is_measurement,
        )  # fmt: skip
        has_told = outcome.reason.text or any(facts.verdict == Verdict.ERROR for facts in outcome.facts.values())
        if outcome.verdict == Verdict.ERROR and not has_told:
            outcome.reason = Reason("nothing", "nothing was judged")

    def _taken_over(self, earlier: Earlier) -> set[str]:
        """The runs from which tests were taken over."""
        names = {case.name for case in self.program.cases} & set(earlier.tests)
        return {earlier.tests[name].run for name in names if self.outcome.facts[name] is earlier.tests[name].facts}

    def _ended(self) -> events.RunEnded:
        outcome = self.outcome
        passed = sum(facts.verdict == Verdict.PASS for facts in outcome.facts.values())
        t, io = self.runtime.now(), self.runtime.take_traffic()
        return events.RunEnded(
            t, outcome.verdict, outcome.reason, list(outcome.trial), passed, len(self.program.cases), io
        )

    def _as_recorded(self, ended: events.RunEnded) -> events.RunEnded:
        """What the views are told: where the disk is full just now, what nobody can prove is no pass."""
        if not self._teller.has_journal and self.outcome.verdict == Verdict.PASS:
            self.outcome.verdict = Verdict.ERROR
        return ended._replace(verdict=self.outcome.verdict)

    def _skip_the_rest(self) -> None:
        for case in self.program.cases:
            if case.name in self.outcome.facts:
                continue
            why = Reason("broken_off", "the run was broken off")
            facts = Judgement(Verdict.SKIPPED, reason=why)
            if case.name == self._running:
                has_failed = any(verdict == Verdict.FAIL for verdict, _ in self.runtime.found)
                facts = Judgement(Verdict.ABORTED, has_failed, why)
            self._test_ended(case, facts)


def _why(stop: BaseException) -> str:
    return stop.reason if isinstance(stop, StopRun) else "interrupted"
