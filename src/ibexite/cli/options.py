"""Options that several commands share, and what opening sequences and records looks like."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ibexite.errors import EXIT_MISTAKE, MistakeError
from ibexite.station.opening import NotReady, Opened, Ready, open_to_run
from ibexite.station.records_folder import open_lookup, records_folder

if TYPE_CHECKING:
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


traffic_option: Decorator = click.option(
    "--traffic",
    type=click.Path(path_type=Path),
    help="Write what is said to instruments into this file, behind what is there.",
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


def show_findings(opened: Opened, *, only_mistakes: bool = False) -> None:
    """Prints findings as text."""
    for source, finding in opened.findings:
        if not only_mistakes or finding.level == "mistake":
            click.echo(source.render(finding) + "\n", err=True)


@contextlib.contextmanager
def findings_end_it() -> Iterator[None]:
    """Within it a sequence with mistakes ends the command: they are shown, and the exit code is 2."""
    try:
        yield
    except NotReady as error:
        show_findings(error.opened, only_mistakes=True)
        raise click.exceptions.Exit(EXIT_MISTAKE) from None


def open_program(sequence: Path, bench: Path | None, given: Mapping[str, str]) -> Ready:
    """A program vetted against its bench; ends the command with exit code 2 where anything is wrong."""
    with findings_end_it():
        return open_to_run(sequence, bench, given)


def open_records(given: Path | None) -> Lookup:
    """The store for reading; tells of runs that had been left over."""
    lookup, told = open_lookup(records_folder(given))
    for text in told:
        click.echo(text, err=True)
    return lookup
