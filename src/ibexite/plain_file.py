"""Reads a file that somebody named: a plain one, of a bounded size. Everything else gets one clear message."""

from __future__ import annotations

import stat
from collections.abc import Callable
from pathlib import Path

from ibexite.errors import MistakeError


def is_file(path: Path) -> bool:
    """Whether this is a plain file. A name that no file can have (too long, with a NUL) is one that is not there."""
    return _has(path.is_file)


def is_folder(path: Path) -> bool:
    """Whether this is a folder; names likewise."""
    return _has(path.is_dir)


def is_there(path: Path) -> bool:
    """Whether there is anything of this name; names likewise."""
    return _has(path.exists)


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
