"""`ibexite rejudge`."""

from __future__ import annotations

import json
from collections import Counter
from pathlib import Path

import click

from ibexite.cli.options import findings_end_it, format_option, open_records, records_option
from ibexite.cli.terminal_operator import login_name
from ibexite.cli.view import verdict_word
from ibexite.errors import MistakeError
from ibexite.records.lookup import Lookup
from ibexite.records.many_runs import chosen_runs
from ibexite.records.stored_run import verdict_text
from ibexite.station.given import uncertainty_of
from ibexite.station.judging_again import How, Judge, Judged, keep
from ibexite.station.many_units import conditions_from
from ibexite.station.records_folder import records_folder
from ibexite.untyped import Fields


@click.command("rejudge")
@click.argument("runs", nargs=-1, metavar="[RUN]...")
@click.option("--lot", default="", help="All runs of this lot.")
@click.option("--where", "where", multiple=True, metavar="KEY=VALUE", help="Only runs like this (again for more): "
              "product, sequence, serial, verdict, bench, operator, station, since, until.")  # fmt: skip
@click.option("--limits", type=click.Path(path_type=Path), help="Another limit table.")
@click.option("--sequence", type=click.Path(path_type=Path), help="Another sequence.")
@click.option("--guard", default="", metavar="T", help="An uncertainty for all checks of its unit that name none.")
@click.option("--keep", "is_kept", is_flag=True, help="Keep the second verdict beside the stored one, which stays.")
@records_option
@format_option
def command(
    runs: tuple[str, ...], lot: str, where: tuple[str, ...], limits: Path | None, sequence: Path | None, guard: str,
    is_kept: bool, records: Path | None, output: str,
) -> None:  # fmt: skip
    """Judges stored runs again, without the product: by the sequence as it is now, by other limits, with a guard.

    Formulas and checks are carried out on the readings of then by the same code as in a run. What would change is
    told; the stored verdict stays. What was never read cannot be judged, and is told.

    \b
    ibexite rejudge FC00411 --limits fm2_limits_next.csv
    ibexite rejudge --lot L7 --limits fm2_limits_next.csv
    ibexite rejudge --where since=2026-11-01 --guard "4 mV"
    """
    lookup = open_records(records)
    how = How(sequence, limits, uncertainty_of(guard, "--guard") if guard else None)
    found = []
    with findings_end_it():
        judge = Judge(lookup, how)
        for one in judge.judged(_chosen(lookup, runs, conditions_from(where, lot))):
            found.append(one)
            if output == "text" and (one.differs or one.not_again):
                _show(one)
    if not judge.is_guarding:
        raise MistakeError(f"no check judges what is guarded by {guard}", where="--guard", remedy="Look at its unit.")
    if is_kept:
        keep(records_folder(records), found, how, login_name())
    if output == "json":
        click.echo(json.dumps([_as_data(one) for one in found], indent=2))
        return
    _totals(found)
    if is_kept:
        click.echo("kept beside the stored verdicts: ibexite show RUN")


def _chosen(lookup: Lookup, runs: tuple[str, ...], conditions: list[tuple[str, str]]) -> list[str]:
    if not runs and not conditions:
        raise MistakeError("which runs?", remedy="Name runs, or write --lot LOT or --where KEY=VALUE.")
    named = [lookup.find(word) for word in runs]
    found = [run.id for run in chosen_runs(lookup, conditions) if not named or run.id in named]
    if not found:
        raise MistakeError("there are no such runs", remedy="See ibexite runs.")
    return found


def _show(one: Judged) -> None:
    new = verdict_word(one.new.verdict, verdict_text(one.new.verdict, bool(one.trial)))
    was = "" if one.old == one.new.verdict else f"   was {one.old}"
    click.echo(f"{one.serial:<12} {new}{was}   run {one.run}")
    for change in one.changes:
        click.echo(f"    {change.test}: {change.check}")
        click.echo(f"        old  {change.old}")
        click.echo(f"        new  {change.new}")
    for test, why in one.not_again:
        click.echo(f"    {test}: not judged again, {why}")


def _totals(found: list[Judged]) -> None:
    moves = Counter((one.old, str(one.new.verdict)) for one in found)
    click.echo(f"\n{len(found)} run{'s' if len(found) > 1 else ''} judged again")
    for (old, new), count in sorted(moves.items()):
        click.echo(f"    {count:>5}  {old} stays" if old == new else f"    {count:>5}  {old} becomes {new}")
    checks = Counter(f"{change.test}: {change.check}" for one in found for change in one.changes)
    for check, count in checks.most_common(10):
        click.echo(f"    {count:>5}  {check} judged otherwise")


def _as_data(one: Judged) -> Fields:
    return {
        "run": one.run, "serial": one.serial, "old": one.old, "new": one.new.verdict,
        "trial": [reason._asdict() for reason in one.trial],
        "changes": [change.as_entry() for change in one.changes],
        "not_again": [{"test": test, "why": why} for test, why in one.not_again], "files": one.files,
    }  # fmt: skip
