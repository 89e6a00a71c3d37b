"""Brings a store of an older version up to the present one: what is new is added, then named steps, all in one
transaction with the number of the version."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from typing import NamedTuple

from ibexite.records import schema
from ibexite.records.ingest import in_utc
from ibexite.verdicts import OLDER


class Migration(NamedTuple):
    """A step to a version: what it does to the rows that are there."""

    version: int
    what: str
    apply: Callable[[sqlite3.Connection], None]


def complete(db: sqlite3.Connection) -> None:
    """Makes a store of an older version one of the present version."""
    db.execute("BEGIN IMMEDIATE")
    (version,) = db.execute("PRAGMA user_version").fetchone()
    if version >= schema.VERSION:  # another process was quicker
        db.execute("ROLLBACK")
        return
    _add_what_is_new(db)
    for migration in MIGRATIONS:
        if migration.version > version:
            migration.apply(db)
    db.execute(f"PRAGMA user_version={schema.VERSION}")
    db.execute("COMMIT")


def _columns(db: sqlite3.Connection, table: str) -> set[str]:
    return {row[1] for row in db.execute(f"PRAGMA table_info({table})")}


def _add_what_is_new(db: sqlite3.Connection) -> None:
    """Adds the tables and columns that are missing."""
    for table in schema.TABLES:
        known = _columns(db, table.name)
        for column in table.columns if known else ():
            if column.name not in known:
                db.execute(f"ALTER TABLE {table.name} ADD COLUMN {column.name} {column.type}")
        for statement in table.create():
            db.execute(statement)


def _times_and_numbers(db: sqlite3.Connection) -> None:
    rows = db.execute("SELECT id, started, trial_reasons FROM runs WHERE number = 0").fetchall()
    order = sorted(rows, key=lambda row: in_utc(row[1])[0])
    for number, (run, started, reasons) in enumerate(order, 1):
        trial = [{"code": OLDER, "text": text, "run": ""} for text in reasons.splitlines() if text]
        db.execute(
            "UPDATE runs SET number = ?, started = ?, utc_offset = ?, trial = ? WHERE id = ?",
            (number, *in_utc(started), json.dumps(trial), run),
        )
    db.execute("UPDATE tests SET has_failed = 1 WHERE verdict = 'fail'")


def _codes_of_reasons(db: sqlite3.Connection) -> None:
    for table in ("runs", "tests", "results", "bad_readings"):
        db.execute(f"UPDATE {table} SET reason_code = ? WHERE reason != ''", (OLDER,))
    if "skip" in _columns(db, "tests"):
        db.execute("UPDATE tests SET reason_code = skip WHERE verdict = 'skipped'")
        db.execute("ALTER TABLE tests DROP COLUMN skip")


MIGRATIONS = (
    Migration(3, "times in UTC, runs numbered as they started, reasons of a trial with codes", _times_and_numbers),
    Migration(4, "all reasons with codes; that of a skip is one of them", _codes_of_reasons),
)
