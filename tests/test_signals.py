"""Signals: conversions against hand-made numbers, what may not be used and why, what stops a unit."""

import math
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import events, units
from ibexite.analysis import thermocouples, thermometers
from ibexite.bench.bench import Bench
from ibexite.bench.conversions import Chain, Interpolation, curved, linear, polynomial, solved
from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.pool import Pool
from ibexite.errors import DamageError, MistakeError
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.touchstone import read_touchstone
from tests.laboratory.stub_bench import ANSWERS, MemoryLink, memory_bench
from tests.runs import carried_out

GENERATOR = """[instruments.gen]
profile = "scpi-function-generator"
address = "TCPIP::192.0.2.1::9901::SOCKET"
[roles.tone]
instrument = "gen"
"""


def bench_with(tmp_path: Path, *signals: str) -> BenchFile:
    """The bench from memory with more signals on the channels 201, 202, … of its meter; each `NAME = KEYS`."""
    path = memory_bench(tmp_path).path
    lines = []
    for number, signal in enumerate(signals, 201):
        name, _, keys = signal.partition(" = ")
        reading = "resistance" if "rtd" in keys or "thermistor" in keys else "dc_voltage"
        lines.append(f'{name} = {{ read = "meter.{reading}", with = {{ channel = {number} }}, {keys} }}')
    path.write_text(GENERATOR + path.read_text() + "\n".join(lines) + "\n")
    return read_bench(path)


@pytest.fixture
def read(tmp_path: Path, monkeypatch: pytest.MonkeyPatch):
    """Reads a signal of these keys when its meter answers so; value, codes of what is bad."""

    def take(keys: str, answer: float | str, *, more: tuple[str, ...] = (), answers: tuple[float | str, ...] = (), frequency: float | None = None, **line):
        for number, text in enumerate((answer, *answers), 201):
            monkeypatch.setitem(ANSWERS, str(number), str(text).encode())
        bench = Bench(bench_with(tmp_path, f"x = {keys}", *more), Pool(MemoryLink.opening))
        bench.connect(["dmm"])
        if frequency is not None:
            bench.state["tone", "frequency"] = frequency
        values = bench.read_line([bench.signal_item("x", "x")], together=False, averaging=1, tries=1, **line)()
        return values[0], [(bad.name, bad.reason.code) for bad in bench.bad]

    return take


def csv(folder: Path, name: str, text: str) -> None:
    (folder / name).write_text(text)


LOSS = "freq [kHz],loss [dB]\n1,0\n10,2\n100,8\n"
SENSOR = "u [V],depth [mm]\n0,0\n1,120\n2,310\n4.5,900\n"


@pytest.mark.parametrize(("keys", "answer", "value"), [
    ('shunt = "100 mohm"', 0.25, 2.5), ('divider = "10.02"', 1.5, 15.03), ('zero = "12 mV"', 1.0, 0.988), ('gain = "2", offset = "-0.5 V"', 1.5, 2.5),
    ('gain = "100 A/V"', 0.02, 2.0), ('sensitivity = "9.8 mV/Pa"', 0.0196, 2.0), ('zero = "1 mV", shunt = "10 mohm", gain = "1.01", offset = "2 mA"', 0.011, 1.012),
    ('polynomial = { coefficients = ["-10 degC", "40 K/V", "2 K/V^2"], of = ["0 V", "5 V"] }', 2.0, 273.15 - 10 + 80 + 8), ('table = "sensor.csv"', 1.5, 0.215),
    ('thermistor = { r25 = "10 kohm", beta = "3950 K" }', 10e3, 298.15), ('rtd = { r0 = "100 ohm" }', 138.5055, 373.15), ('rtd = { r0 = "1 kohm" }', 602.5583, 173.15),
    ('thermistor = { a = "1.129241e-3 1/K", b = "2.341077e-4 1/K", c = "8.775468e-8 1/K" }', 10e3, 298.15),
    ('thermocouple = { type = "K", cold_junction = "25 degC" }', 0.004096 - 0.001000, 373.15), ('yes_above = "2.5 V", divider = "10"', 0.26, 1.0), ('yes_above = "2.5 V", divider = "10"', 0.24, 0.0)])  # fmt: skip
