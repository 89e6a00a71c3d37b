"""`ibexite limits`: limits proposed from many units, and who has approved which file."""

from __future__ import annotations

import contextlib
import datetime
import re
from collections.abc import Collection, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.cli.options import open_records, records_option
from ibexite.errors import MistakeError
from ibexite.plain_file import cannot_write, is_there, written_whole
from ibexite.records.many_runs import judged_numbers
from ibexite.reports.of_units import CurvesOfUnits, ValuesOfUnits
from ibexite.station import proposed_masks, proposing
from ibexite.station.approving import approve_file, standings
from ibexite.station.given import uncertainty_of
from ibexite.station.limit_methods import Method, method_of, parts_of_octave
from ibexite.station.many_units import Units, conditions_from, measured_alike, units_of
from ibexite.station.project import find_project, shown_path

if TYPE_CHECKING:
    from ibexite.records.lookup import Lookup
    from ibexite.station.proposed_masks import ProposedMask
    from ibexite.station.proposing import ProposedTable
    from ibexite.units import Amount

MOST_NAMED = 12
MASK_NAME = re.compile(r"[\w-]+(\.[\w-]+)?")


@click.group("limits")
def command() -> None:
    """Limits from many units, as proposals until somebody approves them.

    \b
    ibexite limits from --lot L7 --sigma 4 --out fm2_limits.csv
    ibexite limits from --lot L7 --curve filter.gain --sigma 4 --as filter_gain
    ibexite limits approve fm2_limits.csv --by "R. Tamm" --reason "pilot lot L7, drawing T-118"
    ibexite limits list
    """


@command.command("from")
@click.argument("runs", nargs=-1, metavar="[RUN]...")
@click.option("--lot", default="", help="All units of this lot.")
@click.option("--where", "where", multiple=True, metavar="KEY=VALUE", help="Only runs like this (again for more): "
              "product, sequence, serial, verdict, bench, operator, station, since, until.")  # fmt: skip
@click.option("--without", multiple=True, metavar="SERIAL", help="Leave out this unit (again for more).")
@click.option("--without-outliers", is_flag=True, help="Leave out the units that are like no other.")
@click.option(
    "--curve", default="", metavar="TEST.NAME", help="A mask for this curve, not rows for all single numbers."
)
@click.option("--sigma", type=float, help="Mean plus and minus so many standard deviations; 4 where nothing is said.")
@click.option("--percentile", type=float, help="So many per cent of the units lie below, and as many above.")
@click.option("--tolerance", help='Mean plus and minus an amount, such as "0.5 dB".')
@click.option("--capability", type=float, help="As far from the mean as gives this Cpk.")
@click.option("--uncertainty", default="", metavar="T", help="Tell how many units would be judged wrongly, the "
              "expanded uncertainty (k = 2) of the measurement being T.")  # fmt: skip
