"""The store: all runs in one SQLite database. Runs come in from their journals, each in one transaction.

Reading is done by ibexite.records.lookup.
"""

from __future__ import annotations

import sqlite3
import time
from pathlib import Path
from typing import Any

from ibexite.errors import RecordsError
from ibexite.records import schema
from ibexite.records.ingest import RunRows, rows_of
from ibexite.records.journal import left_over, mend_tail, read_journal
from ibexite.records.lookup import FILE_NAME, check_header
from ibexite.records.migrations import complete

STORED = "stored"  # the folder, below the journals, of those that the store has
DAMAGED = "damaged"  # and of those that cannot be read
BUSY_TIMEOUT = 20.0  # s; how long another process may be writing
TURN = 0.02  # s


class DamagedJournal(RecordsError):
    """A journal that cannot be read, or holds no events of a run."""


class Store:
    """Writes runs into the database of a records folder."""

    def __init__(self, records: Path, *, patience: float = BUSY_TIMEOUT) -> None:
        """Opens the database, and makes it if it is not there.

        Args:
            patience: s; how long another process may be writing.

        Raises:
            RecordsError: it cannot be opened, is none of ours, or of a newer version.
        """
        self.records = records
        self.path = records / FILE_NAME
        self.journals = records / "journals"
        self._patience = patience
        try:
            records.mkdir(parents=True, exist_ok=True)
            if self.path.exists() and (not self.path.is_file() or self.path.stat().st_size):
                check_header(self.path)
            self._db = self._open()
        except (OSError, sqlite3.Error) as error:
            raise RecordsError(
                f"the store cannot be opened ({_reason(error)})",
                where=str(self.path),
                remedy="The journals are kept; the runs are stored by the next command.",
            ) from None

    def _open(self) -> sqlite3.Connection:
        """The database, made ready. Where another process makes it at the same moment, SQLite does not wait by itself
        (for the change to WAL): then it is tried again."""
        deadline = time.monotonic() + self._patience
        while True:
            db = sqlite3.connect(self.path, timeout=self._patience, isolation_level=None)
            try:
                self._make_ready(db)
            except sqlite3.OperationalError as error:
                db.close()
                if error.sqlite_errorcode & 0xFF != sqlite3.SQLITE_BUSY or time.monotonic() >= deadline:
                    raise
                time.sleep(TURN)
            else:
                return db

    def _make_ready(self, db: sqlite3.Connection) -> None:
        db.execute("PRAGMA synchronous=FULL")
        db.execute("PRAGMA foreign_keys=ON")
        if db.execute("PRAGMA application_id").fetchone()[0] != schema.APPLICATION_ID:
            db.execute("BEGIN IMMEDIATE")
            for table in schema.TABLES:
                for statement in table.create():
                    db.execute(statement)
            db.execute(f"PRAGMA application_id={schema.APPLICATION_ID}")
            db.execute(f"PRAGMA user_version={schema.VERSION}")
            db.execute("COMMIT")
        elif db.execute("PRAGMA user_version").fetchone()[0] < schema.VERSION:
            complete(db)
        # Only now, so that whoever looks at the header of the file always sees whose it is.
        db.execute("PRAGMA journal_mode=WAL")

    def close(self) -> None:
        """Closes the database."""
        self._db.close()

    def last_number(self) -> int:
        """The greatest number of a run that is stored."""
        return int(self._db.execute("SELECT coalesce(max(number), 0) FROM runs").fetchone()[0])

    def take_in(self, journal: Path) -> str:
        """Stores the run of a journal and moves the journal to the stored ones. Doing it again changes nothing but
        whether the outputs are off: that of a run which ended with outputs on stays where it is, for the guardian may
        still be writing into it.

        Returns:
            The run id, "" if the journal does not hold the beginning of a run.

        Raises:
            DamagedJournal: it cannot be read, or holds no events of a run.
            RecordsError: the store cannot be written.
        """
        try:
            mend_tail(journal)
            rows = rows_of(read_journal(journal), str(journal))
        except RecordsError as error:
            raise DamagedJournal(error.what, where=error.where, remedy=error.remedy) from None
        except OSError as error:
            raise RecordsError(
                f"the journal cannot be read ({_reason(error)})", where=str(journal), remedy="Was it removed?"
            ) from None
        try:
            is_new = rows is not None and self._write(rows)
            if rows is None or rows.run["is_safe"] or rows.run["broken_off"] or not is_new:
                folder = self.journals / STORED
                folder.mkdir(exist_ok=True)
                journal.replace(folder / journal.name)
        except (sqlite3.ProgrammingError, sqlite3.InterfaceError, OverflowError, UnicodeError) as error:
            raise DamagedJournal(f"a value in it is damaged: {error!s:.80}", where=str(journal)) from None
        except (OSError, sqlite3.Error) as error:
            raise RecordsError(
                f"the run cannot be stored ({_reason(error)})",
                where=str(self.path),
                remedy=f"Its journal is kept: {journal}",
            ) from None
        return rows.run["id"] if rows is not None else ""

    def take_in_left_over(self) -> tuple[list[str], list[str]]:
        """Stores all journals that no living process writes: the ids of their runs, and what became of those that are
        damaged. Each is taken by itself: one that is damaged is set aside and hinders nothing else."""
        stored, told = [], []
        for path in left_over(self.journals):
            try:
                run = self.take_in(path)
            except DamagedJournal as error:
                told.append(f"{self._set_aside(path)}: {error.what}")
                continue
            stored += [run] if run else []
        return stored, told

    def _set_aside(self, journal: Path) -> Path:
        folder = self.journals / DAMAGED
        try:
            folder.mkdir(exist_ok=True)
            journal.replace(folder / journal.name)
        except OSError:
            return journal
        return folder / journal.name

    def _write(self, rows: RunRows) -> bool:
        """Writes a run in one transaction; of one that is there already only whether its outputs are off. True if it is
        new."""
        self._db.execute("BEGIN IMMEDIATE")
        try:
            found = self._db.execute("SELECT is_safe FROM runs WHERE id = ?", (rows.run["id"],)).fetchone()
            if found is None:
                self._insert_run(rows)
            elif rows.run["is_safe"] and not found[0]:
                self._db.execute(
                    "UPDATE runs SET is_safe = 1, remarks = ? WHERE id = ?", (rows.run["remarks"], rows.run["id"])
                )
            self._db.execute("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise
        return found is None

    def _insert(self, table: str, row: dict[str, Any]) -> int:
        return int(self._db.execute(schema.BY_NAME[table].insert(), row).lastrowid or 0)

    def _insert_run(self, rows: RunRows) -> None:
        found = self._db.execute(
            "SELECT id FROM units WHERE serial = :serial AND product = :product", rows.unit
        ).fetchone()
        unit_id = found[0] if found else self._insert("units", rows.unit)
        self._insert("runs", {**rows.run, "unit_id": unit_id})
        for file in rows.files:
            self._insert("files", {**file, "run_id": rows.run["id"]})
        for test in rows.tests:
            test_id = self._insert("tests", test.test)
            if test.test["run"]:
                self._copy_test(test.test, test_id)
            entries = {
                "results": test.results,
                "curves": test.curves,
                "bad_readings": test.bad_readings,
                "figures": test.figures,
            }
            for table, found_rows in entries.items():
                self._db.executemany(
                    schema.BY_NAME[table].insert(), [{**row, "test_id": test_id} for row in found_rows]
                )

    def _copy_test(self, test: dict[str, Any], test_id: int) -> None:
        """In a retest: everything that a test which was taken over has found, from the run in which it was done."""
        origin = self._db.execute(
            "SELECT id FROM tests WHERE run_id = ? AND name = ?", (test["run"], test["name"])
        ).fetchone()
        if origin is None:
            return
        for table in ("results", "curves", "bad_readings", "figures"):
            names = [c.name for c in schema.BY_NAME[table].columns if c.name not in ("id", "test_id")]
            columns = ", ".join(names)
            self._db.execute(
                f"INSERT INTO {table} (test_id, {columns})"
                f" SELECT ?, {columns} FROM {table} WHERE test_id = ? ORDER BY id",
                (test_id, origin[0]),
            )


def _reason(error: Exception) -> str:
    return error.strerror or str(error) if isinstance(error, OSError) else str(error)