def test_a_reading_becomes_what_it_means(read, tmp_path: Path, keys: str, answer: float, value: float) -> None:
    csv(tmp_path, "sensor.csv", SENSOR)
    found, bad = read(keys, answer)
    assert found == pytest.approx(value, rel=2e-5) and not bad


@pytest.mark.parametrize(("keys", "answer", "code"), [
    ('table = "sensor.csv"', 4.6, "beyond_sensor"), ('table = "sensor.csv"', -0.01, "beyond_sensor"), ('rtd = { r0 = "100 ohm" }', 18.0, "beyond_sensor"), ('rtd = { r0 = "100 ohm" }', 391.0, "beyond_sensor"),
    ('polynomial = { coefficients = ["0 V", "2"], of = ["0 V", "5 V"] }', 5.01, "beyond_sensor"), ('thermistor = { r25 = "10 kohm", beta = "3950 K" }', -5, "beyond_sensor"),
    ('thermocouple = { type = "K", cold_junction = "25 degC" }', 0.06, "beyond_sensor"), ('rtd = { r0 = "100 ohm" }', "9.9E37", "overload"), ('rtd = { r0 = "100 ohm" }', "9.91E37", "not_a_number"),
    ('rtd = { r0 = "100 ohm" }, believe = ["-20 degC", "90 degC"]', 138.5, "unbelievable"), ('table = "sensor.csv"', "1_0", "not_a_number"), ('table = "sensor.csv"', "nan", "not_a_number"),
    ('correction = { file = "loss.csv", at = "tone.frequency" }', 1.0, "no_frequency")])  # fmt: skip
def test_what_a_conversion_is_not_defined_for_is_bad_and_never_extrapolated(read, tmp_path: Path, keys: str, answer: float | str, code: str) -> None:
    csv(tmp_path, "sensor.csv", SENSOR)
    csv(tmp_path, "loss.csv", LOSS)
    found, bad = read(keys, answer)
    assert math.isnan(found) and bad == [("x", code)]


@pytest.mark.parametrize(("frequency", "factor", "code"), [
    (1e3, 1.0, ""), (10e3, 10 ** (2 / 20), ""), (55e3, 10 ** (2 / 20) + 0.5 * (10 ** (8 / 20) - 10 ** (2 / 20)), ""), (999.0, 0, "no_correction"), (100.1e3, 0, "no_correction")])  # fmt: skip
def test_a_correction_is_that_of_the_frequency_at_that_moment(read, tmp_path: Path, frequency: float, factor: float, code: str) -> None:
    csv(tmp_path, "loss.csv", LOSS)
    found, bad = read('correction = { file = "loss.csv", at = "tone.frequency" }, believe = ["0 V", "5 V"]', 1.5, frequency=frequency)
    assert bad == ([("x", code)] if code else []) and (math.isnan(found) if code else found == pytest.approx(1.5 * factor))


SWEPT = """test t "T"
    sweep {axis}
        read v_in
        let known = {expr}
        check v_in / known >= 0.5 as "ratio"
    read later = v_in
    check later >= 0 V as "later"
"""


@pytest.mark.parametrize(("axis", "bad"), [("f over 1 kHz, 10 kHz", []), ("other over 1 kHz, 10 kHz", ["v_in"] * 2), ("f over 1, 2", ["v_in"] * 2)])
def test_a_correction_may_be_that_of_a_sweep_over_frequencies(perform, project: Path, axis: str, bad: list[str]) -> None:
    csv(project, "loss.csv", LOSS)
    change = lambda text: text if "loss.csv" in text else text.replace("[signals.v_in]", '[signals.v_in]\ncorrection = { file = "loss.csv", at = "f" }')  # noqa: E731
    run = perform(SWEPT.format(axis=axis, expr="9 V"), change=change)
    found = run.columns("v_in")
    told = [b.name for row in run.of(events.Row) for b in row.bad]
    assert told == bad and {b.reason.code for row in run.of(events.Row) for b in row.bad} <= {"no_frequency"}
    assert bad or [v / found[0] for v in found] == pytest.approx([1, 10 ** (2 / 20)], rel=1e-3)
    assert run.result("later").verdict == "error"  # behind the sweep nobody knows it


