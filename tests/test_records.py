"""Journal and store: nothing that was read is lost, damage is never cut silently, foreign files are refused."""

import contextlib
import datetime
import gzip
import json
import math
import os
import sqlite3
import subprocess
import sys
import threading
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path
from typing import get_args
from unittest.mock import Mock

import numpy as np
import pytest
import sqlalchemy
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy.dialects import postgresql
from sqlalchemy.schema import CreateTable

from ibexite import events
from ibexite.errors import MistakeError, RecordsError
from ibexite.events import Row
from ibexite.exports.formats import export
from ibexite.file_lock import try_lock
from ibexite.holes import NEVER_MEASURED, Bad, Bound
from ibexite.plain_file import written_whole
from ibexite.records import description, schema
from ibexite.records.gateway import open_lookup, open_store
from ibexite.records.ingest import _Collector, rows_of
from ibexite.records.journal import Journal, left_over, mend_tail, read_journal
from ibexite.records.kept_journals import journal_of
from ibexite.records.migrations import bring_up
from ibexite.records.run_id import new_run_id
from ibexite.records.sqlite_file import APPLICATION_ID, DatabaseFault, UnfitValue, open_to_read, open_to_write
from ibexite.verdicts import NO_REASON, Reason, Verdict
from tests.runs import emitted

SEQUENCE = {"title": "Test", "product": "Board", "revision": "C", "file": "t.ibx", "sha256": "0" * 64}
AXIS = {"name": "x", "unit": "V", "shown": "", "origin": "sweep"}
COLUMN = {"name": "y", "unit": "A", "shown": "mA", "origin": "read"}
OVERLOAD = Reason("overload", "overload")
EVENTS: list[events.Event] = [
    events.RunStarted("20261123-090000-aaaaaa", "2026-11-23T09:00:00.000+00:00", "FC1", "me", "here", "0.1.0", SEQUENCE,
                      {"name": "bench", "file": "b", "sha256": "1" * 64}, [], [{"test": "t", "title": "T", "gate": True}]),
    events.TestStarted(0.1, "t", "T"),
    events.TableStarted(0.1, "t", 1, [AXIS], [COLUMN]),
    Row(0.2, 1, (1.0,), (0.5,), [], ([("psu", ">", "VOLT 1"), ("dmm", "<", '"q"\\')], [0.1, 0.2])),
    Row(0.3, 1, (2.0,), (math.nan,), [Bad("y", OVERLOAD, "+9.9E37")], ([("psu", ">", "VOLT 2\nX")], [0.3])),
    Row(0.4, 1, (3.0,), (1 / 3,), [], events.NOTHING_SAID),
    events.Value(0.5, "t", "z", "let", "", "%", 0.25, [], events.NOTHING_SAID),
    events.Judged(0.6, "t", events.Subject(9, "y", "check y >= 0 A", "y", "A", ""), events.Point(1 / 3, 0.0, None, 1 / 3, {"x": 3.0}),
                  events.Limits(), events.Points(3, 0, 1, [], {"x": [1.0, 3.0]}), [AXIS], Verdict.FAIL, OVERLOAD),
    events.TestEnded(0.7, "t", Verdict.FAIL, OVERLOAD, 0.6),
    events.MadeSafe(0.8, [{"role": "supply", "problem": ""}]),
    events.RunEnded(0.9, Verdict.FAIL, NO_REASON, [Reason("simulated", "simulated bench")], 0, 1)]  # fmt: skip


@pytest.fixture
def journal(tmp_path: Path) -> Path:
    """A whole journal in a records folder."""
    path = tmp_path / "journals" / "20261123-090000-aaaaaa.jsonl"
    writer = Journal(path)
    for event in EVENTS:
        writer(emitted(event))
    writer.close()
    return path


def test_a_journal_gives_back_every_event(journal: Path) -> None:
    found = list(read_journal(journal))
    assert [e["e"] for e in found] == [type(e).__name__ for e in EVENTS]
    rows = [e for e in found if e["e"] == "Row"]
    assert [(row["x"], row["v"]) for row in rows] == [([1.0], [0.5]), ([2.0], [None]), ([3.0], [1 / 3])]
    assert rows[0]["io"] == [[["psu", ">", "VOLT 1"], ["dmm", "<", '"q"\\']], [0.1, 0.2]]
    assert rows[1]["io"] == [[["psu", ">", "VOLT 2\nX"]], [0.3]]


