"""`ibexite retest`."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.helper import ReportHelper
from ibexite.cli.options import bench_option, open_program, open_records, records_folder, records_option
from ibexite.cli.project import find_project
from ibexite.cli.running import RunOptions, exit_code, run_unit, tell_report
from ibexite.cli.signals import Signals
from ibexite.errors import MistakeError
from ibexite.plain_file import is_file

if TYPE_CHECKING:
    from ibexite.language.program import Program
    from ibexite.records.lookup import RunRecord


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
    from ibexite.cli.merging import earlier_of, given_parameters
    from ibexite.cli.running import sequence_hash

    folder = records_folder(records)
    with contextlib.ExitStack() as stack:
        lookup = stack.enter_context(contextlib.closing(open_records(records)))
        earlier = lookup.run(lookup.find(run))
        sequence = _sequence_of(earlier)
        helper = stack.enter_context(contextlib.closing(ReportHelper())) if report else None
        program, file, project = open_program(sequence, bench, _still_there(given_parameters(earlier), sequence))
        chosen = _chosen(earlier, program, failed, only)
        options = RunOptions.from_choices(
            choices, sequence=sequence, serial=earlier.row["serial"], lot=earlier.row["lot"], records=folder,
            variants=project.variants, only=chosen, retest_of=earlier.row["id"],
        )  # fmt: skip
        signals = Signals()
        completes = earlier_of(earlier, lookup, program, file, sequence_hash(program))
        outcome = run_unit(program, file, options, helper, completes=completes, signals=signals)
        signals.end_with(exit_code(outcome, accept_trial))
        if helper is not None and helper.is_busy:
            tell_report(helper.finish())
    raise click.exceptions.Exit(exit_code(outcome, accept_trial))


def _sequence_of(earlier: RunRecord) -> Path:
    sequence = Path(earlier.row["sequence_file"])
    if not is_file(sequence):  # the run was started from another folder
        sequence = find_project(Path.cwd()).folder / sequence.name
    if not is_file(sequence):
        raise MistakeError(
            f"its sequence {sequence} is not there",
            where=earlier.row["id"],
            remedy="Run it from the folder of that run.",
        )
    return sequence


def _still_there(values: dict[str, str], sequence: Path) -> dict[str, str]:
    """The parameters that the sequence still has; that it has changed is told as it is."""
    from ibexite.language.build import build_sequence
    from ibexite.language.source import read_source

    known = {param.name for param in build_sequence(read_source(sequence)).params}
    return {name: value for name, value in values.items() if name in known}


def _chosen(earlier: RunRecord, program: Program, failed: bool, only: tuple[str, ...]) -> tuple[str, ...]:
    """The tests to run again. Where one keeps the state of the test before it, that one is taken along."""
    names = [test.row["name"] for test in earlier.tests]
    known = {n for c in program.cases for n in (c.name, c.test.name, c.group.name if c.group else c.test.name)}
    for name in only:
        if name not in known:
            from ibexite.errors import did_you_mean

            raise MistakeError(
                f"run {earlier.row['id']} has no test {name!r}", where="--only", remedy=did_you_mean(name, known)
            )
    if not only and not failed:
        return tuple(dict.fromkeys([*names, *(case.name for case in program.cases)]))
    wanted = set(only) or {t.row["name"] for t in earlier.tests if _has_not_passed(t.row)}
    wanted |= {case.name for case in program.cases if not only and case.name not in names}  # new in the sequence
    if not wanted:
        raise MistakeError(
            f"nothing failed in run {earlier.row['id']}", where="--failed", remedy="Name tests with --only."
        )
    chosen: list[str] = []
    cases = program.cases
    for number, case in enumerate(cases):
        if not wanted & {case.name, case.test.name, case.group.name if case.group else case.test.name}:
            continue
        while cases[number].test.keeps_state and number:
            number -= 1
            chosen.append(cases[number].name)
        chosen.append(case.name)
    return tuple(dict.fromkeys(chosen)) or tuple(sorted(wanted))


def _has_not_passed(row: dict[str, Any]) -> bool:
    """True for a test that failed, broke, or was skipped because of something else that did not pass."""
    if row["verdict"] == "skipped":
        return row["skip"] in ("needs", "gate", "state", "stop", "bench", "answer", "broken_off", "line", "")
    return row["verdict"] in ("fail", "error", "aborted")
