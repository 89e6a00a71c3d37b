"""`ibexite golden`: values of known good units, kept as references of the project."""

from __future__ import annotations

import getpass
import json
import math
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click

from ibexite.cli.options import format_option, open_records, records_option
from ibexite.cli.terminal_curve import draw_curve
from ibexite.errors import MistakeError
from ibexite.reference import Reference, ReferenceValue
from ibexite.station import references
from ibexite.station.project import find_project, shown_path
from ibexite.units import format_value
from ibexite.untyped import Fields
from ibexite.values import Compound, Quantity, Type, column_of

MOST_DRAWN = 4  # curves of a family


@click.group("golden")
def command() -> None:
    """Known good units: their values as references that sequences judge by, golden("NAME").

    \b
    ibexite golden save last lead.s21 --as antenna_lead
    ibexite golden list
    ibexite golden show antenna_lead
    ibexite golden compare antenna_lead antenna_lead.B
    ibexite golden approve antenna_lead --by "R. Tamm" --reason "unit 17 of the pilot lot, drawing T-204"
    """


@command.command("save")
@click.argument("run")
@click.argument("values", nargs=-1, required=True, metavar="VALUE...")
@click.option("--as", "name", required=True, help="The name of the reference.")
@click.option("--replace", is_flag=True, help="In the place of the reference that is there.")
@click.option("--all-variants", is_flag=True, help="For all variants of the product, not for that of the run alone.")
@click.option("--although", default="", metavar="WHY", help="The unit is good although its run did not pass.")
@records_option
def save_command(
    run: str, values: tuple[str, ...], name: str, replace: bool, all_variants: bool, although: str,
    records: Path | None,
) -> None:  # fmt: skip
    """Saves values of a run as a reference of its product: numbers, curves, tables, texts, connections.

    VALUE is TEST.NAME, or a name that one test has. The file, in the folder golden of the project, is text; it tells
    run and unit, and under which settings each value was measured. Runs that use it are trials until it is approved.

    \b
    ibexite golden save last lead.s21 --as antenna_lead
    ibexite golden save AL0017 lead.s21 lead.s11 --as antenna_lead --replace
    """
    lookup = open_records(records)
    record = lookup.run(lookup.find(run))
    made = references.save(
        find_project(Path.cwd()).folder, record, values, name, by=getpass.getuser(), although=although,
        replaces=replace, for_all_variants=all_variants,
    )  # fmt: skip
    click.echo(f"{shown_path(Path(made.path))}   {made.product}{_variant(made)}, unit {made.origin.unit}")
    for value in made.values.values():
        click.echo(f"    {_word(made, value)}   {references.value_said(value)}")
    if made.origin.trial:
        click.echo(f"    its run is a trial: {'; '.join(made.origin.trial)}")
    click.echo(f'\nnot approved yet: ibexite golden approve {made.name} --by NAME --reason "..."')


def _word(made: Reference, value: ReferenceValue) -> str:
    name = made.name if len(made.values) == 1 else f"{made.name}.{value.name}"
    return f'golden("{name}")'


def _variant(made: Reference) -> str:
    return f", variant {made.variant}" if made.variant else ""


@command.command("list")
@format_option
def list_command(output: str) -> None:
    """Lists the references of the project: of which unit, from which run, approved or not.

    \b
    ibexite golden list
    ibexite golden list --format json
    """
    project = find_project(Path.cwd()).folder
    found, broken = [], []
    for path in references.paths_of(project):
        try:
            one = references.find(project, path.relative_to(project).as_posix())
            found.append((one, references.standing(project, one)))
        except MistakeError as error:
            broken.append(error)
    if output == "json":
        click.echo(json.dumps([_as_data(one) | {"standing": standing} for one, standing in found], indent=2))
    for one, standing in found if output == "text" else ():
        when = one.origin.measured[:16].replace("T", " ")
        click.echo(
            f"{Path(one.path).stem:<22} {one.product:<26} {', '.join(one.values)}   unit {one.origin.unit}, {when}   "
            f"{standing}"
        )
    if not found and not broken and output == "text":
        click.echo("There are no references yet. A run of a good unit becomes one: ibexite golden save")
    for wrong in broken:
        click.echo(f"{wrong.where}: {wrong.what}", err=True)
    if broken:
        raise MistakeError(f"{len(broken)} of the references cannot be read", remedy="Mend them, or save them anew.")