GOOD_ROW = {"e": "Row", "t": 0.65, "table": 1, "x": [4.0], "v": [2.0], "bad": [], "io": [[], []]}
TOLD_BAD = [{"name": "y", "reason": OVERLOAD._asdict(), "raw": "1"}]


@pytest.mark.parametrize("change", [
    {}, {"bad": TOLD_BAD}, {"v": [None]}, {"v": [None], "never": [0]}, {"never": [], "bounds": [[0, "below 4.0"]]}, {"table": 9}, {"v": []}, {"v": [2.0, 3.0]},
    {"v": ["a"]}, {"v": "a"}, {"x": 4.0}, {"io": [[]]}, {"io": None}, {"t": "late", "v": [3.0, 4.0]},
], ids=str)  # fmt: skip
def test_a_row_is_stored_alike_straight_from_its_line_and_through_its_event(journal: Path, monkeypatch: pytest.MonkeyPatch, change: dict) -> None:
    def told() -> object:
        try:
            rows = rows_of([*list(read_journal(journal))[:6], GOOD_ROW | change])  # the run breaks off behind it
        except RecordsError as error:
            return error.what.partition(":")[0]
        return rows

    found = told()
    monkeypatch.setattr(_Collector, "took_plain_row", lambda self, entry: False)
    assert found == told() and (not isinstance(found, str) or "is damaged" in found)


def test_a_journal_cut_at_any_byte_keeps_every_whole_line(journal: Path) -> None:
    whole = journal.read_bytes()
    for length in range(0, len(whole), 7):
        journal.write_bytes(whole[:length])
        lines = whole[:length].count(b"\n")
        assert len(list(read_journal(journal))) == lines
        torn = mend_tail(journal)
        assert torn == length - (whole[:length].rfind(b"\n") + 1)
        assert journal.read_bytes() == whole[: length - torn]
        if torn:
            assert journal.with_suffix(".torn").read_bytes() == whole[length - torn : length]


def test_damage_in_the_middle_is_told_and_never_cut(journal: Path) -> None:
    whole = journal.read_bytes()
    lines = whole.split(b"\n")
    journal.write_bytes(b"\n".join([*lines[:4], lines[4][:20] + b"\xff", *lines[5:]]))
    damaged = journal.read_bytes()
    with pytest.raises(RecordsError, match="line 5 is damaged"):
        open_store(journal.parent.parent).take_in(journal)
    assert journal.read_bytes() == damaged


def test_a_stored_run_reads_back_as_it_was(journal: Path) -> None:
    store, written = open_store(journal.parent.parent), list(read_journal(journal))
    run = store.take_in(journal)
    kept = journal_of(journal.parent.parent, run)
    assert kept is not None and kept.name == journal.name + ".gz" and not journal.exists()
    assert list(read_journal(kept)) == written
    record = open_lookup(store.records).run(run)
    assert (record.row["serial"], record.row["verdict"], record.verdict_text) == ("FC1", "fail", "FAIL (trial)")
    assert (record.row["trial_reasons"], record.row["is_safe"], record.row["broken_off"]) == ("simulated bench", 1, 0)
    test = record.tests[0]
    assert (test.row["verdict"], test.row["is_gate"], test.row["duration"]) == ("fail", 1, 0.6)
    grid = test.grid_with("y")
    assert grid is not None and grid.axes == ["x"]
    assert grid.column("x").tolist() == [1.0, 2.0, 3.0]
    assert grid.column("y")[2] == 1 / 3 and math.isnan(grid.column("y")[1])
    assert test.bad_readings[0] | {"id": 0, "test_id": 0} == {"id": 0, "test_id": 0, "name": "y", "at": {"x": 2.0},
                                                              "reason": "overload", "reason_code": "overload", "raw": "+9.9E37"}  # fmt: skip
    assert test.results[0]["at"] == {"x": 3.0} and test.results[0]["margin"] == 1 / 3


def test_taking_in_twice_changes_nothing(journal: Path) -> None:
    store = open_store(journal.parent.parent)
    store.take_in(journal)
    packed = journal.with_name(journal.name + ".gz")
    (journal.parent / "stored" / packed.name).rename(packed)
    assert store.take_in_left_over() == ([], []) and not packed.exists()
    assert len(open_lookup(store.records).runs()) == 1


