"""Runs a vetted program on a bench for one unit. Whatever happens, `after unit` and the safe state are carried out."""

from __future__ import annotations

import datetime
import hashlib
import traceback
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ibexite import __version__, events
from ibexite.bench.bench import Bench, SafeDeed
from ibexite.bench.file import BenchFile
from ibexite.bench.guardian import Guardian
from ibexite.engine.merge import Earlier, merged_verdict
from ibexite.engine.runtime import Runtime, TestOver, UnitOver
from ibexite.engine.selection import Selection
from ibexite.engine.services import Clock, Operator
from ibexite.errors import BenchError, CeilingError, IbexiteError, RecordsError, SequenceError, StopRun
from ibexite.language import constants, nodes
from ibexite.language.constants import Value
from ibexite.language.program import Case, Program


@dataclass(slots=True)
class Identity:
    """Who and what is being tested, by whom, where, and under which run id."""

    run: str
    serial: str
    operator: str
    station: str
    started: datetime.datetime
    sequence_sha256: str = ""
    lot: str = ""
    retest_of: str = ""


@dataclass(slots=True)
class Outcome:
    """How a run ended. `trial` holds the reasons for which a pass does not count."""

    verdict: str = "pass"
    reason: str = ""
    trial: list[str] = field(default_factory=list)
    tests: dict[str, str] = field(default_factory=dict)
    is_safe: bool = True