def test_a_correction_may_be_a_touchstone_file(read, tmp_path: Path) -> None:
    csv(tmp_path, "pad.s2p", "! a pad\n# MHz S DB R 50\n1 -30 0 -6 10 -6 10 -30 0\n3 -30 0 -8 20 -8 20 -30 0\n")
    found, bad = read('correction = { file = "pad.s2p", at = "tone.frequency" }', 1.0, frequency=1e6)
    assert found == pytest.approx(10 ** (6 / 20)) and not bad
    network = read_touchstone(tmp_path / "pad.s2p")
    assert network.frequencies == (1e6, 3e6) and abs(network.parameters["s21"][1]) == pytest.approx(10 ** (-8 / 20))


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("# GHz Z RI R 50\n1 0 0\n", "Z-parameters"),
        ("# GHz S RI R 50\n1 x 0\n", "'x' is no number"),
        ("# GHz S XX R 50\n1 0 0\n", "'XX' is no option"),
        ("", "there are no parameters"),
    ],
)
def test_mistakes_in_touchstone_files_are_told_with_their_line(tmp_path: Path, text: str, told: str) -> None:
    csv(tmp_path, "a.s1p", text)
    with pytest.raises(MistakeError, match=told):
        read_touchstone(tmp_path / "a.s1p")
    with pytest.raises(MistakeError, match="neither"):
        read_touchstone(tmp_path / "a.txt")


# --- cold junctions ----------------------------------------------------------------------------------------------------

COLD = 't_block = rtd = { r0 = "100 ohm" }'
COUPLE = 'thermocouple = { type = "T", cold_junction = "t_block" }, believe = ["0 degC", "150 degC"]'


def test_the_cold_junction_is_read_with_its_thermocouple(read, tmp_path: Path, monkeypatch) -> None:
    block = 23.7 + 273.15
    volts = thermocouples.voltage("T", 373.15) - thermocouples.voltage("T", block)
    found, bad = read(COUPLE, volts, more=(COLD,), answers=(thermometers.platinum_resistance(block),))
    assert found == pytest.approx(373.15, abs=1e-4) and not bad
    for spoilt, code in (("9.9E37", "overload"), ("#!", "not_a_number"), (5.0, "beyond_sensor")):
        found, bad = read(COUPLE, volts, more=(COLD,), answers=(spoilt,))
        assert math.isnan(found) and bad == [("x", code)], "what it stands on is bad, so it is"
    found, bad = read(COUPLE, 0.0072, more=(COLD,), answers=(thermometers.platinum_resistance(block),))
    assert bad == [("x", "unbelievable")], "what must be believable is the temperature, not the voltage"
    found, bad = read(COUPLE, volts, more=(COLD,), answers=(thermometers.platinum_resistance(block),), settled=(0.1, False))
    assert found == pytest.approx(373.15, abs=1e-4), "and it is the temperature that settles"


