"""The formats of exports. A further one is a module with `files_of(run)`, which gives the texts of its files by name,
and its line here."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import NamedTuple

from ibexite.errors import RecordsError
from ibexite.plain_file import written_whole
from ibexite.records.stored_run import RunRecord


class ExportFormat(NamedTuple):
    """A format: the suffix of its files, the module that makes them, and what it is for."""

    suffix: str
    module: str
    help: str


FORMATS: dict[str, ExportFormat] = {
    "csv": ExportFormat(".csv", "ibexite.exports.csv_tables", "results, single values, and one table for each sweep"),
    "json": ExportFormat(".json", "ibexite.exports.json_data", "all of it in one file"),
}


def export(run: RunRecord, name: str, folder: Path) -> list[Path]:
    """Writes the files of a format into a folder, each whole or not at all; their paths.

    Raises:
        RecordsError: a file cannot be written.
    """
    kind = FORMATS[name]
    written = []
    for file, text in import_module(kind.module).files_of(run).items():
        path = folder / f"{file}{kind.suffix}"
        try:
            with written_whole(path) as side:
                side.write_text(text, encoding="utf-8", newline="")
        except OSError as error:
            raise RecordsError(
                f"cannot be written ({error.strerror})", where=str(folder), remedy="Name another folder with --out."
            ) from None
        written.append(path)
    return written
