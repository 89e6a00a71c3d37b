"""`ibexite retest`."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.helper import ReportHelper
from ibexite.cli.options import bench_option, open_program, records_folder, records_option
from ibexite.cli.project import find_project
from ibexite.cli.running import RunOptions, exit_code, run_unit, tell_report
from ibexite.errors import MistakeError

if TYPE_CHECKING:
    from ibexite.records.lookup import RunRecord

_NOT_PASSED = ("fail", "error", "aborted")


@click.command("retest")
@click.argument("run")
@click.option("--failed", is_flag=True, help="The tests that failed, broke or were skipped for them.")
@click.option("--only", multiple=True, metavar="TEST", help="This test (again for more).")
@bench_option
@click.option("--simulate", is_flag=True, help="Run on simulated stand-ins.")
@click.option("--yes", is_flag=True, help="Take every confirmation as given.")
@click.option("--operator", default=None, help="Who runs it; default: the login name.")
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
    are not run again from it. It is a trial where sequence, parameters, limits or bench have changed in between.

    \b
    ibexite retest FC00411 --failed
    ibexite retest last --only efficiency
    """
    from ibexite.records.lookup import Lookup

    folder = records_folder(records)
    lookup = Lookup(folder)
    earlier = lookup.run(lookup.find(run))
    lookup.close()
    chosen = _chosen(earlier, failed, only)
    sequence = Path(earlier.row["sequence_file"])
    if not sequence.is_file():  # the run was started from another folder
        sequence = find_project(Path.cwd()).folder / sequence.name
    if not sequence.is_file():
        raise MistakeError(
            f"its sequence {sequence} is not there",
            where=earlier.row["id"],
            remedy="Run it from the folder of that run.",
        )
    values = {p["name"]: p["value"] for p in earlier.row["params"] if p["by_hand"]}
    with contextlib.ExitStack() as stack:
        helper = stack.enter_context(contextlib.closing(ReportHelper())) if report else None
        program, file, project = open_program(sequence, bench, values)
        options = RunOptions.from_choices(
            choices, sequence=sequence, serial=earlier.row["serial"], lot=earlier.row["lot"], records=folder,
            variants=project.variants, only=chosen, retest_of=earlier.row["id"],
        )  # fmt: skip
        outcome = run_unit(program, file, options, helper, merge_with=earlier)
        if helper is not None and helper.is_busy:
            tell_report(helper.finish())
    raise click.exceptions.Exit(exit_code(outcome, accept_trial))


def _chosen(earlier: RunRecord, failed: bool, only: tuple[str, ...]) -> tuple[str, ...]:
    names = [test.row["name"] for test in earlier.tests]
    for name in only:
        if name not in names:
            from ibexite.errors import did_you_mean

            raise MistakeError(
                f"run {earlier.row['id']} has no test {name!r}", where="--only", remedy=did_you_mean(name, names)
            )
    if only:
        return only
    if not failed:
        return tuple(names)
    chosen = tuple(t.row["name"] for t in earlier.tests if t.row["verdict"] in _NOT_PASSED or _was_held_up(t.row))
    if not chosen:
        raise MistakeError(
            f"nothing failed in run {earlier.row['id']}", where="--failed", remedy="Name tests with --only."
        )
    return chosen


def _was_held_up(row: dict[str, Any]) -> bool:
    """True for a test that was skipped because another one did not pass."""
    causes = ("did not pass", "to pass", "the bench failed", "broken off")
    return row["verdict"] == "skipped" and any(cause in row["reason"] for cause in causes)
