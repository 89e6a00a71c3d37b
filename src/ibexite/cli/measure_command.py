"""`ibexite measure`."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.options import (
    bench_option,
    companions_of,
    format_option,
    parameters,
    records_folder,
    records_option,
    with_option,
)
from ibexite.cli.project import find_project, need_bench, shown_path
from ibexite.cli.running import RunOptions, exit_code, run_unit
from ibexite.cli.signals import Signals
from ibexite.errors import EXIT_MISTAKE, MistakeError, did_you_mean

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.language import nodes
    from ibexite.language.program import MeasurementFacts, Program
    from ibexite.records.lookup import RunRecord


@click.command("measure")
@click.argument("name", required=False)
@click.option("--list", "listed", is_flag=True, help="List what the project and installed packages offer.")
@with_option
@click.option("--role", "roles", multiple=True, metavar="NAME=ROLE", help="What plays a role or signal of it.")
@bench_option
@click.option("--serial", default="desk", help="Serial number of the unit.  [default: desk]")
@click.option("--simulate", is_flag=True, help="Run on simulated stand-ins.")
@click.option("--readings", type=click.Path(path_type=Path), help="With --simulate: prepared readings (TOML).")
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
    project = find_project(Path.cwd())
    companions = companions_of(Path.cwd() / "measure.ibx", project)
    offered = companions.measurements()
    if listed or name is None:
        _list({**companions.installed(), **offered}, output)
        return
    facts = offered.get(name) or companions.installed().get(name)
    if facts is None:
        raise MistakeError(
            f"there is no measurement {name!r}",
            remedy=did_you_mean(name, offered)
            or f"Name a folder of them in {project.folder.name}/ibexite.toml: measurements",
        )
    path = need_bench(bench, project, Path("measure.ibx"))
    program, file = _program(facts, parameters(given), parameters(roles, "--role"), path, companions)
    options = RunOptions.from_choices(
        choices, sequence=path, serial=serial, records=records_folder(records, project), yes=True, is_measurement=True
    )
    signals = Signals()
    # Whoever asked for JSON gets nothing else on standard output.
    shown_on = sys.stderr if output == "json" else None
    outcome = run_unit(program, file, options, signals=signals, shown_on=shown_on)
    signals.end_with(exit_code(outcome, accept_trial=True))
    _show(options.records, facts, outcome.run, output)
    raise click.exceptions.Exit(exit_code(outcome, accept_trial=True))


def _list(offered: dict[str, MeasurementFacts], output: str) -> None:
    if output == "json":
        entries = [
            {
                "name": m.name, "title": m.title, "kind": m.kind, "origin": m.origin, "version": m.version,
                "needs": {n: _kind_of(need) for n, need in m.needs.items()},
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


def _kind_of(need: nodes.Need) -> str:
    """The class of a role, the unit or kind of a signal."""
    return need.class_name or (need.unit.symbol if need.unit else need.kind)


def _check_roles(facts: MeasurementFacts, roles: dict[str, str], file: BenchFile) -> None:
    """Refuses names that the bench does not have; the kinds of those it has are vetted with the sequence.

    Raises:
        MistakeError: with the option that says what plays a role.
    """
    for name, need in facts.needs.items():
        what, known = ("role", file.roles) if need.class_name else ("signal", file.signals)
        if roles.get(name, name) not in known:
            raise MistakeError(
                f"{facts.name} needs the {what} {name!r}, and the bench has no {what} {roles.get(name, name)!r}",
                where=str(file.path),
                remedy=f"Say what plays it: --role {name}=NAME. There is: {', '.join(sorted(known))}.",
            )


def _program(
    facts: MeasurementFacts, inputs: dict[str, str], roles: dict[str, str], bench: Path, companions: Any
) -> Any:
    """A sequence of one test that carries out the measurement, vetted against the bench."""
    from ibexite.bench.file import read_bench
    from ibexite.cli.options import show_findings
    from ibexite.engine.facts import bench_facts
    from ibexite.language import constants
    from ibexite.language.check import parse_typed, vet
    from ibexite.language.facts import vet_against
    from ibexite.language.source import Source

    for name in inputs:
        if name not in facts.inputs:
            raise MistakeError(
                f"{facts.name} has no input {name!r}", where="--with", remedy=did_you_mean(name, facts.inputs)
            )
    for name in roles:
        if name not in facts.needs:
            raise MistakeError(
                f"{facts.name} needs no {name!r}", where="--role", remedy=did_you_mean(name, facts.needs)
            )
    file = read_bench(shown_path(bench))
    _check_roles(facts, roles, file)
    arguments = [f"{name} = {roles.get(name, name)}" for name in facts.needs]
    for name, text in inputs.items():
        kind = facts.inputs[name]
        value = parse_typed(kind, text, f"--with {name}")
        arguments.append(f'{name} = "{value}"' if kind.kind == "text" else
                         f"{name} = {constants.written(value, kind.dimension, kind.shown)}")  # fmt: skip
    needs = []
    for name, need in facts.needs.items():
        what = need.class_name or (f"signal in {need.unit.symbol}" if need.unit else f"signal {need.kind}")
        needs.append(f"    {roles.get(name, name)} : {what}")
    text = "\n".join(
        [
            f'sequence "measurement {facts.name}"',
            '    product "measurement"', "", *(["needs", *needs, ""] if needs else []),
            f'test {facts.name} "{facts.title}"', f"    measure {facts.name}({', '.join(arguments)}) as {RESULT}",
        ]
    )  # fmt: skip
    source = Source("measure.ibx", text + "\n")
    program: Program = vet(source, {}, companions)
    vet_against(program, bench_facts(file))
    if program.has_mistakes:
        show_findings(program, only_mistakes=True)
        raise click.exceptions.Exit(EXIT_MISTAKE)
    return program, file


RESULT = "result"


def _show(records: Path, facts: MeasurementFacts, run: str, output: str) -> None:
    from ibexite.records.lookup import Lookup

    lookup = Lookup(records)
    record = lookup.run(run)
    lookup.close()
    if output == "json":
        click.echo(json.dumps(_as_data(record, facts), indent=2))
        return
    _show_values(record, facts)


def _as_data(record: RunRecord, facts: MeasurementFacts) -> dict[str, Any]:
    """Run, verdict, and the outputs with all their digits in base units; a hole is null."""
    outputs: dict[str, Any] = {}
    for name, kind in facts.outputs.items():
        grid = record.tests[0].grid_with(f"{RESULT}.{name}")
        if grid is None:
            continue
        column = next(c for c in grid.columns if c["name"] == f"{RESULT}.{name}")
        values: list[Any] = [None if v != v else v for v in grid.column(column["name"])]
        if column["labels"]:
            values = [column["labels"][int(v)] for v in values]
        axes = {a: list(grid.column(a)) for a in grid.axes}
        outputs[name] = {"unit": column["unit"], "kind": column["kind"]}
        outputs[name] |= {"values": values, "axes": axes} if kind.axes else {"value": values[0]}
    return {"run": record.row["id"], "verdict": record.row["verdict"], "outputs": outputs}


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
