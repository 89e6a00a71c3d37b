"""The journals of stored runs: packed, and found again by the run."""

from __future__ import annotations

import contextlib
import gzip
import os
import shutil
from pathlib import Path

from ibexite.file_lock import try_lock
from ibexite.records.journal import PACKED, SUFFIX

FOLDER = "journals"
STORED = "stored"  # the folder, below the journals, of those that the store has
PART = ".part"  # the ending of one that is being packed; it is locked
LEVEL = 3  # of packing: a tenth larger than the best, in a fifth of the time


def keep(journal: Path, journals: Path) -> Path:
    """Moves a journal to the stored ones and packs it; where it cannot be packed (a disk is full) it moves as it is.
    It is there at any moment, in one place or in both.

    Args:
        journals: the folder of the journals.

    Returns:
        Where it is now.

    Raises:
        OSError: it cannot be moved.
    """
    folder = journals / STORED
    folder.mkdir(exist_ok=True)
    if journal.suffix == PACKED:
        return journal.replace(folder / journal.name)
    goal = folder / (journal.name + PACKED)
    part = journals / f"{goal.name}.{os.getpid()}{PART}"
    try:
        with journal.open("rb") as plain, part.open("wb") as file:
            try_lock(file.fileno())
            with gzip.GzipFile("", "wb", LEVEL, file, mtime=0) as packed:
                shutil.copyfileobj(plain, packed, 1 << 20)
            file.flush()
            os.fsync(file.fileno())
        part.replace(goal)
    except OSError:
        with contextlib.suppress(OSError):
            part.unlink()
        if not journal.exists() and goal.exists():  # another process was quicker
            return goal
        return journal.replace(folder / journal.name)
    journal.unlink(missing_ok=True)
    return goal


def clear_away(journals: Path) -> None:
    """Removes what packing left behind that was killed; the journals of it are still there."""
    for part in journals.glob("*" + PART):
        with contextlib.suppress(OSError), part.open("r+b") as file:
            if try_lock(file.fileno()):
                part.unlink()


def journal_of(records: Path, run: str) -> Path | None:
    """The journal of a run, packed or not, stored or still waiting for that; None if it is not there."""
    folder = records / FOLDER
    places = (folder / STORED / (run + SUFFIX + PACKED), folder / STORED / (run + SUFFIX), folder / (run + SUFFIX))
    return next((place for place in places if place.is_file()), None)
