"""Temperature sensors against the tables of the standards, which print them with these digits."""

import math

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from ibexite.analysis import thermocouples, thermometers

# IEC 60584-1:2013, tables of the reference functions: mV at degC, the other junction at 0 degC.
PUBLISHED = {
    "K": {-270: -6.458, -200: -5.891, -100: -3.554, -50: -1.889, -10: -0.392, 0: 0, 10: 0.397, 25: 1.000, 50: 2.023, 100: 4.096, 150: 6.138, 200: 8.138, 300: 12.209, 400: 16.397,
          500: 20.644, 600: 24.905, 700: 29.129, 800: 33.275, 900: 37.326, 1000: 41.276, 1100: 45.119, 1200: 48.838, 1300: 52.410, 1372: 54.886},
    "J": {-210: -8.095, -200: -7.890, -100: -4.633, -50: -2.431, 0: 0, 25: 1.277, 50: 2.585, 100: 5.269, 150: 8.010, 200: 10.779, 250: 13.555, 300: 16.327, 400: 21.848, 500: 27.393,
          600: 33.102, 700: 39.132, 760: 42.919, 800: 45.494, 900: 51.877, 1000: 57.953, 1100: 63.792, 1200: 69.553},
    "T": {-270: -6.258, -200: -5.603, -150: -4.648, -100: -3.379, -50: -1.819, -25: -0.940, 0: 0, 10: 0.391, 20: 0.790, 25: 0.992, 30: 1.196, 40: 1.612, 50: 2.036, 60: 2.468,
          70: 2.909, 80: 3.358, 90: 3.814, 100: 4.279, 150: 6.704, 200: 9.288, 250: 12.013, 300: 14.862, 350: 17.819, 400: 20.872},
    "E": {-270: -9.835, -200: -8.825, -100: -5.237, -50: -2.787, 0: 0, 25: 1.495, 50: 3.048, 100: 6.319, 150: 9.789, 200: 13.421, 250: 17.181, 300: 21.036, 350: 24.964, 400: 28.946,
          450: 32.965, 500: 37.005, 600: 45.093, 700: 53.112, 800: 61.017, 900: 68.787, 1000: 76.373},
    "N": {-270: -4.345, -200: -3.990, -100: -2.407, -50: -1.269, 0: 0, 25: 0.659, 50: 1.340, 100: 2.774, 150: 4.302, 200: 5.913, 250: 7.597, 300: 9.341, 400: 12.974, 500: 16.748,
          600: 20.613, 700: 24.527, 800: 28.455, 900: 32.371, 1000: 36.256, 1100: 40.087, 1200: 43.846, 1300: 47.513},
    "R": {-50: -0.226, 0: 0, 50: 0.296, 100: 0.647, 150: 1.041, 200: 1.469, 250: 1.923, 300: 2.401, 400: 3.408, 500: 4.471, 600: 5.583, 700: 6.743, 800: 7.950, 900: 9.205,
          1000: 10.506, 1100: 11.850, 1200: 13.228, 1300: 14.629, 1400: 16.040, 1500: 17.451, 1600: 18.849, 1700: 20.222, 1768: 21.101},
    "S": {-50: -0.236, 0: 0, 50: 0.299, 100: 0.646, 150: 1.029, 200: 1.441, 250: 1.874, 300: 2.323, 400: 3.259, 500: 4.233, 600: 5.239, 700: 6.275, 800: 7.345, 900: 8.449,
          1000: 9.587, 1100: 10.757, 1200: 11.951, 1300: 13.159, 1400: 14.373, 1500: 15.582, 1600: 16.777, 1700: 17.947, 1768: 18.693},
    "B": {0: 0, 50: 0.002, 100: 0.033, 150: 0.092, 200: 0.178, 250: 0.291, 300: 0.431, 350: 0.596, 400: 0.787, 450: 1.002, 500: 1.242, 600: 1.792, 700: 2.431, 800: 3.154, 900: 3.957,
          1000: 4.834, 1100: 5.780, 1200: 6.786, 1300: 7.848, 1400: 8.956, 1500: 10.099, 1600: 11.263, 1700: 12.433, 1800: 13.591, 1820: 13.820},
}  # fmt: skip
# IEC 60751:2008, table 1: ohm at degC, for 100 ohm at 0 degC.
PLATINUM = {-200: 18.52, -150: 39.72, -100: 60.26, -50: 80.31, -20: 92.16, 0: 100.00, 20: 107.79, 50: 119.40, 100: 138.51, 150: 157.33, 200: 175.86, 250: 194.10, 300: 212.05,
            350: 229.72, 400: 247.09, 450: 264.18, 500: 280.98, 550: 297.49, 600: 313.71, 650: 329.64, 700: 345.28, 750: 360.64, 800: 375.70, 850: 390.48}  # fmt: skip


@pytest.mark.parametrize("kind", thermocouples.TYPES)
def test_thermocouples_are_those_of_the_standard(kind: str) -> None:
    assert len(PUBLISHED[kind]) >= 20
    for celsius, millivolts in PUBLISHED[kind].items():
        assert thermocouples.voltage(kind, celsius + 273.15) * 1000 == pytest.approx(millivolts, abs=0.00051), celsius
    pieces = thermocouples.TYPES[kind]
    for lower, upper in zip(pieces, pieces[1:], strict=False):
        below, above = (thermocouples._millivolts(kind, piece, lower.high) for piece in (lower, upper))
        assert below == pytest.approx(above, abs=1e-6), "where two pieces meet there is no step"


