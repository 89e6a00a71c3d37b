"""Functions on curves, compared with closed forms and published values; along axes, with holes, ragged and complex."""

import math
import random
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.analysis import catalog, features, shaping, statistics
from ibexite.analysis.catalog import find
from ibexite.analysis.curve import ArrayCurve, Curve, line_through, never
from ibexite.engine import loops, services
from ibexite.engine.loops import Refined, SearchTurns, Turns
from ibexite.errors import SequenceError
from ibexite.functions import FUNCTIONS, target_of
from ibexite.holes import NEVER_MEASURED, Bound, is_never_measured
from ibexite.units import DECIBEL, POWER_LEVEL, VOLT, WATT

NAN = math.nan
X = np.linspace(0.0, 4.0, 5)


def curve(y, x=X, name: str = "x") -> Curve:
    return ArrayCurve({name: np.asarray(x, dtype=float)}, np.asarray(y))


@pytest.mark.parametrize(("name", "y", "expected"), [
    ("largest", [1, 5, NAN, 2, 0], 5), ("smallest", [1, 5, NAN, 2, -3], -3), ("span", [1, 5, NAN, 2, -3], 8),
    ("mean", [1, 2, NAN, 3, 6], 3), ("median", [1, 2, NAN, 3, 60], 2.5), ("rms", [3, NAN, NAN, NAN, -3], 3),
    ("deviation", [2, 4, 4, 4, 6], math.sqrt(2)), ("deviation", [1, NAN, NAN, NAN, NAN], NAN),
    ("count", [1, NAN, 3, NAN, 5], 3), ("argmax", [1, NAN, 9, 9, 5], 2), ("argmin", [1, NAN, 9, -9, 5], 3),
    ("mean_power", [0, 10, NAN, NAN, NAN], 10 * math.log10(5.5)), ("mean", [NAN] * 5, NAN), ("argmax", [NAN] * 5, NAN),
    ("deviation", [32768.0, 32768.001, 32767.999, 32768.0, 32768.0], math.sqrt(2e-6 / 4))])  # fmt: skip
def test_statistics_leave_holes_out(name: str, y: list[float], expected: float) -> None:
    found = getattr(statistics, name)(X, np.array(y, dtype=float))
    assert found == pytest.approx(expected, nan_ok=True, rel=1e-6)


@given(st.lists(st.floats(-1e6, 1e6), min_size=1, max_size=9), st.floats(0, 1))
def test_a_percentile_is_that_of_the_textbook(values: list[float], part: float) -> None:
    given_ = np.array([*values, NAN])
    assert statistics.percentile(np.arange(len(given_)), given_, part) == pytest.approx(np.quantile(values, part), abs=1e-6)


@pytest.mark.parametrize(("y", "level", "options", "expected"), [
    ([0, 2, 0, 2, 0], 1, {}, [0.5, 1.5, 2.5, 3.5]), ([0, 2, 0, 2, 0], 1, {"falling": False}, [0.5, 2.5]),
    ([0, 2, 0, 2, 0], 1, {"rising": False}, [1.5, 3.5]), ([0, 1, 2, 3, 4], 2, {}, [2.0]),  # a point on the level: once
    ([0, 1, 1, 1, 2], 1, {}, [1.0]), ([1, 1, 2, 1, 1], 1, {}, [0.0, 3.0]), ([2, 1, 2, 1, 2], 1, {}, []), ([1, 2, 3], 1, {"falling": False}, [0.0]),
    ([3, 2, 1], 1, {"rising": False}, [2.0]), ([0, NAN, 2, 2, 2], 1, {}, []),  # no bridge over a hole
    ([0, 0, 0, 0, 0], 1, {}, []), ([], 1, {}, [])])  # fmt: skip
def test_crossings_are_interpolated_and_none_is_none(y, level, options, expected) -> None:
    x = X[: len(y)]
    assert features.crossings(x, np.array(y, dtype=float), level, **options) == pytest.approx(expected)
    first = features.crossing(
        x, np.array(y, dtype=float), level, **{k: True for k, other in (("rising", "falling"), ("falling", "rising")) if other in options}
    )
    assert first == pytest.approx(expected[0] if expected else NAN, nan_ok=True)


