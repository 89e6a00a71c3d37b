"""`ibexite run`."""

from __future__ import annotations

import contextlib
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.helper import ReportHelper
from ibexite.cli.options import (
    bench_option,
    open_program,
    parameters,
    records_folder,
    records_option,
    selection_options,
    sequence_argument,
    with_option,
)
from ibexite.cli.running import RunOptions, check_serial, exit_code, run_unit, tell_report, worst_code
from ibexite.cli.signals import Signals
from ibexite.errors import EXIT_ABORTED, EXIT_PASS, IbexiteError, MistakeError, UnitError

if TYPE_CHECKING:
    from collections.abc import Callable, Iterator

    from ibexite.cli.run_inputs import UnitRow
    from ibexite.engine.orders import Outcome
    from ibexite.language.program import Program


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
        units = _units(sequence, serial, lot, table)
        values = _values(sequence, records, params, like)
        if table is not None:
            _vet_rows(
                table, units, lambda own: open_program(sequence, bench, {**values, **own, **parameters(given)})[0]
            )
        signals, codes = Signals(), [EXIT_PASS]
        coming = _in_turn(units, _Turns(repeat))
        turn = next(coming, None)
        while turn is not None:
            number, unit, results = turn
            merged = {**values, **unit.parameters, **parameters(given)}
            program, file, project = open_program(sequence, bench, merged)
            options = RunOptions.from_choices(
                choices, serial=unit.serial, lot=unit.lot, records=records_folder(records, project),
                sequence=sequence, variants=project.variants, begins_lot=number == 0,
                ends_lot=number == len(units) - 1,
            )  # fmt: skip
            if len(codes) > 1:
                click.echo()
            outcome = run_unit(program, file, options, helper, signals=signals)
            if results is not None:
                _append(results, unit, options, outcome)
            codes.append(exit_code(outcome, accept_trial))
            turn = next(coming, None)
            if turn is not None and (signals.was_held_off or outcome.verdict == "aborted"):
                click.echo("stopped: no further unit is run")
                codes.append(EXIT_ABORTED)
                turn = None
            signals.end_with(worst_code(codes) if turn is None else EXIT_ABORTED)
            if helper is not None and helper.is_busy:
                tell_report(helper.finish())
    raise click.exceptions.Exit(worst_code(codes))


def _vet_rows(table: Path, units: list[tuple[UnitRow, Any]], opened: Callable[[dict[str, str]], Program]) -> None:
    """Vets all rows before the first unit is run: a mistake in the last one must not leave a lot half done."""
    programs: dict[tuple[tuple[str, str], ...], Program] = {}
    for unit, _ in units:
        key = tuple(unit.parameters.items())
        try:
            programs[key] = programs.get(key) or opened(unit.parameters)
            check_serial(programs[key], unit.serial)
        except (MistakeError, click.exceptions.Exit):
            click.echo(f"{table}: row {unit.number}, unit {unit.serial!r}: no unit was run", err=True)
            raise


def _in_turn(units: list[tuple[UnitRow, Any]], turns: _Turns) -> Iterator[tuple[int, UnitRow, Any]]:
    """Number, unit and table of results of each run that is to be done."""
    while turns.more():
        for number, (unit, results) in enumerate(units):
            yield number, unit, results


def _units(sequence: Path, serial: str | None, lot: str, table: Path | None) -> list[tuple[UnitRow, Any]]:
    from ibexite.cli.run_inputs import ResultsTable, UnitRow, read_units

    if (serial is None) == (table is None):
        raise MistakeError(
            "one serial number, or a table of them", where="--serial, --table", remedy="Name one of the two."
        )
    if table is None:
        return [(UnitRow(0, serial or "", lot, {}), None)]
    from ibexite.language.build import build_sequence
    from ibexite.language.source import read_source

    declared = [param.name for param in build_sequence(read_source(sequence)).params]
    sheet, rows = read_units(table, declared)
    if not rows:
        raise MistakeError("there are no units", where=sheet.path, remedy="One unit a row below the columns.")
    results = ResultsTable(table, sheet)
    click.echo(f"{len(rows)} units; results go to {results.path}")
    return [(UnitRow(r.number, r.serial, r.lot or lot, r.parameters), results) for r in rows]


def _values(sequence: Path, records: Path | None, params: Path | None, like: str | None) -> dict[str, str]:
    """Parameters of a stored run, and of a file, which goes before them."""
    values: dict[str, str] = {}
    if like is not None:
        from ibexite.cli.project import find_project
        from ibexite.cli.run_inputs import parameters_of
        from ibexite.records.lookup import Lookup

        lookup = Lookup(records_folder(records, find_project(sequence)))
        values |= parameters_of(lookup.run(lookup.find(like)))
        lookup.close()
    if params is not None:
        from ibexite.cli.run_inputs import read_parameters

        values |= read_parameters(params)
    return values


def _append(results: Any, unit: UnitRow, options: RunOptions, outcome: Outcome) -> None:
    """The results of a unit go to the copy of its table. What cannot be written is told: it is in the records."""
    from ibexite.cli.run_inputs import results_of
    from ibexite.records.lookup import Lookup

    try:
        with contextlib.closing(Lookup(options.records)) as lookup:
            if lookup.has(outcome.run):
                results.add(unit.number, results_of(lookup.run(outcome.run)))
            else:
                results.add(unit.number, {"run": outcome.run, "verdict": f"{outcome.verdict.upper()} (not stored)"})
    except IbexiteError as error:
        click.echo(f"{error}\nThe run is recorded; export it with: ibexite export {outcome.run} --to csv", err=True)


class _Turns:
    """How often all is run: once, so many times, or for a time."""

    def __init__(self, text: str | None) -> None:
        self._left, self._until = 1.0, 0.0
        if text is None:
            return
        from ibexite.units import SECOND, parse_quantity

        try:
            quantity = parse_quantity(text)
        except UnitError as error:
            raise MistakeError(
                error.what, where="--repeat", remedy='Write a number of times, or a time such as "8 h".'
            ) from None
        if quantity.dimension == SECOND and quantity.value > 0:
            self._until = time.monotonic() + float(quantity)
        elif quantity.dimension.is_plain and not quantity.unit.symbol and quantity.value >= 1:
            self._left = float(int(quantity.value))
        else:
            raise MistakeError(
                f"{text!r} is neither a number of times nor a time", where="--repeat", remedy='Write 10 or "8 h".'
            )

    def more(self) -> bool:
        """True if there is another turn; counts it."""
        if self._until:
            return time.monotonic() < self._until
        self._left -= 1
        return self._left >= 0
