"""Quantities, units, levels: what is written is what is meant."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import units
from ibexite.errors import UnitError
from ibexite.units import UNITS, format_value, parse_quantity, parse_unit


def test_0_dbu_is_the_voltage_of_a_milliwatt_in_600_ohm() -> None:
    volts = 10 ** (float(parse_quantity("0 dBu")) / 20)
    assert volts**2 / 600 == pytest.approx(1e-3, rel=1e-12)


@pytest.mark.parametrize(("text", "remedy"), [
    ("5 m3", "Powers are written m^3."), ("2 V/s2", "Powers are written V/s^2."),
    ("12 Volt", "Did you mean V?"), ("5 khz", "Did you mean kHz?"), ("3 Ohms", "Did you mean ohm?"),
    ("1 dBm/Hz", "Only V, A, Hz"), ("", "Write it as"), ("twelve V", "Write it as"), ("5 celsius", "degC")])  # fmt: skip
def test_wrong_units_name_what_is_meant(text: str, remedy: str) -> None:
    with pytest.raises(UnitError) as error:
        parse_quantity(text)
    assert remedy in error.value.remedy


V, A, W, OHM = units.VOLT, units.AMPERE, units.WATT, units.OHM
DBM, DBV, DB, C, K, ONE = (units.POWER_LEVEL, units.VOLTAGE_LEVEL, units.DECIBEL, units.CELSIUS, units.KELVIN,
                           units.PLAIN)  # fmt: skip


@pytest.mark.parametrize(("operation", "a", "b", "result"), [
    (units.multiply, V, A, W), (units.divide, V, A, OHM), (units.divide, V, V, ONE), (units.add, V, V, V),
    (units.subtract, DBM, DBM, DB), (units.add, DBM, DB, DBM), (units.add, DB, DBM, DBM), (units.subtract, DBM, DB, DBM),
    (units.add, DB, DB, DB), (units.multiply, DB, ONE, DB), (units.divide, DB, DB, ONE),
    (units.subtract, C, C, K), (units.add, C, K, C), (units.add, K, C, C), (units.subtract, C, K, C),
    (units.divide, units.power(V, 2), OHM, W), (units.multiply, ONE, V, V)])  # fmt: skip
def test_arithmetic_follows_the_units(operation, a, b, result) -> None:
    assert operation(a, b) == result


@pytest.mark.parametrize(("operation", "a", "b"), [
    (units.add, DBM, DBM), (units.add, C, C), (units.add, V, A), (units.subtract, DB, DBM), (units.subtract, DBM, DBV),
    (units.multiply, DBM, ONE), (units.multiply, C, ONE), (units.divide, DBM, DBM), (units.subtract, K, C)])  # fmt: skip
def test_what_makes_no_sense_is_refused(operation, a, b) -> None:
    with pytest.raises(UnitError):
        operation(a, b)


@pytest.mark.parametrize("dimension", [DBM, C])
def test_a_level_is_never_negated(dimension) -> None:
    with pytest.raises(UnitError):
        units.negate(dimension)


@pytest.mark.parametrize(("value", "dimension", "shown", "text"), [
    (0.0125, A, None, "12.5 mA"), (0.0, V, None, "0 V"), (1e6, V, "kV", "1000 kV"), (298.15, C, None, "25 degC"),
    (0.8125, ONE, "%", "81.25 %"), (-40.0, DBM, None, "-40 dBm"), (2e6, units.divide(V, units.SECOND), "V/us", "2 V/us"),
    (math.nan, V, None, "- V"), (999.9996, V, None, "1 kV"), (0.9999999, V, None, "1 V"), (-0.0, units.OHM, None, "0 ohm"), (-0.0, V, "mV", "0 mV"),
    (0.00099999999, A, None, "1 mA"), (0.99999, V, None, "999.99 mV"), (4.8, V, None, "4.8 V"), (3.3e-13, A, None, "330 fA")])  # fmt: skip
def test_values_are_shown_as_people_write_them(value, dimension, shown, text) -> None:
    assert format_value(value, dimension, shown=shown) == text


@given(st.sampled_from(sorted(UNITS)), st.decimals(-9999, 9999, places=3))
def test_what_is_shown_reads_back_as_the_same_value(symbol: str, number) -> None:
    quantity = parse_quantity(f"{number} {symbol}")
    shown = format_value(float(quantity), quantity.dimension, shown=symbol, digits=12)
    assert float(parse_quantity(shown)) == pytest.approx(float(quantity), rel=1e-9, abs=1e-15)


@given(st.sampled_from([u for u in UNITS.values() if u.dimension.kind == "linear"]),
       st.sampled_from([u for u in UNITS.values() if u.dimension.kind == "linear"]))  # fmt: skip
def test_compound_units_agree_with_arithmetic(a, b) -> None:
    assert parse_unit(f"{a.symbol}*{b.symbol}").dimension == units.multiply(a.dimension, b.dimension)
    assert parse_unit(f"{a.symbol}/{b.symbol}").dimension == units.divide(a.dimension, b.dimension)
