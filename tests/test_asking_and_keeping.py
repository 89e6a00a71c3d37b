"""Questions of every kind, and that all a run gives is kept: texts, complex curves, notes, files, lots, older stores."""

import math
import sqlite3
from pathlib import Path
from typing import Any

import pytest

from ibexite import events, units
from ibexite.cli.terminal_operator import parse_answer
from ibexite.engine.services import Live, NoOperator, Question
from ibexite.records import schema
from ibexite.records.gateway import open_lookup, open_store
from ibexite.records.journal import Journal
from ibexite.reports.drawing import draw
from ibexite.reports.gathering import gather
from tests.conftest import HEADER
from tests.runs import emitted


class Prepared(NoOperator):
    """Answers from a list, and remembers what was asked, shown and sounded."""

    def __init__(self, *answers: Any) -> None:
        self.answers, self.asked, self.heard = list(answers), [], []  # type: ignore[var-annotated]

    def ask(self, question: Question) -> Any:
        self.asked.append(question)
        return self.answers.pop(0)

    def adjust(self, question: Question, live: Live) -> str:
        self.asked.append(question)
        return live()[0]

    def show(self, text: str) -> None:
        self.heard.append(text)

    def tone(self, kind: str) -> None:
        self.heard.append(kind)


ASKING = """test t "T"
    ask confirm "Seat {serial}." picture "seat.png"
    ask button "Press."
    ask lit = yes_no "Is the lamp lit?"
    ask colour = choice "Which colour?" of "green", "amber"
    ask code = text "Code?" matches "[A-Z]{3}"
    ask gap = number "Gap?" in mm between 1 mm and 9 mm
    ask adjust v_in within 9 V +/- 5 % "Turn R7."
    check lit is yes
    check colour == "amber"
    check code matches "AB."
    check gap between 1 mm and 5 mm
    show "{colour}, {gap}, {gap:cm}, {lit}"
    note "Colour {colour} at {gap}."
    attach "seat.png"
    tone good
"""


def test_each_question_is_asked_and_its_answer_judged_and_kept(perform, tmp_path: Path) -> None:
    operator = Prepared("done", "pressed", True, "amber", "ABC", 0.0042)
    run = perform(ASKING, operator=operator, files={"seat.png": "a picture"})
    assert run.verdict == "pass", run.ended
    assert [q.kind for q in operator.asked] == ["confirm", "button", "yes_no", "choice", "text", "number", "adjust"]
    assert operator.asked[0].text == "Seat FC00400." and operator.asked[0].picture.endswith("seat.png")
    assert operator.asked[5].bounds == (0.001, 0.009) and operator.asked[6].bounds == (pytest.approx(8.55), pytest.approx(9.45))
    assert operator.heard == ["amber, 4.2 mm, 0.42, yes", "good"]
    assert [e.answer for e in run.of(events.Answered)][2:6] == ["yes", "amber", "ABC", "4.2 mm"] and "adjusted to " in run.of(events.Answered)[6].answer
    assert run.of(events.Attached)[0].size == 9
    record = stored(run, tmp_path)
    values = {g.columns[0]["name"]: g.columns[0] for g in record.tests[0].grids}
    assert (values["colour"]["labels"], values["lit"]["kind"], values["gap"]["unit"]) == (["amber"], "yes_no", "m")
    assert record.files[0]["name"] == "seat.png"
    report = gather(record)
    assert ("colour", "amber") in report.tests[0].values and ("lit", "yes") in report.tests[0].values
    assert "Colour amber at 4.2 mm." in [r["text"] for r in record.row["remarks"]]


@pytest.mark.parametrize(("kind", "text", "answer", "problem"), [
    ("yes_no", "y", True, ""), ("yes_no", "maybe", False, "Answer yes or no."), ("choice", "2", "b", ""), ("choice", "b", "b", ""),
    ("choice", "3", "3", "Answer a number from 1 to 2."), ("text", "AB1", "AB1", ""), ("text", "x", "x", "It must match [A-Z0-9]+."),
    ("number", "4.2", 0.0042, ""), ("number", "0.3 cm", 0.003, ""), ("number", "5 V", math.nan, "That is a voltage (V)"),
    ("number", "12", 0.012, "It must lie between 1 mm and 9 mm."), ("number", "four", math.nan, "'four' is not a number"), ("confirm", "", "confirmed", "")])  # fmt: skip