@click.option("--aligned", is_flag=True, help="Curves are brought to one level first: a mask for the shape alone.")
@click.option("--smooth", default="", metavar="N/octave", help="Average the lines over parts of an octave.")
@click.option("--as", "name", default="", help="The name of the mask.")
@click.option("--out", type=click.Path(path_type=Path), help="The file of the limit table.")
@click.option("--replace", is_flag=True, help="In the place of the file that is there.")
@click.option("--picture", type=click.Path(path_type=Path), help="The file of the picture (PNG).")
@records_option
def from_command(
    runs: tuple[str, ...], lot: str, where: tuple[str, ...], without: tuple[str, ...], without_outliers: bool,
    curve: str, sigma: float | None, percentile: float | None, tolerance: str | None, capability: float | None,
    uncertainty: str, aligned: bool, smooth: str, name: str, out: Path | None, replace: bool, picture: Path | None,
    records: Path | None,
) -> None:  # fmt: skip
    """Proposes limits from the latest run of each of many units: rows of a limit table for every single number that a
    check judged, or a mask for a curve.

    Units that are like no other are named (median and MAD; curves by their distance over all points) and left out
    only when told. Those that were measured under other conditions are left out and named. The expected yield is told
    with its 95 % confidence interval. Runs that use a proposal are trials until it is approved.

    \b
    ibexite limits from --lot L7 --sigma 4 --out fm2_limits.csv
    ibexite limits from --lot L7 --curve filter.gain --percentile 0.5 --as filter_gain --without FC00427
    """
    method = method_of(sigma, percentile, tolerance, capability)
    lookup = open_records(records)
    units = units_of(lookup, runs, conditions_from(where, lot), without)
    risky = uncertainty_of(uncertainty, "--uncertainty") if uncertainty else None
    if curve:
        if risky is not None:
            raise MistakeError("--uncertainty is for single numbers", remedy="Leave it out, or --curve.")
        _from_curve(lookup, units, curve, method, (aligned, smooth, without_outliers), name, replace, picture)
        return
    if aligned or smooth or name:
        raise MistakeError("--aligned, --smooth and --as are for a curve", remedy="Name one: --curve test.name")
    path = out or Path("proposed_limits.csv")
    if path.suffix != ".csv":
        raise MistakeError(f"{path.name!r} is no name of a limit table", where="--out", remedy="It is written as .csv.")
    _refuse_what_is_there(path, replace)
    units = measured_alike(lookup, units, judged_numbers(lookup, units.ids))
    table = proposing.proposed_table(lookup, units, method)
    if without_outliers:
        table = proposing.proposed_table(lookup, units, method, ignoring=table.outliers)
    if risky is not None and not any(proposing.risks_said(row, risky) for row in table.rows):
        raise MistakeError(f"no value here has an uncertainty of {uncertainty}", where="--uncertainty",
                           remedy="Look at its unit.")  # fmt: skip
    _write(path, replace, proposing.table_text(table, units, method))
    _tell_table(table, risky)
    named = {serial: ", ".join(names) for serial, names in table.outliers.items()}
    _tell_units(units, named, table.passing, table.units, table.lacking)
    _tell_file(path)
    _draw(picture or path.with_suffix(".png"), proposing.values_picture(table, units, method))


def _refuse_what_is_there(path: Path, replaces: bool) -> None:
    if is_there(path) and not replaces:
        raise _there_is(path)


def _there_is(path: Path) -> MistakeError:
    return MistakeError("there is such a file", where=str(path), remedy="Write --replace, or another --out or --as.")


def _write(path: Path, replaces: bool, text: str) -> None:
    with _told(path), written_whole(path, is_new=not replaces) as side:
        side.write_text(text, encoding="utf-8")


@contextlib.contextmanager
def _told(path: Path) -> Iterator[None]:
    """What hinders the writing of a file is told."""
    try:
        yield
    except OSError as error:
        if isinstance(error, FileExistsError) and is_there(path):
            raise _there_is(path) from None
        raise cannot_write(path, error) from None


def _from_curve(
    lookup: Lookup, units: Units, curve: str, method: Method, how: tuple[bool, str, bool], name: str, replaces: bool,
    picture: Path | None,
) -> None:  # fmt: skip
    is_aligned, smooth, without_outliers = how
    test, _, value = curve.partition(".")
    if not value:
        raise MistakeError(f"--curve {curve!r} is not TEST.NAME", remedy="Write, for example: --curve filter.gain")
    called = name or value.replace(".", "_")
    if not MASK_NAME.fullmatch(called):
        raise MistakeError(
            f"{called!r} cannot be the name of a mask", where="--as",
            remedy="Letters, digits, - and _; behind a point the variant it is for.",
        )  # fmt: skip
    path = find_project(Path.cwd()).folder / "masks" / f"{called}.csv"
    _refuse_what_is_there(path, replaces)
    octave = parts_of_octave(smooth)

    def proposed(ignoring: Collection[str]) -> ProposedMask:
        return proposed_masks.proposed_mask(
            lookup, units, test, value, method, is_aligned=is_aligned, smooth=octave, ignoring=ignoring
        )

    units = measured_alike(lookup, units, {test: [value]})
    mask = proposed(())
    if without_outliers and mask.outliers:
        mask = proposed(mask.outliers)
    _write(path, replaces, proposed_masks.mask_text(mask, units, method))
    points = f"over {mask.curves.axis}, {len(mask.curves.x)} points"
    click.echo(f"{curve} {points}, from {len(mask.runs)} units, {method.told}")
    units = Units(units.product, units.runs, [*units.left_out, *mask.left_out], units.remarks)
    _tell_units(units, dict.fromkeys(mask.outliers, "over all points"), mask.passing, mask.units)
    line = f'check {value} inside mask("{path.stem}")'
    bound = f" aligned by {proposed_masks.move_said(mask)}" if mask.is_aligned else ""
    click.echo(f"\n{line}{bound}")
    _tell_file(path)
    _draw(picture or Path(f"{path.stem}.png"), proposed_masks.curves_picture(mask, units, method))


