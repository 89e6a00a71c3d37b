"""Units: how values are written. All symbols that there are, and reading numbers with them."""

from __future__ import annotations

import contextlib
import math
import re
import sys
from decimal import Decimal
from functools import lru_cache

from ibexite.errors import UnitError, nearest
from ibexite.frozen import frozen
from ibexite.units.dimensions import (
    AMPERE,
    BASE_UNITS,
    CELSIUS,
    DECIBEL,
    FULL_SCALE_LEVEL,
    HERTZ,
    KELVIN,
    OHM,
    PLAIN,
    POWER_LEVEL,
    PRESSURE_LEVEL,
    RADIAN,
    SECOND,
    VOLT,
    VOLTAGE_LEVEL,
    WATT,
    Dimension,
    Powers,
    powers_of,
)  # fmt: skip

PREFIXES = {"f": -15, "p": -12, "n": -9, "u": -6, "m": -3, "": 0, "k": 3, "M": 6, "G": 9, "T": 12}


@frozen
class Unit:
    """A way to write a dimension: base value = written value * factor + offset."""

    symbol: str
    dimension: Dimension
    factor: Decimal
    offset: Decimal = Decimal(0)

    def to_base(self, value: Decimal) -> Decimal:
        """The base form of a value written in this unit."""
        return value * self.factor + self.offset

    def from_base(self, value: float) -> float:
        """The number to write in this unit for a base value."""
        return (value - float(self.offset)) / float(self.factor)


@frozen
class Amount:
    """A value in base form, exact, with the unit it was written in."""

    value: Decimal
    unit: Unit

    def __float__(self) -> float:
        return float(self.value)

    @property
    def dimension(self) -> Dimension:
        """What it measures."""
        return self.unit.dimension


# symbol: (powers, factor, prefixes it takes). The order matters for display: the first symbol of a dimension is shown.
LINEAR: dict[str, tuple[Powers, str, str]] = {
    "V": (VOLT.powers, "1", "pnumkMG"), "A": (AMPERE.powers, "1", "fpnumkM"), "W": (WATT.powers, "1", "fpnumkMG"),
    "ohm": (OHM.powers, "1", "numkMGT"), "Hz": (HERTZ.powers, "1", "umkMGT"), "s": (SECOND.powers, "1", "fpnum"),
    "F": (powers_of(m=-2, kg=-1, s=4, A=2), "1", "fpnum"), "H": (powers_of(m=2, kg=1, s=-2, A=-2), "1", "pnum"),
    "S": (powers_of(m=-2, kg=-1, s=3, A=2), "1", "pnum"), "J": (powers_of(m=2, kg=1, s=-2), "1", "pnumkMG"),
    "C": (powers_of(s=1, A=1), "1", "pnum"), "Wb": (powers_of(m=2, kg=1, s=-2, A=-1), "1", "num"),
    "T": (powers_of(kg=1, s=-2, A=-1), "1", "pnum"), "m": (powers_of(m=1), "1", "numk"),
    "g": (powers_of(kg=1), "0.001", "umk"), "K": (KELVIN.powers, "1", "um"),
    "N": (powers_of(m=1, kg=1, s=-2), "1", "umkM"),
    "Pa": (powers_of(m=-1, kg=1, s=-2), "1", "umkMG"), "cd": (powers_of(cd=1), "1", "mk"),
    "rad": (powers_of(rad=1), "1", "um"), "lm": (powers_of(cd=1), "1", "mk"), "lx": (powers_of(m=-2, cd=1), "1", "mk"),
    "VA": (WATT.powers, "1", "mkM"), "var": (WATT.powers, "1", "mkM"),
    "bar": (powers_of(m=-1, kg=1, s=-2), "100000", "m"),
    "Wh": (powers_of(m=2, kg=1, s=-2), "3600", "mkM"), "Ah": (powers_of(s=1, A=1), "3600", "um"),
    "min": (SECOND.powers, "60", ""), "h": (SECOND.powers, "3600", ""), "cm": (powers_of(m=1), "0.01", ""),
    "deg": (powers_of(rad=1), str(math.pi / 180), ""), "%": (PLAIN.powers, "0.01", ""),
    "ppm": (PLAIN.powers, "0.000001", ""),
}  # fmt: skip

