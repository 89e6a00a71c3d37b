"""`ibexite retest`."""

from __future__ import annotations

import contextlib
from dataclasses import replace
from pathlib import Path
from typing import Any

import click

from ibexite.cli.options import bench_option, open_program, open_records, records_option, traffic_option
from ibexite.cli.running import RunOptions, exit_code, run_unit, tell_report
from ibexite.cli.signals import Signals
from ibexite.station.merging import earlier_of
from ibexite.station.project import REPLACED
from ibexite.station.records_folder import records_folder
from ibexite.station.report_helper import ReportHelper
from ibexite.station.retest import bench_of, chosen_tests, parameters_for, policy_of, sequence_of


@click.command("retest")
@click.argument("run")
@click.option("--failed", is_flag=True, help="The tests that failed, broke or were skipped for them.")
@click.option("--only", multiple=True, metavar="TEST", help="This test (again for more).")
@bench_option
@click.option("--simulate", is_flag=True, help="Run on simulated stand-ins.")
@click.option("--yes", is_flag=True, help="Take every confirmation as given.")
@click.option("--operator", default=None, help="Who runs it; default: the login name.")
@traffic_option
@records_option
@click.option("--report/--no-report", default=True, help="Write the report.  [default: report]")
@click.option("--accept-trial", is_flag=True, help="Exit code 0 instead of 5 for a unit that passed as a trial.")
def command(
    run: str,
    failed: bool,
    only: tuple[str, ...],
    bench: Path | None,
    records: Path | None,
    report: bool,
    accept_trial: bool,
    **choices: Any,
) -> None:
    """Runs tests of a stored run again and merges them into the unit's result.

    The earlier run is kept as it is, with its verdict as the first-pass verdict. The merged run takes the tests that
    are not run again from it. It is a trial where sequence, parameters, limits or bench have changed in between, and
    where [retest] of the project file does not allow it; that may refuse it as well. Every attempt is shown.

    \b
    ibexite retest FC00411 --failed
    ibexite retest last --only efficiency
    """
    with contextlib.ExitStack() as stack:
        lookup = stack.enter_context(contextlib.closing(open_records(records)))
        earlier = lookup.run(lookup.find(run))
        sequence = sequence_of(earlier)
        helper = stack.enter_context(contextlib.closing(ReportHelper())) if report else None
        ready = open_program(sequence, bench or bench_of(earlier, sequence), parameters_for(earlier, sequence))
        options = RunOptions.from_choices(
            choices, serial=earlier.row["serial"], lot=earlier.row["lot"], records=records_folder(records),
            only=chosen_tests(earlier, ready.program, only, failed=failed),
        )  # fmt: skip
        signals = Signals()
        policy, attempts = ready.project.retest, lookup.attempts(earlier.row["id"], with_later=True)
        own = tuple(policy_of(policy, attempts, options.only, options.operator))
        completes = replace(
            earlier_of(earlier, lookup, ready.program, ready.bench), own=own,
            is_first_pass=policy.first_pass == REPLACED and not own,
        )  # fmt: skip
        outcome = run_unit(ready, options, signals, helper=helper, earlier=completes)
        signals.end_with(exit_code(outcome, accept_trial))
        if helper is not None and helper.is_busy:
            tell_report(helper.finish())
    raise click.exceptions.Exit(exit_code(outcome, accept_trial))
