"""Connections as a value: nets, resistances, diodes and parts, what is made of them in formulas, and contacts that come
and go."""

import json
import re
from itertools import combinations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import connections, events
from ibexite.analysis.curve import ArrayCurve
from ibexite.analysis.wiring import intermittent, measured
from ibexite.connections import CONNECTIONS, connections_text, values_of, wiring_of
from ibexite.events import Judged
from ibexite.holes import BAD, NEVER_MEASURED
from ibexite.language.check import vet
from ibexite.language.source import Source
from tests.conftest import HEADER

FULL = {"nets": [["J1.1", "J2.1"], ["J1.2", "J2.2"], ["J1.3"]], "resistance": [["J2.1", "J1.1", 0.25], ["J1.2", "J2.2", 0.31]],
        "forward_voltage": [["J1.3", "J2.4", 0.62]], "resistor": [["J1.5", "J1.4", 120]], "capacitor": [["J1.6", "J1.7", 1e-7]]}  # fmt: skip


def test_their_text_has_one_form_and_tells_all() -> None:
    text = connections_text(FULL)
    again = {
        key: [entry[:2][::-1] + entry[2:] if key not in ("nets", "forward_voltage") else entry for entry in entries][::-1] for key, entries in FULL.items()
    }
    assert connections_text(again) == text and connections_text(json.loads(text)) == text
    wiring = wiring_of(text)
    assert wiring.nets == (("J1.1", "J2.1"), ("J1.2", "J2.2"), ("J1.3",), ("J1.4",), ("J1.5",), ("J1.6",), ("J1.7",), ("J2.4",))
    assert values_of(text, "resistance") == (["J1.1-J2.1", "J1.2-J2.2"], [0.25, 0.31]) and values_of(text, "forward_voltage")[0] == ["J1.3>J2.4"]
    assert CONNECTIONS.said(text) == "8 nets of 10 pins, 1 diode, 1 resistor, 1 capacitor"
    assert CONNECTIONS.rows(text)[1][-4:] == [["resistance", "J1.2-J2.2", "310 mohm"], ["forward_voltage", "J1.3>J2.4", "620 mV"],
                                             ["resistor", "J1.4-J1.5", "120 ohm"], ["capacitor", "J1.6-J1.7", "100 nF"]]  # fmt: skip
    assert CONNECTIONS.unrounded(text)[0] == ["net", "pin", "other pin", "value"] and CONNECTIONS.unrounded(text)[-1] == [
        "capacitor [F]",
        "J1.6",
        "J1.7",
        "1e-07",
    ]


@pytest.mark.parametrize(("change", "told"), [
    ({"resistance": [["J1.1", "J2.1", 9.0], ["J1.2", "J2.2", None]]}, ""), ({"forward_voltage": []}, "diode J1.3>J2.4 expected, found none"),
    ({"forward_voltage": [["J2.4", "J1.3", 0.6]]}, "diode J1.3>J2.4 expected, found the other way round"), ({"resistor": [["J1.4", "J1.5", 9]], "capacitor": []}, "capacitor J1.6-J1.7 expected, found none"),
    ({"resistor": [["J1.4", "J1.5", 9], ["J1.3", "J1.4", 9]]}, "resistor J1.3-J1.4 not expected"), ({"nets": [["J1.1", "J2.1"], ["J1.2", "J2.2", "J1.3"]]}, "J1.2+J2.2 expected, found J1.2+J1.3+J2.2, and 1 more net")])  # fmt: skip
def test_others_tell_where_they_differ_but_not_in_what_was_measured(change: dict, told: str) -> None:
    assert CONNECTIONS.differs(connections_text(FULL | change), connections_text(FULL)) == told


@pytest.mark.parametrize(("answer", "told"), [
    ({}, "not connections"), ({"net": []}, "not connections"), ({"nets": [["a"]], "resistance": {"a": 1}}, "whose resistance is no list"), ({"resistance": [["a", "b"]]}, "not as in"),
    ({"resistance": [["a", "a", 1]]}, "not as in"), ({"resistance": [["a", "b", True]]}, "not as in"), ({"resistance": [["a", "b", "1"]]}, "not as in"), ({"resistor": [["a", "", 1]]}, "not as in"),
    ({"resistance": [["a", "b", 1], ["b", "a", 2]]}, "two values of resistance for a-b"), ({"capacitor": [["a", "b", 1e999]]}, "too large"),
    ({"nets": [["a"], ["b"]], "resistance": [["a", "b", 1]]}, "between a and b, which are in two nets"), ({"resistance": [[f"p{i}", f"q{i}", 1] for i in range(10_001)]}, "more than 20,000 pins")])  # fmt: skip
def test_what_is_no_such_thing_is_refused(answer: object, told: str) -> None:
    with pytest.raises(ValueError, match=re.escape(told)):
        connections_text(answer)


PINS = "abcde"
SCANS = st.lists(st.lists(st.integers(0, 2), min_size=5, max_size=5), min_size=2, max_size=6)


@given(SCANS)
def test_a_contact_that_comes_and_goes_is_found(scans: list[list[int]]) -> None:
    """Against a count of each pair by itself."""
    texts = [connections_text([[p for p, m in zip(PINS, marks, strict=True) if m == k] for k in set(marks)]) for marks in scans]
    found = intermittent(ArrayCurve({"scan": np.arange(float(len(scans)))}, np.array(texts, dtype=object)), "scan")
    wanted = {}
    for i, k in combinations(range(5), 2):
        times = sum(marks[i] == marks[k] for marks in scans)
        if times:
            wanted[f"{PINS[i]}-{PINS[k]}"] = min(times, len(scans) - times)
    assert dict(zip(found.axes["contact"].tolist(), found.values.tolist(), strict=True)) == wanted


