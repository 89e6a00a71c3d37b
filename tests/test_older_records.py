"""What an older version has written: journals that were left over, and stores. Both are completed, and say the same."""

import contextlib
import sqlite3
from pathlib import Path

import pytest

from ibexite.records import schema
from ibexite.records.gateway import open_lookup, open_store
from ibexite.records.sqlite_file import is_older
from ibexite.records.stored_run import RunRecord

OLDER = Path(__file__).with_name("older")
RUN = "20261123-090000-aaaaaa"


def from_journal(records: Path) -> None:
    """A journal of form 1 that nobody has stored."""
    (records / "journals").mkdir(parents=True)
    (records / "journals" / f"{RUN}.jsonl").write_bytes((OLDER / "journal_form_1.jsonl").read_bytes())


def from_store(records: Path) -> None:
    """A store of version 3 which has that run."""
    with contextlib.closing(sqlite3.connect(records / "ibexite.sqlite")) as db:
        db.executescript((OLDER / "store_version_3.sql").read_text())
    assert is_older(records)


@pytest.mark.parametrize("make", [from_journal, from_store])
def test_what_an_older_version_has_written_reads_as_it_was(tmp_path: Path, make) -> None:
    make(tmp_path)
    with contextlib.closing(open_store(tmp_path)) as store:
        store.take_in_left_over()
    with contextlib.closing(sqlite3.connect(tmp_path / "ibexite.sqlite")) as db:
        columns = {row[1] for row in db.execute("PRAGMA table_info(tests)")}
    assert columns == {column.name for column in schema.BY_NAME["tests"].columns}
    with contextlib.closing(open_lookup(tmp_path)) as lookup:
        run = lookup.run(RUN)
    assert not is_older(tmp_path) and (run.row["verdict"], run.row["is_trial"]) == ("fail", 1)
    assert run.row["trial"] == [{"code": "simulated", "text": "simulated bench", "run": ""}]
    told = [(t.row["name"], t.row["verdict"], t.row["reason"], t.row["reason_code"], t.row["has_failed"]) for t in run.tests]
    assert told == [("t", "fail", "overload", "older", 1), ("u", "skipped", "gate t did not pass (fail)", "gate", 0)]
    _reads_back(run)


def _reads_back(run: RunRecord) -> None:
    (result,) = run.tests[0].results
    assert (result["label"], result["criterion"], result["subject"]) == ("y", "check y >= 0 A", "y")
    assert (result["value"], result["low"], result["high"], result["at"]) == (1 / 3, 0.0, None, {"x": 3.0})
    assert (result["judged"], result["failed"], result["bad"], result["n"]) == (3, 0, 1, "2 of 3")
    assert (result["limits"], result["extent"]) == ([[1.0, 0.0, None]], {"x": [1.0, 3.0]})
    assert (result["reason"], result["reason_code"]) == ("overload", "older")
    bad = [(b["name"], b["reason"], b["reason_code"], b["raw"]) for b in run.tests[0].bad_readings]
    assert bad == [("y", "overload", "older", "+9.9E37"), ("z", "empty reply", "older", "")]
    grid = run.tests[0].grid_with("y")
    assert grid is not None and list(grid.column("x")) == [1.0, 2.0, 3.0] and grid.column("y")[2] == 1 / 3


def test_a_store_is_completed_once(tmp_path: Path) -> None:
    from_store(tmp_path)
    for _ in range(2):
        open_store(tmp_path).close()
    with contextlib.closing(open_lookup(tmp_path)) as lookup:
        assert [t.row["reason_code"] for t in lookup.run(RUN).tests] == ["older", "gate"]
