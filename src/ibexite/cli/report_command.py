"""`ibexite report`."""

from __future__ import annotations

from pathlib import Path

import click

from ibexite.cli.options import open_records, records_option
from ibexite.reports.formats import SUFFIX, format_of, write_report
from ibexite.station.project import shown_path


@click.command("report")
@click.argument("run")
@click.option("--out", type=click.Path(path_type=Path), help="The file; default: named by unit and run.")
@records_option
def command(run: str, out: Path | None, records: Path | None) -> None:
    """Writes the report of a run: one self-contained HTML file, or plain lines where the name ends in .txt.

    \b
    ibexite report FC00400 --out report.html
    """
    if out is not None:
        format_of(out)  # before anything is looked up
    lookup = open_records(records)
    record = lookup.run(lookup.find(run))
    lookup.close()
    path = out or Path(f"{record.row['serial'][:80]}_{record.row['id']}{SUFFIX}")
    write_report(record, path)
    click.echo(shown_path(path))
