"""Reads a file that somebody named (a plain one, of a bounded size; everything else gets one clear message), and writes
files whole or not at all."""

from __future__ import annotations

import contextlib
import itertools
import os
import stat
from collections.abc import Callable, Iterator
from pathlib import Path

from ibexite.errors import MistakeError

_NUMBERS = itertools.count(1)  # of the files that this process writes beside others


def is_file(path: Path) -> bool:
    """Whether this is a plain file. A name that no file can have (too long, with a NUL) is one that is not there."""
    return _has(path.is_file)


def is_folder(path: Path) -> bool:
    """Whether this is a folder; names likewise."""
    return _has(path.is_dir)


def is_there(path: Path) -> bool:
    """Whether there is anything of this name, be it a link that leads nowhere; names likewise."""
    return _has(lambda: os.path.lexists(path))


def _has(question: Callable[[], bool]) -> bool:
    try:
        return question()
    except (OSError, ValueError):
        return False


def read_plain(path: Path, *, what: str, most: int) -> bytes:
    """The bytes of a file.

    Args:
        what: what kind of file was expected, for the messages ("bench file").
        most: bytes that it may have.

    Raises:
        MistakeError: it is missing, a folder, a pipe or device (which might never end), too large, or cannot be read.
    """
    name = str(path)
    try:
        state = path.stat()
        if stat.S_ISDIR(state.st_mode):
            raise MistakeError(f"this is a folder, not a {what}", where=name, remedy="Name a file.")
        if not stat.S_ISREG(state.st_mode):
            raise MistakeError(f"this is no plain file, and so no {what}", where=name, remedy="Name a file on a disk.")
        if state.st_size > most:
            raise MistakeError(
                f"the file has {state.st_size:,} bytes; a {what} has at most {most:,}", where=name,
                remedy="Check the path, or split it.",
            )  # fmt: skip
        with path.open("rb") as file:
            return file.read(most + 1)
    except FileNotFoundError:
        raise MistakeError(f"there is no such {what}", where=name, remedy="Check the path.") from None
    except (OSError, ValueError) as error:  # ValueError: a NUL in the name
        why = getattr(error, "strerror", None) or str(error)
        raise MistakeError(f"cannot be read ({why})", where=name[:200], remedy="Check path and permissions.") from None


@contextlib.contextmanager
def written_whole(path: Path, *, is_new: bool = False) -> Iterator[Path]:
    """A file beside `path`, to be written within, which takes its place at the end: nobody ever sees half a file, and
    after an error there is what was there before. Two who write the same file at once each have their own.

    Args:
        is_new: it replaces nothing; of two who make it at once one fails.

    Raises:
        FileExistsError: it was to be new, and is there.
        OSError: it cannot be written; to be told by who knows what it was to be.
    """
    path.parent.mkdir(parents=True, exist_ok=True)
    side = path.with_name(f".ibexite-{os.getpid()}-{next(_NUMBERS)}.part")
    try:
        yield side
        with side.open("rb+") as file:
            os.fsync(file.fileno())
        if is_new:
            _link(side, path)
        else:
            side.replace(path)
    except BaseException:
        with contextlib.suppress(OSError):
            side.unlink()
        raise


def cannot_write(path: Path, error: OSError) -> MistakeError:
    """What is told where a file of a project cannot be written."""
    why = error.strerror or str(error)
    at = f": {error.filename}" if error.filename not in (None, str(path)) else ""
    return MistakeError(f"cannot be written ({why}{at})", where=str(path), remedy="Check folder and permissions.")


def _link(side: Path, path: Path) -> None:
    """Gives a file its name unless there is one of that name."""
    try:
        os.link(side, path)
    except FileExistsError:
        raise
    except OSError:  # a file system without links: nearly as good
        if os.path.lexists(path):
            raise FileExistsError(path) from None
        side.replace(path)
    else:
        side.unlink()
