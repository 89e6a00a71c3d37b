"""Runs a vetted program for one unit: bench, clock, operator, guardian, journal, view, store."""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import platform
import re
import sys
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any, TextIO

import click

from ibexite import verdicts
from ibexite.cli.helper import ReportHelper
from ibexite.cli.project import shown_path
from ibexite.errors import EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_PASS, EXIT_TRIAL, MistakeError, RecordsError

WAITING_TOLD_AFTER = 2.0  # s

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.cli.run_inputs import Prepared
    from ibexite.cli.signals import Signals
    from ibexite.cli.simulated_bench import SimulatedBench
    from ibexite.engine.orders import Earlier, Identity, Orders, Outcome
    from ibexite.engine.services import Clock, Operator
    from ibexite.language.program import Program
    from ibexite.records.store import Store


@dataclass(frozen=True, slots=True)
class RunOptions:
    """What a run was asked to do, apart from the sequence and its bench."""

    serial: str
    records: Path
    operator: str
    simulate: bool = False
    yes: bool = False
    real_time: bool = False
    readings: Path | None = None
    lot: str = ""
    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    selection: Path | None = None
    stop_on_fail: bool = False
    step: bool = False
    stops: tuple[str, ...] = ()
    timing: bool = False
    begins_lot: bool = True
    ends_lot: bool = True
    variants: frozenset[str] = frozenset()
    retest_of: str = ""
    is_measurement: bool = False

    @classmethod
    def from_choices(cls, choices: Mapping[str, Any], *, sequence: Path, **more: Any) -> RunOptions:
        """Options from those of a command line."""
        from ibexite.cli.terminal_operator import login_name

        given = {key: value for key, value in choices.items() if key in cls.__dataclass_fields__}
        operator = login_name() if given.get("operator") is None else given["operator"]
        return cls(**{**given, "operator": operator, **more})

    def orders(self, program: Program) -> Orders:
        """How the run is to be carried out. Raises MistakeError: a test or tag that is not there."""
        from ibexite.engine.orders import Orders
        from ibexite.engine.selection import Selection

        listed: dict[str, bool] = {}
        if self.selection is not None:
            from ibexite.cli.run_inputs import read_selection

            listed = read_selection(self.selection)
        selection = Selection(self.only, self.skip, self.tags, listed)
        selection.check(program)
        return Orders(
            selection,
            self.stop_on_fail,
            self.begins_lot,
            self.ends_lot,
            self.variants,
            is_measurement=self.is_measurement,
            is_simulated=self.simulate,
        )


def exit_code(outcome: Outcome, accept_trial: bool) -> int:
    """The exit code of a run; see ibexite.verdicts."""
    return verdicts.exit_code(outcome.verdict, bool(outcome.trial), accept_trial=accept_trial)


def worst_code(codes: list[int]) -> int:
    """The exit code of several runs: that of the worst one."""
    order = (EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_TRIAL, EXIT_PASS)
    return min(codes, key=order.index)


def check_serial(program: Program, serial: str) -> None:
    """Refuses a serial number that the sequence is not for.

    Raises:
        MistakeError: with the pattern that it must match.
    """
    pattern = program.sequence.serial
    if pattern and not re.fullmatch(pattern, serial):
        raise MistakeError(
            f"{serial!r} is not a serial number of {program.sequence.product}",
            where="--serial",
            remedy=f"It must match {pattern} (see the head of {program.source.name}).",
        )
    if not serial.strip() or re.search(r"[\x00-\x1f/\\]", serial):
        raise MistakeError(
            f"{serial!r} cannot be a serial number",
            where="--serial",
            remedy="It must not be empty, nor contain control characters or slashes.",
        )


def run_unit(
    program: Program,
    file: BenchFile,
    options: RunOptions,
    helper: ReportHelper | None = None,
    completes: Earlier | None = None,
    signals: Signals | None = None,
    shown_on: TextIO | None = None,
) -> Outcome:
    """Runs a vetted program for one unit: bench, journal, view, store. With a helper its report is begun; `completes`
    is what it takes over from the stored run that it completes. Given `signals`, a signal stops the run, and is held
    off from then on until the caller says what it does; without them nothing is done about signals. What is told goes
    to `shown_on`, or else to standard output.

    Nothing is switched on before store and journal have been opened.
    """
    from ibexite.bench.guardian import Guardian
    from ibexite.cli.view import RunView
    from ibexite.engine.run import Run
    from ibexite.records.journal import SUFFIX, Journal, next_number
    from ibexite.records.store import Store

    check_serial(program, options.serial)
    orders = options.orders(program)
    orders.earlier = completes
    prepared = _prepared(options, file)
    if signals is not None:
        signals.stop_the_run()
    with contextlib.ExitStack() as stack:
        store = Store(options.records)
        stack.callback(store.close)
        number = next_number(options.records / "journals", store.last_number())
        identity = _identity(program, options, number)
        # The simulated bench is taken down last, when it has been made safe and the run is recorded.
        bench = _simulated(file, options.serial, prepared) if options.simulate else None
        bench_file = stack.enter_context(bench) if bench is not None else file
        journal = Journal(options.records / "journals" / (identity.run + SUFFIX))
        stack.callback(journal.close)
        operator, guardian = _operator(options, prepared), Guardian(journal.handle)
        clock = _clock(bench, options)
        run = Run(program, bench_file, identity, clock, operator, journal, [RunView(shown_on)], guardian, orders)
        run.runtime.records = options.records
        _prepare_tools(run.runtime, program, options)
        outcome = run.carry_out(signals.hold_off if signals is not None else lambda: None)
        outcome.run = identity.run
        is_stored = _store(store, journal.path, outcome, shown_on)
        if run.runtime.timing is not None:
            from ibexite.cli.timing_view import show_timing

            show_timing(run.runtime.timing, program)
        if is_stored and helper is not None:
            helper.begin(options.records, identity.run, options.records / "reports" / report_name(outcome, options))
    return outcome


