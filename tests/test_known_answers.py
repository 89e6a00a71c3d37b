"""Numbers whose right answer is known from elsewhere, as tables: quantities, sweep points, statistics, crossings, holes."""

import decimal
import itertools
import math
import operator

import numpy as np
import pytest

from ibexite import units
from ibexite.analysis import features, shaping, statistics
from ibexite.analysis import pointwise as curves
from ibexite.analysis.curve import ArrayCurve, never
from ibexite.holes import NEVER_MEASURED, is_never_measured
from ibexite.language import nodes
from ibexite.language.check import vet
from ibexite.language.source import Source

NAN = math.nan


@pytest.mark.parametrize(("text", "base"), [
    ("0.3 mV", 0.3e-3), ("2.400000001 GHz", 2400000001.0), ("4.7 kohm", 4700.0), ("12 nF", 12e-9), ("1.5 min", 90.0), ("2 h", 7200.0), ("25 degC", 298.15),
    ("-273.15 degC", 0.0), ("180 deg", math.pi), ("0.5 %", 0.005), ("20 ppm", 20e-6), ("2 V/us", 2e6), ("3 nV/sqrt(Hz)", 3e-9), ("1.2 Wh", 4320.0),
    ("3 Ah", 10800.0), ("-40 dBm", -40.0), ("3 dB", 3.0), ("5 cm", 0.05), ("7 1/K", 7.0), ("1 mm", 1e-3), ("10 m/s^2", 10.0),
    ("100.12 mohm", 0.10012), ("-5 degC", 268.15), ("10 dBW", 40.0), ("120 dBuV", 0.0), ("3 V^2/Hz", 3.0), ("1e-3 A", 0.001), ("7", 7.0), ("2 kg", 2.0), ("12V", 12.0)])  # fmt: skip
def test_quantities(text: str, base: float) -> None:
    quantity = units.parse_quantity(text)
    assert float(quantity) == base
    shown = units.format_value(base, quantity.dimension, digits=12)
    assert float(units.parse_quantity(shown)) == pytest.approx(base, rel=1e-12, abs=1e-12)


@pytest.mark.parametrize(("line", "points"), [
    ("from 0.1 V to 0.5 V step 0.1 V", [0.1, 0.2, 0.3, 0.4, 0.5]), ("from 5 V to 4 V step 0.25 V", [5, 4.75, 4.5, 4.25, 4]),
    ("from 1 V to 3 V step 1 V, then to 9 V step 3 V", [1, 2, 3, 6, 9]), ("over 3 V, 1 V, 2 V", [3, 1, 2]),
    ("from 1 V to 1000 V at 1 per decade", [1, 10, 100, 1000]), ("from 20 V to 20 kV at 3 per decade", None), ("from 1 mV to 1 V at 10 per decade", None),
    ("from 0.3 V to 0.9 V step 0.2 V", [0.3, 0.5, 0.7, 0.9]), ("from 100 V to 1 MV in 5 log points", [100, 1000, 1e4, 1e5, 1e6])])  # fmt: skip
def test_sweep_points(line: str, points: list[float] | None) -> None:
    text = f'sequence "S"\n    product "P"\n    serial ".*"\ntest t "T"\n    sweep x {line}\n        let y = x\n    check y >= 0 V\n'
    program = vet(Source("s.ibx", text))
    assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
    sweep = program.cases[0].test.body[0]
    assert isinstance(sweep, nodes.Sweep)
    found = [float(point) for point in program.points[sweep]]
    if points is None:  # the floats nearest to start * 10^(i/n), computed with 40 digits
        start, n = decimal.Decimal(str(found[0])), int(line.split(" at ")[1].split()[0])
        with decimal.localcontext(prec=40):
            points = [float(start * decimal.Decimal(10) ** (decimal.Decimal(i) / n)) for i in range(len(found))]
    assert found == points


# Univariate sets of the NIST Statistical Reference Datasets, with the certified mean and standard deviation (n - 1).
NUMACC1 = [10000001.0, 10000003.0, 10000002.0]
NUMACC2 = [1.2, *itertools.chain.from_iterable([1.1, 1.3] for _ in range(500))]
NUMACC3 = [1000000.2, *itertools.chain.from_iterable([1000000.1, 1000000.3] for _ in range(500))]
NUMACC4 = [10000000.2, *itertools.chain.from_iterable([10000000.1, 10000000.3] for _ in range(500))]
MICHELSO = [299 + thousandths / 1000 for thousandths in (  # speed of light in air, 1000 km/s
    850, 740, 900, 1070, 930, 850, 950, 980, 980, 880, 1000, 980, 930, 650, 760, 810, 1000, 1000, 960, 960, 960, 940, 960, 940, 880,
    800, 850, 880, 900, 840, 830, 790, 810, 880, 880, 830, 800, 790, 760, 800, 880, 880, 880, 860, 720, 720, 620, 860, 970, 950,
    880, 910, 850, 870, 840, 840, 850, 840, 840, 840, 890, 810, 810, 820, 800, 770, 760, 740, 750, 760, 910, 920, 890, 860, 880,
    720, 840, 850, 850, 780, 890, 840, 780, 810, 760, 810, 790, 810, 820, 850, 870, 870, 810, 740, 810, 940, 950, 800, 810, 870)]  # fmt: skip


