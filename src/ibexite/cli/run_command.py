"""`ibexite run`."""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import platform
import re
import sys
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.helper import ReportHelper
from ibexite.cli.options import (
    bench_option,
    open_program,
    records_folder,
    records_option,
    sequence_argument,
    with_option,
)
from ibexite.cli.project import shown_path
from ibexite.errors import EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_PASS, EXIT_TRIAL, MistakeError, RecordsError

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.engine.run import Identity, Outcome
    from ibexite.engine.services import Operator
    from ibexite.language.program import Program


@dataclass(frozen=True, slots=True)
class RunOptions:
    """What a run was asked to do, apart from the sequence and its bench."""

    serial: str
    records: Path
    operator: str
    simulate: bool = False
    yes: bool = False


@click.command("run")
@sequence_argument
@bench_option
@click.option("--serial", required=True, help="Serial number of the unit.")
@click.option("--simulate", is_flag=True, help="Run on the simulated stand-ins that the bench file names.")
@with_option
@click.option("--yes", is_flag=True, help="Take every confirmation as given. Makes the run a trial.")
@click.option("--operator", default=None, help="Who runs it; default: the login name.")
@records_option
@click.option("--report/--no-report", default=True, help="Write the report when the run has ended.  [default: report]")
@click.option("--accept-trial", is_flag=True, help="Exit code 0 instead of 5 for a unit that passed as a trial.")
def command(
    sequence: Path,
    bench: Path | None,
    serial: str,
    simulate: bool,
    given: tuple[str, ...],
    yes: bool,
    operator: str | None,
    records: Path | None,
    report: bool,
    accept_trial: bool,
) -> None:
    """Runs a sequence for one unit. Outputs are off when it ends, whatever happened.

    \b
    ibexite run fm2_final.ibx --bench bench.toml --serial FC00400
    ibexite run fm2_final.ibx --serial FC00400 --simulate --yes
    """
    from ibexite.cli.terminal_operator import login_name

    with contextlib.ExitStack() as stack:
        # Started first of all: it loads the drawing library while the sequence is vetted and run.
        helper = stack.enter_context(contextlib.closing(ReportHelper())) if report else None
        program, file, project = open_program(sequence, bench, given)
        operator = login_name() if operator is None else operator
        options = RunOptions(serial, records_folder(records, project), operator, simulate, yes)
        outcome = run_unit(program, file, options, helper)
        if helper is not None and helper.is_busy:
            tell_report(helper.finish())
    raise click.exceptions.Exit(exit_code(outcome, accept_trial))


def exit_code(outcome: Outcome, accept_trial: bool) -> int:
    """0 pass, 1 fail, 3 error, 4 aborted, 5 passed as a trial."""
    if outcome.verdict == "pass":
        return EXIT_TRIAL if outcome.trial and not accept_trial else EXIT_PASS
    return {"fail": EXIT_FAIL, "error": EXIT_BENCH}.get(outcome.verdict, EXIT_ABORTED)


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


def run_unit(program: Program, file: BenchFile, options: RunOptions, helper: ReportHelper | None = None) -> Outcome:
    """Runs a vetted program for one unit: bench, journal, view, store. With a helper its report is begun."""
    from ibexite.bench.guardian import Guardian
    from ibexite.cli.signals import hold_off_signals, stopping_signals
    from ibexite.cli.view import RunView
    from ibexite.engine.run import Run
    from ibexite.engine.services import RealClock
    from ibexite.records.journal import SUFFIX, Journal

    check_serial(program, options.serial)
    identity = _identity(program, options)
    with contextlib.ExitStack() as stack:
        # The simulated bench is taken down last, when it has been made safe and the run is recorded.
        bench_file = stack.enter_context(_simulated(file, options.serial)) if options.simulate else file
        journal = Journal(options.records / "journals" / (identity.run + SUFFIX))
        stack.callback(journal.close)
        operator, guardian = _operator(options), Guardian(journal.handle)
        run = Run(program, bench_file, identity, RealClock(), operator, [journal, RunView()], guardian)
        with stopping_signals():
            outcome = run.carry_out(hold_off_signals)
        is_stored = _store(options.records, journal.path)
        if is_stored and helper is not None:
            name = f"{re.sub(r'[^A-Za-z0-9._-]', '_', options.serial)}_{identity.run}.html"
            helper.begin(options.records, identity.run, options.records / "reports" / name)
    return outcome


def _simulated(file: BenchFile, serial: str) -> contextlib.AbstractContextManager[BenchFile]:
    from ibexite.cli.simulated_bench import SimulatedBench

    return SimulatedBench(file, serial)


def _identity(program: Program, options: RunOptions) -> Identity:
    from ibexite.engine.run import Identity
    from ibexite.records.run_id import new_run_id

    now = datetime.datetime.now().astimezone()
    digest = hashlib.sha256(program.source.text.encode()).hexdigest()
    return Identity(new_run_id(now), options.serial, options.operator, platform.node(), now, digest)


def _store(records: Path, journal: Path) -> bool:
    """Puts the run into the store; if that fails, says so: the journal is kept and the next command tries again."""
    from ibexite.records.store import Store

    try:
        store = Store(records)
        store.take_in(journal)
        for run in store.take_in_left_over():
            click.echo(f"  found a run that was not stored yet: {run}")
        store.close()
    except RecordsError as error:
        click.echo(str(error), err=True)
        return False
    return True


def _operator(options: RunOptions) -> Operator:
    from ibexite.cli.terminal_operator import TerminalOperator
    from ibexite.engine.services import Consenting, NoOperator

    if options.yes:
        return Consenting()
    return TerminalOperator(options.operator) if sys.stdin.isatty() else NoOperator()


def tell_report(answer: dict[str, Any]) -> None:
    """Tells where the report is, or why there is none."""
    if "error" in answer:
        click.echo(str(answer["error"]), err=True)
    else:
        click.echo(f"  report: {shown_path(Path(str(answer['report'])))}")