@pytest.mark.parametrize(("signals", "told"), [
    (('x = thermocouple = { type = "K", cold_junction = "x" }',), "x.thermocouple: its cold junction is itself"),
    (('x = thermocouple = { type = "K", cold_junction = "y" }', 'y = thermocouple = { type = "K", cold_junction = "x" }'), "y is a thermocouple with a cold junction of its own"),
    (('x = thermocouple = { type = "K", cold_junction = "y" }', 'y = divider = "2"'), "y is a voltage (V)"), (('x = thermocouple = { type = "Q", cold_junction = "20 degC" }',), "there is no type 'Q'"),
    (('x = thermocouple = { type = "K", cold_junction = "tblock" }', 'y = divider = "2"'), "there is no signal 'tblock'"), (('x = thermocouple = { type = "K", cold_junction = "5 V" }',), "'5 V' is a voltage"),
    (('x = thermocouple = { type = "K", cold_junction = "2000 degC" }',), "beyond the range of type K"), (('x = shunt = "0 ohm"',), "shunt: is not above zero"), (('x = divider = "2 V"',), "divider: is no ratio above zero"),
    (('x = gain = "0"',), "gain: is 0"), (('x = sensitivity = "-1 mV/Pa"',), "sensitivity: is not above zero"), (('x = offset = "5 A"',), "offset: '5 A' is a current"), (('x = rtd = { r0 = "0 ohm" }',), "r0 is not above zero"),
    (('x = polynomial = { coefficients = ["0 V", "2 V"], of = ["0 V", "5 V"] }',), "coefficient 1 is a voltage (V)"), (('x = polynomial = { coefficients = ["0 V", "2"] }',), "polynomial.of: is missing"),
    (('x = table = "none.csv"',), "x.table: "), (('x = table = "two.csv"',), "u is a voltage (V), a is a current (A), b is a current (A)"), (('x = table = "back.csv"',), "u does not rise from row to row"),
    (('x = correction = { file = "loss.csv", at = "tune.frequency" }',), "there is no role 'tune'"), (('x = correction = { file = "loss.csv", at = "tone.amplitude" }',), "tone has no frequency 'amplitude'"),
    (('x = correction = { file = "two.csv", at = "tone.frequency" }',), "two.csv has the columns u, a, b"), (('x = accuracy = "0.1 % + 5 A"',), "'5 A' is a current"), (('x = accuracy = "a lot"',), "x.accuracy: "),
    (('x = settling = "2 h"',), "settling: not between 0 s and 3600 s"), (('x = damage = "5 A"',), "'5 A' is a current"), (('x = calibration = { due = "soon" }',), "calibration.due: 'soon' does not fit"),
    (('x = shnut = "1 ohm"',), "shnut: is not a key that is known here|Did you mean shunt?")])  # fmt: skip
def test_each_mistake_in_a_signal_is_told(tmp_path: Path, signals: tuple[str, ...], told: str) -> None:
    csv(tmp_path, "loss.csv", LOSS)
    csv(tmp_path, "two.csv", "u [V],a [A],b [A]\n1,2,3\n")
    csv(tmp_path, "back.csv", "u [V],a [A]\n1,2\n0,3\n")
    with pytest.raises(MistakeError) as error:
        bench_with(tmp_path, *signals)
    for part in told.split("|"):
        assert part in str(error.value), str(error.value)


# --- chains ------------------------------------------------------------------------------------------------------------

STEPS = {
    "shunt": linear("shunt", units.AMPERE, 10.0), "gain": linear("gain", units.VOLT, -2.5, 0.25), "curve": curved("curve", units.VOLT, lambda x: math.exp(x / 50), lambda y: 50 * math.log(y) if y > 0 else math.nan),
}  # fmt: skip


@given(st.lists(st.sampled_from(sorted(STEPS)), max_size=5), st.floats(-3, 3))
def test_a_compiled_chain_is_its_steps_one_by_one(names: list[str], reading: float) -> None:
    chain = Chain(tuple(STEPS[name] for name in names))
    expected = reading
    for name in names:
        # What is next to nothing beside the 1 or the offset that it is added to, no inverse finds again.
        is_lost = name == "curve" and (expected < -300 or 0 < abs(expected) < 1e-6)
        expected = STEPS[name].forward(expected) if expected < 1e4 and not is_lost else math.nan
    if math.isfinite(expected):
        assert chain.compiled()(reading) == pytest.approx(expected, rel=1e-12) == chain.value(reading)
        if chain.is_linear:
            assert reading * chain.scale + chain.offset == pytest.approx(expected, rel=1e-12, abs=1e-12)
        assert chain.reading(expected) == pytest.approx(reading, rel=1e-6, abs=1e-6)


def test_interpolation_and_inverse_keep_to_their_range() -> None:
    line = Interpolation([0.0, 1.0, 3.0], [0.0, 10.0, -10.0])
    assert [line(x) for x in (0.0, 0.5, 1.0, 2.0, 3.0)] == [0.0, 5.0, 10.0, 0.0, -10.0] and math.isnan(line(3.0001)) and math.isnan(line(math.nan))
    cubic = polynomial([1.0, 0.0, 0.0, 2.0])
    assert cubic(2.0) == 17.0 and solved(cubic, 0.0, 5.0)(17.0) == pytest.approx(2.0) and math.isnan(solved(cubic, 0.0, 5.0)(0.5))


