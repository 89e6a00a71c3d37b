"""`ibexite show`."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path

import click

from ibexite.cli.options import format_option, open_records, records_option
from ibexite.cli.view import verdict_word
from ibexite.compound import count_said
from ibexite.errors import MistakeError, did_you_mean
from ibexite.instruments.traffic_file import shown
from ibexite.records.grids import Grid
from ibexite.records.stored_run import RunRecord, TestRecord, verdict_text
from ibexite.untyped import Fields
from ibexite.verdicts import to_do
from ibexite.wording import duration_text, judged_text, limits_told, place_text, points_told, single_text


@click.command("show")
@click.argument("run")
@click.option(
    "--traffic",
    is_flag=False,
    flag_value="",
    metavar="[INSTRUMENT]",
    help="What was said last, to all or to one, if the run did not end by itself.",
)
@records_option
@format_option
def command(run: str, traffic: str | None, records: Path | None, output: str) -> None:
    """Shows a run: verdict, each judged value with limits and margin, what was not run.

    RUN is an id or a part of one, a serial number (its latest run), or the word last.

    \b
    ibexite show last
    ibexite show last --traffic psu
    """
    lookup = open_records(records)
    record = lookup.run(lookup.find(run))
    said = lookup.traffic(record.row["id"]) if traffic is not None else []
    second = lookup.second_verdicts(record.row["id"])
    lookup.close()
    if traffic is not None:
        _show_traffic(record, said, traffic, output)
        return
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
        f"bench {record.bench_text}   operator {row['operator'] or 'not named'}"
    )
    if row["reason"]:
        click.echo(row["reason"])
    if row["first_verdict"]:
        click.echo(f"first pass: {row['first_verdict']} (run {row['first_run']})")
    if row["trial_reasons"]:
        click.echo(f"a trial, because: {'; '.join(row['trial_reasons'].splitlines())}")
        click.echo(f"   to do: {'; '.join(to_do(reason['code'] for reason in row['trial']))}")
    for one in second:
        word = verdict_text(one["verdict"], bool(one["is_trial"]))
        by = f" by {one['operator']}" if one["operator"] else ""
        guard = f", guarded by {one['guard']}" if one["guard"] else ""
        files = ", ".join(file["name"] for file in one["files"])
        click.echo(f"judged again: {word}, {one['judged'][:16].replace('T', ' ')} UTC{by}, by {files}{guard}")
    for part in record.parts:
        _show_test(part, record.attempts_of(part.row["name"]))
    for remark in row["remarks"]:
        if remark["kind"] in ("problem", "halted", "limiting", "left", "guardian"):
            click.echo(f"\n  {remark['kind']:<8} {remark['text']}")


def _show_traffic(record: RunRecord, said: list[Fields], only: str, output: str) -> None:
    """The messages, those of one instrument if it is named; of a reply how long it took since its question."""
    names = [instrument["name"] for instrument in record.row["instruments"]]
    if only and only not in names:
        raise MistakeError(f"no instrument {only!r} took part", where="--traffic", remedy=did_you_mean(only, names))
    said = [message for message in said if not only or message["instrument"] == only]
    if output == "json":
        click.echo(json.dumps(said, indent=2))
        return
    if not said:
        ended = record.row["verdict"] not in ("error", "aborted")
        click.echo(
            "nothing is kept: the run ended by itself; run --traffic FILE writes all of it" if ended else "nothing"
        )
        return
    asked: dict[str, float] = {}
    for message in said:
        name, direction = message["instrument"], message["direction"]
        took = message["t"] - asked.pop(name, message["t"]) if direction == "<" else 0.0
        if direction == ">":
            asked[name] = message["t"]
        behind = f"   ({1000 * took:.3f} ms)" if direction == "<" and took > 0 else ""
        click.echo(f"{message['t']:12.6f} {name} {direction} {shown(message['message'].encode('latin-1'))}{behind}")


def _show_test(test: TestRecord, attempts: list[str]) -> None:
    row = test.row
    took = duration_text(row["duration"]) if row["duration"] else ""
    origin = f"from run {row['run']}" if row["run"] else ""
    head = [f"\n  {verdict_word(row['verdict'], width=8)} {row['name']}", row["title"], row["reason"] or took, origin]
    click.echo("   ".join(part for part in head if part))
    for number, told in enumerate(attempts, 1):
        click.echo(f"    attempt {number}: {told}")
    for result in test.results:
        text = judged_text(result)
        points = points_told(result)
        where = "   ".join(
            part for part in (place_text(result["at"], result["axes"]), points, result["reason"]) if part
        )
        margin = f"margin {text.margin_with_unit}" if text.margin else ""
        word = verdict_word(result["verdict"], width=6)
        columns = (
            f"{result['label'][:40]:<29} {text.value_with_unit or '-':>12}   {text.limits:<20} {margin:<17} {where}"
        )
        click.echo(f"    {word} {columns}".rstrip())
        for kind, text in result["differences"]:
            click.echo(f"           {kind:<13} {text}")
        for told in limits_told(result):
            click.echo(f"           {told}")
    for line in _values(test.grids):
        click.echo(line)
    for bad in test.bad_readings:
        reply = f" (reply {bad['raw']!r})" if bad["raw"] else ""
        click.echo(f"    bad    {bad['name']}: {bad['reason']}{reply}")


def _values(grids: list[Grid]) -> Iterator[str]:
    """Tables and single values, a line each. Long series are not read for it."""
    for grid in grids:
        names = ", ".join(c["name"] for c in grid.columns if c["origin"] != "sweep")
        if grid.axes:
            yield f"    data   {names} over {', '.join(grid.axes)}, {count_said(len(grid.data[0]), 'row')}"
        else:
            yield f"    value  {names} = {single_text(grid.columns[0], grid.data[0][0])}"


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
