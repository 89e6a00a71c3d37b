"""Texts everywhere: read, called, asked for and computed within loops, judged point by point, stored, shown, exported
and taken over by a retest, as words and never as numbers."""

import csv
import json
from pathlib import Path

import pytest

from ibexite import events
from ibexite.events import Judged
from ibexite.records.ingest import RunRows, rows_of
from ibexite.records.journal import Journal, read_journal
from tests.conftest import HEADER, Recorded
from tests.test_asking_and_keeping import Prepared

MARKS = """import json, sys
given = json.load(sys.stdin)
print(json.dumps({"mark": "m-" + given["n"]}))
"""
LOOPS = """test t "T"
    sweep name over "low", "high", "odd"
        ask word = text "Word?"
        read who = query(supply, "*IDN?") as text
        call "marks.py" with n = name gives mark as text timeout 20 s
        let twin = name
        if name != "odd"
            let seldom = mark
        sweep u over 1 V, 2 V
            let inner = word
        {inside}
    {after}
"""


def loops(perform, inside: str = "", after: str = "") -> Recorded:
    """The loop with all that gives texts."""
    return perform(
        LOOPS.format(inside=inside, after=after), files={"marks.py": MARKS}, operator=Prepared("x", "y", "y"),
        change=lambda text: text.replace("[roles.supply]", "[roles.supply]\nraw = true"))  # fmt: skip


def read_back(run: Recorded, folder: Path) -> RunRows:
    """The rows of a run as they come from its journal."""
    journal = Journal(folder / "run.jsonl")
    for number, event in enumerate(run.events, 1):
        journal(events.Emitted("run", number, event))
    journal.close()
    rows = rows_of(read_journal(folder / "run.jsonl"))
    assert rows is not None
    return rows


@pytest.mark.parametrize(("inside", "after", "verdict", "failed"), [
    ('check mark matches "m-.*"', "", "pass", [0]),
    ('check mark matches "m-[lh].*"', "", "fail", [1]),
    ("", 'check mark matches "m-.*"', "pass", [0]),
    ("", 'check who matches "Firnline,.*"', "pass", [0]),
    ("", "check twin == name", "pass", [0]),
    ("", "check mark == name", "fail", [3]),
    ("", 'check name == "low" where name != "odd"', "fail", [1]),
    ("", 'check mark == "m-odd" where name == "odd"', "pass", [0]),
    ("", 'check mark == "m-odd" where name == "none"', "error", [0]),  # nothing was judged
    ("", 'check inner matches "x|y"', "pass", [0]),
    ("", 'check inner == "x"', "fail", [4]),
    ("", 'check seldom matches "m-low|m-high"', "pass", [0]),  # what was never read is not judged
    ("", 'check seldom matches "m-low"', "fail", [1])])  # fmt: skip
def test_texts_of_loops_are_judged_point_by_point(perform, inside: str, after: str, verdict: str, failed: list[int]) -> None:  # fmt: skip
    run = loops(perform, inside, after)
    assert run.tests["t"] == verdict, [r.reason for r in run.of(Judged)]
    assert [result.failed for result in run.of(Judged)] == failed


@pytest.mark.parametrize(("wanted", "said", "failing"), [("x", "y", ["high", "odd"]), ("y", "x", ["low"])])
def test_the_worst_text_is_told_with_its_place_and_what_was_demanded(perform, wanted: str, said: str, failing: list[str]) -> None:  # fmt: skip
    (result,) = loops(perform, after=f'check word == "{wanted}"').of(Judged)
    assert (result.said, result.demand, result.at) == (said, f'is "{wanted}"', {"name": failing[0]})
    assert (result.value, result.low, result.margin, result.judged) == (None, None, None, 3)
    assert result.failing == [[place] for place in failing]


def test_a_text_that_cannot_be_had_is_a_hole_that_does_not_pass(perform) -> None:
    lines = ('test t "T"\n    read word = query(supply, "NONE?") as text\n    check word matches ".*"\n')  # fmt: skip
    run = perform(lines, change=lambda text: text.replace("[roles.supply]", "[roles.supply]\nraw = true"))
    assert run.tests["t"] == "error"


def test_texts_are_stored_as_words(perform, tmp_path: Path) -> None:
    run = loops(perform, after="let again = mark")
    rows = read_back(run, tmp_path)
    labels = {c["name"]: json.loads(c["labels"]) for c in rows.tests[0].curves if c["kind"] == "text"}
    assert labels == {
        "name": ["low", "high", "odd"], "word": ["x", "y"], "who": labels["who"], "inner": ["x", "y"],
        "mark": ["m-low", "m-high", "m-odd"], "twin": ["low", "high", "odd"], "seldom": ["m-low", "m-high"],
        "again": ["m-low", "m-high", "m-odd"]}  # fmt: skip
    assert len([row for row in run.of(events.Row) if "y" in row.v]) == 6  # two turns outside, two within each


def test_two_axes_of_other_texts_do_not_meet(perform) -> None:
    lines = 'test {0} "A"\n    sweep name over "{1}", "{2}"\n        let x = 1 V\n    check x >= 0 V\n'
    both = lines.format("a", "low", "high") + lines.format("b", "up", "down") + "    let d = a.x - x\n    check d >= -1 V\n"
    run = perform(both)
    assert run.tests["b"] == "error"  # by number both would be 0 and 1


def test_people_read_words_wherever_texts_are_shown(ibexite, project: Path) -> None:
    after = 'check mark matches "m-[lh].*"\n    plot level against name'
    text = HEADER + LOOPS.format(inside="read level = v_in", after=after).replace(
        '        ask word = text "Word?"\n        read who = query(supply, "*IDN?") as text\n', "        let word = name\n"
    )
    (project / "t.ibx").write_text(text)
    (project / "marks.py").write_text(MARKS)
    assert ibexite("run", "t.ibx", "--simulate", "--serial", "FC00412", report=True).returncode == 1
    shown = ibexite("show", "last").stdout
    assert 'm-odd   matches "m-[lh].*"' in shown and "name = odd   1 of 3 failed" in shown
    ibexite("export", "last", "--to", "csv", "--out", "out")
    rows = list(csv.DictReader(max((project / "out").glob("t_*.csv"), key=lambda path: path.stat().st_size).read_text().splitlines()))
    assert [row["mark"] for row in rows] == ["m-low", "m-high", "m-odd"]
    assert [row["seldom"] for row in rows] == ["m-low", "m-high", ""]
    (page,) = [path.read_text() for path in (project / "records" / "reports").glob("*.html")]
    figure = page.partition("<svg")[2].partition("</svg>")[0]
    assert all(f">{word}</text>" in figure for word in ("low", "high", "odd"))


def test_a_wait_for_a_text_is_recorded_as_text(perform, tmp_path: Path) -> None:
    lines = (
        'test t "T"\n    wait reading who = query(supply, "*IDN?") as text every 1 ms until who == "{0}" timeout 5 ms\n    read v_in\n    check v_in >= 1 V\n'
    )
    change = lambda text: text.replace("[roles.supply]", "[roles.supply]\nraw = true")  # noqa: E731
    run = perform(lines.format("nobody"), change=change)
    assert run.tests["t"] == "error" and "last who = Firnline," in str(run.of(events.TestEnded)), run.events
    rows = read_back(run, tmp_path)
    (column,) = [c for c in rows.tests[0].curves if c["name"] == "who"]
    assert column["kind"] == "text" and len(json.loads(column["labels"])) == 1
