"""`ibexite measure`."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.options import (
    bench_option,
    findings_end_it,
    format_option,
    parameters,
    records_option,
    traffic_option,
    with_option,
)
from ibexite.cli.running import RunOptions, exit_code, run_unit
from ibexite.cli.signals import Signals
from ibexite.station.desk import RESULT, Desk, kind_of, outputs_of
from ibexite.station.project import shown_path
from ibexite.station.records_folder import records_folder

if TYPE_CHECKING:
    from ibexite.language.program import MeasurementFacts
    from ibexite.records.stored_run import RunRecord

MOST_BAD = 10  # bad readings that are told; `ibexite show last` has all


@click.command("measure")
@click.argument("name", required=False)
@click.option("--list", "listed", is_flag=True, help="List what the project and installed packages offer.")
@with_option
@click.option("--role", "roles", multiple=True, metavar="NAME=ROLE", help="What plays a role or signal of it.")
@bench_option
@click.option("--serial", default="desk", help="Serial number of the unit.  [default: desk]")
@click.option("--simulate", is_flag=True, help="Run on simulated stand-ins.")
@click.option("--readings", type=click.Path(path_type=Path), help="With --simulate: prepared readings (TOML).")
@traffic_option
@records_option
@format_option
def command(
    name: str | None,
    listed: bool,
    given: tuple[str, ...],
    roles: tuple[str, ...],
    bench: Path | None,
    serial: str,
    records: Path | None,
    output: str,
    **choices: Any,
) -> None:
    """Runs one reusable measurement at the desk: numbers, table and a curve in the terminal. It is recorded as well.

    \b
    ibexite measure --list
    ibexite measure band_pass --role tap=v_filter --role reference=v_tone --with f_high="90 kHz" --simulate
    """
    desk = Desk(Path.cwd())
    if listed or name is None:
        _list(desk.offered(), output)
        return
    facts = desk.find(name)
    with findings_end_it():
        ready = desk.open(facts, parameters(given), parameters(roles, "--role"), bench)
    options = RunOptions.from_choices(
        choices, serial=serial, records=records_folder(records, desk.project), yes=True, is_measurement=True
    )
    signals = Signals()
    # Whoever asked for JSON gets nothing else on standard output.
    outcome = run_unit(ready, options, signals, shown_on=sys.stderr if output == "json" else None)
    signals.end_with(exit_code(outcome, accept_trial=True))
    _show(options.records, facts, outcome.run, output)
    raise click.exceptions.Exit(exit_code(outcome, accept_trial=True))


def _list(offered: dict[str, MeasurementFacts], output: str) -> None:
    if output == "json":
        entries = [
            {
                "name": m.name, "title": m.title, "kind": m.kind, "origin": m.origin, "version": m.version,
                "needs": {n: kind_of(need) for n, need in m.needs.items()},
                "inputs": {n: str(kind) for n, kind in m.inputs.items()},
                "outputs": {n: str(kind) for n, kind in m.outputs.items()},
            }
            for m in offered.values()
        ]  # fmt: skip
        click.echo(json.dumps(entries, indent=2))
        return
    if not offered:
        click.echo('no measurements; name folders of them in ibexite.toml: measurements = ["measurements"]')
    for m in sorted(offered.values(), key=lambda m: m.name):
        click.echo(f"{click.style(m.name, bold=True):<24}  {m.title}   ({m.kind}, {shown_path(Path(m.origin))})")
        for title, entries_ in (("needs", m.needs), ("inputs", m.inputs), ("outputs", m.outputs)):
            if entries_:
                click.echo(f"    {title:<8} {', '.join(entries_)}")


def _show(records: Path, facts: MeasurementFacts, run: str, output: str) -> None:
    from ibexite.records.gateway import open_lookup

    lookup = open_lookup(records)
    record = lookup.run(run)
    lookup.close()
    if output == "json":
        data = {"run": record.row["id"], "verdict": record.row["verdict"], "outputs": outputs_of(record, facts)}
        click.echo(json.dumps(data, indent=2))
        return
    _show_values(record, facts)


def _show_values(record: RunRecord, facts: MeasurementFacts) -> None:
    """Single outputs as numbers, curves as a table and a picture of characters."""
    from ibexite.cli.terminal_curve import draw_curve
    from ibexite.wording import column_text

    test = record.tests[0]
    click.echo()
    for name, kind in facts.outputs.items():
        column_name = f"{RESULT}.{name}"
        grid = test.grid_with(column_name, *kind.axes)
        if grid is None or kind.axes == (name,):
            continue
        column = next(c for c in grid.columns if c["name"] == column_name)
        if not grid.axes:
            click.echo(f"  {name:<16} {column['bound'] or column_text(grid.data[0][0], column)}")
            continue
        axis = next(c for c in grid.columns if c["name"] == kind.axes[0])
        click.echo()
        for line in draw_curve(grid.column(kind.axes[0]), grid.column(column_name), axis, {**column, "name": name}):
            click.echo("  " + line)
        click.echo(f"  {len(grid.data[0])} points; ibexite export last --to csv writes them")
    for bad in test.bad_readings[:MOST_BAD]:
        click.echo(f"  bad: {bad['name'].removeprefix(RESULT + '.')}: {bad['reason']}")
