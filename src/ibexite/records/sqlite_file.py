"""The database of the store as one SQLite file: the only module that knows which kind of database it is.

The modules above speak of rows, statements in plain SQL and transactions.
"""

from __future__ import annotations

import contextlib
import sqlite3
import struct
import time
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any

from ibexite.errors import RecordsError
from ibexite.records import schema
from ibexite.untyped import Fields

FILE_NAME = "ibexite.sqlite"
APPLICATION_ID = 0x49424558  # "IBEX", in the header of the file
TURN = 0.02  # s; between two tries to make the file ready
TUPLES_AT_ONCE = 100


class DatabaseFault(Exception):
    """The database cannot do what it is asked for; the text says why."""


class UnfitValue(DatabaseFault):
    """A value that no column can hold."""


class Database:
    """An open database; `name` is what messages call it."""

    def __init__(self, connection: sqlite3.Connection, name: str) -> None:
        self._db, self.name = connection, name

    def close(self) -> None:
        """Closes it."""
        self._db.close()

    def rows(self, query: str, *values: object) -> list[Fields]:
        """The rows that a query finds. `?` in it stand for the values, in their order.

        Raises:
            DatabaseFault: it cannot be read. All calls raise this; those that write also UnfitValue.
        """
        with _faults():
            cursor = self._db.execute(query, values)
            names = [told[0] for told in cursor.description or ()]
            return [dict(zip(names, row, strict=True)) for row in cursor]

    def tuples(self, query: str, *values: object) -> Iterator[tuple[Any, ...]]:
        """The same as tuples, some of them when the first is asked for."""
        with _faults():
            cursor = self._db.execute(query, values)
            while some := cursor.fetchmany(TUPLES_AT_ONCE):
                yield from some

    @staticmethod
    def joined(value: str, separator: str) -> str:
        """What a statement says for a value of all rows that it finds, as texts in one, in the order of its rows."""
        return f"group_concat({value}, {separator})"

    @staticmethod
    def in_hex(value: str) -> str:
        """What a statement says for bytes as a text of two digits each."""
        return f"hex({value})"

    def change(self, statement: str, *values: object) -> None:
        """Carries out a statement that answers nothing."""
        with _faults():
            self._db.execute(statement, values)

    def insert(self, table: schema.StoreTable, row: Fields) -> int:
        """Adds a row; its number, which the database gives."""
        with _faults():
            return int(self._db.execute(table.insert(), row).lastrowid or 0)

    def insert_all(self, table: schema.StoreTable, rows: Iterable[Fields]) -> None:
        """Adds rows."""
        with _faults():
            self._db.executemany(table.insert(), rows)

    def columns(self, table: schema.StoreTable) -> set[str]:
        """The names of the columns that a table has in the file; none if it is not there."""
        return {row["name"] for row in self.rows(f"PRAGMA table_info({table.name})")}

    @contextlib.contextmanager
    def transaction(self) -> Iterator[None]:
        """All that is written within is there afterwards, or nothing of it. Nobody else writes meanwhile."""
        self.change("BEGIN IMMEDIATE")
        try:
            yield
            self.change("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self.change("ROLLBACK")
            raise

    def make_ready(self, bring_up: Callable[[Database, int], None]) -> None:
        """Makes the tables, or brings those of an older version up to date."""
        self.change("PRAGMA synchronous=FULL")
        self.change("PRAGMA foreign_keys=ON")
        if not self._is_ready():
            with self.transaction():
                if not self._is_ready():  # else another process was quicker
                    self._make_present(bring_up)
        # Only now, so that whoever looks at the header of the file always sees whose it is.
        self.change("PRAGMA journal_mode=WAL")

    def _make_present(self, bring_up: Callable[[Database, int], None]) -> None:
        if self._header("application_id") == APPLICATION_ID:
            bring_up(self, self._header("user_version"))
        else:
            for table in schema.TABLES:
                for statement in table.create:
                    self.change(statement)
            self.change(f"PRAGMA application_id={APPLICATION_ID}")
        self.change(f"PRAGMA user_version={schema.VERSION}")

    def _is_ready(self) -> bool:
        return self._header("application_id") == APPLICATION_ID and self._header("user_version") >= schema.VERSION

    def _header(self, name: str) -> int:
        return int(self.rows(f"PRAGMA {name}")[0][name])


@contextlib.contextmanager
def _faults() -> Iterator[None]:
    try:
        yield
    except (sqlite3.ProgrammingError, sqlite3.InterfaceError, OverflowError, UnicodeError) as error:
        raise UnfitValue(str(error)) from error
    except sqlite3.Error as error:
        raise DatabaseFault(str(error)) from error


def name_of(records: Path) -> str:
    """What messages call the database in a folder of records."""
    return str(records / FILE_NAME)


def open_to_write(records: Path, patience: float, bring_up: Callable[[Database, int], None]) -> Database:
    """The database in a folder of records, which is made if it is not there.

    Args:
        patience: s; how long another process may be writing.
        bring_up: adds to a store of an older version, whose number it is given, what that lacks.

    Raises:
        RecordsError: the file is none of ours, or of a newer version.
        DatabaseFault: it cannot be opened.
    """
    path = records / FILE_NAME
    if path.exists() and (not path.is_file() or path.stat().st_size):
        check_header(path)
    deadline = time.monotonic() + patience
    while True:
        with _faults():
            database = Database(sqlite3.connect(path, timeout=patience, isolation_level=None), str(path))
        try:
            database.make_ready(bring_up)
        except DatabaseFault as fault:
            database.close()
            # Where another process makes it at the same moment, SQLite does not wait (for the change to WAL).
            busy = isinstance(fault.__cause__, sqlite3.OperationalError) and (
                fault.__cause__.sqlite_errorcode & 0xFF == sqlite3.SQLITE_BUSY
            )
            if not busy or time.monotonic() >= deadline:
                raise
            time.sleep(TURN)
        else:
            return database


def open_to_read(records: Path) -> Database | None:
    """The database in a folder of records, which is not changed; None if there is none.

    Raises:
        RecordsError: the file is none of ours, or of a newer version.
        DatabaseFault, OSError: it cannot be opened.
    """
    path = records / FILE_NAME
    if not _has_bytes(path):
        return None
    check_header(path)
    with _faults():
        return Database(sqlite3.connect(f"{path.absolute().as_uri()}?mode=ro", uri=True), str(path))


def _has_bytes(path: Path) -> bool:
    """Whether there is a file with something in it. One that may not be looked at is not one that is not there."""
    try:
        return path.stat().st_size > 0
    except (FileNotFoundError, NotADirectoryError, ValueError):  # ValueError: a NUL in the name
        return False


def check_header(path: Path) -> None:
    """Refuses a file that is no store of ours, or of another version.

    Raises:
        RecordsError: with both versions named.
    """
    if not path.is_file():
        raise RecordsError("this is not a store but a folder", where=str(path), remedy="Move it away.")
    header = _header_of(path)
    if header is None:
        raise RecordsError("this is not a store", where=str(path), remedy="Move the file away; a new store is made.")
    version, application = header
    if application != APPLICATION_ID:
        raise RecordsError(
            "this database belongs to another program",
            where=str(path),
            remedy="Name another folder with --records, or move the file away.",
        )
    if version > schema.VERSION:
        raise RecordsError(
            f"this store has version {version}, this program reads versions up to {schema.VERSION}",
            where=str(path),
            remedy="Use the version of Ibexite that made it, or a newer one.",
        )


def is_older(records: Path) -> bool:
    """True for a store of an older version, which is to be brought up to date before it is read."""
    try:
        header = _header_of(records / FILE_NAME)
    except OSError:
        return False
    return header is not None and header[1] == APPLICATION_ID and header[0] < schema.VERSION


def _header_of(path: Path) -> tuple[int, int] | None:
    """The version and the mark of the application in the header of a SQLite file; None if it is no such file."""
    with path.open("rb") as file:
        header = file.read(100)
    if len(header) < 100 or not header.startswith(b"SQLite format 3\0"):
        return None
    version, application = struct.unpack(">I", header[60:64])[0], struct.unpack(">I", header[68:72])[0]
    return version, application