# 0 dBu is the voltage that puts 1 mW into 600 ohm: sqrt(0.6) V.
_DBU_IN_DBV = Decimal(repr(10 * math.log10(0.6)))
_SPECIAL_SYMBOLS = {
    CELSIUS: "degC", DECIBEL: "dB", POWER_LEVEL: "dBm", VOLTAGE_LEVEL: "dBV", PRESSURE_LEVEL: "dBSPL",
    FULL_SCALE_LEVEL: "dBFS",
}  # fmt: skip
_SPECIAL: dict[str, tuple[Dimension, Decimal]] = {
    "degC": (CELSIUS, Decimal("273.15")), "dB": (DECIBEL, Decimal(0)),
    "dBm": (POWER_LEVEL, Decimal(0)), "dBW": (POWER_LEVEL, Decimal(30)),
    "dBV": (VOLTAGE_LEVEL, Decimal(0)), "dBu": (VOLTAGE_LEVEL, _DBU_IN_DBV), "dBuV": (VOLTAGE_LEVEL, Decimal(-120)),
    "dBSPL": (PRESSURE_LEVEL, Decimal(0)), "dBFS": (FULL_SCALE_LEVEL, Decimal(0)), "dBc": (DECIBEL, Decimal(0)),
}  # fmt: skip


def _all_units() -> dict[str, Unit]:
    units = {symbol: Unit(symbol, dimension, Decimal(1), offset) for symbol, (dimension, offset) in _SPECIAL.items()}
    for symbol, (powers, factor, prefixes) in LINEAR.items():
        dimension = Dimension("linear", powers)
        for prefix in ("", *prefixes):
            scale = Decimal(factor).scaleb(PREFIXES[prefix])
            units.setdefault(prefix + symbol, Unit(prefix + symbol, dimension, scale))
    return units


UNITS = _all_units()
NO_UNIT = Unit("", PLAIN, Decimal(1))
_SYMBOL_OF: dict[Powers, str] = {}
for _symbol, (_p, _factor, _prefixes) in LINEAR.items():
    if _factor == "1" or _symbol == "g":
        _SYMBOL_OF.setdefault(_p, _symbol)
_PART = re.compile(r"([*/]?)(?:(1)|sqrt\(([A-Za-z]+)\)|([A-Za-z%]+))(?:\^(-?\d+(?:\.\d+)?))?")
_BARE_POWER = re.compile(r"([A-Za-z])(?=-?\d)")
_MOST = Decimal(sys.float_info.max)
_NUMBER = re.compile(r"\s*([+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)(?: ?([^\s\d]\S*)| (1/\S+))?\s*", re.ASCII)


@lru_cache(maxsize=512)
def parse_unit(text: str) -> Unit:
    """The unit written as `text`, such as V, mohm, V/us, V^2/Hz, V/sqrt(Hz), 1/K or ppm/K.

    Raises:
        UnitError: no such unit; names the nearest one. Levels and degC do not go into compound units.

    >>> parse_unit("V/us").factor
    Decimal('1E+6')
    """
    if text in UNITS:
        return UNITS[text]
    powers, factor, at = list(PLAIN.powers), Decimal(1), 0
    while at < len(text):
        part = _PART.match(text, at)
        if part is None or (at > 0) != bool(part[1]) or (part[2] and at > 0):
            raise UnitError(f"there is no unit {text!r}", remedy=_unit_remedy(text))
        at = part.end()
        if part[2]:
            continue  # 1/K
        symbol = part[3] or part[4]
        unit = UNITS.get(symbol)
        if unit is None:
            raise UnitError(f"there is no unit {symbol!r}", remedy=_unit_remedy(symbol))
        if unit.dimension.kind != "linear":
            raise UnitError(f"{symbol} cannot be a part of a compound unit", remedy="Only V, A, Hz and the like can.")
        exponent = Decimal(part[5] or 1) * (-1 if part[1] == "/" else 1) / (2 if part[3] else 1)
        powers = [a + b * float(exponent) for a, b in zip(powers, unit.dimension.powers, strict=True)]
        factor *= unit.factor ** (int(exponent) if exponent == int(exponent) else exponent)
    return Unit(text, Dimension("linear", tuple(powers)), factor)


def _unit_remedy(text: str) -> str:
    powered = _BARE_POWER.sub(r"\1^", text)
    if powered != text:
        with contextlib.suppress(UnitError):
            return f"Powers are written {parse_unit(powered).symbol}."
    folded = {
        "volt": "V",
        "volts": "V",
        "amp": "A",
        "amps": "A",
        "ampere": "A",
        "watt": "W",
        "watts": "W",
        "sec": "s",
        "hz": "Hz",
        "khz": "kHz",
        "mhz": "MHz",
        "ohms": "ohm",
        "kohms": "kohm",
        "c": "degC",
        "celsius": "degC",
        "db": "dB",
        "dbm": "dBm",
        "percent": "%",
        "ma": "mA",
        "mv": "mV",
        "v": "V",
        "a": "A",
        "w": "W",
        "minutes": "min",
        "hours": "h",
        "seconds": "s",
        "usec": "us",
        "msec": "ms",
    }
    near = folded.get(text.lower()) or nearest(text, UNITS)
    return f"Did you mean {near}?" if near else "Units are written as V, mA, kohm, Hz, dBm, degC, %, V/us."


