"""Options that several commands share, and how sequences and records are opened for them."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.cli.project import Project, find_project, need_bench, shown_path
from ibexite.errors import EXIT_MISTAKE, MistakeError, RecordsError
from ibexite.plain_file import is_folder

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.companions.files import Files
    from ibexite.language.program import Program
    from ibexite.language.source import Source
    from ibexite.records.lookup import Lookup

Decorator = Callable[[Callable[..., Any]], Callable[..., Any]]

sequence_argument: Decorator = click.argument("sequence", type=click.Path(path_type=Path))
bench_option: Decorator = click.option("--bench", type=click.Path(path_type=Path), help="The bench file.")
records_option: Decorator = click.option("--records", type=click.Path(path_type=Path), help="Folder of the records.")
with_option: Decorator = click.option(
    "--with",
    "given",
    multiple=True,
    metavar="NAME=VALUE",
    help='Sets a parameter, as --with vin_low="7 V". Makes the run a trial.',
)


def selection_options(function: Callable[..., Any]) -> Callable[..., Any]:
    """The options that choose tests."""
    for option in (
        click.option("--selection", type=click.Path(path_type=Path), help="A table that switches each test on or off."),
        click.option("--tag", "tags", multiple=True, help="Only tests with this tag (again for more)."),
        click.option("--skip", multiple=True, metavar="TEST", help="Without this test or group (again for more)."),
        click.option("--only", multiple=True, metavar="TEST", help="Only this test or group (again for more)."),
    ):
        function = option(function)
    return function


format_option: Decorator = click.option(
    "--format",
    "output",
    type=click.Choice(["text", "json"]),
    default="text",
    help="text for people, json for programs.",
)


def parameters(given: tuple[str, ...], option: str = "--with") -> dict[str, str]:
    """NAME=VALUE texts of an option as a dictionary.

    Raises:
        MistakeError: one of another form, or a name that is given twice.
    """
    values: dict[str, str] = {}
    for text in given:
        name, equals, value = text.partition("=")
        if not equals or not name.strip() or not value.strip():
            raise MistakeError(
                f"{option} {text!r} is not NAME=VALUE", remedy='Write, for example: --with vin_low="7 V"'
            )
        if name.strip() in values:
            raise MistakeError(f"{option} gives {name.strip()} twice", remedy="Leave one of them out.")
        values[name.strip()] = value.strip()
    return values


def show_findings(program: Program, *, only_mistakes: bool = False) -> None:
    """Prints findings as text."""
    for source in program.sources:
        for finding in source.sorted_findings():
            if not only_mistakes or finding.level == "mistake":
                click.echo(source.render(finding) + "\n", err=True)


def companions_of(sequence: Path, project: Project) -> Files:
    """The files that a sequence may name."""
    from ibexite.companions.files import Files

    return Files(Path(shown_path(sequence.parent)), tuple(Path(shown_path(f)) for f in project.measurements))


def vet_sequence(source: Source, sequence: Path, project: Project, given: Mapping[str, str]) -> Program:
    """Checks a sequence with all that it names."""
    from ibexite.language.check import vet

    companions = companions_of(sequence, project)
    program = vet(source, given, companions)
    program.python_files = companions.python_files + ([companions.limit_file] if companions.limit_file else [])
    return program


def open_program(
    sequence: Path, bench: Path | None, given: tuple[str, ...] | Mapping[str, str]
) -> tuple[Program, BenchFile, Project]:
    """A program vetted against its bench; ends the command with exit code 2 where anything is wrong."""
    from ibexite.bench.file import read_bench
    from ibexite.engine.facts import bench_facts
    from ibexite.language.facts import vet_against
    from ibexite.language.source import read_source

    source = read_source(sequence)
    project = find_project(sequence)
    values = parameters(given) if isinstance(given, tuple) else given
    program = vet_sequence(source, sequence, project, values)
    file = read_bench(shown_path(need_bench(bench, project, sequence)))
    vet_against(program, bench_facts(file))
    if program.has_mistakes:
        show_findings(program, only_mistakes=True)
        raise click.exceptions.Exit(EXIT_MISTAKE)
    return program, file, project


def records_folder(given: Path | None, project: Project | None = None) -> Path:
    """The folder of the records."""
    return given or (project or find_project(Path.cwd())).records


def open_records(given: Path | None) -> Lookup:
    """The store for reading, after runs that were left over have been taken in."""
    from ibexite.records.lookup import Lookup

    folder = records_folder(given)
    take_in_left_over(folder)
    return Lookup(folder)


LOOKING_PATIENCE = 0.5  # s; a list of runs does not wait for whoever is writing the store


def take_in_left_over(folder: Path) -> None:
    """Stores runs that broke off, and tells of them; completes a store of an older version. What cannot be stored just
    now does not keep anybody from looking at what is there."""
    from ibexite.records.journal import SUFFIX
    from ibexite.records.lookup import FILE_NAME, is_older

    journals = folder / "journals"
    waiting = sum(1 for _ in journals.glob("*" + SUFFIX)) if is_folder(journals) else 0
    if not waiting and not is_older(folder / FILE_NAME):
        return
    from ibexite.records.store import Store

    try:
        with contextlib.closing(Store(folder, patience=LOOKING_PATIENCE)) as store:
            stored, damaged = store.take_in_left_over()
    except RecordsError as error:
        what = f"not stored yet: {waiting} run{'s' if waiting > 1 else ''}: " if waiting else ""
        click.echo(f"{what}{error.what}. What is stored is shown.", err=True)
        return
    for run in stored:
        click.echo(f"found a run that was not stored yet: {run}", err=True)
    for text in damaged:
        click.echo(f"a damaged journal was set aside: {text}", err=True)