def test_answers_are_checked_before_they_are_taken(kind, text, answer, problem) -> None:
    question = Question(kind, "?", ("a", "b"), "[A-Z0-9]+", units.parse_unit("mm"), (0.001, 0.009))
    found, told = parse_answer(question, text)
    assert found == pytest.approx(answer, nan_ok=True) if isinstance(answer, float) else found == answer
    assert told.startswith(problem) and bool(told) == bool(problem)


def stored(run, folder: Path):
    """The run as the store gives it back."""
    journal = Journal(folder / "journals" / f"{run.outcome.run}.jsonl")
    for event in run.events:
        journal(emitted(event))
    journal.close()
    store = open_store(folder)
    store.take_in(journal.path)
    store.close()
    lookup = open_lookup(folder)
    record = lookup.run(lookup.find("last"))
    lookup.close()
    return record


def test_complex_curves_holes_statistics_and_bounds_are_kept_and_reported(perform, tmp_path: Path) -> None:
    run = perform(
        """test t "T"
    sweep iload over 0 A, 100 mA, 200 mA, 300 mA
        set load.current = iload
        wait 12 ms
        read v_out
        if iload > 50 mA
            read i_out
        let z = polar(v_out, 1.5 * v_out / 1 V)
    let centre = mean(i_out)
    let whole = z * 2
    let size = abs(z)
    search x from 9 V to 8 V resolution 100 mV until v_in < 1 V
        set supply.voltage = x
        read v_in
    check size >= 4 V
    plot size against iload
""".replace("polar(v_out, 1.5 * v_out / 1 V)", "polar(v_out, 30 deg)")
    )
    assert run.verdict == "pass", run.ended
    record = stored(run, tmp_path)
    test = record.tests[0]
    grid = test.grid_with("z.re")
    assert grid is not None and grid.column("z.im")[0] == pytest.approx(grid.column("v_out")[0] / 2)
    whole = test.grid_with("whole.im")
    assert whole is not None and whole.column("whole.im")[3] == pytest.approx(grid.column("v_out")[3])
    single = {g.columns[0]["name"]: g.columns[0] for g in test.grids if not g.axes}
    assert (single["centre"]["n"], single["x"]["bound"]) == ("3 of 3", "below 8 V")
    part = gather(record).tests[0]
    assert ("i_out", "1 of 4 points") in part.holes and not part.bad_readings
    assert any(name == "centre" and "(n = 3 of 3)" in text for name, text in part.values)
    assert "<svg" in draw(part.figures[0].pictures[0])


def test_an_older_store_gets_what_it_lacks_and_a_newer_one_is_refused(perform, tmp_path: Path) -> None:
    run = perform('test t "T"\n    read v_in\n    check v_in within 9 V +/- 1 V\n')
    record = stored(run, tmp_path)
    assert record.tests[0].results[0]["percent"] == pytest.approx(100 * record.tests[0].results[0]["margin"])
    path = tmp_path / "ibexite.sqlite"
    with sqlite3.connect(path) as db:  # back to the columns of version 1
        db.execute("DROP TABLE files")
        for table, columns in (("runs", "lot files retest_of"), ("results", "kind said demand guard rule origin percent"), ("curves", "kind labels n bound")):
            for column in columns.split():
                db.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        db.execute("PRAGMA user_version=1")
    db.close()
    open_store(tmp_path).close()
    lookup = open_lookup(tmp_path)
    again = lookup.run(record.row["id"])
    lookup.close()
    assert again.row["lot"] == "" and again.tests[0].results[0]["kind"] == "quantity" and gather(again).tests
    with sqlite3.connect(path) as db:
        db.execute(f"PRAGMA user_version={schema.VERSION + 1}")
    db.close()
    with pytest.raises(Exception, match="reads versions up to"):
        open_lookup(tmp_path)


def test_lots_files_and_tags_are_recorded(perform) -> None:
    run = perform('use "shared.ibx"\n'.join(["", 'test t "T" tags quick, dc\n    read v_in\n    check v_in <= v_most\n']),
                  header=HEADER, files={"shared.ibx": "constants\n    v_most = 20 V\n"})  # fmt: skip
    started = run.of(events.RunStarted)[0]
    assert started.tests[0]["tags"] == ["quick", "dc"]
    assert started.files[0]["name"].endswith("shared.ibx") and len(started.files[0]["sha256"]) == 64