def test_what_is_not_known_is_no_contact_that_holds() -> None:
    text = connections_text(FULL)
    for hole, is_never in ((BAD, False), (NEVER_MEASURED, True)):
        for curve in (
            measured(hole, "resistance"),
            intermittent(ArrayCurve({"scan": np.arange(2.0)}, np.array([text if not is_never else hole, hole], dtype=object)), "scan"),
        ):
            assert len(curve.values) == 1 and np.isnan(curve.values).all()
    many = measured(
        ArrayCurve({"scan": np.arange(3.0)}, np.array([text, BAD, connections_text({"resistance": [["J1.1", "J2.1", 0.5]]})], dtype=object)), "resistance"
    )
    assert many.axes["connection"].tolist() == ["J1.1-J2.1", "J1.2-J2.2"] and [[None if v != v else v for v in row] for row in many.values.tolist()] == [
        [0.25, 0.31], [None, None], [0.5, None]]  # fmt: skip
    pairs = {(f"p{i:03}",): [f"p{i:03}"] for i in range(700)}
    text = connections_text([[pin for net in pairs.values() for pin in net]])
    with pytest.raises(Exception, match="one scan cannot tell"):
        intermittent(ArrayCurve({"scan": np.zeros(1)}, np.array([text], dtype=object)), "scan")
    big = ArrayCurve({"scan": np.arange(2.0)}, np.array([text, text], dtype=object))
    with pytest.raises(Exception, match=f"more than {200_000:,} pairs"):
        intermittent(big, "scan")


TESTER = """import json, sys
turn = json.load(sys.stdin)["turn"]
wires = {"resistance": [["J1.1", "J2.1", 0.25 + turn / 100]], "forward_voltage": [["J1.3", "J2.4", 0.6]], "nets": [["J1.1", "J2.1"], ["J1.2", "J2.2"]]}
if turn == 3:
    wires["nets"] = [["J1.1", "J2.1"], ["J1.2"], ["J2.2"]]
print(json.dumps({"wires": wires, "now": wires}))
"""
LEAD = """
test lead "Sensor lead"
    call "tester.py" with turn = 0 gives wires as connections timeout 20 s
    check wires.resistance <= 0.5 ohm
    check wires.forward_voltage between 0.5 V and 0.7 V as "diode"
    let sum = max(wires.resistance) + 1 ohm
    repeat scan 4 times
        call "tester.py" with turn = scan gives now as connections timeout 20 s
        check now == wires as "same"
        check now.resistance <= 0.285 ohm as "each"
    let worst = max(now.resistance along scan)
    check worst <= 0.3 ohm
    check now.resistance <= 0.27 ohm as "all"
    let loose = intermittent(now along scan)
    check loose == 0 as "contacts"

test later "Later"
    let again = intermittent(lead.now along scan)
    check again <= 1
    check lead.sum <= 2 ohm
"""


def test_a_sequence_judges_what_was_measured_of_them(perform) -> None:
    run = perform(LEAD, files={"tester.py": TESTER})
    told = {check.label: check for check in run.of(Judged)}
    assert [(name, check.verdict) for name, check in told.items() if check.verdict != "pass"] == [
        ("same", "fail"), ("each", "fail"), ("all", "fail"), ("contacts", "fail")], run.outcome  # fmt: skip
    assert (told["same"].said, told["same"].at) == ("J1.2+J2.2 expected, found J1.2 J2.2", {"scan": 3.0})
    assert told["wires.resistance"].at == {"connection": "J1.1-J2.1"} and told["diode"].at == {"diode": "J1.3>J2.4"}
    assert (told["each"].at, told["each"].judged, told["all"].judged) == ({"scan": 4.0, "connection": "J1.1-J2.1"}, 4, 4) and told["all"].failed == 2
    assert (told["worst"].value, told["contacts"].at, told["contacts"].value) == (pytest.approx(0.29), {"contact": "J1.2-J2.2"}, 1.0)
    curves = {(c.name, c.at) for c in run.of(events.WholeCurve) if c.name.endswith("resistance")}
    assert curves == {("wires.resistance", ()), *(("now.resistance", (float(n),)) for n in (1, 2, 3, 4))}
    assert run.tests["later"] == "pass"


@pytest.mark.parametrize(("line", "told"), [
    ("check wires.resistance <= 1 V", "wrong unit"), ("check wires.volume <= 1 V", "has no result 'volume'"), ("let x = wires.resistance + wires.forward_voltage", "over"),
    ("let x = intermittent(wires along scan)", "not a curve"), ("let x = intermittent(1 V along scan)", "not connections"), ("let x = max(wires.resistor) + max(wires.capacitor)", "cannot be added"),
    ('sweep connection over "a", "b"\n        check wires.resistance <= 1 ohm', "")])  # fmt: skip
def test_what_vetting_says_of_them(line: str, told: str) -> None:
    source = Source("t.ibx", f'{HEADER}\ntest lead "Sensor lead"\n    call "tester.py" with turn = 1 gives wires as connections timeout 20 s\n    {line}\n')
    vet(source, None, None)
    found = " ".join(source.render(finding) for finding in source.findings if finding.level == "mistake")
    assert told in found and bool(told) == bool(found), found


def test_the_axes_of_what_is_measured_are_texts() -> None:
    assert set(connections.AXES) == {"connection", "diode", "part", "contact"}
