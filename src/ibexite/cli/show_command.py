"""`ibexite show`."""

from __future__ import annotations

import json
from pathlib import Path

import click

from ibexite.cli.options import format_option, open_records, records_option
from ibexite.cli.view import verdict_word
from ibexite.records.stored_run import Grid, RunRecord, TestRecord
from ibexite.untyped import Fields
from ibexite.wording import duration_text, judged_text, place_text, single_text


@click.command("show")
@click.argument("run")
@records_option
@format_option
def command(run: str, records: Path | None, output: str) -> None:
    """Shows a run: verdict, each judged value with limits and margin, what was not run.

    RUN is an id or a part of one, a serial number (its latest run), or the word last.

    \b
    ibexite show last
    """
    lookup = open_records(records)
    record = lookup.run(lookup.find(run))
    lookup.close()
    if output == "json":
        click.echo(json.dumps(_as_data(record), indent=2))
        return
    row = record.row
    click.echo(
        f"{verdict_word(row['verdict'], record.verdict_text)}   {row['serial']}   {row['sequence']}"
        + (f", revision {row['revision']}" if row["revision"] else "")
    )
    click.echo(
        f"run {row['id']}   {record.started_text}   {duration_text(row['duration'])}   "
        f"bench {row['bench']}   operator {row['operator'] or 'not named'}"
    )
    if row["reason"]:
        click.echo(row["reason"])
    if row["first_verdict"]:
        click.echo(f"first pass: {row['first_verdict']} (run {row['first_run']})")
    if row["trial_reasons"]:
        click.echo(f"a trial, because: {'; '.join(row['trial_reasons'].splitlines())}")
    for part in record.parts:
        _show_test(part)
    for remark in row["remarks"]:
        if remark["kind"] in ("problem", "halted", "limiting", "left", "guardian"):
            click.echo(f"\n  {remark['kind']:<8} {remark['text']}")


def _show_test(test: TestRecord) -> None:
    row = test.row
    took = duration_text(row["duration"]) if row["duration"] else ""
    origin = f"from run {row['run']}" if row["run"] else ""
    head = [f"\n  {verdict_word(row['verdict'], width=8)} {row['name']}", row["title"], row["reason"] or took, origin]
    click.echo("   ".join(part for part in head if part))
    for result in test.results:
        text = judged_text(result)
        points = "" if result["judged"] == 1 else f"{result['failed']} of {result['judged']} failed"
        if result["bad"]:
            points += f", {result['bad']} bad"
        points += f"{', ' if points else ''}n = {result['n']}" if result["n"] else ""
        where = "   ".join(
            part for part in (place_text(result["at"], result["axes"]), points, result["reason"]) if part
        )
        margin = f"margin {text.margin_with_unit}" if text.margin else ""
        word = verdict_word(result["verdict"], width=6)
        columns = (
            f"{result['label'][:40]:<29} {text.value_with_unit or '-':>12}   {text.limits:<20} {margin:<17} {where}"
        )
        click.echo(f"    {word} {columns}".rstrip())
    for line in _values(test.grids):
        click.echo(line)
    for bad in test.bad_readings:
        click.echo(f"    bad    {bad['name']}: {bad['reason']} (reply {bad['raw']!r})")


def _values(grids: list[Grid]) -> list[str]:
    """Tables and single values, a line each; curves of one name that were read within loops in one line. Long series
    are not read for it."""
    counts: dict[object, int] = {}
    lines: dict[object, str] = {}
    for number, grid in enumerate(grids):
        names = ", ".join(c["name"] for c in grid.columns if c["origin"] != "sweep")
        if not grid.axes:
            lines[number] = f"    value  {names} = {single_text(grid.columns[0], grid.data[0][0])}"
            continue
        outer = list(grid.place["at"]) if grid.place else []
        key: object = (names, *outer) if outer else number
        counts[key] = counts.get(key, 0) + len(grid.data[0])
        lines[key] = f"    data   {names} over {', '.join([*outer, *grid.axes])}, {counts[key]} rows"
    return list(lines.values())


def _as_data(record: RunRecord) -> Fields:
    return {
        "run": record.row,
        "tests": [
            {
                "test": t.row,
                "results": t.results,
                "bad_readings": t.bad_readings,
                "data": [g.columns_as_text() for g in t.grids],
            }
            for t in record.parts
        ],
    }
