"""Quantities, prefixes, dimensions and levels. Knows nothing of the rest of the program.

Inside the program a value is a plain float in *base form*, and what it means is its Dimension:
  linear   SI base units (V, A, W, s, ...); plain numbers, % and ppm have no dimension
  point    a temperature in degC, held in kelvin; the difference of two is a linear K
  level    dBm and dBW held as dBm; dBV, dBu and dBuV held as dBV; dBSPL (of 20 uPa); dBFS (of full scale)
  db       a difference of levels, in dB or, against a carrier, dBc
So sums and comparisons of base forms are plain float arithmetic: units are looked at once, before the run.
"""

from ibexite.units.algebra import add, difference, divide, multiply, negate, power, subtract
from ibexite.units.dimensions import (
    AMPERE,
    CELSIUS,
    DECIBEL,
    FULL_SCALE_LEVEL,
    HERTZ,
    KELVIN,
    OHM,
    PASCAL,
    PLAIN,
    POWER_LEVEL,
    PRESSURE_LEVEL,
    RADIAN,
    SECOND,
    VOLT,
    VOLTAGE_LEVEL,
    WATT,
    Dimension,
)
from ibexite.units.showing import display_unit, format_value, plain_number, unit_for
from ibexite.units.symbols import (
    NO_UNIT,
    PREFIXES,
    UNITS,
    Amount,
    TooLargeError,
    Unit,
    base_symbol,
    describe,
    is_finite,
    parse_quantity,
    parse_unit,
    symbol_of,
)

__all__ = [
    "AMPERE", "CELSIUS", "DECIBEL", "FULL_SCALE_LEVEL", "HERTZ", "KELVIN", "NO_UNIT", "OHM", "PASCAL", "PLAIN",
    "POWER_LEVEL", "PREFIXES", "PRESSURE_LEVEL", "RADIAN",
    "SECOND", "UNITS", "VOLT", "VOLTAGE_LEVEL", "WATT", "Amount", "Dimension", "TooLargeError", "Unit", "add",
    "base_symbol", "describe", "difference", "display_unit", "divide", "format_value", "is_finite", "multiply",
    "negate", "parse_quantity", "parse_unit", "plain_number", "power", "subtract", "symbol_of", "unit_for",
]  # fmt: skip
