"""Curves that the turns of loops give: within a turn a name is its own curve, after the loop those of all turns at once,
whatever their points are; and in the store, the reports and a retest they are the same."""

import itertools
import json
import math
import sqlite3
from array import array
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import events
from ibexite.analysis.curve import ArrayCurve, SampledCurve, Sampling, never, no_point
from ibexite.analysis.stacking import MOST_POINTS, stacked
from ibexite.errors import SequenceError
from ibexite.events import Judged
from ibexite.holes import BAD, NEVER_MEASURED, NO_POINT
from ibexite.records.gateway import open_lookup
from ibexite.records.grids import Grid, put_together
from ibexite.records.stored_run import TestRecord
from ibexite.reports.figure_specs import pictures_of
from tests.test_whole_curves import WAVES, waves

NAN = math.nan


def kind_of(value: complex) -> str:
    """What a value is, with the kind of its hole."""
    if value == value:
        return repr(complex(value))
    one = np.array([value])
    return "no point" if no_point(one)[0] else "never" if never(one)[0] else "bad"


VALUES = st.sampled_from([0.0, 1.5, -2.0, BAD, NEVER_MEASURED])
CURVES = st.dictionaries(st.integers(-3, 3), VALUES, max_size=4)
ROWS = st.dictionaries(st.tuples(st.integers(0, 1), st.integers(0, 2)), st.none() | CURVES, max_size=6)


@given(ROWS, st.booleans(), st.booleans())
def test_together_each_curve_is_what_it_was(rows, falls: bool, is_complex: bool) -> None:
    """Against a dictionary for each point."""
    factor = 1j if is_complex else 1.0
    whole = {}
    for place, known in rows.items():
        points = sorted(known or {}, reverse=falls)
        values = np.array([known[x] for x in points], dtype=float)
        kept = np.full(len(points), complex(BAD, BAD)) if is_complex else values
        if is_complex:
            kept = np.array([complex(v, v) if v != v else v * factor for v in values], dtype=complex)
        whole[place] = None if known is None else ArrayCurve({"x": np.array(points, dtype=float)}, kept)
    outer = {"a": np.array([10.0, 20.0]), "b": np.array([1.0, 2.0, 3.0])}
    found = stacked(outer, ["x"], whole)
    good = {p: k for p, k in rows.items() if k and any(v == v for v in k.values())}
    axis = sorted({x for known in (good or {p: k for p, k in rows.items() if k}).values() for x in known}, reverse=falls)
    assert sorted(found.axes["x"].tolist()) == sorted(axis) and found.values.shape == (2, 3, len(axis))
    for place in itertools.product(range(2), range(3)):
        known = rows.get(place, "nothing")
        for x, value in zip(found.axes["x"].tolist(), found.values[place].tolist(), strict=True):
            if known == "nothing":
                wanted = "no point"
            elif not known or all(kind_of(v) == "never" for v in known.values()):
                wanted = "never"
            elif place not in good:
                wanted = "bad"
            else:
                mine = known.get(x, NO_POINT)
                wanted = kind_of(mine * factor if mine == mine else mine)
            assert kind_of(value) == wanted, (place, x)


