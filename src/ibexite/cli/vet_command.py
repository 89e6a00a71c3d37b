"""`ibexite vet`."""

from __future__ import annotations

import json
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.options import (
    bench_option,
    format_option,
    parameters,
    sequence_argument,
    show_findings,
    with_option,
)
from ibexite.errors import EXIT_MISTAKE, MistakeError
from ibexite.station.opening import Opened, open_to_vet
from ibexite.station.project import find_project, shown_path

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile


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
    if sequence.suffix == ".toml":
        _vet_toml(sequence)
        return
    opened = open_to_vet(sequence, bench, parameters(given))
    if opened.bench is not None:
        _check_simulation(opened.bench)
    if output == "json":
        click.echo(json.dumps([source.as_data(finding) for source, finding in opened.findings], indent=2))
    else:
        show_findings(opened)
        click.echo(_in_one_line(opened))
    if opened.has_mistakes:
        raise click.exceptions.Exit(EXIT_MISTAKE)


def _in_one_line(opened: Opened) -> str:
    name = opened.program.source.name
    found = {level: sum(f.level == level for _, f in opened.findings) for level in ("mistake", "warning", "note")}
    if found["mistake"]:
        return f"{name}: {_count(found['mistake'], 'mistake')}"
    against = f" on {opened.bench.path}" if opened.bench is not None else ", without a bench"
    told = "".join(f", {_count(found[level], level)}" for level in ("warning", "note") if found[level])
    return f"{name}: {_count(len(opened.program.cases), 'test')}, no mistakes{told}{against}"


def _vet_toml(path: Path) -> None:
    """Checks a bench file, a profile or a project file by itself."""
    from ibexite.bench.file import read_bench
    from ibexite.classes import class_in
    from ibexite.instruments.profile import load_profile
    from ibexite.station.product_model import read_model
    from ibexite.station.project import FILE_NAME
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
    elif "class" in table or ("extends" in table and path.absolute().parent.name != "classes"):
        profile = load_profile(path.name, path.parent)
        click.echo(f"{shown}: profile of the class {profile.instrument_class.name}, no mistakes")
    elif "quantities" in table:
        model = read_model(path)
        click.echo(f"{shown}: model of a product, {_count(len(model.data['formulas']), 'quantity')}, no mistakes")
    elif shown_path(path.absolute().parent).endswith("classes") or "settings" in table:
        known = class_in(path)
        click.echo(
            f"{shown}: class of instruments, {_count(len(known.settings), 'setting')}, "
            f"{_count(len(known.readings), 'reading')}, no mistakes"
        )
    elif "project" in table and path.name == FILE_NAME:
        find_project(path)
        click.echo(f"{shown}: project file, no mistakes")
    else:
        raise MistakeError(
            "neither a bench file, a profile, a class, a model nor a project file", where=shown,
            remedy='A bench file has [bench], a profile class = "…", a class [settings], a project file [project].',
        )  # fmt: skip


def _check_simulation(file: BenchFile) -> None:
    """What a simulated bench would refuse is found now."""
    from ibexite.station.stand_ins import make_plan

    if file.product:
        make_plan(file, "", own_ports=True)


def _count(number: int, noun: str) -> str:
    many = noun[:-1] + "ies" if noun.endswith("y") else noun + "s"
    return f"{number} {noun if number == 1 else many}"
