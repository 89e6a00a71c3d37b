"""The store: all runs in one SQLite database. Runs come in from their journals, each in one transaction.

Reading is done by ibexite.records.lookup, which needs no SQLAlchemy and so starts quickly.
"""

from __future__ import annotations

import contextlib
import sqlite3
from pathlib import Path
from typing import Any

import sqlalchemy
from sqlalchemy import Connection, Engine, create_engine, event, insert, select

from ibexite.errors import RecordsError
from ibexite.records import schema
from ibexite.records.ingest import RunRows, rows_of
from ibexite.records.journal import left_over, mend_tail, read_journal
from ibexite.records.lookup import APPLICATION_ID, VERSION, check_header

STORED = "stored"  # the folder, below the journals, of those that the store has


class Store:
    """Writes runs into the database of a records folder."""

    def __init__(self, records: Path) -> None:
        self.records = records
        self.path = records / "ibexite.sqlite"
        self.journals = records / "journals"
        try:
            records.mkdir(parents=True, exist_ok=True)
            if self.path.exists() and self.path.stat().st_size:
                check_header(self.path)
            self._engine = self._open()
        except (OSError, sqlite3.Error, sqlalchemy.exc.SQLAlchemyError) as error:
            raise RecordsError(
                f"the store cannot be opened ({_reason(error)})",
                where=str(self.path),
                remedy="The journals are kept; the runs are stored by the next command.",
            ) from None

    def _open(self) -> Engine:
        engine = create_engine(f"sqlite:///{self.path}")

        @event.listens_for(engine, "connect")
        def prepare(connection: Any, _: Any) -> None:
            connection.execute("PRAGMA journal_mode=WAL")
            connection.execute("PRAGMA synchronous=FULL")
            connection.execute("PRAGMA foreign_keys=ON")
            connection.execute("PRAGMA busy_timeout=20000")

        with engine.begin() as connection:
            schema.metadata.create_all(connection)
            connection.exec_driver_sql(f"PRAGMA application_id={APPLICATION_ID}")
            connection.exec_driver_sql(f"PRAGMA user_version={VERSION}")
        return engine

    def close(self) -> None:
        """Closes the database."""
        self._engine.dispose()

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
                with self._engine.begin() as connection:
                    _write(connection, rows)
            self._move_away(journal)
        except (OSError, sqlalchemy.exc.SQLAlchemyError) as error:
            raise RecordsError(
                f"the run cannot be stored ({_reason(error)})",
                where=str(self.path),
                remedy=f"Its journal is kept: {journal}",
            ) from None
        return rows.run["id"] if rows is not None else ""

    def _move_away(self, journal: Path) -> None:
        folder = self.journals / STORED
        folder.mkdir(exist_ok=True)
        journal.replace(folder / journal.name)

    def take_in_left_over(self) -> list[str]:
        """Stores all journals that no living process writes; the ids of their runs."""
        found = [self.take_in(path) for path in left_over(self.journals)]
        return [run for run in found if run]


def _write(connection: Connection, rows: RunRows) -> None:
    if connection.scalar(select(schema.runs.c.id).where(schema.runs.c.id == rows.run["id"])):
        return
    unit_id = connection.scalar(
        select(schema.units.c.id).where(
            schema.units.c.serial == rows.unit["serial"], schema.units.c.product == rows.unit["product"]
        )
    )
    if unit_id is None:
        unit_id = connection.execute(insert(schema.units).values(rows.unit)).inserted_primary_key[0]  # type: ignore[index]
    connection.execute(insert(schema.runs).values({**rows.run, "unit_id": unit_id}))
    for test in rows.tests:
        test_id = connection.execute(insert(schema.tests).values(test.test)).inserted_primary_key[0]  # type: ignore[index]
        for table, entries in (
            (schema.results, test.results),
            (schema.curves, test.curves),
            (schema.bad_readings, test.bad_readings),
            (schema.figures, test.figures),
        ):
            if entries:
                connection.execute(insert(table), [{**entry, "test_id": test_id} for entry in entries])


def _reason(error: Exception) -> str:
    with contextlib.suppress(AttributeError):
        return str(error.orig)  # type: ignore[attr-defined]
    return error.strerror or str(error) if isinstance(error, OSError) else str(error)
