"""The folder of the records: where it is, and opening it after runs that were left over have been taken in."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import RecordsError
from ibexite.plain_file import is_folder
from ibexite.station.project import Project, find_project

if TYPE_CHECKING:
    from ibexite.records.lookup import Lookup

LOOKING_PATIENCE = 0.5  # s; a list of runs does not wait for whoever is writing the store


def records_folder(given: Path | None, project: Project | None = None) -> Path:
    """The folder of the records: the one that was named, or that of the project."""
    return given or (project or find_project(Path.cwd())).records


def open_lookup(folder: Path) -> tuple[Lookup, list[str]]:
    """The store for reading, and what became of the runs that were left over."""
    from ibexite.records import gateway

    told = take_in_left_over(folder)
    return gateway.open_lookup(folder), told


def take_in_left_over(folder: Path) -> list[str]:
    """Stores runs that broke off, and completes a store of an older version; what is to be told of it. What cannot be
    stored just now does not keep anybody from looking at what is there."""
    from ibexite.records.gateway import is_older, open_store
    from ibexite.records.journal import SUFFIX

    journals = folder / "journals"
    waiting = sum(1 for _ in journals.glob("*" + SUFFIX)) if is_folder(journals) else 0
    if not waiting and not is_older(folder):
        return []

    try:
        with contextlib.closing(open_store(folder, patience=LOOKING_PATIENCE)) as store:
            stored, damaged = store.take_in_left_over()
    except RecordsError as error:
        what = f"not stored yet: {waiting} run{'s' if waiting > 1 else ''}: " if waiting else ""
        return [f"{what}{error.what}. What is stored is shown."]
    return [FOUND.format(run=run) for run in stored] + [SET_ASIDE.format(text=text) for text in damaged]


FOUND = "found a run that was not stored yet: {run}"
SET_ASIDE = "a damaged journal was set aside: {text}"