def test_crossings_along_an_axis_fill_up_with_what_was_never_measured() -> None:
    both = ArrayCurve({"a": np.array([0.0, 1.0]), "x": X}, np.array([[0, 2, 0, 2, 0], [0, 0, 2, 2, 2.0]]))
    found = catalog.crossings(both, "x", 1.0)
    assert list(found.axes) == ["a", "crossing"] and found.values[1, 0] == 1.5
    assert never(found.values)[1].tolist() == [False, True, True, True]
    with pytest.raises(SequenceError, match="a logarithmic axis has only positive values"):
        find("features.crossing")(both, "x", 1.0, log=True)


def low_pass(f: np.ndarray, cut: float) -> np.ndarray:
    return -10 * np.log10(1 + (f / cut) ** 2)


def test_cutoff_and_bandwidth_agree_with_closed_forms() -> None:
    f = np.geomspace(10, 1e5, 400)
    assert features.cutoff(f, low_pass(f, 1234.0), -10 * math.log10(2)) == pytest.approx(1234, rel=2e-4)
    series = 1 / (1 + 1j * 8 * (f / 1000 - 1000 / f))
    gain = 20 * np.log10(abs(series))
    drop = -10 * math.log10(2)
    assert features.bandwidth(f, gain, drop) == pytest.approx(1000 / 8, rel=0.02)  # f0 / Q
    assert features.bandwidth(f, abs(series), drop, scale="amplitude") == pytest.approx(1000 / 8, rel=0.02)
    lower = 1000 * (math.sqrt(1 + 1 / 256) - 1 / 16)
    assert features.cutoff(f, gain, drop, lower=True) == pytest.approx(lower, rel=1e-3)
    assert math.isnan(features.bandwidth(f, low_pass(f, 1234.0), drop))  # no lower edge: not a number


@pytest.mark.parametrize("q", [12, 41, 200])
def test_resonance_finds_frequency_and_q_of_the_equivalent_circuit(q: int) -> None:
    f = np.linspace(38e3, 43e3, 161)
    motional = 492 * (1 + 1j * q * (f / 40.3e3 - 40.3e3 / f))
    z = 1 / (1 / motional + 2j * np.pi * f * 1.9e-9)
    found = features.resonance(f, z)
    assert found.frequency == pytest.approx(40.3e3, rel=2e-5)
    assert found.q == pytest.approx(q, rel=0.01)
    assert found.peak == pytest.approx(1 / 492, rel=0.01)
    assert math.isnan(features.resonance(f[:40], z[:40]).q)  # the peak lies beyond the points


def test_compression_is_measured_from_the_ideal_line() -> None:
    x = np.arange(-40.0, 6.0, 0.25)
    y = x + 23 - 5 * np.log10(1 + 10 ** (2 * (x + 23 - 11) / 10))  # Rapp's model, p = 1, saturating at 11 dBm
    at = 11 - 23 + 5 * math.log10(10**0.2 - 1)
    found = features.compression(x, y, 1.0)
    assert found.input == pytest.approx(at, abs=0.01) and found.output == pytest.approx(at + 22, abs=0.01)
    assert found.gain == pytest.approx(23, abs=1e-3)
    assert math.isnan(features.compression(x[:60], y[:60], 1.0).output)


def test_slopes_areas_and_smoothing() -> None:
    assert features.slope(X, 3 * X - 7) == pytest.approx(3)
    assert features.integral(X, X) == 8 and math.isnan(features.integral(X, np.array([1, NAN, 1, 1, 1.0])))
    assert shaping.cumulative(X, X).tolist() == [0, 0.5, 2, 4.5, 8]
    assert shaping.derivative(X, X**2)[1:-1].tolist() == [2, 4, 6]
    f = np.geomspace(100, 1600, 49)  # 12 points an octave
    bump = np.where(np.isclose(f, 400), 12.0, 0.0)
    even = shaping.smooth_octaves(f, bump, 1)  # a window of one octave: 13 points
    assert even[24] == pytest.approx(12 / 13) and np.count_nonzero(even) == 13
    with pytest.raises(SequenceError, match="must be odd"):
        find("shaping.smooth_points")(curve(X), "x", 4)