def test_points_stand_in_the_order_in_which_they_came() -> None:
    """Even steps, points that come twice, texts, and an order that neither rises nor falls."""

    def over(points: list, *more: list) -> list:
        curves = [ArrayCurve({"x": np.array(p, dtype=object if isinstance(p[0], str) else float)}, np.arange(float(len(p)))) for p in (points, *more)]
        found = stacked({"n": np.arange(float(len(curves)))}, ["x"], {(i,): c for i, c in enumerate(curves)})
        return [found.axes["x"].tolist(), [["-" if v != v else int(v) for v in row] for row in found.values.tolist()]]

    assert over([1, 2, 1], [1, 2, 1]) == [[1, 2, 1], [[0, 1, 2], [0, 1, 2]]]
    assert over([1, 2, 1], [2, 3]) == [[1, 2, 1, 3], [[0, 1, 2, "-"], ["-", 0, "-", 1]]]
    assert over(["b", "a"], ["a", "c"]) == [["b", "a", "c"], [[0, 1, "-"], ["-", 0, 1]]]
    assert over([3, 1, 2], [3, 1, 2]) == [[3, 1, 2], [[0, 1, 2], [0, 1, 2]]]
    even = [SampledCurve(Sampling("time", 0.0, step), np.zeros(3)) for step in (1.0, 2.0)]
    assert stacked({"n": np.arange(2.0)}, ["time"], dict(zip([(0,), (1,)], even, strict=True))).axes["time"].tolist() == [0, 1, 2, 4]
    long = [SampledCurve(Sampling("time", start, 1.0), np.zeros(MOST_POINTS // 250)) for start in (0.0, 0.25, 0.5)]
    with pytest.raises(SequenceError, match="make .* points") as error:
        stacked({"n": np.arange(100.0)}, ["time"], {(i,): curve for i, curve in enumerate(long)})
    assert "in the turn that took it" in error.value.remedy


TURNS = """    set scope.full_scale = 5 V
    sweep n over 1, 2
        sweep level over 1 V, 2 V
            set generator.amplitude = level
            wait 10 ms
            read w_out = scope.wave(channel = 1)
            if level < 2 V
                read first = scope.wave(channel = 1)
            let square = w_out * w_out
            check max(square) <= 4.5 V^2 as "in the turn"
        let inner = max(square along time)
        check inner <= 4.5 V^2
    let peak = max(w_out along time)
    check peak <= 2.2 V
    check w_out between -2.2 V and 1.5 V
    check first <= 1.2 V
    plot w_out against time by level

test u "U"
    let again = max(t.w_out along time)
    check again >= 0.5 V
"""


def test_after_their_loops_curves_are_over_all_axes(perform, project: Path) -> None:
    run = waves(perform, project, TURNS)
    told = {check.label: check for check in run.of(Judged)}
    assert [told[name].judged for name in ("in the turn", "inner", "peak", "first", "again")] == [4, 4, 4, 4000, 4]
    above = [told[name] for name in ("in the turn", "inner", "peak", "first", "again")]
    assert all(check.verdict == "pass" for check in above), [(c.label, c.verdict, c.reason) for c in above]
    high = told["w_out"]
    assert (high.judged, high.verdict) == (8000, "fail")
    assert 900 < high.failed < 1_000 and high.at["level"] == 2.0 and set(high.at) == {"n", "level", "time"}
    places = [(c.name, *c.at) for c in run.of(events.WholeCurve) if c.test == "t" and c.name in ("w_out", "first", "square", "inner")]
    assert places[:5] == [("w_out", 1, 1), ("first", 1, 1), ("square", 1, 1), ("w_out", 1, 2), ("square", 1, 2)] and ("inner", 1) in places
    assert (run.tests["t"], run.tests["u"]) == ("fail", "pass")


RAGGED = """    set scope.full_scale = 2500 mV
    sweep span over 10 us, 20 us, 5 us
        set scope.record_time = span
        {more}
        wait 10 ms
        read w_out = scope.wave(channel = 1)
        {then}
    check w_out between -2.2 V and 2.2 V
    let peak = max(w_out along time)
    check peak <= 2.2 V
"""


@pytest.mark.parametrize(("more", "then", "verdict", "judged", "bad"), [
    ("", "", "pass", 6_000, 0), ("", 'if span > 15 us\n            leave "enough"', "pass", 4_000, 0),
    ("set generator.amplitude = 1.5 V * (1 + span / 20 us)", "", "fail", 6_000, 1_000)])  # fmt: skip
def test_turns_may_have_other_points_than_their_neighbours(perform, project: Path, more: str, then: str, verdict: str, judged: int, bad: int) -> None:
    """At 3 V the scope is overloaded, which is a fact about the unit: nobody knows what it was, and the check fails."""
    run = waves(perform, project, RAGGED.format(more=more, then=then))
    wave, peak = (next(check for check in run.of(Judged) if check.subject == name) for name in ("w_out", "peak"))
    assert (run.tests["t"], wave.judged, wave.bad > 0) == (verdict, judged, bad > 0), (wave, run.outcome)
    assert peak.judged == judged / 2_000 and (peak.verdict == "pass") == (not bad)


MEASURED = WAVES.replace(
    "before unit",
    """measurement taken
    needs
        generator : function_generator
        scope     : oscilloscope
    inputs
        volts = 1 V
    outputs
        wave_there in V over time
        top in V
        peaks in V over nr
        nr as number
    set generator.amplitude = volts
    wait 10 ms
    read wave_there = scope.wave(channel = 1)
    let top = max(wave_there)
    let above = top - volts
    sweep nr over 1, 2
        read x = scope.wave(channel = 1)
        let peaks = max(x)
    sweep level over 1, 2, 3
        let below = level - 1

before unit""",
)
CALLS = """    set scope.full_scale = 5 V
    sweep level over 1 V, 2 V
        measure taken(volts = level) as one
        measure taken(volts = level / 2) as half
        check one.top <= 3 V
    check one.wave_there <= 1.5 V
    let gain = max(one.wave_there along time) / max(half.wave_there along time)
    check gain within 2 +/- 1 %
    check max(one.peaks along nr) <= 2.1 V as "peaks"

test u "U"
    let again = max(t.gain)
    check again >= 0.5
"""


def test_measurements_in_loops_give_curves_too_and_tell_where_they_were(perform, project: Path, ibexite) -> None:
    run = perform(CALLS, header=MEASURED, change=lambda text: (project / "analog.toml").read_text())
    told = {check.subject or check.label: check for check in run.of(Judged)}
    assert (told["one.wave_there"].judged, told["one.wave_there"].verdict, told["one.wave_there"].at["level"]) == (4_000, "fail", 2.0)
    assert (told["gain"].verdict, told["peaks"].verdict, told["again"].verdict, told["peaks"].judged) == ("pass", "pass", "pass", 2)
    assert {(c.name, c.at) for c in run.of(events.WholeCurve) if c.name in ("half.wave_there", "one.x")} == {
        ("half.wave_there", (1.0,)), ("half.wave_there", (2.0,)), *(("one.x", (level, n)) for level in (1.0, 2.0) for n in (1.0, 2.0))}  # fmt: skip
    assert [value.at for value in run.of(events.Value) if value.name == "one.above"] == [(1.0,), (2.0,)]


def test_in_the_store_they_are_one_grid_and_a_retest_judges_the_same(ibexite, project: Path) -> None:
    settings = project / "ibexite.toml"
    settings.write_text(settings.read_text().replace('"sensor_parts.ibx" =', '"w.ibx" = "analog.toml"\n"sensor_parts.ibx" ='))
    (project / "w.ibx").write_text(
        MEASURED + TURNS.replace("            let square", "            measure taken(volts = level * n / 2) as one\n            let square")
    )
    ran = ibexite("run", "w.ibx", "--simulate", "--serial", "FC00401")
    assert ran.returncode == 1, ran.stdout + ran.stderr
    shown = ibexite("show", "last").stdout
    for line in ("w_out over n, level, time, 8000 rows", "one.wave_there over n, level, time, 8000 rows", "one.above over n, level, 4 rows",
                 "one.peaks over n, level, nr, 8 rows", "one.below over n, outer level, level, 12 rows", "first over n, level, time, 4000 rows"):  # fmt: skip
        assert line in shown, (line, shown)
    lookup = open_lookup(project / "records")
    grids = {name: grid for grid in lookup.run(lookup.find("last")).tests[0].grids for name in [c["name"] for c in grid.columns if c["origin"] != "sweep"]}
    whole = grids["w_out"].curve("w_out")
    above = grids["one.above"].values("one.above")
    lookup.close()
    assert whole.values.shape == (2, 2, 2_000) and whole.axes["level"].tolist() == [1.0, 2.0] and len(above) == 4
    assert np.abs(whole.values.max(axis=2) - [[1, 2], [1, 2]]).max() < 0.01
    exported = ibexite("export", "last", "--to", "json", "--out", "out")
    data = json.loads(next((project / "out").glob("*.json")).read_text())
    tables = {tuple(table["axes"]) for table in data["parts"][-2]["tables"]}
    assert ("n", "level", "time") in tables and ("n", "outer level", "level") in tables, exported.stdout
    again = ibexite("retest", "last", "--only", "u", "--simulate", "--no-report")
    assert again.returncode == 1, again.stdout + again.stderr  # t has failed before
    rows = sqlite3.connect(project / "records" / "ibexite.sqlite").execute(
        "SELECT value, judged FROM results JOIN tests ON tests.id = test_id WHERE tests.name = 'u' ORDER BY results.id").fetchall()  # fmt: skip
    assert len(rows) == 2 and rows[0] == rows[1], rows


SOME = WAVES.replace(
    "before unit",
    """measurement some
    needs
        scope : oscilloscope
    inputs
        most = 3
    outputs
        waves in V over nr and time
        nr as number
    sweep nr from 1 to most step 1
        read waves = scope.wave(channel = 1)

before unit""",
)


def test_a_measurement_gives_the_curves_of_its_turns_and_forgets_those_of_an_earlier_call(perform, project: Path) -> None:
    lines = """    set scope.full_scale = 5 V
    sweep most over 3, 2
        measure some(most = most) as few
        check max(few.waves along time) <= 3 V as "each"
    check few.waves <= 3 V as "all"
"""
    run = perform(lines, header=SOME, change=lambda text: (project / "analog.toml").read_text())
    assert run.result("each").judged == 5 and run.result("all").judged == 5 * 2_000 and run.verdict == "pass", run.ended


def column(name: str, origin: str, length: int, **more: object) -> dict:
    """A stored column."""
    return {
        "name": name,
        "origin": origin,
        "unit": "V",
        "shown": "",
        "kind": "quantity",
        "labels": [],
        "step": None,
        "n": "",
        "bound": "",
        "length": length,
        "place": {},
    } | more


def grid_of_turn(at: float, x: list[float], y: list[float]) -> Grid:
    """A curve that was stored in a turn."""
    place = {"axes": [{"name": "turn", "unit": "", "shown": "", "origin": "sweep", "kind": "quantity"}], "at": {"turn": at}}
    return Grid([column("x", "sweep", len(x), place=place), column("y", "read", len(y), place=place)], [array("d", x), array("d", y)])


def test_what_was_lost_in_a_turn_is_lost_in_the_store_too() -> None:
    """A turn of one bad point is no shorter curve."""
    (whole,) = put_together([grid_of_turn(1.0, [0, 1, 2], [5, 6, 7]), grid_of_turn(2.0, [0], [NAN]), grid_of_turn(2.0, [1, 2], [8, 9])])
    curve = whole.curve("y")
    assert curve.axes["turn"].tolist() == [1, 2, 2] and [[kind_of(v) for v in row] for row in curve.values.tolist()] == [
        [kind_of(5.0), kind_of(6.0), kind_of(7.0)], ["bad"] * 3, ["no point", kind_of(8.0), kind_of(9.0)]]  # fmt: skip
    assert list(whole.column("turn")) == [1, 1, 1, 2, 2, 2] and list(whole.column("x")) == [0, 1, 2, 0, 1, 2] and whole.axes == ["turn", "x"]
    assert whole.data[1][3:5] == [0, 1] and np.asarray(whole.column("turn")).tolist() == [1, 1, 1, 2, 2, 2]
    with pytest.raises(IndexError):
        whole.data[0][6]


def test_a_figure_does_not_join_what_further_loops_took_apart() -> None:
    """A family by one loop, over the points of another one that came in between."""
    rows = [(n, level, x) for n in (1, 2) for level in (1, 2) for x in (0, 1)]
    columns = [column(name, "sweep", 8, unit="") for name in ("n", "level", "x")] + [column("y", "read", 8)]
    grid = Grid(columns, [array("d", series) for series in zip(*((*row, 10 * row[1] + row[2]) for row in rows), strict=True)])
    test = TestRecord({"name": "t"}, [], [grid], [], [], [])
    (picture,) = pictures_of(test, {"ys": ["y"], "x": "x", "by": "level", "title": ""})
    drawn = [[None if v != v else v for v in line.ys.tolist()] for line in picture.panels[0].curves]
    assert drawn == [[10, 11, None, 10, 11], [20, 21, None, 20, 21]]
