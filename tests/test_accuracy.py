"""Accuracies carried through formulas, and checks that are guarded by them."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import events
from ibexite.analysis.curve import ArrayCurve
from ibexite.analysis.pointwise import root
from ibexite.analysis.propagation import carried
from ibexite.bench.file import read_bench
from ibexite.errors import MistakeError
from ibexite.instruments.profile import load_profile
from tests.conftest import HEADER
from tests.laboratory.stub_bench import memory_bench
from tests.runs import vetted

X = np.array([1.0, 2.0, 4.0])


def curve(values) -> ArrayCurve:
    return ArrayCurve({"x": X}, np.array(values, dtype=float))


@pytest.mark.parametrize(
    ("function", "values", "widths", "wanted"),
    [
        (lambda a, b: a + b, (2.0, 3.0), (0.1, 0.2), 0.3),
        (lambda a, b: a - b, (2.0, 3.0), (0.1, 0.2), 0.3),
        (lambda a: a - a, (2.0,), (0.1,), 0.0),
        (lambda a, b: a * b, (2.0, 3.0), (0.1, 0.2), 0.7),
        (lambda a: 5.0, (2.0,), (0.1,), 0.0),
        (lambda a: a**2, (2.0,), (0.1,), 0.41),
        (lambda a: math.nan, (2.0,), (0.1,), math.nan),
        (lambda a, b: a + b, (2.0, 3.0), (0.1, math.nan), math.nan),
        (root, (0.0,), (0.1,), math.nan),
    ],
)
def test_a_result_may_be_off_by_the_sum_of_what_each_value_does(function, values, widths, wanted: float) -> None:
    assert carried(function, values, widths, True) == pytest.approx(wanted, nan_ok=True)


@given(st.lists(st.tuples(st.floats(-9, 9), st.floats(-9, 9), st.floats(0, 1)), min_size=1, max_size=6))
def test_of_what_is_linear_it_is_the_worst_corner(parts: list[tuple[float, float, float]]) -> None:
    factors, values, widths = zip(*parts, strict=True)
    corners = [sum(c * (v + (w if mask >> i & 1 else -w)) for i, (c, v, w) in enumerate(parts)) for mask in range(2 ** len(parts))]
    middle = sum(c * v for c, v in zip(factors, values, strict=True))
    worst = max(abs(corner - middle) for corner in corners)
    assert carried(lambda *v: sum(map(float.__mul__, factors, v)), values, widths, True) == pytest.approx(worst, abs=1e-9)


def test_of_curves_it_is_known_at_each_point() -> None:
    a, b, w = curve([1, 2, math.nan]), curve([3, 5, 7]), curve([0.1, 0.2, 0.3])
    got = carried(lambda a, b: a * b, (a, b), (w, 0.01), True)
    assert got.values == pytest.approx([0.1 * 3 + 0.01, 0.2 * 5 + 0.02, math.nan], nan_ok=True)
    mean = carried(lambda b: float(b.values.mean()), (b,), (w,), False)
    span = carried(lambda b: float(b.values.max() - b.values.min()), (b,), (w,), False)
    assert (mean, span) == (pytest.approx(0.2), pytest.approx(0.4)) and b.values.tolist() == [3, 5, 7]


EXACT = {"v_in": "0.05 % + 2 mV", "v_out": "0.05 % of reading + 0.01 % of range", "i_in": "0.2 % + 100 uA"}


def exact(bench: str) -> str:
    """A bench on which some signals say how exact they are; i_out does not."""
    for name, text in EXACT.items() if "accuracy" not in bench else ():
        bench = bench.replace(f"[signals.{name}]", f'[signals.{name}]\naccuracy = "{text}"')
    return bench


@pytest.mark.parametrize(("lines", "label", "guard"), [
    ("read v_out\n    check v_out >= 4.9 V guarded by accuracy", "v_out", lambda v: 0.0005 * v["v_out"] + 0.001),
    ("read v_in, i_in\n    let p = v_in * i_in\n    check p >= 1 mW guarded by accuracy", "p",
     lambda v: (0.0005 * v["v_in"] + 0.002) * v["i_in"] + (0.002 * v["i_in"] + 1e-4) * v["v_in"]),
    ("read v_in, v_out\n    check v_in - v_out >= 1 V guarded by accuracy as \"drop\"", "drop", lambda v: 0.0005 * (v["v_in"] + v["v_out"]) + 0.003),
    ("read v_in\n    let twice = v_in + v_in\n    check twice - v_in >= 1 V guarded by accuracy as \"own\"", "own", lambda v: 3 * (0.0005 * v["v_in"] + 0.002)),
])  # fmt: skip
def test_limits_move_by_what_the_signals_say(perform, lines: str, label: str, guard) -> None:
    run = perform(f'test t "T"\n    {lines}\n', change=exact)
    (result,) = run.of(events.Judged, label=label)
    values = {event.name: event.value for event in run.of(events.Value)}
    assert run.verdict == "pass" and result.guard == pytest.approx(guard(values), rel=1e-6), run.ended
    assert "the worst that its signals come to" in result.rule and result.low == pytest.approx(float(result.low - result.guard) + result.guard)


SWEPT = """test t "T"
    sweep vin over 8 V, 10 V, 12 V
        set supply.voltage = vin
        wait 20 ms
        read v_in, i_in
        let p = v_in * i_in
        {live}
    {after}