def test_a_line_takes_the_points_of_what_it_meets_and_ends_where_it_ends() -> None:
    line = catalog.line("x", (1.0, 10.0), (3.0, 30.0))
    apart = curve([5.0] * 5) - line
    assert never(apart.values).tolist() == [True, False, False, False, True]
    assert apart.values[1:4].tolist() == [-5, -15, -25]
    steep = line_through("x", np.array([1.0, 100.0]), np.array([0.0, 2.0]), is_log=True)
    assert steep.on(np.array([10.0]))[0] == pytest.approx(1)
    raised = curve([5.0] * 5) - (line + 1.0)  # a formula of a line meets a curve as the line does
    assert raised.values[1:4].tolist() == [-6, -16, -26]
    with pytest.raises(SequenceError, match="from left to right"):
        catalog.line("x", (3.0, 1.0), (1.0, 2.0))


def test_onto_brings_two_scans_together_within_the_ends_of_the_first() -> None:
    fine, coarse = curve([0, 10, 20, 30, 40.0]), curve([0.0] * 4, [-1, 0.5, 2.25, 3], "x")
    moved = catalog.onto(fine, coarse)
    assert never(moved.values).tolist() == [True, False, False, False]
    assert moved.values[1:].tolist() == [5, 22.5, 30]
    renamed = catalog.onto(curve([0, 10, 20, 30, 40.0], name="fine"), coarse)
    assert list(renamed.axes) == ["x"] and renamed.values[2] == 22.5


def test_axes_may_run_downwards_be_visited_twice_and_have_ragged_ends() -> None:
    down = curve([4, 3, 2, 1, 0.0], X[::-1])
    assert find("features.crossing")(down, "x", 2.5) == 2.5
    twice = ArrayCurve({"x": np.array([0.0, 1, 1, 2])}, np.array([0.0, 10, 20, 30]))
    with pytest.raises(SequenceError, match="several values at the same point"):
        catalog.at(twice, {"x": 1.5})
    ragged = ArrayCurve({"a": np.array([0.0, 1]), "x": X}, np.array([[1, 2, 3, 4, 5], [1, 2, NEVER_MEASURED, NEVER_MEASURED, NEVER_MEASURED]]))
    assert find("statistics.largest")(ragged, "x").values.tolist() == [5, 2]
    assert catalog.statistics_n(curve([1, NAN, NEVER_MEASURED, 2, 3]), "x") == (3, 4, True)
    smooth = find("shaping.smooth_points")(ragged, "x", 3)
    assert smooth.values[1, 0] == 1.0 and never(smooth.values)[1, 2:].all()
    assert catalog.at(ragged, {"a": 0.0, "x": 0.5}) == 1.5


def test_complex_curves_keep_their_holes_and_give_real_ones() -> None:
    z = find("pointwise.polar")(curve([2.0, NAN, 2, NEVER_MEASURED, 2]), math.pi / 2)
    assert np.isnan(z.values[1]) and never(z.values).tolist() == [False, False, False, True, False]
    assert find("pointwise.phase")(z).values[0] == pytest.approx(math.pi / 2)
    assert find("pointwise.real_part")(1 / z).values[0] == pytest.approx(0, abs=1e-15)
    assert find("pointwise.imaginary_part")(1 / z).values[0] == pytest.approx(-0.5)
    assert find("statistics.mean")(z, "x") == pytest.approx(2j)
    assert find("pointwise.rectangular")(3.0, 4.0) == 3 + 4j and find("pointwise.absolute")(3 + 4j) == 5


@given(st.sampled_from("+-*/"), st.floats(-1e3, 1e3), st.booleans())
def test_what_was_never_measured_stays_so_through_arithmetic(op: str, other: float, left: bool) -> None:
    from ibexite.analysis.single_values import divided

    operations = {"+": lambda a, b: a + b, "-": lambda a, b: a - b, "*": lambda a, b: a * b, "/": divided}
    a, b = (NEVER_MEASURED, other) if left else (other, NEVER_MEASURED)
    assert is_never_measured(operations[op](a, b))
    assert never((curve([NEVER_MEASURED] * 5) * other).values).all()


