"""The project: the folder of a sequence, its settings in ibexite.toml, and where its records are."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError
from ibexite.plain_file import is_folder, is_there

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.toml_reader import TomlTable

FILE_NAME = "ibexite.toml"


REFUSE, TRIAL = "refuse", "trial"  # what becomes of a retest that the policy does not allow
KEPT, REPLACED = "kept", "replaced"  # and what a retest that it allows does to the verdict of the first pass


@dataclass(frozen=True, slots=True)
class RetestPolicy:
    """Which retests a project allows: how often a test may be run again (None: as often as it takes), and by whom (no
    names: by anybody)."""

    times: int | None = None
    operators: tuple[str, ...] = ()
    beyond: str = TRIAL
    first_pass: str = KEPT


@dataclass(frozen=True, slots=True)
class Project:
    """Where things are. `bench` is None when the project names none; `benches` names others for single sequences."""

    folder: Path
    bench: Path | None
    records: Path
    benches: dict[str, Path] = field(default_factory=dict)
    measurements: tuple[Path, ...] = ()  # folders of measurements that a team shares
    variants: frozenset[str] = frozenset()  # parameters that may be set from outside without making a trial
    retest: RetestPolicy = RetestPolicy()

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
    policy = _policy(table.table("retest"))
    entries.finish()
    table.finish()
    return Project(
        folder, folder / bench if bench else None, folder / records, named,
        tuple(folder / name for name in measurements), frozenset(variants), policy,
    )  # fmt: skip


def _policy(table: TomlTable) -> RetestPolicy:
    times = table.integer("times", None)
    if times is not None and times < 0:
        table.note("times", f"{times} times", "It is how often a test may be run again: 0 or more.")
    words = {"beyond": (REFUSE, TRIAL), "first_pass": (KEPT, REPLACED)}
    found = {key: table.text(key, default) for key, default in (("beyond", TRIAL), ("first_pass", KEPT))}
    for key, known in words.items():
        if found[key] not in known:
            table.note(key, f"{found[key]!r} is none of its words", f"It takes {known[0]} or {known[1]}.")
    operators = tuple(table.texts("operators", []))
    table.finish()
    return RetestPolicy(times, operators, found["beyond"], found["first_pass"])


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
