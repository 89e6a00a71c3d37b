"""`ibexite vet`."""

from __future__ import annotations

import json
from pathlib import Path

import click

from ibexite.cli.options import (
    bench_option,
    format_option,
    parameters,
    sequence_argument,
    show_findings,
    vet_sequence,
    with_option,
)
from ibexite.cli.project import find_project, shown_path
from ibexite.errors import EXIT_MISTAKE


@click.command("vet")
@sequence_argument
@bench_option
@with_option
@format_option
def command(sequence: Path, bench: Path | None, given: tuple[str, ...], output: str) -> None:
    """Checks a sequence, and with a bench also roles, signals and set points. Nothing is connected.

    All mistakes are reported at once, each with line and column and what to do.

    \b
    ibexite vet fm2_final.ibx --bench bench.toml
    """
    from ibexite.language.facts import vet_against
    from ibexite.language.source import read_source

    source = read_source(sequence)
    project = find_project(sequence)
    program = vet_sequence(source, sequence, project, parameters(given))
    found = bench or project.bench_for(sequence)
    if found is not None:
        bench = Path(shown_path(found))
        from ibexite.bench.file import read_bench
        from ibexite.engine.facts import bench_facts

        vet_against(program, bench_facts(read_bench(bench)))
    findings = [(s, f) for s in program.sources for f in s.sorted_findings()]
    if output == "json":
        click.echo(json.dumps([of.as_data(finding) for of, finding in findings], indent=2))
    else:
        show_findings(program)
        against = f" on {bench}" if bench else ", without a bench"
        mistakes = sum(finding.level == "mistake" for _, finding in findings)
        tests = len(program.cases)
        others = [(level, sum(f.level == level for _, f in findings)) for level in ("warning", "note")]
        told = "".join(f", {_count(number, level)}" for level, number in others if number)
        click.echo(
            f"{source.name}: {_count(mistakes, 'mistake')}"
            if mistakes
            else f"{source.name}: {_count(tests, 'test')}, no mistakes{told}{against}"
        )
    if program.has_mistakes:
        raise click.exceptions.Exit(EXIT_MISTAKE)


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}" + ("s" if number != 1 else "")
