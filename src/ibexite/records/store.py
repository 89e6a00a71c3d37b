"""The store: all runs in one SQLite database. Runs come in from their journals, each in one transaction.

Reading is done by ibexite.records.lookup.
"""

from __future__ import annotations

import sqlite3
from pathlib import Path
from typing import Any

from ibexite.errors import RecordsError
from ibexite.records import schema
from ibexite.records.ingest import RunRows, rows_of
from ibexite.records.journal import left_over, mend_tail, read_journal
from ibexite.records.lookup import FILE_NAME, check_header

STORED = "stored"  # the folder, below the journals, of those that the store has
BUSY_TIMEOUT = 20.0  # s; how long another process may be writing


class Store:
    """Writes runs into the database of a records folder."""

    def __init__(self, records: Path) -> None:
        self.records = records
        self.path = records / FILE_NAME
        self.journals = records / "journals"
        try:
            records.mkdir(parents=True, exist_ok=True)
            if self.path.exists() and self.path.stat().st_size:
                check_header(self.path)
            self._db = self._open()
        except (OSError, sqlite3.Error) as error:
            raise RecordsError(
                f"the store cannot be opened ({_reason(error)})",
                where=str(self.path),
                remedy="The journals are kept; the runs are stored by the next command.",
            ) from None

    def _open(self) -> sqlite3.Connection:
        db = sqlite3.connect(self.path, timeout=BUSY_TIMEOUT, isolation_level=None)
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
            self._complete(db)
        # Only now, so that whoever looks at the header of the file always sees whose it is.
        db.execute("PRAGMA journal_mode=WAL")
        return db

    @staticmethod
    def _complete(db: sqlite3.Connection) -> None:
        """Adds the tables and columns that an older store lacks, in one transaction."""
        db.execute("BEGIN IMMEDIATE")
        for table in schema.TABLES:
            known = {row[1] for row in db.execute(f"PRAGMA table_info({table.name})")}
            for column in table.columns if known else ():
                if column.name not in known:
                    db.execute(f"ALTER TABLE {table.name} ADD COLUMN {column.name} {column.type}")
            for statement in table.create():
                db.execute(statement)
        db.execute(f"PRAGMA user_version={schema.VERSION}")
        db.execute("COMMIT")

    def close(self) -> None:
        """Closes the database."""
        self._db.close()

    def take_in(self, journal: Path) -> str:
        """Stores the run of a journal and moves the journal to the stored ones. Doing it again changes nothing.

        Returns:
            The run id, "" if the journal does not hold the beginning of a run.

        Raises:
            RecordsError: the journal is damaged in the middle, or the store cannot be written.
        """
        mend_tail(journal)
        rows = rows_of(read_journal(journal))
        try:
            if rows is not None:
                self._write(rows)
            folder = self.journals / STORED
            folder.mkdir(exist_ok=True)
            journal.replace(folder / journal.name)
        except (OSError, sqlite3.Error) as error:
            raise RecordsError(
                f"the run cannot be stored ({_reason(error)})",
                where=str(self.path),
                remedy=f"Its journal is kept: {journal}",
            ) from None
        return rows.run["id"] if rows is not None else ""

    def take_in_left_over(self) -> list[str]:
        """Stores all journals that no living process writes; the ids of their runs."""
        found = [self.take_in(path) for path in left_over(self.journals)]
        return [run for run in found if run]

    def _write(self, rows: RunRows) -> None:
        """Writes a run in one transaction, unless it is there already."""
        self._db.execute("BEGIN IMMEDIATE")
        try:
            if not self._db.execute("SELECT 1 FROM runs WHERE id = ?", (rows.run["id"],)).fetchone():
                self._insert_run(rows)
            self._db.execute("COMMIT")
        except BaseException:
            if self._db.in_transaction:
                self._db.execute("ROLLBACK")
            raise

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


def _reason(error: Exception) -> str:
    return error.strerror or str(error) if isinstance(error, OSError) else str(error)