def test_a_journal_is_never_lost_while_it_is_packed(journal: Path, monkeypatch) -> None:
    store, written = open_store(journal.parent.parent), list(read_journal(journal))
    monkeypatch.setattr("ibexite.records.kept_journals.os.fsync", Mock(side_effect=OSError(28, "No space left on device")))
    kept = journal_of(store.records, store.take_in(journal))
    assert kept is not None and list(read_journal(kept)) == written  # it moved as it is
    assert [path.name for path in kept.parent.iterdir()] == [journal.name]


def test_what_a_killed_packing_left_is_cleared_away_unless_it_goes_on(journal: Path) -> None:
    store = open_store(journal.parent.parent)
    parts = [journal.parent / f"run.jsonl.gz.{pid}.part" for pid in (1, 2)]
    for part in parts:
        part.write_bytes(b"half")
    with parts[1].open("rb+") as held:
        assert try_lock(held.fileno())
        assert store.take_in_left_over() == (["20261123-090000-aaaaaa"], [])
        assert [part.exists() for part in parts] == [False, True]


@pytest.mark.parametrize("end", [0.3, 0.9])
def test_a_packed_journal_that_is_damaged_is_set_aside(journal: Path, end: float) -> None:
    store = open_store(journal.parent.parent)
    packed = journal.with_name(journal.name + ".gz")
    data = gzip.compress(journal.read_bytes())
    packed.write_bytes(data[: int(len(data) * end)])
    journal.unlink()
    stored, told = store.take_in_left_over()
    assert stored == [] and "cannot be unpacked" in told[0] and (journal.parent / "damaged" / packed.name).exists()


def test_a_run_that_ended_with_an_output_on_is_looked_at_once_more_and_told_once(journal: Path) -> None:
    journal.write_bytes(journal.read_bytes().replace(b'"problem":""', b'"problem":"it does not go off"'))
    store = open_store(journal.parent.parent)
    assert store.take_in(journal) and journal.exists()  # the guardian may still write into it
    assert store.take_in_left_over() == ([], []) and not journal.exists()


@pytest.mark.parametrize("kept", range(1, len(EVENTS) - 1))
def test_a_run_that_broke_off_anywhere_is_stored_as_aborted(journal: Path, kept: int) -> None:
    lines = journal.read_bytes().splitlines(keepends=True)
    journal.write_bytes(b"".join(lines[:kept]) + lines[kept][:9])
    store = open_store(journal.parent.parent)
    assert store.take_in_left_over() == (["20261123-090000-aaaaaa"], [])
    record = open_lookup(store.records).run("20261123-090000-aaaaaa")
    assert (record.row["verdict"], record.row["broken_off"], record.row["is_trial"]) == ("aborted", 1, 1)
    rows = sum(isinstance(event, Row) for event in EVENTS[:kept])
    grid = record.tests[0].grid_with("y")
    assert (len(grid.column("x")) if grid else 0) == rows


def test_a_journal_that_is_being_written_is_left_alone(tmp_path: Path) -> None:
    writer = Journal(tmp_path / "journals" / "live.jsonl")
    writer(emitted(EVENTS[0]))
    assert list(left_over(tmp_path / "journals")) == []
    writer.close()
    assert [path.name for path in left_over(tmp_path / "journals")] == ["live.jsonl"]


def test_a_full_disk_ends_the_journal_with_a_message(tmp_path: Path) -> None:
    writer = Journal(tmp_path / "journals" / "full.jsonl")
    os.dup2(os.open("/dev/full", os.O_WRONLY), writer._fd)
    with pytest.raises(RecordsError, match="the journal cannot be written .No space left on device"):
        writer(emitted(EVENTS[1]))
    writer.close()


def test_a_folder_that_cannot_be_written_is_told(tmp_path: Path) -> None:
    (tmp_path / "journals").write_text("a file in the way")
    with pytest.raises(RecordsError, match="the journal cannot be made"):
        Journal(tmp_path / "journals" / "x.jsonl")


@pytest.mark.parametrize(("prepare", "what"), [
    (lambda path: path.write_text("a spreadsheet, perhaps"), "this is not a store"),
    (lambda path: sqlite3.connect(path).execute("CREATE TABLE recipes (name)"), "belongs to another program"),
    (lambda path: sqlite3.connect(path).executescript(
        f"PRAGMA application_id={APPLICATION_ID}; PRAGMA user_version=99; CREATE TABLE x (y)"), "version 99")])  # fmt: skip
