"""Tables, connections and pictures: given by programs, recorded, compared, shown, exported and reported as what they
are."""

import base64
import os
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import compound, events
from ibexite.connections import connections_text, wiring_of
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.records.gateway import open_lookup
from ibexite.values import Compound, Connections, Table
from tests.conftest import HEADER

PICTURE = base64.b64decode("iVBORw0KGgoAAAANSUhEUgAAAAEAAAABCAYAAAAfFcSJAAAADUlEQVR42mNk+M9QDwADhgGAWjR9awAAAABJRU5ErkJggg==")
TESTER = """import json, sys
turn = json.load(sys.stdin)["turn"]
wires = [["J1.1", "J2.1"], ["J1.2", "J2.2"]] if turn != 2 else [["J1.1", "J2.1"], ["J2.2"], ["J1.2"]]
counters = {"counter": ["crc", "frame"], "delay in us": [3, None if turn == 4 else 7], "late": [True, False]}
print(json.dumps({"wires": wires, "now": wires[::-1], "counters": counters, "screen": "screen.png"}))
"""
CALL = 'call "tester.py" with turn = 1 gives wires as connections, counters as table, screen as picture timeout 20 s'
LEAD = f"""
test lead "Sensor lead"
    {CALL}
    check counters == counters as "counters"
    sweep turn over 1, 3, 2
        call "tester.py" with turn = turn gives now as connections timeout 20 s
        check now == wires as "wires"
    note "{{wires}} in {{screen}}"
test hole "A table with a hole"
    call "tester.py" with turn = 4 gives counters as table timeout 20 s
    check counters == counters
"""


def test_they_come_back_as_what_they_are(ibexite, small, project: Path, tmp_path: Path) -> None:
    small(LEAD)
    (project / "tester.py").write_text(TESTER)
    (project / "screen.png").write_bytes(PICTURE)
    done = ibexite("run", "small.ibx", "--serial", "A1", "--simulate", report=True)
    assert done.returncode == 1, done.stdout + done.stderr
    shown = ibexite("show", "last").stdout
    told = "J1.2+J2.2 expected, found J1.2 J2.2"
    assert told in done.stdout and told in shown and "turn = 2" in shown and "1 of 3 failed" in shown

    records = open_lookup(project / "records")
    test, hole = records.run(records.runs()[0]["id"]).tests
    assert (hole.row["verdict"], hole.results[0]["bad"], hole.results[0]["said"]) == ("error", 1, "2 rows of counter, delay, late")
    assert [(c["program"], c["given"], c["gave"].get("wires")) for c in test.calls[:2]] == [
        ("tester.py", {"turn": 1.0}, "2 nets of 4 pins"), ("tester.py", {"turn": 1.0}, None)] and len(test.calls) == 4  # fmt: skip
    found = {name: (kind, text) for name, kind, text in test.single_words()}
    assert [kind.stored for kind, _ in found.values()] == ["connections", "table", "picture"]
    assert wiring_of(found["wires"][1]).nets == (("J1.1", "J2.1"), ("J1.2", "J2.2"))
    assert Path(compound.picture_of(found["screen"][1])["path"]).read_bytes() == PICTURE
    scans = next(grid.values("now") for grid in test.grids if grid.has("now"))
    assert [len(wiring_of(str(text)).nets) for text in scans] == [2, 2, 3]

    (page,) = project.rglob("*.html")
    html = page.read_text()
    for part in ("counters: 2 rows of counter, delay, late", "wires: 2 nets of 4 pins", "J1.2 J2.2", "delay in us",
                 "2 nets of 4 pins in screen.png", base64.b64encode(PICTURE).decode()):  # fmt: skip
        assert part in html, part
    assert ibexite("export", "last", "--to", "csv", "--out", str(tmp_path)).returncode == 0
    table = (tmp_path / "lead_counters.csv").read_text().splitlines()
    assert table[:3] == ["counter,delay [s],late", "crc,3e-06,yes", "frame,7e-06,no"]
    assert (tmp_path / "lead_wires.csv").read_text().split()[:3] == ["net,pin", "1,J1.1", "1,J2.1"]

    Path(compound.picture_of(found["screen"][1])["path"]).write_bytes(b"other")
    assert ibexite("report", "last", "--out", str(tmp_path / "again.html")).returncode == 0
    assert "The kept file is gone or has changed." in (tmp_path / "again.html").read_text()


