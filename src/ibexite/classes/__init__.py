"""The instrument classes: a contract of settings, readings and actions with units. One file for each, beside this
module; a project may have its own in its folder `classes`, which are as good.

Sequences are vetted against a class, profiles promise to fulfil it, the simulated instruments stand in for it.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cache
from pathlib import Path

from ibexite.classes.class_files import read_class
from ibexite.classes.features import (
    ARBITRARY,
    ARM,
    PLAYER,
    RECORDER,
    START,
    Argument,
    Feature,
    InstrumentClass,
    lines_of_use,
)  # fmt: skip
from ibexite.errors import MistakeError
from ibexite.plain_file import is_folder, is_there

__all__ = [
    "ARBITRARY",
    "ARM",
    "PLAYER",
    "PROJECT_FILE",
    "RECORDER",
    "START",
    "Argument",
    "Classes",
    "Feature",
    "InstrumentClass",
    "class_in",
    "classes_around",
    "instrument_classes",
    "lines_of_use",
]

PROJECT_FILE = "ibexite.toml"  # in the folder of a project
_SHIPPED = Path(__file__).parent


class Classes(Mapping[str, InstrumentClass]):
    """The classes by name: those that ship, and those in a folder of files. Each is read when it is asked for.

    Looking one up raises MistakeError where something is wrong in its file.
    """

    def __init__(self, folder: Path | None = None) -> None:
        self._files = {path.stem: path for path in sorted(_SHIPPED.glob("*.toml"))}
        own = {path.stem: path for path in sorted(folder.glob("*.toml"))} if folder is not None else {}
        for name in own.keys() & self._files.keys():
            raise MistakeError(
                f"a class {name} ships with the tool", where=str(own[name]),
                remedy="Call yours otherwise, so that nobody takes one for the other.",
            )  # fmt: skip
        self._files |= own
        self._read: dict[str, InstrumentClass] = {}

    def __getitem__(self, name: str) -> InstrumentClass:
        if name not in self._read:
            path = self._files[name]
            self._read[name] = read_class(path, self._files.get, ships=path.parent == _SHIPPED)
        return self._read[name]

    def __contains__(self, name: object) -> bool:
        return name in self._files

    def __iter__(self) -> Iterator[str]:
        return iter(self._files)

    def __len__(self) -> int:
        return len(self._files)


@cache
def instrument_classes() -> Classes:
    """The classes that ship."""
    return Classes()


def class_in(path: Path) -> InstrumentClass:
    """The class in a file of one's own. Raises MistakeError: all that is wrong in it."""
    return read_class(path, Classes(path.absolute().parent)._files.get)


def classes_around(start: Path) -> Classes:
    """The classes that a file in this folder may name: those that ship, and those in the folder `classes` of the
    project around it (the nearest folder upwards with an ibexite.toml, else the folder itself)."""
    start = start.absolute()
    root = next((folder for folder in (start, *start.parents) if is_there(folder / PROJECT_FILE)), start)
    own = root / "classes"
    return Classes(own) if is_folder(own) else instrument_classes()
