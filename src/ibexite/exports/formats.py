"""The formats of exports. A further one is a module with `files_of(run)`, which gives its files by name, as texts or
bytes, and its line here; where it cannot hold all that a run has, with `left_out(run)`, which says what."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import NamedTuple

from ibexite.errors import RecordsError
from ibexite.plain_file import written_whole
from ibexite.records.stored_run import RunRecord


class ExportFormat(NamedTuple):
    """A format: the suffix of its files, the module that makes them, what it is for, whether it holds all numbers."""

    suffix: str
    module: str
    help: str
    is_whole: bool = True


FORMATS: dict[str, ExportFormat] = {
    "csv": ExportFormat(".csv", "ibexite.exports.csv_tables", "results, single values, and one table for each sweep"),
    "json": ExportFormat(".json", "ibexite.exports.json_data", "all of it in one file"),
    "wav": ExportFormat(
        ".wav", "ibexite.exports.wave_files", "waveforms alone; the comment of a file tells what 1 is", is_whole=False
    ),
}


def export(run: RunRecord, name: str, folder: Path) -> list[Path]:
    """Writes the files of a format into a folder, each whole or not at all; their paths.

    Raises:
        RecordsError: a file cannot be written, or the run has nothing for this format.
    """
    kind = FORMATS[name]
    written = []
    for file, content in import_module(kind.module).files_of(run).items():
        path = folder / f"{file}{kind.suffix}"
        try:
            with written_whole(path) as side:
                side.write_bytes(content if isinstance(content, bytes) else content.encode())
        except OSError as error:
            raise RecordsError(
                f"cannot be written ({error.strerror})", where=str(folder), remedy="Name another folder with --out."
            ) from None
        written.append(path)
    return written


def left_out(run: RunRecord, name: str) -> list[str]:
    """What a format should hold of a run and cannot, each with the reason."""
    told = getattr(import_module(FORMATS[name].module), "left_out", None)
    return [] if told is None else told(run)