@dataclass(slots=True)
class Orders:
    """How a run is to be carried out."""

    selection: Selection = field(default_factory=Selection)
    stops_on_fail: bool = False
    begins_lot: bool = True  # the first unit of a lot: `before lot` is carried out
    ends_lot: bool = True  # the last one
    variant_params: frozenset[str] = frozenset()  # parameters that may be set from outside without making a trial
    earlier: Earlier | None = None  # the run that this one completes
    is_measurement: bool = False  # one measurement at the desk: nothing need be judged


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
        orders: Orders | None = None,
    ) -> None:
        self.program, self.bench_file, self.identity = program, bench_file, identity
        self.orders = orders or Orders()
        self.bench = Bench(bench_file)
        self.readers = readers
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
        self._block = ""
        self._left: dict[tuple[str, str], float] = {}  # the state that `before unit` left

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
        names = {source.name for source in self.program.sources}
        places = [(f.filename, f.lineno) for f in traceback.extract_tb(error.__traceback__) if f.filename in names]
        return f"{places[-1][0]}:{places[-1][1]}" if places else ""

    def _prepare(self) -> None:
        needed = self._instruments()
        self.bench.connect(needed)
        today = self.identity.started.date()
        self.emit(events.BenchConnected(self.runtime.now(), [self._instrument(name) for name in needed]))
        for name in needed:
            calibration = self.bench_file.instruments[name].calibration
            if calibration is not None and calibration.due < today:
                self.outcome.trial.append(f"calibration of {name} was due on {calibration.due.isoformat()}")
        self.outcome.trial += [
            f"parameter set by hand: {text}"
            for text in self.program.overrides
            if text.partition(" = ")[0] not in self.orders.variant_params
        ]
        self.outcome.trial += self._left_out()
        self._is_prepared = True
        if self._guardian is not None:  # from here on outputs may go on
            self._guardian.watch(self.bench, self.runtime.began)
        if self.runtime.timing is not None:
            self.runtime.timing.listen(self.bench)
        self.bench.protect()
        self.bench.learn_state(self._settings())
        self.bench.take_limiting()
        self._flush()

    def _left_out(self) -> list[str]:
        """Why a pass would not be a whole one: tests that are switched off or were not chosen, limits nobody
        approved."""
        orders, reasons = self.orders, []
        if orders.earlier is not None:
            reasons += orders.earlier.reasons()
        elif not orders.selection.is_whole:
            reasons.append(orders.selection.told())
        off = [case.name for case in self.program.cases if case.is_off]
        if off:
            reasons.append(f"switched off: {', '.join(off)}")
        if self.program.placeholders:
            reasons.append(f"limits that nobody has approved: {', '.join(dict.fromkeys(self.program.placeholders))}")
        return reasons

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

    def _instruments(self) -> list[str]:
        """The instruments behind all needs, in the order of the bench file."""
        file = self.bench_file
        roles = [need.name for need in self.program.sequence.needs if need.class_name]
        roles += [file.signals[need.name].role for need in self.program.sequence.needs if need.unit]
        used = {file.roles[role].instrument for role in roles}
        return [name for name in file.instruments if name in used]

    def _before_unit(self) -> None:
        sequence = self.program.sequence
        for block, body in (("before lot", sequence.before_lot), ("before unit", sequence.before_unit)):
            if not body or (block == "before lot" and not self.orders.begins_lot):
                continue
            self._enter(block)
            try:
                self.runtime.compile(block, body)()
            except UnitOver as over:
                raise SequenceError(f"{block} stopped: {over.reason}", remedy="No test was run.") from None
            failed = [reason or "a check failed" for verdict, reason in self.runtime.verdicts if verdict != "pass"]
            if failed:
                raise SequenceError(f"{block} did not pass: {failed[0]}", remedy="No test was run.")
        self._flush()
        errors = self.bench.read_errors()
        if errors:
            raise BenchError("; ".join(errors), remedy="Look at the settings in before unit.")
        self.bench.take_limiting()
        self._left = dict(self.bench.state)

    def _enter(self, block: str) -> None:
        if self.runtime.debugger is not None:
            self.runtime.debugger.entering(block)

    def _tests(self) -> None:
        skipping = ""
        cases = self.program.cases
        ran: set[str] = set()
        for number, case in enumerate(cases):
            following = cases[number + 1] if number + 1 < len(cases) else None
            previous = cases[number - 1] if number else None
            if self._is_taken_over(case):
                continue
            reason = skipping or self._reason_to_skip(case)
            if not reason and case.test.keeps_state and previous is not None and previous.name not in ran:
                reason = f"it keeps the state of {previous.name}, which was not run"
            if reason:
                self._test_ended(case, "skipped", reason, 0.0)
                continue
            ran.add(case.name)
            verdict, skipping = self._test(case, keeps=following is not None and following.test.keeps_state)
            if not skipping and case.test.is_gate and verdict != "pass":
                skipping = f"gate {case.name} did not pass"
            if not skipping and self.orders.stops_on_fail and verdict in ("fail", "error"):
                skipping = f"stopped after {case.name} ({verdict})"

    def _is_taken_over(self, case: Case) -> bool:
        """In a retest: a test that is not run again keeps the result of the earlier run."""
        earlier = self.orders.earlier
        if earlier is None or self.orders.selection.chooses(case) or case.name not in earlier.tests:
            return False
        verdict, reason = earlier.tests[case.name]
        self.outcome.tests[case.name] = verdict
        told = f"from run {earlier.run}" + (f": {reason}" if reason else "")
        self.emit(events.TestEnded(self.runtime.now(), case.name, verdict, told, 0.0))
        return True

    def _reason_to_skip(self, case: Case) -> str:
        if case.is_off:
            return "switched off in the sequence"
        if not self.orders.selection.chooses(case):
            return "not selected"
        suffix = case.name[len(case.test.name) :]
        for name, _ in case.test.needs_pass:
            verdict = self.outcome.tests.get(name + suffix, self.outcome.tests.get(name, "not run"))
            if verdict != "pass":
                return f"it needs {name} to pass ({verdict})"
        for condition in (case.group.condition if case.group else None, case.test.condition):
            if condition is not None and not self._holds(case, condition):
                return "its condition is not met"
        return ""

    def _corner(self, case: Case) -> tuple[str, Value] | None:
        return (case.group.corner, case.corner) if case.group is not None and case.corner is not None else None

    def _holds(self, case: Case, condition: nodes.Expr) -> bool:
        """Whether the condition of a test holds; where that cannot be said the test is run, and will say why."""
        try:
            return self.runtime.condition(case.test.name, condition, self._corner(case), case.corner_text)
        except SequenceError as error:
            self.emit(events.Problem(self.runtime.now(), f"condition of {case.name}: {error.what}"))
            return False

    def _test(self, case: Case, *, keeps: bool) -> tuple[str, str]:
        """Runs one test; its verdict, and why the tests behind it cannot be run ("" if they can)."""
        runtime = self.runtime
        runtime.verdicts, runtime.bad_reasons = [], {}
        began = self.clock.now()
        self._running = case.name
        self._enter(case.name)
        self.emit(events.TestStarted(runtime.now(), case.name, case.title))
        problem, stopping, skipped = "", "", ""
        try:
            try:
                block = runtime.compile(
                    case.test.name, case.test.body, corner=self._corner(case), corner_text=case.corner_text
                )
                block()
                runtime.keep_results()
            except TestOver as over:
                if over.verdict == "fail":
                    runtime.verdicts.append(("fail", over.reason))
                skipped = over.reason if over.verdict == "skipped" else ""
            except UnitOver as over:
                stopping = f"stopped: {over.reason}"
                self.outcome.trial.append(stopping)
            self._look_at_instruments(case)
        except RecordsError:
            raise
        except IbexiteError as error:
            where = error.where if error.where and ":" in error.where else self._line_of(error) or error.where
            problem = f"{where}: {error.what}" if where else error.what
            problem = f"{problem}. {error.remedy}" if error.remedy else problem
            if isinstance(error, BenchError) and not isinstance(error, CeilingError):
                stopping = f"the bench failed in {case.name}"
        runtime.watches.clear()
        duration = self.clock.now() - began
        self._flush()
        is_lost = stopping.startswith("the bench failed")
        if not is_lost and not keeps and self._restore():
            stopping = f"the bench failed in {case.name}"
        verdict, reason = self._verdict_of_test(problem, skipped)
        self._test_ended(case, verdict, reason, duration)
        return verdict, stopping

    def _look_at_instruments(self, case: Case) -> None:
        """Once a test: did a source limit (its set points were then not true), did an instrument report errors?"""
        limiting = self.bench.take_limiting()
        for role in limiting:
            self.emit(events.Limiting(self.runtime.now(), case.name, role))
            if not self.runtime.expects_limiting:
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

    def _verdict_of_test(self, problem: str, skipped: str) -> tuple[str, str]:
        verdicts = self.runtime.verdicts
        failed = [reason for verdict, reason in verdicts if verdict == "fail"]
        undecided = [reason for verdict, reason in verdicts if verdict == "error"]
        if problem or undecided:
            if failed:
                self.outcome.verdict = "fail"
            return "error", problem or undecided[0]
        if failed:
            return "fail", next((reason for reason in failed if reason), "")
        if skipped:
            return "skipped", skipped
        told = next((reason for _, reason in verdicts if reason), "")
        return ("pass", told) if verdicts else ("no check", "")

    def _test_ended(self, case: Case, verdict: str, reason: str, duration: float) -> None:
        self.outcome.tests[case.name] = verdict
        if verdict == "fail" or (verdict == "error" and self.outcome.verdict == "pass"):
            self.outcome.verdict = verdict
        self.emit(events.TestEnded(self.runtime.now(), case.name, verdict, reason, round(duration, 6)))

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
        deeds = self.bench.make_safe()
        self._flush()
        self.emit(events.MadeSafe(self.runtime.now(), [{"role": d.role, "problem": d.problem} for d in deeds]))
        self.outcome.is_safe = not any(deed.problem for deed in deeds)
        if not self.outcome.is_safe:
            self._not_safe(deeds)
        if self._guardian is not None and not self._guardian.dismiss():
            self.emit(events.Problem(self.runtime.now(), "the guardian process had ended before the run did"))
        self.bench.close()
        if self.runtime.outside is not None:
            self.runtime.outside.close()

    def _tell_of_cleaning(self, error: Exception) -> None:
        what = error.what if isinstance(error, IbexiteError) else repr(error)
        self.emit(events.Problem(self.runtime.now(), f"{self._block}, {self._line_of(error)}: {what}"))

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
        cases = self.program.cases
        if self.orders.earlier is not None and outcome.verdict in ("pass", "fail"):
            outcome.verdict = merged_verdict(list(outcome.tests.values()))
            outcome.reason = outcome.reason or f"first pass: {self.orders.earlier.verdict}"
        if outcome.verdict == "pass" and not any(verdict == "pass" for verdict in outcome.tests.values()):
            if self.orders.is_measurement and "no check" in outcome.tests.values():
                outcome.verdict = "no check"
            else:
                outcome.verdict, outcome.reason = "error", "nothing was judged"
        for case in cases:
            if case.name not in outcome.tests:
                verdict = "aborted" if case.name == self._running else "skipped"
                outcome.tests[case.name] = verdict
                self.emit(events.TestEnded(self.runtime.now(), case.name, verdict, "the run was broken off", 0.0))
        passed = sum(1 for verdict in outcome.tests.values() if verdict == "pass")
        self.emit(
            events.RunEnded(self.runtime.now(), outcome.verdict, outcome.reason, outcome.trial, passed, len(cases))
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
            [
                {"test": c.name, "title": c.title, "gate": c.test.is_gate, "tags": list(c.tags)}
                for c in self.program.cases
            ],
            identity.lot,
            self._files(),
            identity.retest_of,
        )

    def _files(self) -> list[dict[str, str]]:
        """The other files that take part: shared files, limit tables, Python files, programs of measurements."""
        found = {source.name: (_sha256(source.text.encode()), "") for source in self.program.shared}
        found |= {path: (digest, "") for path, digest in self.program.python_files}
        for use in self.program.measures.values():
            facts = use.measurement
            if facts.kind != "sequence":
                found[facts.origin] = (facts.sha256, facts.version)
        return [{"name": n, "sha256": digest, "version": version} for n, (digest, version) in sorted(found.items())]

    def _param(self, param: nodes.Param) -> dict[str, Any]:
        kind, value = self.program.param_types[param.name], self.program.params[param.name]
        return {
            "name": param.name,
            "value": constants.written(value, kind.dimension, kind.shown),
            "help": param.help,
            "by_hand": param.name not in self.orders.variant_params
            and any(text.startswith(f"{param.name} = ") for text in self.program.overrides),
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


def _sha256(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()
