"""Looking up stored runs. Standard library only, so that a list of runs is there at once."""

from __future__ import annotations

import contextlib
import json
import sys
from array import array
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import Any

from ibexite.errors import MistakeError, RecordsError
from ibexite.events import SideRef
from ibexite.records.grids import Grid, put_together
from ibexite.records.side_file import EvenPoints, SideValues
from ibexite.records.sqlite_file import Database, DatabaseFault
from ibexite.records.stored_run import Attempt, RunRecord, TestRecord, local_time
from ibexite.records.stream_file import StreamValues
from ibexite.untyped import Fields

# The tables of what belongs to a test, beside its curves, and their columns in JSON.
_PARTS = {
    "results": ("at", "axes", "extent", "failing", "limits", "differences"), "bad_readings": ("at",),
    "figures": ("ys", "spans"),
    "conditions": ("names", "conditions"),
    "calls": ("given", "gave"),
}  # fmt: skip


class Lookup:
    """Reads a store; `records` is the folder of its side files. It is opened by ibexite.records.gateway."""

    def __init__(self, records: Path, database: Database) -> None:
        """Raises DatabaseFault: it cannot be read."""
        self.records, self._db = records, database
        self._db.rows("SELECT number, trial FROM runs LIMIT 1")

    def close(self) -> None:
        """Closes the database."""
        self._db.close()

    def _rows(self, query: str, *values: object) -> list[Fields]:
        with self._told():
            return self._db.rows(query, *values)

    @contextlib.contextmanager
    def _told(self) -> Iterator[None]:
        try:
            yield
        except DatabaseFault as error:
            raise RecordsError(
                f"the store cannot be read ({error})", where=self._db.name,
                remedy="Is another program writing it, or is the file damaged? The journals of its runs are kept.",
            ) from None  # fmt: skip

    def select(self, query: str, *values: object) -> list[Fields]:
        """The rows of a query over the tables of the store; see docs/data-model.md."""
        return self._rows(query, *values)

    def tuples(self, query: str, *values: object) -> Iterator[tuple[Any, ...]]:
        """The same as tuples, one after the other: for very many of them."""
        with self._told():
            yield from self._db.tuples(query, *values)

    def joined(self, value: str, separator: str) -> str:
        """What a statement says for a value of all rows that it finds, as texts in one."""
        return self._db.joined(value, separator)

    def in_hex(self, value: str) -> str:
        """What a statement says for bytes as a text."""
        return self._db.in_hex(value)

    def runs(self, *, serial: str = "", verdict: str = "", limit: int = 50) -> list[Fields]:
        """Runs, the newest first, with serial, product, and how many tests passed."""
        return self._rows(
            "SELECT runs.id, number, started, utc_offset, duration, serial, product, sequence, revision, verdict,"
            " is_trial, trial_reasons, reason, broken_off, operator, bench, lot, retest_of,"
            " (SELECT count(*) FROM tests WHERE run_id = runs.id AND kind = 'test' AND verdict = 'pass') AS passed,"
            " (SELECT count(*) FROM tests WHERE run_id = runs.id AND kind = 'test') AS tests"
            " FROM runs JOIN units ON units.id = unit_id"
            " WHERE (? = '' OR serial = ?) AND (? = '' OR verdict = ?)"
            " ORDER BY number DESC, started DESC, runs.id DESC LIMIT ?",
            serial,
            serial,
            verdict,
            verdict,
            limit,
        )

    def find(self, word: str) -> str:
        """The id of the run meant by a word: `last`, an id, a part of one, or a serial number (its latest run).

        Raises:
            MistakeError: none or several fit.
        """
        if word == "last":
            found = self._rows("SELECT id FROM runs ORDER BY number DESC, started DESC, id DESC LIMIT 1")
        else:
            found = self._rows(
                "SELECT runs.id FROM runs JOIN units ON units.id = unit_id WHERE serial = ?"
                " ORDER BY number DESC, started DESC, runs.id DESC LIMIT 1",
                word,
            )
            found = found or self._rows("SELECT id FROM runs WHERE replace(id, ?, '') <> id ORDER BY number DESC", word)
        if not found:
            raise MistakeError(
                f"there is no run {word!r}",
                where=self._db.name,
                remedy="See `ibexite runs`; 'last', a serial number or a part of an id will do.",
            )
        if len(found) > 1:
            raise MistakeError(
                f"{len(found)} runs have {word!r} in their id",
                where=self._db.name,
                remedy="Write more of the id: " + ", ".join(row["id"] for row in found[:4]) + " …",
            )
        return str(found[0]["id"])

    def has(self, run_id: str) -> bool:
        """True if a run is stored."""
        return bool(self._rows("SELECT 1 FROM runs WHERE id = ?", run_id))

    def run(self, run_id: str) -> RunRecord:
        """A run with everything that belongs to it."""
        row = self._rows(
            "SELECT runs.*, serial, product FROM runs JOIN units ON units.id = unit_id WHERE runs.id = ?", run_id
        )[0]
        for key in ("params", "instruments", "signals", "remarks", "files", "trial"):
            row[key] = json.loads(row[key])
        files = self._rows("SELECT * FROM files WHERE run_id = ? ORDER BY id", run_id)
        tests = self._rows("SELECT * FROM tests WHERE run_id = ? ORDER BY position", run_id)
        attempts = self.attempts(run_id) if row["retest_of"] else {}
        return RunRecord(row, [self.test(test) for test in tests], files, attempts)

    def second_verdicts(self, run_id: str) -> list[Fields]:
        """The verdicts that a run got when it was judged again, the first one first."""
        rows = self._rows("SELECT * FROM second_verdicts WHERE run_id = ? ORDER BY id", run_id)
        return [row | {key: json.loads(row[key]) for key in ("trial", "files", "changes")} for row in rows]

    def attempts(self, run_id: str, *, with_later: bool = False) -> dict[str, list[Attempt]]:
        """How often each test was carried out since the first run that a run completes: in all retests, whichever of
        the runs between they were begun from, the first one first. One that was skipped was no attempt.

        Args:
            with_later: also those after this run.
        """
        found: dict[str, list[Attempt]] = {}
        for run in self._attempted(run_id):
            when = local_time(run["started"], run["utc_offset"])
            for test in self._rows(
                "SELECT name, verdict, reason FROM tests WHERE run_id = ? AND kind = 'test' AND run = ''"
                " AND verdict <> 'skipped' ORDER BY position", run["id"],
            ):  # fmt: skip
                attempt = Attempt(run["id"], when, run["operator"], test["verdict"], test["reason"])
                found.setdefault(test["name"], []).append(attempt)
            if run["id"] == run_id and not with_later:
                break
        return found

    def _attempted(self, run_id: str) -> list[Fields]:
        """The first run that a run completes, and all retests from it on, in the order of their starting."""
        return self._rows(
            "WITH RECURSIVE before(id) AS "
            "(SELECT ? UNION SELECT retest_of FROM runs JOIN before USING (id) WHERE retest_of <> ''), "
            "family(id) AS (SELECT id FROM before UNION SELECT runs.id FROM runs JOIN family ON retest_of = family.id) "
            "SELECT id, started, utc_offset, operator FROM runs JOIN family USING (id) "
            "ORDER BY number, started, id", run_id,
        )  # fmt: skip

    def traffic(self, run_id: str) -> list[Fields]:
        """What was said last to each instrument of a run that did not end by itself, in its order."""
        return self._rows("SELECT instrument, t, direction, message FROM traffic WHERE run_id = ? ORDER BY id", run_id)

    def durations(self, sequence: str) -> dict[str, float]:
        """How long each test took, in s, in the last run of a sequence in which it was run to its end."""
        rows = self._rows(
            "SELECT tests.name, tests.duration FROM tests JOIN runs ON runs.id = run_id WHERE runs.sequence = ?"
            " AND tests.verdict IN ('pass', 'fail', 'no check') AND tests.duration > 0 ORDER BY number, started",
            sequence,
        )
        return {row["name"]: row["duration"] for row in rows}

    def test(self, test: Fields) -> TestRecord:
        """A test with everything that belongs to it, by its row."""
        parts = {table: self._parts(table, test["id"], in_json) for table, in_json in _PARTS.items()}
        return TestRecord(test, grids=self._grids(test["id"]), **parts)

    def _parts(self, table: str, test_id: int, in_json: tuple[str, ...]) -> list[Fields]:
        """What belongs to a test of one table, its JSON columns decoded."""
        rows = self._rows(f"SELECT * FROM {table} WHERE test_id = ? ORDER BY id", test_id)
        return [row | {key: json.loads(row[key]) for key in in_json} for row in rows]

    def _grids(self, test_id: int) -> list[Grid]:
        grids: dict[int, Grid] = {}
        for row in self._rows("SELECT * FROM curves WHERE test_id = ? ORDER BY grid < 0, abs(grid), position", test_id):
            row["labels"] = json.loads(row["labels"]) if row["labels"] else []
            row["place"] = json.loads(row["place"]) if row["place"] else {}
            grid = grids.setdefault(row["grid"], Grid([], []))
            grid.data.append(self._values(row))
            grid.columns.append(row)
        return put_together(list(grids.values()))

    def _values(self, row: Fields) -> Sequence[float]:
        """The values of a row of curves, wherever they are."""
        data = row.pop("data")
        if row["step"] is not None:
            return EvenPoints(row["start"], row["step"], row["length"])
        if row["side_channel"]:
            ref = SideRef(row["side"], row["side_begin"], row["length"], row["side_channel"])
            return StreamValues(self.records, ref)
        if row["side"]:
            return SideValues(self.records, SideRef(row["side"], row["side_begin"], row["length"]))
        values = array("d", data)
        if sys.byteorder == "big":
            values.byteswap()
        return values