# --- what stops a unit -------------------------------------------------------------------------------------------------

HEAD = """sequence "S"
    product "P"
    serial "A"
needs
    supply : power_supply
    x : signal in V
before unit
    set supply.voltage = 5 V, supply.output = on
test first "First"
    read x
    check x >= 1 V
test second "Second"
    read later = x
    check later >= 1 V
after unit
    set supply.output = off
"""


@pytest.mark.parametrize(("answer", "is_damaged"), [("6.9", False), ("7.1", True), ("-7.1", True), ("9.9E37", True), ("400", True), ("9.91E37", False)])
def test_beyond_its_damage_level_the_sources_go_off_at_once_and_the_unit_is_over(tmp_path: Path, monkeypatch, answer: str, is_damaged: bool) -> None:
    monkeypatch.setitem(ANSWERS, "201", answer.encode())
    MemoryLink.heard = []
    seen: list[events.Event] = []
    file = bench_with(tmp_path, 'x = damage = "7 V", believe = ["-10 V", "20 V"]')
    ended = carried_out(vet(Source("t.ibx", HEAD)), file, seen.append, opening=MemoryLink.opening)
    verdicts = {event.test: (str(event.verdict), event.reason.code if event.reason else "") for event in seen if isinstance(event, events.TestEnded)}
    if is_damaged:
        assert verdicts == {"first": ("fail", "damage"), "second": ("skipped", "stop")} and str(ended.verdict) == "fail"
        assert any(
            isinstance(event, events.Problem) and "beyond its damage level of" in event.text and "All outputs were switched off" in event.text for event in seen
        )
        told = [line for _, line in MemoryLink.heard]
        assert told[told.index("OUTP1 ON") + 1 :][:4].count("OUTP1 OFF") >= 1, "before anything else"
    else:
        assert verdicts["second"][0] != "skipped"


def test_an_output_that_cannot_be_switched_off_then_is_told(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setitem(ANSWERS, "201", b"8")
    bench = Bench(bench_with(tmp_path, 'x = damage = "7 V"'), Pool(MemoryLink.opening))
    bench.connect(["dmm", "psu"])
    monkeypatch.setattr(MemoryLink, "_answer", lambda self, query: b"1" if "OUTP" in query else b"8")
    with pytest.raises(DamageError, match="x is 8 V, beyond its damage level of 7 V. NOT all is off: supply: "):
        bench.read_line([bench.signal_item("x", "x")], together=False, averaging=1)()


def test_a_signal_is_waited_for_as_long_as_it_needs(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setitem(ANSWERS, "201", b"5")
    seen: list[events.Event] = []
    carried_out(vet(Source("t.ibx", HEAD)), bench_with(tmp_path, 'x = settling = "40 s"'), seen.append, opening=MemoryLink.opening)
    ends = [event for event in seen if isinstance(event, events.TestEnded)]
    assert [round(event.duration) for event in ends] == [40, 40]


def test_a_signal_whose_calibration_is_over_makes_a_trial(tmp_path: Path, monkeypatch) -> None:
    monkeypatch.setitem(ANSWERS, "201", b"5")
    ended = carried_out(
        vet(Source("t.ibx", HEAD)), bench_with(tmp_path, "x = calibration = { due = 2020-01-31 }"), lambda event: None, opening=MemoryLink.opening
    )
    assert "calibration of the signal x was due on 2020-01-31" in str(ended.trial)


def test_a_prepared_reading_of_a_corrected_signal_is_refused(ibexite, project: Path) -> None:
    """It would be read as another number than was prepared."""
    csv(project, "loss.csv", LOSS)
    path = project / "bench.toml"
    path.write_text(path.read_text().replace("[signals.v_in]", '[signals.v_in]\ncorrection = { file = "loss.csv", at = "f" }'))
    (project / "ready.toml").write_text('[readings]\nv_in = "9 V"\n')
    done = ibexite("run", "fm2_final.ibx", "--serial", "FC00400", "--simulate", "--yes", "--readings", "ready.toml")
    assert done.returncode == 2 and "v_in is corrected over frequency" in done.stderr and '"meter.dc_voltage"' in done.stderr
