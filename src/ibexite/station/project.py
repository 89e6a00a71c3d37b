"""The project: the folder of a sequence, its settings in ibexite.toml, and where its records are."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError
from ibexite.plain_file import is_folder, is_there

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile

FILE_NAME = "ibexite.toml"


@dataclass(frozen=True, slots=True)
class Project:
    """Where things are. `bench` is None when the project names none; `benches` names others for single sequences."""

    folder: Path
    bench: Path | None
    records: Path
    benches: dict[str, Path] = field(default_factory=dict)
    measurements: tuple[Path, ...] = ()  # folders of measurements that a team shares
    variants: frozenset[str] = frozenset()  # parameters that may be set from outside without making a trial

    def bench_for(self, sequence: Path) -> Path | None:
        """The bench of a sequence."""
        return self.benches.get(sequence.name, self.bench)


def find_project(start: Path) -> Project:
    """The project around a file or folder: the nearest folder upwards with an ibexite.toml, else the folder itself."""
    start = start.absolute()
    folder = start if is_folder(start) else start.parent
    for candidate in (folder, *folder.parents):
        if is_there(candidate / FILE_NAME):  # a folder of this name is refused, not passed over
            return _read(candidate)
    return Project(folder, None, folder / "records")


def _read(folder: Path) -> Project:
    from ibexite.toml_reader import read_toml

    table = read_toml(folder / FILE_NAME, what="project file")
    entries = table.table("project", needed=True)
    entries.text("name", "")
    bench, records = entries.text("bench", ""), entries.text("records", "records")
    measurements, variants = entries.texts("measurements", []), entries.texts("variants", [])
    benches = entries.table("benches")
    named = {name: folder / benches.text(name) for name in benches}
    entries.finish()
    table.finish()
    return Project(
        folder, folder / bench if bench else None, folder / records, named,
        tuple(folder / name for name in measurements), frozenset(variants),
    )  # fmt: skip


def shown_path(path: Path) -> str:
    """A path as people read it: relative to where they are, if it lies below."""
    try:
        return str(path.absolute().relative_to(Path.cwd()))
    except ValueError:
        return str(path)


def bench_at_desk(given: Path | None, folder: Path) -> Path:
    """The bench file to use without a sequence: one that is named, that of the project, or bench.toml of the folder.

    Raises:
        MistakeError: there is none.
    """
    bench = given or find_project(folder).bench or folder / "bench.toml"
    if given is None and not bench.exists() and "@" not in bench.name:
        raise MistakeError("no bench is named", remedy=f"Add --bench bench.toml, or name one in {FILE_NAME}.")
    return bench


def need_bench(given: Path | None, project: Project, sequence: Path) -> Path:
    """The bench file to use.

    Raises:
        MistakeError: neither an option nor the project names one.
    """
    bench = given or project.bench_for(sequence)
    if bench is None:
        raise MistakeError("no bench is named", remedy=f"Add --bench bench.toml, or name one in {FILE_NAME}.")
    return bench


def bench_at(given: Path | None, position: str, sequence: Path) -> Path | None:
    """The bench file with the product at a position, in place of one that stands behind its name; as it is given where
    no position is named. Raises MistakeError: there is none."""
    if not position:
        return given
    bench = need_bench(given, find_project(sequence), sequence)
    name = bench.name if bench.exists() else bench.name.partition("@")[0]
    return bench.with_name(f"{name}@{position}")


def need_position(bench: BenchFile) -> None:
    """Raises MistakeError: nobody has said at which of its positions the product is."""
    if bench.positions and not bench.position:
        raise MistakeError(
            f"the product may be at {', '.join(bench.positions)}", where=str(bench.path),
            remedy=f"Say where it is, behind the file: --bench {bench.path.name}@{bench.positions[0]}",
        )  # fmt: skip