def test_every_function_of_the_table_is_there_with_units_and_source() -> None:
    dimensions = {"level": WATT, "linear": POWER_LEVEL}
    for function in FUNCTIONS.values():
        target = target_of(function, dimensions.get(function.name, VOLT), frozenset(), "points")
        assert callable(find(target)), function.name
        assert function.example and function.help and function.usage.startswith(function.name)
    for function in (features.bandwidth, features.compression, features.resonance, features.slope, shaping.derivative):
        assert "Source:" in (function.__doc__ or ""), function
    assert target_of(FUNCTIONS["smooth"], DECIBEL, frozenset(), "octave") == "shaping.smooth_octaves"


# --- what decides which value a loop takes next ----------------------------------------------------------------------


def searched(search: SearchTurns, holds) -> tuple[float, list[float]]:
    visited = []
    for x in search:
        visited.append(x)
        search.held = holds(x)
    return search.result(), visited


@pytest.mark.parametrize("name", [name for name, function in FUNCTIONS.items() if function.kind in ("consume", "keep") and name != "resonance"])
def test_a_result_that_is_too_large_for_a_number_is_a_hole(name: str) -> None:
    function = FUNCTIONS[name]
    option = dict([function.option_for(VOLT).split("=")]) if function.option_for(VOLT) else {}
    for xs, ys in (([1.0, 2.0, 3.0], [1e308] * 3), ([1e-300, 1.0, 1e308], [1.0, 2.0, 3.0]), ([1.0, 2.0, 3.0], [-1e308, 1e308, -1e308])):
        result = find(target_of(function, VOLT, frozenset(), "points" if name == "smooth" else ""))(
            ArrayCurve({"k": np.array(xs)}, np.array(ys)), "k", *[0.3 if kind == "plain" else 3.0 for kind in function.arguments[1:]], **{k: v.strip("'") for k, v in option.items()})  # fmt: skip
        assert not np.isinf(getattr(result, "values", result)).any()


@given(st.floats(4.1, 8.9), st.sampled_from([0.02, 0.05, 0.1]), st.booleans())
def test_a_search_finds_the_threshold_to_its_resolution(threshold: float, resolution: float, halving: bool) -> None:
    found, visited = searched(SearchTurns(9.0, 4.0, None, resolution, halving=halving), lambda x: x < threshold)
    assert found < threshold <= found + resolution + 1e-9
    assert len(visited) == len(set(visited)) <= 24
    if not halving:
        first = next(x for x in visited if x < threshold)
        assert min(visited) == first, "never past the first coarse step at which it held"


@pytest.mark.parametrize("step", [None, 1.0, 3.0, 40.0])
@pytest.mark.parametrize("halving", [False, True])
def test_a_search_finds_the_first_step_at_which_it_holds_wherever_that_is(step: float | None, halving: bool) -> None:
    for first in range(1, 21):
        search = SearchTurns(0.0, 20.0, step, 1.0, halving=halving)
        for value in search:
            search.held = value >= first
        assert search.result() == first


def test_a_search_that_never_holds_or_holds_at_once_gives_a_bound() -> None:
    for end, holds, limit, is_below in ((4.0, False, 4.0, True), (4.0, True, 9.0, False), (12.0, False, 12.0, False)):
        found, _ = searched(SearchTurns(9.0, end, 1.0, 0.1, halving=False), lambda x, answer=holds: answer)
        assert isinstance(found, Bound) and math.isnan(found) and (found.limit, found.is_below) == (limit, is_below)
    assert searched(SearchTurns(0.0, 0.3, 0.1, 0.1, halving=False), lambda x: x >= 0.3)[0] == 0.3


def refined(function, low: float, high: float, coarse: int, most: int, *, is_log: bool) -> tuple[np.ndarray, np.ndarray]:
    points = np.geomspace(low, high, coarse) if is_log else np.linspace(low, high, coarse)
    sweep = Refined(points.tolist(), most, is_log=is_log)
    seen = {}
    for point in sweep:
        seen[point] = float(function(point))
        sweep.tell(point, seen[point])
    return np.array(sorted(seen)), np.array([seen[x] for x in sorted(seen)])


