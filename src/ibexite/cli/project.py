"""The project: the folder of a sequence, its settings in ibexite.toml, and where its records are."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from ibexite.errors import MistakeError

FILE_NAME = "ibexite.toml"


@dataclass(frozen=True, slots=True)
class Project:
    """Where things are. `bench` is None when the project names none."""

    folder: Path
    bench: Path | None
    records: Path


def find_project(start: Path) -> Project:
    """The project around a file or folder: the nearest folder upwards with an ibexite.toml, else the folder itself."""
    start = start.absolute()
    folder = start if start.is_dir() else start.parent
    for candidate in (folder, *folder.parents):
        if (candidate / FILE_NAME).is_file():
            return _read(candidate)
    return Project(folder, None, folder / "records")


def _read(folder: Path) -> Project:
    from ibexite.toml_reader import read_toml

    table = read_toml(folder / FILE_NAME, what="project file")
    entries = table.table("project", needed=True)
    entries.text("name", "")
    bench, records = entries.text("bench", ""), entries.text("records", "records")
    entries.finish()
    table.finish()
    return Project(folder, folder / bench if bench else None, folder / records)


def shown_path(path: Path) -> str:
    """A path as people read it: relative to where they are, if it lies below."""
    try:
        return str(path.absolute().relative_to(Path.cwd()))
    except ValueError:
        return str(path)


def need_bench(given: Path | None, project: Project) -> Path:
    """The bench file to use.

    Raises:
        MistakeError: neither an option nor the project names one.
    """
    bench = given or project.bench
    if bench is None:
        raise MistakeError("no bench is named", remedy=f"Add --bench bench.toml, or name one in {FILE_NAME}.")
    return bench
