"""Rules of dimensions: of x and of the axis follows that of the result. Each is called as it reads in the table."""

from __future__ import annotations

from ibexite import units
from ibexite.errors import UnitError
from ibexite.units import Dimension


def same(x: Dimension, axis: Dimension) -> Dimension:
    return x


def axis(x: Dimension, axis: Dimension) -> Dimension:
    return axis


def plain(x: Dimension, axis: Dimension) -> Dimension:
    return units.PLAIN


def difference(x: Dimension, axis: Dimension) -> Dimension:
    return units.difference(x)


def not_a_level(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind in ("level", "db"):
        raise UnitError(
            "the mean of levels is not the level of the mean", remedy="Write mean_power(x), or mean(linear(x))."
        )
    return x


def not_a_temperature(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind == "point":
        raise UnitError(
            f"this is {units.describe(x)}, which has no zero of its own",
            remedy="Take a difference first; that is in K.",
        )
    return not_a_level(x, axis)


def only_level(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind not in ("level", "db"):
        raise UnitError(f"this is {units.describe(x)}, not a level in dB", remedy="Write mean(x).")
    return x


def to_decibel(x: Dimension, axis: Dimension) -> Dimension:
    if not x.is_plain:
        raise UnitError(f"a ratio is a plain number, this is {units.describe(x)}", remedy="Divide it by a reference.")
    return units.DECIBEL


def from_decibel(x: Dimension, axis: Dimension) -> Dimension:
    if x != units.DECIBEL:
        raise UnitError(f"this is {units.describe(x)}, not a ratio in dB")
    return units.PLAIN


def must_be_plain(x: Dimension, axis: Dimension) -> Dimension:
    if not x.is_plain:
        raise UnitError(f"it takes a plain number, this is {units.describe(x)}", remedy="Divide it by a reference.")
    return units.PLAIN


def of_angle(x: Dimension, axis: Dimension) -> Dimension:
    if x != units.RADIAN and not x.is_plain:
        raise UnitError(f"it takes an angle, this is {units.describe(x)}")
    return units.PLAIN


def angle(x: Dimension, axis: Dimension) -> Dimension:
    return units.RADIAN


LEVEL_OF = {units.WATT: units.POWER_LEVEL, units.VOLT: units.VOLTAGE_LEVEL, units.PASCAL: units.PRESSURE_LEVEL}
LEVEL_NAMES = {units.WATT: "power", units.VOLT: "voltage", units.PASCAL: "pressure"}


def to_level(x: Dimension, axis: Dimension) -> Dimension:
    if x not in LEVEL_OF:
        raise UnitError(
            f"there is no level of {units.describe(x)}",
            remedy="It takes a power (W), a voltage (V) or a pressure (Pa).",
        )
    return LEVEL_OF[x]


def to_linear(x: Dimension, axis: Dimension) -> Dimension:
    linear = {level: linear for linear, level in LEVEL_OF.items()}
    if x not in linear:
        raise UnitError(f"{units.describe(x)} is not a level of a unit", remedy="It takes dBm, dBV or dBSPL.")
    return linear[x]


def to_full_scale(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind != "linear":
        raise UnitError(f"this is {units.describe(x)}, not a value over a full scale")
    return units.FULL_SCALE_LEVEL


def slope(x: Dimension, axis: Dimension) -> Dimension:
    return units.divide(units.difference(x), units.difference(axis))


def area(x: Dimension, axis: Dimension) -> Dimension:
    return units.multiply(x, units.difference(axis))


def size(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind in ("level", "point"):
        raise UnitError(
            f"this is {units.describe(x)}, which has no zero of its own",
            remedy=f"Take a difference first; that is in {units.symbol_of(units.difference(x))}.",
        )
    return x


def root(x: Dimension, axis: Dimension) -> Dimension:
    return units.power(x, 0.5)


def compressed(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind != "level" or axis.kind != "level":
        raise UnitError("compression takes a level over a level", remedy="Sweep and measure in dBm or dBV.")
    return x


def conductance(x: Dimension, axis: Dimension) -> Dimension:
    return units.divide(units.PLAIN, x)


def ratio_to_axis(x: Dimension, axis: Dimension) -> Dimension:
    """x minus a value of the axis."""
    return units.subtract(x, axis)