def test_refining_reaches_the_error_of_a_uniform_sweep_with_a_quarter_of_its_points() -> None:
    """On the models of the example: the -3 dB points of the band filter and the resonance of the transducer."""
    from ibexite.simulate.products.fm2_sensor_parts import Fm2SensorParts

    model = Fm2SensorParts("FP0107")

    def gain(f: float) -> float:
        return 20 * math.log10(abs(model.filter_response(f)))

    def conductance(f: float) -> float:
        return (1 / model.transducer_impedance(f)).real

    def edges(f: np.ndarray, y: np.ndarray) -> np.ndarray:
        return np.array([features.cutoff(f, y, -3.0, lower=lower) for lower in (False, True)])

    dense, uniform = np.geomspace(12e3, 120e3, 20_001), np.geomspace(12e3, 120e3, 240)
    true = edges(dense, np.array([gain(f) for f in dense]))
    errors: dict[str, list[np.ndarray]] = {"uniform": [], "refined": []}
    for seed in range(25):
        noise = random.Random(seed)

        def measured(f: float, noise: random.Random = noise) -> float:
            return gain(f) + noise.gauss(0, 0.005)  # dB; what the simulated oscilloscope has at 5 V full scale

        errors["uniform"].append(edges(uniform, np.array([measured(f) for f in uniform])) - true)
        x, y = refined(measured, 12e3, 120e3, 10, 60, is_log=True)
        assert len(x) <= 60
        errors["refined"].append(edges(x, y) - true)
    rms = {name: float(np.sqrt(np.mean(np.square(found)))) for name, found in errors.items()}
    assert rms["refined"] <= rms["uniform"], rms

    uniform = np.linspace(36e3, 45e3, 120)
    z = np.array([model.transducer_impedance(f) for f in uniform])
    want, have = model.parts.quality, features.resonance(uniform, z).q
    x, _ = refined(conductance, 36e3, 45e3, 10, 30, is_log=False)
    few = features.resonance(x, np.array([model.transducer_impedance(f) for f in x]))
    assert len(x) <= 30 and abs(few.q - want) <= max(abs(have - want), 0.002 * want)
    assert few.frequency == pytest.approx(model.parts.resonance, rel=1e-4)


def test_turns_keep_their_rhythm_and_make_nothing_up() -> None:
    now = [0.0]

    def wait(seconds: float) -> None:
        now[0] += seconds

    begun = []
    for count in Turns(lambda: now[0], wait, times=4, every=2.0):
        begun.append(now[0])
        now[0] += 3.0 if count == 2 else 0.5  # the second turn takes too long
    assert begun == [0, 2, 5, 7]
    assert len(list(Turns(lambda: now[0], wait, seconds=10.0, every=2.5))) == 5  # both ends
    endless = Turns(lambda: now[0], wait, every=1.0, timeout=5.0)
    with pytest.raises(SequenceError, match="did not hold within 5 s"):
        list(endless)


def test_a_loop_that_makes_no_end_is_no_loop_that_has_ended(monkeypatch) -> None:
    monkeypatch.setattr(loops, "MAX_POINTS", 100)
    for forever in ({}, {"seconds": 1e9}, {"times": 101}):
        turns, made = Turns(lambda: 0.0, lambda seconds: None, **forever), []
        with pytest.raises(SequenceError, match="has made 100 turns and has not ended"):
            made += turns
    assert len(list(Turns(lambda: 0.0, lambda seconds: None, times=100))) == 100


def test_a_wait_looks_again_and_again_whether_it_is_to_end(monkeypatch) -> None:
    slept = [0.0]
    monkeypatch.setattr(services, "time", SimpleNamespace(monotonic=lambda: sum(slept), sleep=slept.append))
    looked: list[float] = []
    services.RealClock.wait(0.25, lambda: looked.append(sum(slept)))
    services.RealClock.wait(-1.0, lambda: looked.append(sum(slept)))
    assert slept[1:] == [0.1, 0.1, pytest.approx(0.05)] and looked == [0, 0.1, 0.2, 0.25]
