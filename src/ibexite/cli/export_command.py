"""`ibexite export`."""

from __future__ import annotations

from pathlib import Path

import click

from ibexite.cli.options import open_records, records_option
from ibexite.exports.formats import FORMATS, export, left_out
from ibexite.station.project import shown_path

WHAT = "; ".join(f"{name}, {known.help}" for name, known in FORMATS.items())


@click.command("export")
@click.argument("run")
@click.option("--to", "kind", type=click.Choice(list(FORMATS)), required=True, help=f"The format: {WHAT}.")
@click.option(
    "--out", type=click.Path(path_type=Path), help="Folder for the files; default: a folder named by the run."
)
@records_option
def command(run: str, kind: str, out: Path | None, records: Path | None) -> None:
    """Writes the data of a run to files. Numbers are base units, unrounded but in WAV files.

    \b
    ibexite export last --to csv --out data
    """
    lookup = open_records(records)
    record = lookup.run(lookup.find(run))
    lookup.close()
    folder = out or Path(f"{record.row['serial']}_{record.row['id']}")
    written = export(record, kind, folder)
    for path in written:
        click.echo(shown_path(path))
    for reason in left_out(record, kind):
        click.echo(f"left out: {reason}", err=True)
    for path in sorted(set(folder.glob("*" + FORMATS[kind].suffix)) - set(written)):
        click.echo(f"{shown_path(path)} was there before: it is not of this run", err=True)
