"""`ibexite vet`."""

from __future__ import annotations

import json
import re
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
from ibexite.errors import EXIT_MISTAKE, MistakeError, Mistakes
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
        _vet_toml(sequence, output)
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


def _vet_toml(path: Path, output: str) -> None:
    """Checks a bench file, a profile, a class, a model or a project file by itself."""
    shown = shown_path(path)
    try:
        told = _KINDS[_kind_of(path)](path, Path(shown))
    except MistakeError as error:
        if output != "json":
            raise
        each = error.each if isinstance(error, Mistakes) else [error]
        click.echo(json.dumps([_as_data(one, shown) for one in each], indent=2))
        raise click.exceptions.Exit(EXIT_MISTAKE) from None
    click.echo("[]" if output == "json" else f"{shown}: {told}, no mistakes")


def _as_data(error: MistakeError, shown: str) -> dict[str, object]:
    """A mistake in a file, as those in sequences are told; `mark` is the key, line 1 stands for all of the file."""
    found = re.fullmatch(r"(?P<file>.+?\.toml)(?::(?P<line>\d+))?(?:: ?(?P<key>.*))?", error.where)
    file, key = (found["file"], found["key"] or "") if found else (error.where or shown, "")
    line = int(found["line"] or 1) if found else 1
    return {
        "file": file, "line": line, "column": 1, "end_line": line, "end_column": 1, "severity": "mistake",
        "title": error.what, "mark": key, "remedy": error.remedy,
    }  # fmt: skip


def _kind_of(path: Path) -> str:
    """What a file is, by what stands in it; it is read in full by whoever knows that kind."""
    from ibexite.plain_file import read_plain
    from ibexite.station.project import FILE_NAME
    from ibexite.toml_reader import MAX_BYTES

    shown = shown_path(path)
    text = read_plain(Path(shown), what="TOML file", most=MAX_BYTES).decode("utf-8", "replace")
    if path.name == FILE_NAME:
        return "project"
    if path.absolute().parent.name == "classes":
        return "class"
    for kind, mark in _MARKS.items():
        if re.search(mark, text, re.MULTILINE):
            return kind
    raise MistakeError(
        "neither a bench file, a profile, a class, a model nor a project file", where=shown,
        remedy='A bench file has [bench], a profile class = "…", a class [settings], a model [quantities], '
        "a project file [project].",
    )  # fmt: skip


def _bench(path: Path, shown: Path) -> str:
    from ibexite.bench.file import read_bench

    file = read_bench(shown)
    _check_simulation(file)
    counts = [
        _count(len(file.instruments), "instrument"),
        _count(len(file.roles), "role"),
        _count(len(file.signals), "signal"),
    ]
    return f"bench {file.name!r}, {', '.join(counts)}"


def _profile(path: Path, shown: Path) -> str:
    from ibexite.instruments.profile import load_profile

    return f"profile of the class {load_profile(path.name, path.parent).instrument_class.name}"


def _class(path: Path, shown: Path) -> str:
    from ibexite.classes import class_in

    known = class_in(path)
    return f"class of instruments, {_count(len(known.settings), 'setting')}, {_count(len(known.readings), 'reading')}"


def _model(path: Path, shown: Path) -> str:
    from ibexite.station.product_model import read_model

    return f"model of a product, {_count(len(read_model(path).data['formulas']), 'quantity')}"


def _project(path: Path, shown: Path) -> str:
    find_project(path)
    return "project file"


_KINDS = {"bench": _bench, "profile": _profile, "class": _class, "model": _model, "project": _project}
_MARKS = {
    "bench": r"^\s*\[bench\]", "profile": r"^\s*(class|extends)\s*=", "model": r"^\s*\[(quantities|connections\b.*)\]",
    "class": r"^\s*\[settings[.\]]", "project": r"^\s*\[project\]",
}  # fmt: skip


def _check_simulation(file: BenchFile) -> None:
    """What a simulated bench would refuse is found now."""
    if file.product:
        from ibexite.station.stand_ins import make_plan

        make_plan(file, "", own_ports=True)


def _count(number: int, noun: str) -> str:
    many = noun[:-1] + "ies" if noun.endswith("y") else noun + "s"
    return f"{number} {noun if number == 1 else many}"