@command.command("show")
@click.argument("name")
@format_option
def show_command(name: str, output: str) -> None:
    """Shows a reference: where it comes from, how it was measured, and pictures of its curves.

    \b
    ibexite golden show antenna_lead
    """
    project = find_project(Path.cwd()).folder
    one = references.find(project, name)
    standing = references.standing(project, one)
    if output == "json":
        click.echo(json.dumps(_as_data(one) | {"standing": standing}, indent=2))
        return
    click.echo(f"{one.name}   {one.product}{_variant(one)}   {standing}")
    told = {"unit": one.origin.unit, "run": f"{one.origin.run} ({one.origin.verdict})", "measured": one.origin.measured}
    for key, text in (told | one.origin.notes).items():
        click.echo(f"    {key.replace('_', ' '):<16} {text}")
    if one.origin.trial:
        click.echo(f"    {'trial':<16} {'; '.join(one.origin.trial)}")
    for value in one.values.values():
        click.echo(f"\n{_word(one, value)}   {references.value_said(value)}   test {value.test}")
        for what, said in value.conditions.items():
            click.echo(f"    {what} = {said}")
        for line in _picture(value):
            click.echo(line)


def _picture(value: ReferenceValue) -> Iterator[str]:
    """The lines of a picture of a value: of connections and tables their rows, of curves what they look like."""
    kind = value.type
    if isinstance(kind, Compound) and not value.axes:
        heads, rows = kind.form.rows(str(value.values[0]))
        yield "    " + " | ".join(heads)
        yield from ("    " + " | ".join(row) for row in rows)
    if not isinstance(kind, Quantity) or not value.axes:
        return
    *outer, axis = value.axes
    places = references.points_of(axis, len(value.values))
    if any(isinstance(point, str) for point in places):
        return
    x, count = [float(point) for point in places], len(places)
    for number in range(min(MOST_DRAWN, len(value.values) // count)):
        part = value.values[number * count : (number + 1) * count]
        at = f" ({references.place_said(tuple(outer), number)})" if outer else ""
        for name, shown_as, ys in _drawn(value, part):
            yield ""
            yield from draw_curve(x, ys, column_of(axis.name, axis.type), column_of(name + at, shown_as))


def _drawn(value: ReferenceValue, part: tuple[Any, ...]) -> Iterator[tuple[str, Type, list[float]]]:
    """What is drawn of a curve: itself, or the size and the phase of a complex one."""
    numbers = [math.nan if number is None else number for number in part]
    if not any(isinstance(number, complex) for number in numbers):
        yield value.name, value.type, [float(number) for number in numbers]
        return
    both = [complex(number) for number in numbers]
    yield f"abs({value.name})", Quantity((), value.type.dimension, value.type.shown), [abs(number) for number in both]
    angles = [math.degrees(math.atan2(number.imag, number.real)) for number in both]
    yield f"phase({value.name}) in degrees", Quantity(), angles


@command.command("compare")
@click.argument("first")
@click.argument("second")
def compare_command(first: str, second: str) -> None:
    """Compares two references: how far each value is apart at most, and what was otherwise when they were measured.

    \b
    ibexite golden compare antenna_lead antenna_lead.B
    """
    project = find_project(Path.cwd()).folder
    one, other = references.find(project, first), references.find(project, second)
    for name in dict.fromkeys([*one.values, *other.values]):
        if name not in one.values or name not in other.values:
            click.echo(f"{name}   only in {first if name in one.values else second}")
            continue
        a, b = one.values[name], other.values[name]
        click.echo(f"{name}   {_apart(a, b)}")
        for line in references.otherwise(a, b):
            click.echo(f"    {line}")


def _apart(a: ReferenceValue, b: ReferenceValue) -> str:
    found = references.greatest_difference(a, b)
    if isinstance(found, str):
        return found or "the same"
    size, place = found
    at = references.place_said(a.axes, place)
    apart = format_value(size, references.difference_of(a), digits=4)
    return f"apart by at most {apart}{f' at {at}' if at else ''}" if size else "the same"


@command.command("approve")
@click.argument("name")
@click.option("--by", required=True, help="Who approves it.")
@click.option("--reason", required=True, help="Why.")
def approve_command(name: str, by: str, reason: str) -> None:
    """Approves a reference as it is now: runs that use it are no trials for it any more. An edit undoes that.

    \b
    ibexite golden approve antenna_lead --by "R. Tamm" --reason "unit 17 of the pilot lot, drawing T-204"
    """
    project = find_project(Path.cwd()).folder
    approval = references.approve_reference(project, references.find(project, name), by, reason)
    click.echo(f"{approval.file} approved by {approval.by}: {approval.reason}")


def _as_data(one: Reference) -> Fields:
    values = {
        name: {"test": v.test, "unit": v.type.unit, "axes": [axis.name for axis in v.axes], "conditions": v.conditions}
        for name, v in one.values.items()
    }
    return {
        "name": one.name, "path": one.path, "product": one.product, "variant": one.variant, "run": one.origin.run,
        "unit": one.origin.unit, "measured": one.origin.measured, "verdict": one.origin.verdict,
        "trial": list(one.origin.trial), "notes": one.origin.notes,
        "values": values,
    }  # fmt: skip