@pytest.mark.parametrize(("y", "mean", "deviation", "rel"), [
    (NUMACC1, 10000002.0, 1.0, 1e-15), (NUMACC2, 1.2, 0.1, 1e-13), (NUMACC3, 1000000.2, 0.1, 1e-9), (NUMACC4, 10000000.2, 0.1, 1e-8),
    (MICHELSO, 299.8524, 0.0790105478190518, 1e-13)])  # fmt: skip
def test_statistics(y: list[float], mean: float, deviation: float, rel: float) -> None:
    values = np.array(y)
    assert statistics.mean(values, values) == pytest.approx(mean, rel=1e-15)
    assert statistics.deviation(values, values) == pytest.approx(deviation, rel=rel)
    with_hole = np.array([*y, NAN])
    assert statistics.deviation(with_hole, with_hole) == pytest.approx(deviation, rel=rel)


@pytest.mark.parametrize(("x", "y", "level", "options", "place"), [
    ([1, 2, 3], [0, 1, 2], 0.5, {}, 1.5), ([3, 2, 1], [0, 1, 2], 0.5, {}, 2.5), ([9, 7, 5, 3], [2, 0, 2, 0], 1, {}, 8), ([3, 5, 7, 9], [0, 2, 0, 2], 1, {}, 4),
    ([9, 7, 5, 3], [2, 0, 2, 0], 1, {"last": True}, 4), ([1, 2, 3], [1, 2, 3], 1, {}, 1), ([1, 2, 3], [3, 2, 1], 1, {}, 3), ([1, 2, 3], [0, NEVER_MEASURED, 2], 1, {}, NAN),
    ([1, 2, 3], [0, NAN, 2], 1, {}, NAN), ([10, 1000], [0, 2], 1, {"log": True}, 100), ([1, 2], [0, 0.5], 1, {}, NAN)])  # fmt: skip
def test_crossings(x: list[float], y: list[float], level: float, options: dict[str, bool], place: float) -> None:
    found = features.crossing(np.array(x, float), np.array(y, float), level, **options)
    assert found == pytest.approx(place, rel=1e-12, nan_ok=True)


@pytest.mark.parametrize(("scale", "drop", "place"), [
    ("amplitude", -6.0, 4 * (1 - 10 ** (-6 / 20))), ("power", -6.0, 4 * (1 - 10 ** (-6 / 10))), ("power", -3.0, 4 * (1 - 10 ** (-3 / 10))), ("level", -0.5, 2.0),
])  # fmt: skip
def test_cutoffs_fall_by_the_rule_of_what_is_measured(scale: str, drop: float, place: float) -> None:
    x = np.linspace(0.0, 4.0, 9)  # a straight fall from 1 to 0
    assert features.cutoff(x, 1 - x / 4, drop, scale=scale) == pytest.approx(place, rel=1e-12)


@pytest.mark.parametrize(("kind", "values", "mean"), [
    ("level", [0.0, 10.0], 10 * math.log10(5.5)), ("level", [-100.0, -100.0], -100.0), ("level", [3000.0, 3010.0], 3000 + 10 * math.log10(5.5)),
    ("angle", [math.radians(179), math.radians(-179)], math.pi), ("angle", [0.1, 0.3], 0.2), ("plain", [1.0, 2.0, 6.0], 3.0)])  # fmt: skip
def test_means_of_levels_angles_and_numbers(kind: str, values: list[float], mean: float) -> None:
    assert statistics.mean_value(np.array(values), kind) == pytest.approx(mean, rel=1e-12)


@pytest.mark.parametrize("width", [1, 3, 6])
def test_smoothing_leaves_a_straight_slope_straight(width: int) -> None:
    x = 100.0 * 2 ** (np.arange(25) / 6)  # a sixth of an octave from point to point
    slope = -6.0 * np.log2(x / 100.0)
    assert shaping.smooth_octaves(x, slope, width) == pytest.approx(slope, abs=1e-12)
    assert shaping.smooth_points(x, slope, 5) == pytest.approx(slope, abs=1e-12)


OPERATIONS = {
    "+": curves.pointwise(np.add, operator.add),
    "*": curves.pointwise(np.multiply, operator.mul),
    "^": curves.raised,
    "-": curves.pointwise(np.subtract, operator.sub),
}


@pytest.mark.parametrize("sign", OPERATIONS)
@pytest.mark.parametrize(("left", "right", "is_never"), [
    (NAN, 1.0, False), (1.0, NAN, False), (NAN, 0.0, False), (0.0, NAN, False), (NAN, NEVER_MEASURED, False), (NEVER_MEASURED, NAN, False),
    (NEVER_MEASURED, 2.0, True), (1.0, NEVER_MEASURED, True), (NEVER_MEASURED, 0.0, True), (NEVER_MEASURED, NEVER_MEASURED, True)])  # fmt: skip
def test_holes(sign: str, left: float, right: float, is_never: bool) -> None:
    made = OPERATIONS[sign](*(ArrayCurve({"x": np.array([1.0])}, np.array([x])) for x in (left, right)))
    assert np.isnan(made.values[0]) and bool(never(made.values)[0]) is is_never
    plain = OPERATIONS[sign](left, right)
    assert math.isnan(plain) and is_never_measured(plain) is is_never
