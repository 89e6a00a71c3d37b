"""`ibexite vet`."""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

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
from ibexite.errors import EXIT_MISTAKE, MistakeError

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.language.program import Program


@click.command("vet")
@sequence_argument
@bench_option
@with_option
@format_option
def command(sequence: Path, bench: Path | None, given: tuple[str, ...], output: str) -> None:
    """Checks a sequence, and with a bench also roles, signals and set points; or a bench file, a profile, a project
    file. Nothing is connected. Where a parameter has choices (a variant), each of them is looked at.

    All mistakes are reported at once, each with line and column and what to do.

    \b
    ibexite vet fm2_final.ibx --bench bench.toml
    """
    from ibexite.language.facts import vet_against
    from ibexite.language.source import read_source

    if sequence.suffix == ".toml":
        _vet_toml(sequence)
        return
    source = read_source(sequence)
    project = find_project(sequence)
    program = vet_sequence(source, sequence, project, parameters(given))
    found = bench or project.bench_for(sequence)
    facts = None
    if found is not None:
        bench = Path(shown_path(found))
        from ibexite.bench.file import read_bench
        from ibexite.engine.facts import bench_facts

        file = read_bench(bench)
        facts = bench_facts(file)
        vet_against(program, facts)
        _check_simulation(file)
    for option, other in _other_choices(program, parameters(given)):
        again = vet_sequence(read_source(sequence), sequence, project, {**parameters(given), **option})
        if facts is not None:
            vet_against(again, facts)
        _take_over(program, again, other)
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


def _other_choices(program: Program, given: Mapping[str, str]) -> Iterator[tuple[dict[str, str], str]]:
    """Each choice of a parameter that is not the one just vetted, as a parameter from outside and in words."""
    from ibexite.language import constants

    for param in program.sequence.params:
        if not param.choices or param.name in given or param.name not in program.params:
            continue
        kind = program.param_types[param.name]
        for choice in param.choices:
            value = constants.evaluate(choice, program.params)
            if value is not None and value != program.params[param.name]:
                text = constants.written(value, kind.dimension, kind.shown)
                yield {param.name: text}, f"with {param.name} = {text}"


def _take_over(program: Program, other: Program, where: str) -> None:
    """Mistakes that another choice brings are told with it."""
    for source in program.sources:
        same = next((s for s in other.sources if s.name == source.name), None)
        for finding in same.sorted_findings() if same is not None else ():
            if finding.level == "mistake":
                source.report(finding.span, finding.title, finding.mark or where, f"{finding.remedy} ({where})".strip())


def _vet_toml(path: Path) -> None:
    """Checks a bench file, a profile or a project file by itself."""
    from ibexite.bench.file import read_bench
    from ibexite.cli.project import FILE_NAME
    from ibexite.instruments.profile import load_profile
    from ibexite.toml_reader import read_toml

    shown = shown_path(path)
    table = read_toml(Path(shown), what="TOML file")
    if "bench" in table:
        file = read_bench(Path(shown))
        _check_simulation(file)
        click.echo(
            f"{shown}: bench {file.name!r}, {_count(len(file.instruments), 'instrument')}, "
            f"{_count(len(file.roles), 'role')}, {_count(len(file.signals), 'signal')}, no mistakes"
        )
    elif "class" in table:
        profile = load_profile(path.name, path.parent)
        click.echo(f"{shown}: profile of a {profile.instrument_class.name}, no mistakes")
    elif "project" in table and path.name == FILE_NAME:
        find_project(path)
        click.echo(f"{shown}: project file, no mistakes")
    else:
        raise MistakeError(
            "neither a bench file, a profile nor a project file", where=shown,
            remedy='A bench file has [bench], a profile class = "…", a project file [project].',
        )  # fmt: skip


def _check_simulation(file: BenchFile) -> None:
    """What a simulated bench would refuse is found now."""
    from ibexite.cli.stand_ins import make_plan

    if file.product:
        make_plan(file, "", own_ports=True)


def _count(number: int, noun: str) -> str:
    return f"{number} {noun}" + ("s" if number != 1 else "")