@given(st.sampled_from(sorted(thermocouples.TYPES)), st.floats(0, 1))
@example("K", 2.220446049250313e-16)
def test_the_way_back_ends_where_it_began(kind: str, share: float) -> None:
    low, high = thermocouples.extent(kind)
    low = max(low, thermocouples.RISES_FROM.get(kind, -300.0) + 273.15)
    temperature = low + share * (high - low)
    assert thermocouples.temperature(kind, thermocouples.voltage(kind, temperature)) == pytest.approx(temperature, abs=1e-4)


@pytest.mark.parametrize("kind", thermocouples.TYPES)
def test_beyond_its_range_a_thermocouple_tells_nothing(kind: str) -> None:
    low, high = thermocouples.extent(kind)
    assert math.isnan(thermocouples.voltage(kind, low - 0.01)) and math.isnan(thermocouples.voltage(kind, high + 0.01))
    assert math.isnan(thermocouples.temperature(kind, thermocouples.voltage(kind, high) + 1e-6))
    assert math.isnan(thermocouples.temperature(kind, -0.02)) and math.isnan(thermocouples.temperature(kind, math.nan))
    if kind == "B":
        assert math.isnan(thermocouples.temperature("B", 0.0)), "which of two temperatures it is, nobody knows"


def test_platinum_is_that_of_the_standard() -> None:
    for celsius, ohms in PLATINUM.items():
        assert thermometers.platinum_resistance(celsius + 273.15) == pytest.approx(ohms, abs=0.0051), celsius
        if celsius not in (-200, 850):  # what is printed is rounded, beyond the range perhaps
            assert thermometers.platinum_temperature(ohms) - 273.15 == pytest.approx(celsius, abs=0.0051 / 0.29), celsius
    assert thermometers.platinum_resistance(373.15, 1000.0) == pytest.approx(1385.055)
    for ohms in (18.51, 390.5, 0.0, -5.0, 1e6, math.nan):
        assert math.isnan(thermometers.platinum_temperature(ohms)), ohms
    assert math.isnan(thermometers.platinum_resistance(73.0)) and math.isnan(thermometers.platinum_resistance(1124.0))


@given(st.floats(73.15, 1123.15))
def test_platinum_is_solved_exactly_on_both_branches(temperature: float) -> None:
    assert thermometers.platinum_temperature(thermometers.platinum_resistance(temperature)) == pytest.approx(temperature, abs=1e-9)


# Three points that a thermistor of 10 kohm was fitted through, in kelvin and ohm; the curve must pass through them.
COLD, ROOM, WARM = (273.15, 32650.8), (298.15, 10000.0), (343.15, 1751.6)


def fitted() -> tuple[float, float, float]:
    """The coefficients through three points, by the formulas of the paper's third section."""
    (t1, r1), (t2, r2), (t3, r3) = COLD, ROOM, WARM
    l1, l2, l3 = (math.log(r) for r in (r1, r2, r3))
    y1, y2, y3 = 1 / t1, 1 / t2, 1 / t3
    g2, g3 = (y2 - y1) / (l2 - l1), (y3 - y1) / (l3 - l1)
    c = (g3 - g2) / (l3 - l2) / (l1 + l2 + l3)
    b = g2 - c * (l1 * l1 + l1 * l2 + l2 * l2)
    return y1 - l1 * (b + l1 * l1 * c), b, c


# A 10 kohm thermistor of the common material, ohm at degC as it is tabulated with five digits.
TABULATED = {-40: 336_098, -30: 176_974, -20: 97_078, -10: 55_329, 0: 32_650, 5: 25_391, 10: 19_900, 15: 15_712, 20: 12_492, 25: 10_000, 30: 8_057, 35: 6_531, 40: 5_326, 45: 4_368,
             50: 3_602, 60: 2_488, 70: 1_752, 80: 1_258, 90: 918.3, 100: 680.0}  # fmt: skip


def test_a_thermistor_follows_its_tabulated_curve() -> None:
    coefficients = fitted()
    for temperature, ohms in (COLD, ROOM, WARM):
        assert thermometers.steinhart_temperature(ohms, *coefficients) == pytest.approx(temperature, abs=1e-9)
    for celsius, ohms in TABULATED.items():
        found = thermometers.steinhart_temperature(ohms, *coefficients) - 273.15
        assert found == pytest.approx(celsius, abs=0.02 if 0 <= celsius <= 70 else 0.2), celsius


@given(st.floats(200, 420))
def test_thermistors_are_solved_both_ways(temperature: float) -> None:
    ohms = thermometers.steinhart_resistance(temperature, *fitted())
    assert thermometers.steinhart_temperature(ohms, *fitted()) == pytest.approx(temperature, abs=1e-8)
    assert thermometers.beta_temperature(thermometers.beta_resistance(temperature, 1e4, 3950.0), 1e4, 3950.0) == pytest.approx(temperature, abs=1e-8)


def test_what_is_no_resistance_gives_no_temperature() -> None:
    for ohms in (0.0, -1.0, math.nan):
        assert math.isnan(thermometers.beta_temperature(ohms, 1e4, 3950.0)) and math.isnan(thermometers.steinhart_temperature(ohms, 1e-3, 2e-4, 1e-7))
    for kelvin in (0.0, -5.0):
        assert math.isnan(thermometers.beta_resistance(kelvin, 1e4, 3950.0)) and math.isnan(thermometers.steinhart_resistance(kelvin, 1e-3, 2e-4, 1e-7))
