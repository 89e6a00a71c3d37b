"""How values are shown to people: a suitable prefix, so many digits."""

from __future__ import annotations

import math
from decimal import Decimal

from ibexite.units.dimensions import Dimension
from ibexite.units.symbols import LINEAR, NO_UNIT, UNITS, Unit, parse_unit, symbol_of

_TINY = 1e-12  # what a factor such as 1e-6 is off as a float


def display_unit(value: float, dimension: Dimension, shown: str | None = None) -> Unit:
    """The unit to show a value in: the one asked for, else the base symbol with the prefix that suits the value."""
    if shown:
        return parse_unit(shown)
    if dimension.kind != "linear" or dimension.is_plain:
        symbol = symbol_of(dimension)
        return UNITS.get(symbol, NO_UNIT)
    symbol = symbol_of(dimension)
    bare = "g" if symbol == "kg" else symbol
    if bare not in LINEAR:
        return Unit(symbol, dimension, Decimal(1))
    size = abs(value) if math.isfinite(value) else 0.0
    best = UNITS[symbol]
    if size == 0:
        return best
    for prefix in LINEAR[bare][2]:
        unit = UNITS[prefix + bare]
        if _suits(size / float(unit.factor)) and not _suits(size / float(best.factor)):
            best = unit
    return best


def _suits(number: float) -> bool:
    return 1 - _TINY <= number < 1000 * (1 - _TINY)


def plain_number(value: float, digits: int = 6) -> str:
    """A number with so many significant digits, without exponent where it can be avoided, no superfluous zeros.

    >>> plain_number(0.30000000000000004), plain_number(123456789.0, 9), plain_number(-2e-7), plain_number(-0.0)
    ('0.3', '123456789', '-2e-7', '0')
    """
    if not math.isfinite(value):
        return "-" if math.isnan(value) else str(value)
    if value == 0:
        return "0"
    value = _rounded(value, digits)
    if 1e-5 <= abs(value) < 1e9:
        places = max(0, digits - 1 - math.floor(math.log10(abs(value))))
        text = f"{value:.{places}f}"
        return (text.rstrip("0").rstrip(".") if "." in text else text) or "0"
    mantissa, _, exponent = f"{value:.{digits - 1}e}".partition("e")
    mantissa = mantissa.rstrip("0").rstrip(".") if "." in mantissa else mantissa
    return f"{mantissa}e{int(exponent)}"


def format_value(value: float, dimension: Dimension, *, shown: str | None = None, digits: int = 6) -> str:
    """A base value with a unit, for people.

    >>> from ibexite.units import AMPERE, CELSIUS, PLAIN
    >>> format_value(0.0125, AMPERE), format_value(304.15, CELSIUS), format_value(0.81, PLAIN, shown="%")
    ('12.5 mA', '31 degC', '81 %')
    >>> [format_value(10.0**power, AMPERE) for power in (-12, -9, -6, -3, 3)]
    ['1 pA', '1 nA', '1 uA', '1 mA', '1 kA']
    """
    unit = display_unit(_rounded(value, digits), dimension, shown)
    return f"{plain_number(unit.from_base(value), digits)} {unit.symbol}".rstrip()


def _rounded(value: float, digits: int) -> float:
    """A value as it will be seen: 0.9999999 V is 1 V with six digits, not 1000 mV."""
    return float(f"{value:.{digits}g}") if math.isfinite(value) else value


def unit_for(*values: float, dimension: Dimension, shown: str | None = None) -> Unit:
    """One unit that suits several values together (the largest decides), for a row or an axis."""
    finite = [abs(v) for v in values if math.isfinite(v)]
    return display_unit(max(finite, default=0.0), dimension, shown)