def test_foreign_stores_are_refused_and_left_as_they_are(journal: Path, prepare, what: str) -> None:
    path = journal.parent.parent / "ibexite.sqlite"
    result = prepare(path)
    if result is not None and not isinstance(result, int):
        result.connection.close()
    before = path.read_bytes()
    for opening in (open_store, open_lookup):
        with pytest.raises(RecordsError, match=what):
            opening(journal.parent.parent)
    assert path.read_bytes() == before and journal.exists()


@pytest.mark.parametrize(("opening", "deed"), [(open_store, "open"), (open_lookup, "open"), (open_lookup, "stat")])
def test_a_store_that_may_not_be_read_is_told_plainly(journal: Path, opening: Callable, deed: str, monkeypatch: pytest.MonkeyPatch) -> None:
    open_store(journal.parent.parent).close()

    def refuse(path: Path, *_: object, **__: object) -> None:
        raise PermissionError(13, "Permission denied", str(path))

    monkeypatch.setattr(Path, deed, refuse)
    with pytest.raises(RecordsError, match=r"cannot be (read|opened) \(Permission denied\)"):
        opening(journal.parent.parent)


def test_runs_are_found_by_what_people_type(journal: Path) -> None:
    store = open_store(journal.parent.parent)
    run = store.take_in(journal)
    lookup = open_lookup(store.records)
    assert {lookup.find(word) for word in ("last", "FC1", "aaaaaa", run)} == {run}
    with pytest.raises(MistakeError, match="there is no run 'FC2'"):
        lookup.find("FC2")
    assert lookup.runs(verdict="pass") == [] and lookup.runs(serial="FC1")[0]["tests"] == 1


@pytest.mark.parametrize(("tests", "files"), [
    ([("results", 1), ("Values", 1)], ["results__2", "Values__2"]),
    ([("aa", 2), ("aa_1", 1)], ["aa_1", "aa_2", "aa_1__2"]),
    ([("lev [u = 1.5 V]", 1), ("lev [u = 1_5 V]", 1)], ["lev__u___1_5_V_", "lev__u___1_5_V___2"])])  # fmt: skip
def test_no_table_of_an_export_takes_the_place_of_another(journal: Path, tmp_path: Path, tests: list[tuple[str, int]], files: list[str]) -> None:
    store = open_store(journal.parent.parent)
    record = open_lookup(store.records).run(store.take_in(journal))
    [part] = record.tests
    [grid] = [grid for grid in part.grids if grid.axes]
    parts = [replace(part, row={**part.row, "name": name}, grids=[grid] * tables) for name, tables in tests]
    written = export(replace(record, parts=parts), "csv", tmp_path / "out")
    assert [path.stem for path in written] == ["results", "values", *files]
    assert sorted(path.name for path in (tmp_path / "out").iterdir()) == sorted(path.name for path in written)
    assert {path.read_text() for path in written[2:]} == {written[2].read_text()} and "[V]" in written[2].read_text()
    assert "verdict" in written[0].read_text()


def test_a_file_is_written_whole_or_left_as_it_was(tmp_path: Path) -> None:
    path = tmp_path / "new" / "report.html"
    with written_whole(path) as side:
        side.write_text("first")
    with written_whole(path) as outer, written_whole(path.with_name("other")) as inner:
        outer.write_text("second")
        assert path.read_text() == "first"
        inner.write_text("other")
    with pytest.raises(KeyboardInterrupt), written_whole(path) as side:
        side.write_text("third")
        raise KeyboardInterrupt
    assert {p.name: p.read_text() for p in path.parent.iterdir()} == {"report.html": "second", "other": "other"}


def test_export_writes_unrounded_numbers_and_empty_holes(journal: Path, tmp_path: Path) -> None:
    store = open_store(journal.parent.parent)
    record = open_lookup(store.records).run(store.take_in(journal))
    names = [path.name for path in export(record, "csv", tmp_path / "out")]
    assert names == ["results.csv", "values.csv", "t.csv"]
    assert (tmp_path / "out" / "t.csv").read_text().split() == ["x", "[V],y", "[A]", "1.0,0.5", "2.0,", f"3.0,{1 / 3!r}"]
    assert "FC1,t,y,fail,0.3333333333333333,0.0,,0.3333333333333333,A,3,0,1" in (tmp_path / "out" / "results.csv").read_text()


