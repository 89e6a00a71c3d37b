"""Runs a vetted program on a bench for one unit. Whatever happens, `after unit` and the safe state are carried out."""

from __future__ import annotations

import datetime
import traceback
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from typing import Any

from ibexite import __version__, events
from ibexite.bench.bench import Bench, SafeDeed
from ibexite.bench.file import BenchFile
from ibexite.bench.guardian import Guardian
from ibexite.engine.runtime import Runtime
from ibexite.engine.services import Clock, Operator
from ibexite.errors import BenchError, IbexiteError, RecordsError, SequenceError, StopRun
from ibexite.language import constants, nodes
from ibexite.language.program import Program


@dataclass(slots=True)
class Identity:
    """Who and what is being tested, by whom, where, and under which run id."""

    run: str
    serial: str
    operator: str
    station: str
    started: datetime.datetime
    sequence_sha256: str = ""


@dataclass(slots=True)
class Outcome:
    """How a run ended. `trial` holds the reasons for which a pass does not count."""

    verdict: str = "pass"
    reason: str = ""
    trial: list[str] = field(default_factory=list)
    tests: dict[str, str] = field(default_factory=dict)
    is_safe: bool = True


class Run:
    """One run. `readers` get every event; the first is the journal: if it fails, the run ends.

    The guardian makes the bench safe if this process dies; without one (tests) nobody does.
    """

    def __init__(
        self,
        program: Program,
        bench_file: BenchFile,
        identity: Identity,
        clock: Clock,
        operator: Operator,
        readers: list[Callable[[events.Event], None]],
        guardian: Guardian | None = None,
    ) -> None:
        self.program, self.bench_file, self.identity = program, bench_file, identity
        self.bench = Bench(bench_file)
        self.readers = readers
        self._guardian = guardian
        self.outcome = Outcome()
        self.runtime = Runtime(program, self.bench, clock, operator, self.emit)
        self.runtime.serial = identity.serial
        self.runtime.trial = self.outcome.trial
        self.clock = clock
        self._running = ""  # the test that has begun and not ended
        self._is_prepared = False  # the bench is connected: from then on `after unit` has something to do
        self._is_cleaning = False

    def emit(self, event: events.Event) -> None:
        """Passes an event to all readers. A view that breaks is taken out; a journal that breaks ends the run."""
        for reader in tuple(self.readers):
            try:
                reader(event)
            except RecordsError as error:
                self.readers.remove(reader)
                self._note_error(error)
                if not self._is_cleaning:
                    raise
            except Exception as error:
                self.readers.remove(reader)
                self.outcome.reason = self.outcome.reason or f"a view broke: {error}"

    # --- the whole run -----------------------------------------------------------------------------------------------

    def carry_out(self, before_cleaning: Callable[[], None] = lambda: None) -> Outcome:
        """Runs everything. `before_cleaning` is called first when cleaning up (to hold off further signals)."""
        outcome = self.outcome
        try:
            self.emit(self._started())
            self._prepare()
            self._before_unit()
            self._tests()
        except StopRun as stop:
            outcome.verdict, outcome.reason = "aborted", stop.reason
        except KeyboardInterrupt:
            outcome.verdict, outcome.reason = "aborted", "interrupted"
        except IbexiteError as error:
            self._note_error(error)
        except Exception as error:  # a mistake of ours: the bench is made safe and the run recorded all the same
            self._note_error(IbexiteError(f"internal error: {error!r}", where=self._line_of(error)))
        finally:
            try:
                before_cleaning()
            except StopRun as stop:  # a signal in the very moment before signals are held off
                outcome.verdict, outcome.reason = "aborted", stop.reason
            self._clean_up()
        self._end()
        return outcome

    def _note_error(self, error: IbexiteError) -> None:
        """An error makes the verdict `error`, unless the unit has failed already."""
        outcome = self.outcome
        where = error.where or self._line_of(error)
        text = f"{where}: {error.what}" if where else error.what
        outcome.reason = f"{text} {error.remedy}".strip()
        if outcome.verdict == "pass":
            outcome.verdict = "error"

    def _line_of(self, error: BaseException) -> str:
        """The line of the sequence that an error passed through; compiled code carries its line numbers."""
        name = self.program.source.name
        lines = [f.lineno for f in traceback.extract_tb(error.__traceback__) if f.filename == name]
        return f"{name}:{lines[-1]}" if lines else ""

    def _prepare(self) -> None:
        needed = self._instruments()
        self.bench.connect(needed)
        today = self.identity.started.date()
        self.emit(events.BenchConnected(self.runtime.now(), [self._instrument(name) for name in needed]))
        for name in needed:
            calibration = self.bench_file.instruments[name].calibration
            if calibration is not None and calibration.due < today:
                self.outcome.trial.append(f"calibration of {name} was due on {calibration.due.isoformat()}")
        self.outcome.trial += [f"parameter set by hand: {text}" for text in self.program.overrides]
        self._is_prepared = True
        if self._guardian is not None:  # from here on outputs may go on
            self._guardian.watch(self.bench, self.runtime.began)
        self.bench.protect()
        self.bench.learn_state(dict.fromkeys((a.role, a.setting) for a in self._assignments()))
        self.bench.take_limiting()
        self._flush()

    def _assignments(self) -> list[nodes.Assignment]:
        return [point.assignment for point in self.program.set_points]

    def _instruments(self) -> list[str]:
        """The instruments behind all needs, in the order of the bench file."""
        file = self.bench_file
        roles = [need.name for need in self.program.sequence.needs if need.class_name]
        roles += [file.signals[need.name].role for need in self.program.sequence.needs if need.unit]
        used = {file.roles[role].instrument for role in roles}
        return [name for name in file.instruments if name in used]

    def _before_unit(self) -> None:
        body = self.program.sequence.before_unit
        if body:
            self.runtime.compile("before unit", body)()
            failed = [reason or "a check failed" for verdict, reason in self.runtime.verdicts if verdict != "pass"]
            if failed:
                raise SequenceError(f"before unit did not pass: {failed[0]}", remedy="No test was run.")
        self._flush()
        errors = self.bench.read_errors()
        if errors:
            raise BenchError("; ".join(errors), remedy="Look at the settings in before unit.")
        self.bench.take_limiting()
        self._left = dict(self.bench.state)

    def _tests(self) -> None:
        skipping = ""
        for test in self.program.sequence.tests:
            if skipping:
                self._test_ended(test, "skipped", skipping, 0.0)
                continue
            verdict, is_bench_lost = self._test(test)
            if is_bench_lost:
                skipping = f"the bench failed in {test.name}"
            elif test.is_gate and verdict != "pass":
                skipping = f"gate {test.name} did not pass"

    def _test(self, test: nodes.Test) -> tuple[str, bool]:
        """Runs one test; its verdict, and whether the bench can no longer be relied upon."""
        runtime = self.runtime
        runtime.verdicts, runtime.bad_reasons = [], {}
        began = self.clock.now()
        self._running = test.name
        self.emit(events.TestStarted(runtime.now(), test.name, test.title))
        problem, is_bench_lost = "", False
        try:
            runtime.compile(test.name, test.body)()
            runtime.keep_results()
            self._look_at_instruments(test)
        except RecordsError:
            raise
        except IbexiteError as error:
            where = error.where if error.where and ":" in error.where else self._line_of(error) or error.where
            problem = f"{where}: {error.what}" if where else error.what
            problem = f"{problem}. {error.remedy}" if error.remedy else problem
            is_bench_lost = isinstance(error, BenchError) and error.__class__.__name__ != "CeilingError"
        duration = self.clock.now() - began
        self._flush()
        if not is_bench_lost:
            is_bench_lost = self._restore()
        verdict, reason = self._verdict_of_test(problem)
        self._test_ended(test, verdict, reason, duration)
        return verdict, is_bench_lost

    def _look_at_instruments(self, test: nodes.Test) -> None:
        """Once a test: did a source limit (its set points were then not true), did an instrument report errors?"""
        limiting = self.bench.take_limiting()
        for role in limiting:
            self.emit(events.Limiting(self.runtime.now(), test.name, role))
            self.runtime.verdicts.append(("fail", f"{role} was at its limit: its set points were not true"))
        errors = self.bench.read_errors()
        if errors:
            raise IbexiteError("; ".join(errors), remedy="Look at the settings of this test.")

    def _restore(self) -> bool:
        """Back to the state that `before unit` left; true if that fails."""
        try:
            before = dict(self.bench.state)
            settling = self.bench.restore(self._left)
            changed = [
                f"{role}.{setting}"
                for (role, setting), value in self._left.items()
                if before.get((role, setting)) != value
            ]
            if changed:
                self.runtime.wait(settling)
                self.bench.take_limiting()
                self.emit(events.Restored(self.runtime.now(), changed))
            self._flush()
        except IbexiteError as error:
            if isinstance(error, RecordsError):
                raise
            self.emit(events.Problem(self.runtime.now(), f"setting back failed: {error.what}"))
            return True
        return False

    def _verdict_of_test(self, problem: str) -> tuple[str, str]:
        verdicts = self.runtime.verdicts
        failed = [reason for verdict, reason in verdicts if verdict == "fail"]
        undecided = [reason for verdict, reason in verdicts if verdict == "error"]
        if problem or undecided:
            if failed:
                self.outcome.verdict = "fail"
            return "error", problem or undecided[0]
        if failed:
            return "fail", next((reason for reason in failed if reason), "")
        return ("pass", "") if verdicts else ("no check", "")

    def _test_ended(self, test: nodes.Test, verdict: str, reason: str, duration: float) -> None:
        self.outcome.tests[test.name] = verdict
        if verdict == "fail" or (verdict == "error" and self.outcome.verdict == "pass"):
            self.outcome.verdict = verdict
        self.emit(events.TestEnded(self.runtime.now(), test.name, verdict, reason, round(duration, 6)))

    def _flush(self) -> None:
        """Traffic that no other event carries."""
        io = self.runtime.take_traffic()
        self.runtime.take_bad()
        if io:
            self.emit(events.Traffic(self.runtime.now(), io))

    # --- the end -----------------------------------------------------------------------------------------------------

    def _clean_up(self) -> None:
        """`after unit` line by line, then the safe state. Nothing here may raise."""
        self._is_cleaning = True
        if self._guardian is not None:
            self._guardian.stand_back()
        if self._is_prepared and self._can_talk():
            try:
                self.runtime.compile("after unit", self.program.sequence.after_unit, self._tell_of_cleaning)()
            except Exception as error:
                self._tell_of_cleaning(error)
        deeds = self.bench.make_safe()
        self._flush()
        self.emit(events.MadeSafe(self.runtime.now(), [{"role": d.role, "problem": d.problem} for d in deeds]))
        self.outcome.is_safe = not any(deed.problem for deed in deeds)
        if not self.outcome.is_safe:
            self._not_safe(deeds)
        if self._guardian is not None and not self._guardian.dismiss():
            self.emit(events.Problem(self.runtime.now(), "the guardian process had ended before the run did"))
        self.bench.close()

    def _tell_of_cleaning(self, error: Exception) -> None:
        what = error.what if isinstance(error, IbexiteError) else repr(error)
        self.emit(events.Problem(self.runtime.now(), f"after unit, {self._line_of(error)}: {what}"))

    def _can_talk(self) -> bool:
        try:
            for session in self.bench.sessions.values():
                session.settle_link()
        except IbexiteError as error:
            self.emit(events.Problem(self.runtime.now(), f"after unit was left out: {error.what}"))
            return False
        return True

    def _not_safe(self, deeds: Iterable[SafeDeed]) -> None:
        problems = "; ".join(f"{deed.role}: {deed.problem}" for deed in deeds if deed.problem)
        self.outcome.reason = f"NOT SAFE. {problems}. Switch it off by hand. {self.outcome.reason}".strip()
        if self.outcome.verdict == "pass":
            self.outcome.verdict = "error"

    def _end(self) -> None:
        outcome = self.outcome
        if self.bench.is_simulated:
            outcome.trial.insert(0, "simulated bench")
        tests = self.program.sequence.tests
        if outcome.verdict == "pass" and not any(verdict == "pass" for verdict in outcome.tests.values()):
            outcome.verdict, outcome.reason = "error", "nothing was judged"
        for test in tests:
            if test.name not in outcome.tests:
                verdict = "aborted" if test.name == self._running else "skipped"
                outcome.tests[test.name] = verdict
                self.emit(events.TestEnded(self.runtime.now(), test.name, verdict, "the run was broken off", 0.0))
        passed = sum(1 for verdict in outcome.tests.values() if verdict == "pass")
        self.emit(
            events.RunEnded(self.runtime.now(), outcome.verdict, outcome.reason, outcome.trial, passed, len(tests))
        )

    # --- what is told at the beginning -------------------------------------------------------------------------------

    def _started(self) -> events.RunStarted:
        identity, sequence, source = self.identity, self.program.sequence, self.program.source
        return events.RunStarted(
            identity.run,
            identity.started.isoformat(timespec="milliseconds"),
            identity.serial,
            identity.operator,
            identity.station,
            __version__,
            {
                "title": sequence.title,
                "product": sequence.product,
                "revision": sequence.revision,
                "file": source.name,
                "sha256": identity.sequence_sha256,
            },
            {"name": self.bench_file.name, "file": str(self.bench_file.path), "sha256": self.bench_file.sha256},
            [self._param(param) for param in sequence.params if param.name in self.program.params],
            [{"test": test.name, "title": test.title, "gate": test.is_gate} for test in sequence.tests],
        )

    def _param(self, param: nodes.Param) -> dict[str, Any]:
        kind, value = self.program.param_types[param.name], self.program.params[param.name]
        return {
            "name": param.name,
            "value": constants.written(value, kind.dimension, kind.shown),
            "help": param.help,
            "by_hand": any(text.startswith(f"{param.name} = ") for text in self.program.overrides),
        }

    def _instrument(self, name: str) -> dict[str, Any]:
        fact, session = self.bench_file.instruments[name], self.bench.sessions[name]
        calibration = fact.calibration
        return {
            "name": name,
            "identity": session.identity,
            "address": fact.address,
            "profile": fact.profile.name,
            "simulated": session.is_simulated,
            "roles": [r.name for r in self.bench_file.roles.values() if r.instrument == name],
            "due": calibration.due.isoformat() if calibration else "",
            "certificate": calibration.certificate if calibration else "",
        }