@pytest.mark.parametrize(("kind", "answer", "told"), [
    (Connections, "J1.1", "not connections"), (Connections, [["a"], []], "not connections"),
    (Connections, [["a", 1]], "a pin that is no name"), (Connections, [["a", "b"], ["b"]], "connections with b twice"),
    (Connections, [[f"p{i}" for i in range(20_001)]], "of more than 20,000 pins"),
    (Table, [], "not a table"), (Table, {"a": 1}, "column 'a' is no list"), (Table, {"a in kV": [1e308]}, "too large"),
    (Table, {"a": [1], "b": [1, 2]}, "columns of different lengths: 1, 2"), (Table, {"a": [1] * 100_001}, "more than 100,000 cells"),
    (Table, {"a in furlong": [1]}, "no known unit"), (Table, {"a": ["x", 1]}, "cells of several kinds"),
    (Table, {"a in V": ["x"]}, "a unit for what is no number"), (Table, {"a": [1], "a in V": [1]}, "two columns of one name: a")])  # fmt: skip
def test_what_is_no_such_thing_is_refused(kind: type[Compound], answer: object, told: str) -> None:
    with pytest.raises(ValueError, match=re.escape(told)):
        kind.form.text(answer)


@pytest.mark.parametrize(("answer", "told"), [
    ({"wires": 3}, "tester.py gave wires, not connections"), ({"screen": "tester.py"}, "gave screen, 'tester.py', which is neither a PNG nor"),
    ({"screen": "none.png"}, "none.png cannot be attached"), ({"screen": "pipe"}, "pipe is no plain file"), ({"screen": "a\0b"}, "cannot be attached"), ({"screen": 3}, "gave 3 for screen, not a text"),
])  # fmt: skip
def test_and_an_error_of_the_test(perform, project: Path, answer: dict, told: str) -> None:
    (project / "screen.png").write_bytes(PICTURE)
    os.mkfifo(project / "pipe")  # reading it would never end
    given = {"wires": [["a"]], "counters": {"a": []}, "screen": "screen.png"} | answer
    run = perform(f'\ntest lead "Sensor lead"\n    {CALL}\n', files={"tester.py": f"import json\nprint(json.dumps({given!r}))"})
    test = run.of(events.TestEnded)[0]
    assert test.verdict == "error" and told in test.reason.text


@pytest.mark.parametrize(("line", "told"), [
    ("let x = wires + 1", "connections"), ("check wires >= 1 V", "not a number"), ('check wires matches "x"', "not a text"),
    ("check wires == counters", "these cannot be compared"), ("check screen == screen", "these cannot be compared"),
    ("check wires", "wires"), ("let x = wires == wires", "only a check compares these"), ("if counters == counters\n        wait 1 s", "only a check compares these"), ("let x = max(counters)", "a table"),
    ("sweep x over wires, wires\n        wait 1 s", "known before the run"), ('attach "{wires}.txt"', "has several parts"), ("plot wires against counters", "cannot be drawn"),
])  # fmt: skip
def test_nothing_computes_with_them(line: str, told: str) -> None:
    source = Source("t.ibx", f'{HEADER}\ntest lead "Sensor lead"\n    {CALL}\n    {line}\n')
    vet(source, None, None)
    assert told in " ".join(source.render(finding) for finding in source.findings)


NAMES = st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), min_size=1, max_size=5)


@given(st.lists(NAMES, unique=True, min_size=1, max_size=9), st.data())
def test_equal_connections_have_equal_texts_and_others_tell_where(pins: list[str], data: st.DataObject) -> None:
    def nets() -> list[set[str]]:
        marks = data.draw(st.lists(st.integers(0, 3), min_size=len(pins), max_size=len(pins)))
        return [{p for p, m in zip(pins, marks, strict=True) if m == k} for k in set(marks)]

    one, other = nets(), nets()
    texts = [connections_text([data.draw(st.permutations(sorted(net))) for net in side]) for side in (one, other)]
    is_same = set(map(frozenset, one)) == set(map(frozenset, other))
    assert (texts[0] == texts[1]) == is_same == (not Connections.form.differs(*texts))
    assert set(map(frozenset, wiring_of(texts[0]).nets)) == set(map(frozenset, one))


CELLS = st.one_of(*(st.lists(kind, min_size=2, max_size=2) for kind in (st.floats(allow_infinity=False) | st.none(), st.text(max_size=4), st.booleans())))  # fmt: skip


@given(st.dictionaries(st.sampled_from("abc"), CELLS, min_size=1), st.dictionaries(st.sampled_from("abc"), CELLS, min_size=1))
def test_tables_keep_their_cells_and_tell_where_they_differ(one: dict, other: dict) -> None:
    texts = [compound.table_text(side) for side in (one, other)]
    for text, side in zip(texts, (one, other), strict=True):
        back = {column.name: ["hole" if cell != cell else cell for cell in column.cells] for column in compound.table_of(text)}
        assert back == {name: ["hole" if x is None or x != x else x for x in cells] for name, cells in side.items()}
    assert (texts[0] == texts[1]) == (not Table.form.differs(*texts))