def test_the_page_of_the_data_model_is_current() -> None:
    page = (Path(__file__).parents[1] / "docs" / "data-model.md").read_text()
    assert schema.describe() in page, "run: make tables"


@pytest.mark.parametrize(("old", "new"), [
    (b'"origin":"read"', b'"orign":"read"'), (b'"shown":"mA"', b'"shwn":"mA"'), (b'"serial":"FC1"', b'"serial":{"a":1}'),
    (b'"x":[', b'"x":[1.5,')])  # fmt: skip
def test_a_journal_whose_events_lack_something_hinders_no_other(journal: Path, old: bytes, new: bytes) -> None:
    whole = journal.read_bytes()
    assert old in whole
    journal.write_bytes(whole.replace(old, new))
    journal.with_name("20261123-090000-bbbbbb.jsonl").write_bytes(whole.replace(b"-aaaaaa", b"-bbbbbb"))
    store = open_store(journal.parent.parent)
    stored, told = store.take_in_left_over()
    store.close()
    assert stored == ["20261123-090000-bbbbbb"] and len(told) == 1 and "damaged" in told[0]
    assert (journal.parent / "damaged" / journal.name).exists()


LEAVES = st.one_of(
    st.none(), st.booleans(), st.integers(), st.floats(), st.complex_numbers(), st.text(st.characters(exclude_categories=[])), st.binary(max_size=5),
    st.builds(Bound, st.floats(allow_nan=False), st.booleans(), st.booleans()), st.sampled_from([np.float64(1.5), np.int64(3), np.bool_(True), NEVER_MEASURED]),
)  # fmt: skip
ANYTHING = st.recursive(LEAVES, lambda inner: st.lists(inner, max_size=3) | st.tuples(inner) | st.dictionaries(
    st.text(st.characters(exclude_categories=[]), max_size=3) | st.integers() | st.booleans(), inner, max_size=3), max_leaves=6)  # fmt: skip
KINDS = get_args(events.Event)


@pytest.mark.parametrize("kind", KINDS)
def test_every_event_can_be_written_whatever_is_in_it(tmp_path_factory: pytest.TempPathFactory, kind: type) -> None:
    path = tmp_path_factory.mktemp("journal") / "journals" / "j.jsonl"
    writer = Journal(path)
    written = 0

    @given(st.data())
    @settings(max_examples=30, deadline=None)
    def write(data: st.DataObject) -> None:
        nonlocal written
        writer(emitted(kind(**{name: data.draw(ANYTHING) for name in kind._fields})))  # type: ignore[attr-defined]
        written += 1

    try:
        write()
    finally:
        writer.close()
    found = [json.loads(line) for line in path.read_bytes().splitlines()]
    assert len(found) == written
    for line in found:
        left_out = {"e", *kind._fields} - set(line)  # type: ignore[attr-defined]
        assert set(line) <= {"e", "form", *kind._fields} and left_out in (set(), {"never", "bounds"})  # type: ignore[attr-defined]


def test_a_transaction_is_written_whole_or_not_at_all(tmp_path: Path) -> None:
    with contextlib.closing(open_to_write(tmp_path, 1.0, bring_up)) as db:
        for unfit in ({"serial": 1 << 64, "product": "p"}, {"serial": "\ud800", "product": "p"}, {"serial": [], "product": "p"}):
            with pytest.raises(UnfitValue), db.transaction():
                db.insert(schema.BY_NAME["units"], {"serial": "FC1", "product": "p"})
                db.insert(schema.BY_NAME["units"], unfit)
            assert db.rows("SELECT serial FROM units") == []
        with pytest.raises(DatabaseFault), db.transaction():
            db.insert_all(schema.BY_NAME["units"], [{"serial": "FC1", "product": "p"}] * 2)
        with db.transaction():
            db.insert(schema.BY_NAME["units"], {"serial": "FC1", "product": "p"})
    with contextlib.closing(open_to_read(tmp_path)) as db:
        assert [row["serial"] for row in db.rows("SELECT serial FROM units")] == ["FC1"]
        with pytest.raises(DatabaseFault):
            db.change("DELETE FROM units")


