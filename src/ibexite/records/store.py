"""The store: all runs in one database. Runs come in from their journals, each in one transaction.

Reading is done by ibexite.records.lookup.
"""

from __future__ import annotations

from functools import partial
from pathlib import Path

from ibexite.errors import RecordsError
from ibexite.records import kept_journals, schema
from ibexite.records.ingest import PARTS, RunRows, rows_of
from ibexite.records.journal import left_over, mend_tail, read_journal
from ibexite.records.relays_by_hand import noted_closings
from ibexite.records.sqlite_file import Database, DatabaseFault, UnfitValue
from ibexite.records.stream_file import length_of
from ibexite.untyped import Fields

DAMAGED = "damaged"  # the folder, below the journals, of those that cannot be read


class DamagedJournal(RecordsError):
    """A journal that cannot be read, or holds no events of a run."""


class Store:
    """Writes runs into a store; `records` is the folder of the journals. It is opened by ibexite.records.gateway."""

    def __init__(self, records: Path, database: Database) -> None:
        self.records, self._db = records, database
        self.journals = records / kept_journals.FOLDER

    @property
    def name(self) -> str:
        """What messages call it."""
        return self._db.name

    def close(self) -> None:
        """Closes the database."""
        self._db.close()

    def last_number(self) -> int:
        """The greatest number of a run that is stored."""
        return int(self._db.rows("SELECT coalesce(max(number), 0) AS last FROM runs")[0]["last"])

    def keep_second_verdicts(self, rows: list[Fields]) -> None:
        """Adds verdicts of runs that were judged again, all or none. Raises RecordsError."""
        try:
            with self._db.transaction():
                self._db.insert_all(schema.BY_NAME["second_verdicts"], rows)
        except DatabaseFault as error:
            raise RecordsError(
                f"the verdicts cannot be kept ({error})", where=self._db.name, remedy="Nothing was changed."
            ) from None

    def first_of_lot(self, lot: str, sequence: str) -> Fields | None:
        """The first run of a sequence in a lot, as its row; None if there is none yet."""
        found = self._db.rows(
            "SELECT * FROM runs WHERE lot = ? AND sequence = ? ORDER BY number, started, id LIMIT 1", lot, sequence
        )
        return found[0] if found else None

    def closings(self) -> dict[tuple[str, int], int]:
        """How often each relay has closed in all runs and by hand, by identity of its switch and channel."""
        rows = self._db.rows("SELECT identity, channel, sum(closed) AS closed FROM relays GROUP BY identity, channel")
        found = noted_closings(self.records)
        for row in rows:
            key = (row["identity"], row["channel"])
            found[key] = found.get(key, 0) + row["closed"]
        return found

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
        return self._take_in(journal)[0]

    def _take_in(self, journal: Path) -> tuple[str, bool]:
        """The run, and whether it is new here."""
        try:
            mend_tail(journal)
            rows = rows_of(read_journal(journal), str(journal), partial(length_of, self.journals.parent))
        except RecordsError as error:
            raise DamagedJournal(error.what, where=error.where, remedy=error.remedy) from None
        except OSError as error:
            raise RecordsError(
                f"the journal cannot be read ({_reason(error)})", where=str(journal), remedy="Was it removed?"
            ) from None
        try:
            is_new = rows is not None and self._write(rows)
            if rows is None or rows.run["is_safe"] or rows.run["broken_off"] or not is_new:
                kept_journals.keep(journal, self.journals)
        except UnfitValue as error:
            raise DamagedJournal(f"a value in it is damaged: {error!s:.80}", where=str(journal)) from None
        except (OSError, DatabaseFault) as error:
            raise RecordsError(
                f"the run cannot be stored ({_reason(error)})",
                where=self._db.name,
                remedy=f"Its journal is kept: {journal}",
            ) from None
        return (rows.run["id"], is_new) if rows is not None else ("", False)

    def take_in_left_over(self) -> tuple[list[str], list[str]]:
        """Stores all journals that no living process writes: the ids of the runs that were not stored yet, and what
        became of journals that are damaged. Each is taken by itself: one that is damaged is set aside and hinders
        nothing else."""
        stored, told = [], []
        kept_journals.clear_away(self.journals)
        for path in left_over(self.journals):
            try:
                run, is_new = self._take_in(path)
            except DamagedJournal as error:
                told.append(f"{self._set_aside(path)}: {error.what}")
                continue
            stored += [run] if is_new else []
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
        run = rows.run
        with self._db.transaction():
            found = self._db.rows("SELECT is_safe FROM runs WHERE id = ?", run["id"])
            if not found:
                self._insert_run(rows)
            elif run["is_safe"] and not found[0]["is_safe"]:
                self._db.change("UPDATE runs SET is_safe = 1, remarks = ? WHERE id = ?", run["remarks"], run["id"])
        return not found

    def _insert_run(self, rows: RunRows) -> None:
        unit = rows.unit
        found = self._db.rows("SELECT id FROM units WHERE serial = ? AND product = ?", unit["serial"], unit["product"])
        unit_id = found[0]["id"] if found else self._insert("units", unit)
        self._insert("runs", {**rows.run, "unit_id": unit_id})
        for file in rows.files:
            self._insert("files", {**file, "run_id": rows.run["id"]})
        for relay in rows.relays:
            self._insert("relays", {**relay, "run_id": rows.run["id"]})
        for message in rows.traffic:
            self._insert("traffic", {**message, "run_id": rows.run["id"]})
        for test in rows.tests:
            test_id = self._insert("tests", test.test)
            if test.test["run"]:
                self._copy_test(test.test, test_id)
            for table, found_rows in test.parts.items():
                self._db.insert_all(schema.BY_NAME[table], [{**row, "test_id": test_id} for row in found_rows])

    def _insert(self, table: str, row: Fields) -> int:
        return self._db.insert(schema.BY_NAME[table], row)

    def _copy_test(self, test: Fields, test_id: int) -> None:
        """In a retest: everything that a test which was taken over has found, from the run in which it was done."""
        origin = self._db.rows("SELECT id FROM tests WHERE run_id = ? AND name = ?", test["run"], test["name"])
        if not origin:
            return
        for table in PARTS:
            names = [c.name for c in schema.BY_NAME[table].columns if c.name not in ("id", "test_id")]
            columns = ", ".join(names)
            self._db.change(
                f"INSERT INTO {table} (test_id, {columns})"
                f" SELECT ?, {columns} FROM {table} WHERE test_id = ? ORDER BY id",
                test_id,
                origin[0]["id"],
            )


def _reason(error: Exception) -> str:
    return error.strerror or str(error) if isinstance(error, OSError) else str(error)