def report_name(outcome: Outcome, options: RunOptions) -> str:
    """The file name of a report; a serial number may be longer than file names can be."""
    return f"{re.sub(r'[^A-Za-z0-9._-]', '_', options.serial)[:80]}_{outcome.run}.html"


def _prepare_tools(runtime: Any, program: Program, options: RunOptions) -> None:
    """Stepping and timing, where they were asked for."""
    if options.timing:
        from ibexite.engine.timing import Timing

        runtime.timing = Timing()
    if options.step or options.stops:
        from ibexite.cli.halt_prompt import HaltPrompt
        from ibexite.engine.debugger import Debugger

        check_stops(program, options.stops)
        runtime.debugger = Debugger(program, HaltPrompt(program), stepping=options.step, stops=set(options.stops))


def check_stops(program: Program, stops: tuple[str, ...]) -> None:
    """Refuses a halt at what is neither a test nor a line with something on it. Raises MistakeError."""
    from ibexite.errors import did_you_mean

    names = [case.test.name for case in program.cases]
    for stop in stops:
        lines = program.source.text.count("\n") + 1
        if stop.isdigit() and 0 < int(stop) <= lines and program.source.line_text(int(stop)).split("#")[0].strip():
            continue
        if stop not in names:
            what = f"line {stop} has nothing to halt at" if stop.isdigit() else f"there is no test {stop!r}"
            raise MistakeError(what, where="--break", remedy="" if stop.isdigit() else did_you_mean(stop, names))


def _prepared(options: RunOptions, file: BenchFile) -> Prepared:
    from ibexite.cli.run_inputs import Prepared, read_prepared

    if options.readings is None:
        return Prepared()
    if not options.simulate:
        raise MistakeError("prepared readings are for rehearsals", where="--readings", remedy="Add --simulate.")
    return read_prepared(options.readings, file)


def _simulated(file: BenchFile, serial: str, prepared: Prepared) -> SimulatedBench:
    from ibexite.cli.simulated_bench import SimulatedBench

    return SimulatedBench(file, serial, prepared.readings)


def _clock(bench: SimulatedBench | None, options: RunOptions) -> Clock:
    from ibexite.engine.services import AheadClock, RealClock

    return AheadClock(bench.advance) if bench is not None and not options.real_time else RealClock()


def _identity(program: Program, options: RunOptions, number: int) -> Identity:
    from ibexite.engine.orders import Identity
    from ibexite.records.run_id import new_run_id

    now = datetime.datetime.now().astimezone()
    return Identity(
        new_run_id(now), options.serial, options.operator, platform.node(), now, sequence_hash(program), options.lot,
        options.retest_of, number,
    )  # fmt: skip


def sequence_hash(program: Program) -> str:
    """The hash of a sequence as it runs."""
    return hashlib.sha256(program.source.text.encode()).hexdigest()


def _store(store: Store, journal: Path, outcome: Outcome, shown_on: TextIO | None) -> bool:
    """Puts the run into the store; if that fails, says so: the journal is kept and the next command tries again. A run
    whose journal is gone as well has not been recorded, and that is no pass."""
    told = f"  {store.path} is in use by another program; waiting for it"
    waiting = threading.Timer(WAITING_TOLD_AFTER, click.echo, [told], {"err": True})
    waiting.start()
    try:
        store.take_in(journal)
    except RecordsError as error:
        click.echo(str(error), err=True)
        if not journal.is_file():
            outcome.verdict = "error" if outcome.verdict == "pass" else outcome.verdict
        return False
    finally:
        waiting.cancel()
    try:
        stored, damaged = store.take_in_left_over()
    except RecordsError as error:
        click.echo(str(error), err=True)
        return True
    for run in stored:
        click.echo(f"  found a run that was not stored yet: {run}", file=shown_on)
    for text in damaged:
        click.echo(f"  a damaged journal was set aside: {text}", err=True)
    return True


def _operator(options: RunOptions, prepared: Prepared) -> Operator:
    from ibexite.cli.terminal_operator import TerminalOperator
    from ibexite.engine.services import Consenting, NoOperator

    if options.yes:
        return Consenting(prepared.answers)
    return TerminalOperator(options.operator) if sys.stdin.isatty() else NoOperator()


def tell_report(answer: dict[str, Any]) -> None:
    """Tells where the report is, or why there is none."""
    if "error" in answer:
        click.echo(str(answer["error"]), err=True)
    else:
        click.echo(f"  report: {shown_path(Path(str(answer['report'])))}")