def parse_quantity(text: str) -> Amount:
    """A number with its unit, as written: "12 V", "-40 dBm", "0.5 %", "3". Raises UnitError: it is none, its unit is
    unknown, or it is beyond what a float can hold (IEEE 754 binary64).

    >>> float(parse_quantity("100.12 mohm"))
    0.10012
    """
    match = _NUMBER.fullmatch(text)
    if match is None:
        raise UnitError(f"{text!r} is not a number with a unit", remedy='Write it as "12 V" or "0.5 %".')
    symbol = match[2] or match[3]
    unit = parse_unit(symbol) if symbol else NO_UNIT
    value = unit.to_base(Decimal(match[1]))
    if not is_finite(value):
        raise TooLargeError(text, unit)
    return Amount(value, unit)


class TooLargeError(UnitError):
    """A number beyond what a float can hold; its unit is known all the same."""

    def __init__(self, text: str, unit: Unit) -> None:
        super().__init__(f"{text!r} is too large a number", remedy="Numbers go up to 1.7e308.")
        self.unit = unit


def is_finite(value: Decimal) -> bool:
    """Whether a float can hold it."""
    return abs(value) <= _MOST


def describe(dimension: Dimension) -> str:
    """What a dimension is, in words for a message: "a voltage (V)".

    >>> describe(AMPERE)
    'a current (A)'
    """
    words = {
        PLAIN: "a plain number",
        VOLT: "a voltage (V)",
        AMPERE: "a current (A)",
        WATT: "a power (W)",
        OHM: "a resistance (ohm)",
        SECOND: "a time (s)",
        HERTZ: "a frequency (Hz)",
        CELSIUS: "a temperature (degC)",
        RADIAN: "an angle (rad)",
        KELVIN: "a temperature difference (K)",
        DECIBEL: "a ratio in dB",
        POWER_LEVEL: "a power level (dBm)",
        VOLTAGE_LEVEL: "a voltage level (dBV)",
        PRESSURE_LEVEL: "a sound pressure level (dBSPL)",
        FULL_SCALE_LEVEL: "a level of full scale (dBFS)",
    }
    return words.get(dimension) or f"a quantity in {symbol_of(dimension)}"


def symbol_of(dimension: Dimension) -> str:
    """The symbol of the base form: V, dBm, degC (held in K, shown in degC), kg*m^2/s^2; "" for a plain number."""
    if dimension.kind != "linear":
        return _SPECIAL_SYMBOLS[dimension]
    if dimension.powers in _SYMBOL_OF:
        symbol = _SYMBOL_OF[dimension.powers]
        return "kg" if symbol == "g" else symbol
    return _compound_symbol(dimension.powers) if any(dimension.powers) else ""


def _compound_symbol(powers: Powers) -> str:
    for symbol, (known, factor, _) in LINEAR.items():
        if factor != "1" or sum(map(abs, known)) < 2:
            continue
        for name, other in (("s", SECOND.powers), ("A", AMPERE.powers), ("m", powers_of(m=1)), ("K", KELVIN.powers)):
            if tuple(a - b for a, b in zip(known, other, strict=True)) == powers:
                return f"{symbol}/{name}"
        if tuple(2 * a for a in known) == powers:
            return f"{symbol}^2"
        if tuple(a - b / 2 for a, b in zip(known, HERTZ.powers, strict=True)) == powers:
            return f"{symbol}/sqrt(Hz)"
    for pair in ("Pa/V", "V/Pa", "N/V", "V/N", "A/Pa", "A/N"):  # responses of sources and sensors
        above, below = (LINEAR[symbol][0] for symbol in pair.split("/"))
        if tuple(a - b for a, b in zip(above, below, strict=True)) == powers:
            return pair
    over = [f"{u}^{p:g}" if p != 1 else u for u, p in zip(BASE_UNITS, powers, strict=True) if p > 0]
    under = [f"{u}^{-p:g}" if p != -1 else u for u, p in zip(BASE_UNITS, powers, strict=True) if p < 0]
    return "*".join(over or ["1"]) + "".join("/" + part for part in under)


def base_symbol(dimension: Dimension) -> str:
    """The unit in which base values are stored: as symbol_of, but temperatures in degC are held in K."""
    return "K" if dimension == CELSIUS else symbol_of(dimension)
