"""Brings a store of an older version up to the present one: what is new is added, then named steps, all in one
transaction with the number of the version."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import NamedTuple

from ibexite.records import schema
from ibexite.records.ingest import in_utc
from ibexite.records.sqlite_file import Database
from ibexite.verdicts import OLDER


class Migration(NamedTuple):
    """A step to a version: what it does to the rows that are there."""

    version: int
    what: str
    apply: Callable[[Database], None]


def bring_up(db: Database, version: int) -> None:
    """Makes a store of an older version one of the present version, within a transaction that is open."""
    _add_what_is_new(db)
    for migration in MIGRATIONS:
        if migration.version > version:
            migration.apply(db)


def _add_what_is_new(db: Database) -> None:
    """Adds the tables and columns that are missing."""
    for table in schema.TABLES:
        known = db.columns(table)
        for column in table.columns if known else ():
            if column.name not in known:
                db.change(f"ALTER TABLE {table.name} ADD COLUMN {column.name} {column.type}")
        for statement in table.create:
            db.change(statement)


def _times_and_numbers(db: Database) -> None:
    rows = db.rows("SELECT id, started, trial_reasons FROM runs WHERE number = 0")
    for number, row in enumerate(sorted(rows, key=lambda row: in_utc(row["started"])[0]), 1):
        trial = [{"code": OLDER, "text": text, "run": ""} for text in row["trial_reasons"].splitlines() if text]
        db.change(
            "UPDATE runs SET number = ?, started = ?, utc_offset = ?, trial = ? WHERE id = ?",
            number, *in_utc(row["started"]), json.dumps(trial), row["id"],
        )  # fmt: skip
    db.change("UPDATE tests SET has_failed = 1 WHERE verdict = 'fail'")


def _codes_of_reasons(db: Database) -> None:
    for table in ("runs", "tests", "results", "bad_readings"):
        db.change(f"UPDATE {table} SET reason_code = ? WHERE reason != ''", OLDER)
    if "skip" in db.columns(schema.BY_NAME["tests"]):
        db.change("UPDATE tests SET reason_code = skip WHERE verdict = 'skipped'")
        db.change("ALTER TABLE tests DROP COLUMN skip")


MIGRATIONS = (
    Migration(3, "times in UTC, runs numbered as they started, reasons of a trial with codes", _times_and_numbers),
    Migration(4, "all reasons with codes; that of a skip is one of them", _codes_of_reasons),
)
