"""`ibexite run`."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.options import (
    bench_option,
    open_program,
    parameters,
    records_option,
    selection_options,
    sequence_argument,
    traffic_option,
    with_option,
)
from ibexite.cli.running import RunOptions, exit_code, run_unit, tell_report
from ibexite.cli.signals import Signals
from ibexite.errors import EXIT_ABORTED, EXIT_PASS
from ibexite.station.lot import BadRow, Lot, Turns, lot_of
from ibexite.station.project import bench_at
from ibexite.station.records_folder import records_folder
from ibexite.station.report_helper import ReportHelper
from ibexite.verdicts import Verdict, worst_code

if TYPE_CHECKING:
    from collections.abc import Callable

    from ibexite.station.opening import Ready
    from ibexite.station.unit_table import UnitRow


@click.command("run")
@sequence_argument
@bench_option
@click.option("--serial", default=None, help="Serial number of the unit.")
@click.option("--lot", default="", help="Lot of the unit.")
@click.option("--table", type=click.Path(path_type=Path), help="One unit a row, CSV or workbook; results go to a copy.")
@click.option("--simulate", is_flag=True, help="Run on simulated stand-ins; waits are jumped over.")
@click.option("--real-time", is_flag=True, help="With --simulate: wait as on the real bench.")
@click.option(
    "--readings", type=click.Path(path_type=Path), help="With --simulate: prepared readings and answers (TOML)."
)
@with_option
@click.option("--params", type=click.Path(path_type=Path), help="Parameters from a file (TOML or table).")
@click.option("--like", metavar="RUN", help="The parameters of a stored run.")
@selection_options
@click.option("--stop-on-fail", is_flag=True, help="End after the first test that does not pass.")
@click.option("--repeat", metavar="N|TIME", help="Run so many times, or for a time such as 8 h.")
@click.option("--step", is_flag=True, help="Halt at each line.")
@click.option("--break", "stops", multiple=True, metavar="TEST|LINE", help="Halt at a test or a line.")
@click.option("--timing", is_flag=True, help="Show what each line and each instrument command cost.")
@click.option("--yes", is_flag=True, help="Take every confirmation as given. Makes the run a trial.")
@click.option("--operator", default=None, help="Who runs it; default: the login name.")
@traffic_option
@records_option
@click.option("--report/--no-report", default=True, help="Write the report when the run has ended.  [default: report]")
@click.option("--accept-trial", is_flag=True, help="Exit code 0 instead of 5 for a unit that passed as a trial.")
def command(
    sequence: Path,
    bench: Path | None,
    serial: str | None,
    lot: str,
    table: Path | None,
    given: tuple[str, ...],
    params: Path | None,
    like: str | None,
    repeat: str | None,
    records: Path | None,
    report: bool,
    accept_trial: bool,
    **choices: Any,
) -> None:
    """Runs a sequence for one unit, or for each row of a table. Outputs are off when it ends, whatever happened.

    \b
    ibexite run fm2_final.ibx --serial FC00400
    ibexite run fm2_final.ibx --serial FC00400 --simulate --yes --only efficiency
    ibexite run fm2_final.ibx --table lot_0412.csv --stop-on-fail
    """
    with contextlib.ExitStack() as stack:
        # Started first of all: it loads the drawing library while the sequence is vetted and run.
        helper = stack.enter_context(contextlib.closing(ReportHelper())) if report else None
        units = lot_of(sequence, serial, lot, table)
        if units.results is not None:
            click.echo(f"{len(units.units)} units; results go to {units.results.path}")
        values = _values(sequence, records, params, like)

        def opened(unit: UnitRow) -> Ready:
            own = {**values, **unit.parameters, **parameters(given)}
            return open_program(sequence, bench_at(bench, unit.position, sequence), own)

        if table is not None:
            _vet_rows(table, units, opened)
        signals, codes = Signals(), [EXIT_PASS]
        coming = units.in_turn(Turns(repeat or "").more)
        turn = next(coming, None)
        while turn is not None:
            number, unit = turn
            ready = opened(unit)
            options = RunOptions.from_choices(
                choices, serial=unit.serial, lot=unit.lot, records=records_folder(records, ready.project),
                begins_lot=number == 0, ends_lot=number == len(units.units) - 1,
            )  # fmt: skip
            if len(codes) > 1:
                click.echo()
            outcome = run_unit(ready, options, signals, helper=helper)
            problem = units.add(unit, options.records, outcome)
            if problem:
                click.echo(problem, err=True)
            codes.append(exit_code(outcome, accept_trial))
            turn = next(coming, None)
            if turn is not None and (signals.was_held_off or outcome.verdict == Verdict.ABORTED):
                click.echo("stopped: no further unit is run")
                codes.append(EXIT_ABORTED)
                turn = None
            signals.end_with(worst_code(codes) if turn is None else EXIT_ABORTED)
            if helper is not None and helper.is_busy:
                tell_report(helper.finish())
    raise click.exceptions.Exit(worst_code(codes))


def _vet_rows(table: Path, units: Lot, opened: Callable[[UnitRow], Ready]) -> None:
    try:
        units.vet(lambda unit: opened(unit).program)
    except BadRow as bad:
        click.echo(f"{table}: row {bad.unit.number}, unit {bad.unit.serial!r}: no unit was run", err=True)
        raise (bad.__cause__ or bad) from None


def _values(sequence: Path, records: Path | None, params: Path | None, like: str | None) -> dict[str, str]:
    """Parameters of a stored run, and of a file, which goes before them."""
    values: dict[str, str] = {}
    if like is not None:
        from ibexite.records.gateway import open_lookup
        from ibexite.station.given import parameters_of
        from ibexite.station.project import find_project

        with contextlib.closing(open_lookup(records_folder(records, find_project(sequence)))) as lookup:
            values |= parameters_of(lookup.run(lookup.find(like)))
    if params is not None:
        from ibexite.station.given import read_parameters

        values |= read_parameters(params)
    return values
