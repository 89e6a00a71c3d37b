"""The one way to the store: by the folder of the records, in which it is one file. A database of another kind, at a
URL, is a line in KINDS and a module beside sqlite_file.py with the same functions; nothing else knows which it is."""

from __future__ import annotations

import re
from pathlib import Path
from types import ModuleType
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError, RecordsError
from ibexite.records import sqlite_file
from ibexite.records.lookup import Lookup
from ibexite.records.sqlite_file import DatabaseFault

if TYPE_CHECKING:
    from ibexite.records.store import Store

BUSY_TIMEOUT = 20.0  # s; how long another process may be writing
_URL = re.compile(r"([a-z][a-z0-9+]+):/")  # more than one letter: C:/ is a drive; a path has lost one stroke
KINDS: dict[str, ModuleType] = {"": sqlite_file}  # by the scheme of the URL; a folder has none


def open_store(where: Path | str, *, patience: float = BUSY_TIMEOUT) -> Store:
    """The store for writing; it is made if it is not there.

    Args:
        where: the folder of the records, or a URL.
        patience: s; how long another process may be writing.

    Raises:
        MistakeError: a kind of database that is not known.
        RecordsError: it cannot be opened, is none of ours, or of a newer version.
    """
    from ibexite.records.migrations import bring_up  # what only looks does not load what takes journals in
    from ibexite.records.store import Store

    kind, records = _kind_of(where), Path(where)
    try:
        records.mkdir(parents=True, exist_ok=True)
        return Store(records, kind.open_to_write(records, patience, bring_up))
    except (OSError, DatabaseFault) as error:
        raise RecordsError(
            f"the store cannot be opened ({_why(error)})",
            where=kind.name_of(records),
            remedy="The journals are kept; the runs are stored by the next command.",
        ) from None


def open_lookup(where: Path | str) -> Lookup:
    """The store for reading.

    Raises:
        MistakeError: there are no runs yet, or a kind of database that is not known.
        RecordsError: it cannot be opened, is none of ours, or of a newer version.
    """
    kind, records = _kind_of(where), Path(where)
    try:
        database = kind.open_to_read(records)
        if database is None:
            raise MistakeError(
                "there are no runs yet",
                where=str(records),
                remedy="Run a sequence first, or name the folder with --records.",
            )
        return Lookup(records, database)
    except (OSError, DatabaseFault) as error:
        raise RecordsError(
            f"the store cannot be read ({_why(error)})",
            where=kind.name_of(records),
            remedy="Check its permissions, and whether the disk answers.",
        ) from None


def is_older(where: Path | str) -> bool:
    """True for a store of an older version, which is to be brought up to date before it is read."""
    return bool(_kind_of(where).is_older(Path(where)))


def _kind_of(where: Path | str) -> ModuleType:
    url = _URL.match(str(where))
    kind = KINDS.get(url[1] if url else "")
    if kind is None:
        raise MistakeError("stores at such a URL are not known", where=str(where), remedy="Name a folder.")
    return kind


def _why(error: Exception) -> str:
    return error.strerror or str(error) if isinstance(error, OSError) else str(error)
