"""The service bench of the example project: an instrument of each rarer class, around one model of a gauge."""

import json
import re
from pathlib import Path

import pytest

from ibexite.bench.file import read_bench
from ibexite.classes import classes_around
from ibexite.records.gateway import open_lookup
from ibexite.simulate.products.fm2_field_unit import FAULTS, fault_of
from tests.runs import kept_events

UNITS: dict[str, str] = {}
for number in range(1, 200):
    UNITS.setdefault(fault_of(f"FU{number:04}"), f"FU{number:04}")
# The test that finds each fault, the checks that fail there, and where or what it says.
FOUND = {
    "": ("", [], ""), "swapped": ("lead", ["as it is meant"], "J1.3+J2.3 expected, found J1.3+J2.4 J1.4+J2.3"),
    "loose": ("lead", ["contacts"], "contact = J1.6-J2.6"), "crushed": ("antenna", ["loss", "reflected"], "181 of 181 failed"),
    "bare_charger": ("charger", ["power factor", "3rd harmonic", "11th harmonic"], "mA"), "deaf": ("echo", ["v_horn", "echoes"], "mPa"),
    "drained": ("sleep", ["i_cell"], "uA"), "cut": ("lead", ["as it is meant"], "J1.7+J2.7 expected, found J1.7 J2.7"),
    "short_lead": ("antenna", ["loss"], "181 of 181 failed"),
}  # fmt: skip


def run(ibexite, project: Path, serial: str):
    """One unit; the verdicts of its tests, and the labels of what failed."""
    done = ibexite("run", "service.ibx", "--simulate", "--yes", "--serial", serial)
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    lookup.close()
    return done, {test.row["name"]: test.row["verdict"] for test in record.tests}, record


@pytest.mark.parametrize("fault", FOUND)
def test_each_fault_is_found_by_its_test_alone(ibexite, project: Path, fault: str) -> None:
    test, labels, told = FOUND[fault]
    done, verdicts, record = run(ibexite, project, UNITS[fault])
    assert done.returncode == (1 if fault else 5), done.stdout + done.stderr
    assert [name for name, verdict in verdicts.items() if verdict != "pass"] == ([test] if test else []) and len(verdicts) == 8
    failed = [result["label"] for part in record.tests for result in part.results if result["verdict"] == "fail"]
    shown = ibexite("show", "last").stdout
    if fault == "loose" and "as it is meant" in failed:  # it was open just then
        failed.remove("as it is meant")
    assert sorted(failed) == sorted(labels) and told in shown
    assert re.search("outputs off: .*mains.*cell.*burst.*horn.*vna.*tester", done.stdout)


def test_all_faults_of_the_model_are_tried() -> None:
    assert set(FOUND) == {"", *FAULTS} == set(UNITS)


def test_the_benches_of_the_example_have_an_instrument_of_each_class(project: Path) -> None:
    files = [read_bench(project / name) for name in ("bench.toml", "analog.toml", "service.toml", "acoustic.toml")]
    used = {fact.profile.instrument_class.name for file in files for fact in file.instruments.values()}
    assert used == set(classes_around(project)), "a class that ships without a line of use"


def test_whole_curves_of_turns_are_kept_beside_the_journal(ibexite, project: Path) -> None:
    """The echoes of a sweep: one curve over the distance and the time, from numbers that are in no line of the journal."""
    _, _, record = run(ibexite, project, UNITS[""])
    lookup = open_lookup(project / "records")
    echo = next(part for part in lookup.run(lookup.find("last")).tests if part.row["name"] == "echo")
    whole = echo.grid_with("echo").curve("echo")
    lookup.close()
    assert whole.values.shape == (4, 4_000) and whole.axes["distance"].tolist() == [0.05, 0.25, 0.45, 0.65]
    arrivals = [whole.axes["time"][abs(row).argmax()] for row in whole.values]
    assert [round(343.2 * t / 2, 1) for t in arrivals] == [0.4, 0.6, 0.8, 1.0]  # m, from the sensor to the target
    curves = [entry for entry in kept_events(project) if entry["e"] == "WholeCurve"]
    assert all(isinstance(entry["v"], dict) for entry in curves if entry["name"] in ("echo", "s21.re", "trace")) and len(record.files) == 0
    (side,) = (project / "records" / "curves").iterdir()
    assert side.stat().st_size > 4 * 4_000 * 8


ECHO = """sequence "Echo"
    product "FM-2 field unit"
    serial  "FU[0-9]{4}"

needs
    recorder : digitizer
    burst    : pulse_generator

test echo "Echo"
    set recorder.interval = 2 us, recorder.samples = 4000, recorder.full_scale = 1 V, recorder.trigger = "%s", recorder.level = 20 mV
    set burst.period = 50 ms, burst.high = 4 V, burst.output = %s
    %s
    read echo = recorder.wave
    let arrival = argmax(abs(echo))
    check arrival %s
    check max(echo) >= 20 mV
"""


@pytest.mark.parametrize(("trigger", "burst", "do", "limits", "code"), [
    ("at_once", "on", "wait 1 ms", "between 1.9 ms and 2.3 ms", 5), ("external", "on", "wait 1 ms", "between 1.9 ms and 2.3 ms", 5), ("level", "on", "wait 1 ms", "<= 300 us", 5),
    ("external", "off", "wait 1 ms", "<= 9 ms", 3), ("external", "off", "do recorder.trigger", "<= 9 ms", 1), ("level", "off", "wait 1 ms", "<= 9 ms", 3)])  # fmt: skip
def test_a_record_waits_for_its_trigger(ibexite, project: Path, trigger: str, burst: str, do: str, limits: str, code: int) -> None:
    """By a burst that triggers it, at a level that is passed, by command; else it waits, and says nothing."""
    (project / "echo.ibx").write_text(ECHO % (trigger, burst, do, limits))
    done = ibexite("run", "echo.ibx", "--bench", "service.toml", "--simulate", "--serial", UNITS[""])
    assert done.returncode == code and ("silent" in done.stdout + done.stderr) == (code == 3), done.stdout + done.stderr


@pytest.mark.parametrize("wired", [True, False])
def test_where_nothing_is_connected_a_level_is_that_of_noise(ibexite, project: Path, wired: bool) -> None:
    """And not 0 dBm, which would pass every demand for a level: behind an open relay, or wired to nothing."""
    bench = project / "service.toml"
    text = bench.read_text()
    if not wired:
        text = re.sub(r'wiring = \{ 1 = "radio" \}', "wiring = {}", text)
        assert text != bench.read_text()
        bench.write_text(text)
    done = ibexite("instruments", "read", "spectrum.trace", "--bench", "service.toml", "--simulate", "--format", "json")
    assert max(json.loads(done.stdout)["value"]["values"]) < -100, done
    vna = json.loads(ibexite("instruments", "read", "vna.s21", "--bench", "service.toml", "--simulate", "--format", "json").stdout)
    assert len(vna["value"]["values"]) == 201 and vna["value"]["axes"]["freq"][-1] == 6e9, "after a reset it sweeps over all that it can"