def _tell_table(table: ProposedTable, uncertainty: Amount | None) -> None:
    width = max(len(f"{row.test}.{row.name}") for row in table.rows)
    for row in table.rows:
        click.echo(f"  {f'{row.test}.{row.name}':<{width}}   {proposing.row_said(row)}")
        told = proposing.risks_said(row, uncertainty) if uncertainty is not None else ""
        if told:
            click.echo(f"  {'':<{width}}   {told}")
    for told in table.too_few:
        click.echo(f"  of too few units, no limits proposed: {told}")
    for label in table.without_name:
        click.echo(f"  {label}: a formula, which a table has no limits for; give it a name: let name = …")


def _tell_units(
    units: Units, outliers: dict[str, str], passing: int, count: int, lacking: dict[str, int] | None = None
) -> None:  # fmt: skip
    click.echo(f"\n{units.product}: {count} units")
    for serial, what in list(outliers.items())[:MOST_NAMED]:
        click.echo(f"  like no other: {serial} ({what})")
    for one in units.left_out[:MOST_NAMED]:
        click.echo(f"  left out: {one.serial} ({one.why})")
    for serial, many in list((lacking or {}).items())[:MOST_NAMED]:
        click.echo(f"  not whole: {serial} ({many} of its values {'are' if many > 1 else 'is'} missing)")
    for count_of, what in ((outliers, "like no other"), (units.left_out, "left out"), (lacking or {}, "not whole")):
        if len(count_of) > MOST_NAMED:
            click.echo(f"  and {len(count_of) - MOST_NAMED} more {what}")
    for remark in units.remarks:
        click.echo(f"  {remark}")
    click.echo(f"expected yield: {proposing.yield_said(passing, count)}")


def _tell_file(path: Path) -> None:
    click.echo(f'\n{shown_path(path)}: a proposal. ibexite limits approve {shown_path(path)} --by NAME --reason "…"')


def _draw(path: Path, picture: CurvesOfUnits | ValuesOfUnits) -> None:
    from ibexite.reports import spread_figure

    with _told(path), written_whole(path) as side:
        if isinstance(picture, CurvesOfUnits):
            spread_figure.draw_curves(picture, side)
        else:
            spread_figure.draw_values(picture, side)
    click.echo(f"{shown_path(path)}: a picture of it")


@command.command("approve")
@click.argument("file", type=click.Path(path_type=Path))
@click.option("--by", required=True, help="Who approves it.")
@click.option("--reason", required=True, help="Why.")
def approve_command(file: Path, by: str, reason: str) -> None:
    """Approves a limit table or a mask as it is now: runs that use it are no trials for it any more. An edit undoes
    that.

    \b
    ibexite limits approve fm2_limits.csv --by "R. Tamm" --reason "pilot lot L7, drawing T-118"
    """
    approval = approve_file(find_project(file).folder, file, by, reason, datetime.datetime.now(datetime.UTC))
    click.echo(f"{approval.file} approved by {approval.by}: {approval.reason}")


@command.command("list")
def list_command() -> None:
    """Lists the masks of the project and the limit tables that its sequences name, and whether they are approved.

    \b
    ibexite limits list
    """
    found = list(standings(find_project(Path.cwd()).folder))
    for path, standing in found:
        click.echo(f"{shown_path(path):<40} {standing}")
    if not found:
        click.echo("There are no masks and no limit tables here.")