def test_making_ready_waits_for_a_writer_of_the_same_moment(tmp_path: Path) -> None:
    path = tmp_path / "ibexite.sqlite"
    open_to_write(tmp_path, 1.0, bring_up).close()
    with contextlib.closing(sqlite3.connect(path, isolation_level=None, check_same_thread=False)) as other:
        other.execute("PRAGMA journal_mode=DELETE")  # as it is between the making of the tables and the change to WAL
        other.execute("BEGIN IMMEDIATE")
        threading.Timer(0.3, other.execute, ["COMMIT"]).start()
        open_to_write(tmp_path, 30.0, bring_up).close()
    with contextlib.closing(sqlite3.connect(path)) as db:
        assert db.execute("PRAGMA journal_mode").fetchone() == ("wal",)


def test_the_tables_that_are_shipped_are_those_that_are_described() -> None:
    assert json.loads(Path(schema.__file__).with_name("tables.json").read_text()) == description.as_data(), "make tables"


@pytest.mark.parametrize("table", list(description.METADATA.tables.values()), ids=str)
def test_a_larger_database_can_have_the_same_tables(table: sqlalchemy.Table) -> None:
    made = str(CreateTable(table).compile(dialect=postgresql.dialect()))
    assert made.count("NOT NULL") == sum(not column.nullable for column in table.columns)
    assert ("SERIAL" in made) == (table.name != "runs") and " REAL" not in made  # of which it would keep half


def test_what_is_stored_is_of_the_type_of_its_column(journal: Path) -> None:  # another database would not convert it
    rows = rows_of(read_journal(journal))
    assert rows is not None
    found = [("units", rows.unit), ("runs", rows.run)]
    for test in rows.tests:
        found += [("tests", test.test), *(("curves", c) for c in test.curves), *(("results", r) for r in test.results)]
    kinds = {"Text": str, "Integer": int, "Double": float | int, "LargeBinary": bytes}
    for name, row in found:
        for column in description.METADATA.tables[name].columns:
            if column.name in row and not (column.nullable and row[column.name] is None):
                value = row[column.name]
                assert isinstance(value, kinds[type(column.type).__name__]) and not isinstance(value, bool), column


def test_a_store_at_a_url_of_another_kind_is_refused(tmp_path: Path, ibexite) -> None:
    for open_it in (open_store, open_lookup):
        with pytest.raises(MistakeError, match="stores at such a URL are not known"):
            open_it("other://host/base")
    refused = ibexite("runs", "--records", "other://host/base")
    assert refused.returncode == 2 and "not known" in refused.stderr and "Traceback" not in refused.stderr


def test_many_processes_may_store_into_a_new_store_at_once(tmp_path: Path) -> None:
    code = ("import sys; from pathlib import Path; from ibexite.records.gateway import open_store\n"
            "open_store(Path(sys.argv[1])).take_in(Path(sys.argv[2]))")  # fmt: skip
    paths = []
    for number in range(4):
        path = tmp_path / "journals" / f"{number}.jsonl"
        journal = Journal(path)
        for event in EVENTS:
            named = event._replace(run=f"20261123-09000{number}-aaaaaa") if isinstance(event, events.RunStarted) else event
            journal(emitted(named))
        journal.close()
        paths.append(path)
    writers = [subprocess.Popen([sys.executable, "-c", code, str(tmp_path), str(path)]) for path in paths]
    assert [writer.wait(30) for writer in writers] == [0, 0, 0, 0]
    assert len(open_lookup(tmp_path).runs()) == 4 and not list((tmp_path / "journals").glob("*.jsonl"))


def test_a_disk_that_fails_while_syncing_is_told_at_the_next_event(tmp_path: Path, monkeypatch) -> None:
    journal = Journal(tmp_path / "j.jsonl")
    monkeypatch.setattr(os, "fsync", lambda handle: (_ for _ in ()).throw(OSError(5, "Input/output error")))
    journal(emitted(EVENTS[1]))
    journal._syncer.join(5)
    with pytest.raises(RecordsError, match="Input/output error"):
        journal(emitted(EVENTS[1]))
    journal.close()


def test_run_ids_sort_by_time_and_differ() -> None:
    first = datetime.datetime(2026, 11, 23, 9, 0, 0, tzinfo=datetime.timezone(datetime.timedelta(hours=2)))
    ids = [new_run_id(first + datetime.timedelta(seconds=s)) for s in range(50)]
    assert ids[0].startswith("20261123-070000-") and ids == sorted(ids)
    assert len({new_run_id(first) for _ in range(500)}) == 500
