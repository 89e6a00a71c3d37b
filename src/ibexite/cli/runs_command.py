"""`ibexite runs`."""

from __future__ import annotations

import json
from pathlib import Path

import click

from ibexite.cli.options import format_option, open_records, records_option
from ibexite.cli.view import verdict_word
from ibexite.records.stored_run import local_time, verdict_text
from ibexite.wording import duration_text


@click.command("runs")
@click.option("--serial", default="", help="Only runs of this unit.")
@click.option("--verdict", default="", type=click.Choice(["pass", "fail", "error", "aborted", ""]), help="Only these.")
@click.option("--limit", default=50, show_default=True, type=click.IntRange(1), help="At most so many.")
@records_option
@format_option
def command(serial: str, verdict: str, limit: int, records: Path | None, output: str) -> None:
    """Lists stored runs, the newest first.

    \b
    ibexite runs --serial FC00400
    """
    lookup = open_records(records)
    rows = lookup.runs(serial=serial, verdict=verdict, limit=limit)
    lookup.close()
    if output == "json":
        click.echo(json.dumps(rows, indent=2))
        return
    if not rows:
        click.echo("no such run")
        return
    click.echo(f"{'run':<24} {'started':<20} {'unit':<12} {'verdict':<17} {'passed':<8} {'time':>11}   sequence")
    for row in rows:
        word = verdict_word(row["verdict"], verdict_text(row["verdict"], bool(row["is_trial"])), 17)
        started = local_time(row["started"], row["utc_offset"])
        passed = f"{row['passed']} of {row['tests']}"
        broken = ", broken off" if row["broken_off"] else ""
        broken += ", retest" if row["retest_of"] else ""
        click.echo(
            f"{row['id']:<24} {started:<20} {row['serial']:<12} {word} {passed:<8} "
            f"{duration_text(row['duration']):>11}   {row['sequence']}{broken}"
        )
