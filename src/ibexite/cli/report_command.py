"""`ibexite report`."""

from __future__ import annotations

from pathlib import Path

import click

from ibexite.cli.options import open_records, records_option
from ibexite.errors import MistakeError
from ibexite.station.project import shown_path


@click.command("report")
@click.argument("run")
@click.option("--out", type=click.Path(path_type=Path), help="The file; default: named by unit and run.")
@records_option
def command(run: str, out: Path | None, records: Path | None) -> None:
    """Writes the report of a run: one self-contained HTML file.

    \b
    ibexite report FC00400 --out report.html
    """
    from ibexite.reports.report import write_report

    if out is not None and out.suffix.lower() not in (".html", ".htm"):
        raise MistakeError(
            f"{str(out)!r} is no name for a report", where="--out", remedy="A report is HTML: let it end in .html."
        )
    lookup = open_records(records)
    record = lookup.run(lookup.find(run))
    lookup.close()
    path = out or Path(f"{record.row['serial'][:80]}_{record.row['id']}.html")
    write_report(record, path)
    click.echo(shown_path(path))