"""


@pytest.mark.parametrize(("live", "after", "verdict"), [
    ("check v_in >= 7.97 V guarded by accuracy", "note \"x\"", "pass"), ("check v_in >= {edge} guarded by accuracy", "note \"x\"", "fail"),
    ("note \"x\"", "check v_in >= 7.97 V guarded by accuracy", "pass"), ("note \"x\"", "check v_in >= {edge} guarded by accuracy", "fail"),
    ("note \"x\"", "check v_in >= {edge}", "pass"),
    ("note \"x\"", "let most = max(v_in along vin)\n    check most <= 12.1 V guarded by accuracy", "pass"),
])  # fmt: skip
def test_each_point_of_a_sweep_has_a_guard_of_its_own(perform, live: str, after: str, verdict: str) -> None:
    measured = perform(SWEPT.format(live='note "x"', after='note "x"') + "    check v_in >= 1 V\n", change=exact)
    edge = f"{min(measured.columns('v_in')) - 0.004:.6f} V"  # within the 6 mV that v_in may be off there
    run = perform(SWEPT.format(live=live.replace("{edge}", edge), after=after.replace("{edge}", edge)), change=exact)
    assert run.verdict == verdict, run.ended
    if "accuracy" in live + after and "most" not in after:
        assert run.columns("v_in.accuracy") == pytest.approx([0.0005 * v + 0.002 for v in run.columns("v_in")])


@pytest.mark.parametrize(("lines", "told"), [
    ("read i_out\n    check i_out >= 1 A guarded by accuracy", "i_out does not say how exact it is"),
    ("read amps = supply.current\n    check amps >= 1 A guarded by accuracy", "supply.current does not say how exact it is"),
    ('read word = query(supply, "X?") as number\n    check word >= 1 guarded by accuracy', "answer to a raw query"),
    ("read v_in\n    sweep n over 1, 2\n        let x = v_in * n\n        check x >= 1 V guarded by accuracy", "n is set, not measured"),
    ("read v_in, v_out\n    let high = v_in > 8 V\n    let x = choose(high, v_in, v_out)\n    check x >= 1 V guarded by accuracy", "high is "),
    ("read v_in\n    let x = 5 V\n    check x >= 1 V guarded by accuracy", "it is made of no reading"),
    ("read v_in\n    check v_in >= 1 V guarded by acuracy", "unknown name 'acuracy'"),
])  # fmt: skip
def test_what_nobody_knows_is_told_before_the_run(project, lines: str, told: str) -> None:
    (project / "bench.toml").write_text(exact((project / "bench.toml").read_text()))
    source = vetted(f'{HEADER}test t "T"\n    {lines}\n', project)
    assert [told in source.render(one) for one in source.sorted_findings() if one.level == "mistake" and "raw commands" not in one.title] == [True]


def test_a_name_that_is_called_accuracy_is_itself(perform) -> None:
    run = perform('test t "T"\n    let accuracy = 30 mV\n    read v_out\n    check v_out >= 4.9 V guarded by accuracy\n')
    assert run.result("v_out").guard == 0.03


def test_a_reading_of_a_role_is_as_exact_as_its_profile_says(perform, project) -> None:
    """Together with a signal, in a formula: both add up in the worst direction."""
    (project / "own.toml").write_text('extends = "scpi-power-supply"\n[readings.current]\naccuracy = "0.2 % + 3 mA"\n')
    lines = "set supply.output = on\n    wait 50 ms\n    read v_in, amps = supply.current\n    let p = v_in * amps\n    check p >= 10 mW guarded by accuracy"
    run = perform(f'test t "T"\n    {lines}\n', change=lambda text: exact(text).replace('"scpi-power-supply"', '"own.toml"'))
    values = {event.name: event.value for event in run.of(events.Value)}
    amps, volts = values["amps"], values["v_in"]
    assert values["amps.accuracy"] == pytest.approx(0.002 * amps + 0.003)
    assert run.result("p").guard == pytest.approx(volts * values["amps.accuracy"] + amps * values["v_in.accuracy"], rel=1e-6)


@pytest.mark.parametrize(("entry", "told"), [
    ('[readings.current]\naccuracy = "3 mV"', "3 mV"), ('[readings.current]\naccuracy = "often"', "often"), ('[readings.wave]\naccuracy = "1 %"', "is of numbers")])  # fmt: skip
def test_a_wrong_accuracy_of_a_reading_is_told(tmp_path, entry: str, told: str) -> None:
    (tmp_path / "own.toml").write_text(f'extends = "scpi-{"oscilloscope" if "wave" in entry else "power-supply"}"\n{entry}\n')
    with pytest.raises(MistakeError) as error:
        load_profile("own.toml", tmp_path)
    assert told in str(error.value)


def test_an_accuracy_of_a_range_needs_one(tmp_path) -> None:
    path = memory_bench(tmp_path).path
    path.write_text(path.read_text() + '[signals.x]\nread = "supply.voltage"\naccuracy = "0.1 % of range"\n')
    with pytest.raises(MistakeError, match="is of the range, and no range is named"):
        read_bench(path)


@pytest.mark.parametrize(("accuracy", "words", "told"), [
    ("0.1 % of reading + 1 % of range", "channel = 103", "meter.dc_voltage is as exact as its range"), ("0.1 % of reading + 1 % of range", "channel = 103, range = 10 V", ""),
    ("0.1 % of reading + 1 mV", "channel = 103", "")])  # fmt: skip
def test_a_share_of_the_range_is_known_where_the_range_is(project, perform, accuracy: str, words: str, told: str) -> None:
    """Without it the guard would be too narrow, and something could pass that has not. A signal that is such a reading and no more is as exact."""
    (project / "own.toml").write_text(f'extends = "scpi-scanning-multimeter"\n[readings.dc_voltage]\naccuracy = "{accuracy}"\n')
    change = lambda text: text.replace('"scpi-scanning-multimeter"', '"own.toml"')  # noqa: E731
    lines = f'test t "T"\n    set supply.output = on\n    wait 50 ms\n    read u = meter.dc_voltage({words}), v_out\n    check u >= 10 mV guarded by accuracy\n    check v_out >= 10 mV guarded by accuracy\n'
    header = HEADER.replace("needs\n", "needs\n    meter : multimeter\n", 1)
    if told:
        (project / "bench.toml").write_text(change((project / "bench.toml").read_text()))
        source = vetted(header + lines, project)
        assert any(told in source.render(one) for one in source.sorted_findings() if one.level == "mistake")
        return
    run = perform(lines, header=header, change=change)
    values = {event.name: event.value for event in run.of(events.Value)}
    for name in ("u", "v_out"):
        assert run.result(name).guard == pytest.approx(0.001 * values[name] + (0.1 if "range" in accuracy else 0.001), rel=1e-3), name
