"""What arithmetic makes of dimensions."""

from __future__ import annotations

from ibexite.errors import UnitError
from ibexite.units.dimensions import CELSIUS, DECIBEL, KELVIN, PLAIN, Dimension
from ibexite.units.symbols import describe


def add(a: Dimension, b: Dimension) -> Dimension:
    """The dimension of a + b. Raises UnitError: dBm + dBm, degC + degC, V + A."""
    for x, y in ((a, b), (b, a)):
        if x.kind == "level" and y.kind == "db":
            return x
        if x == CELSIUS and y == KELVIN:
            return x
    if a.kind in ("level", "point") and a == b:
        raise UnitError(
            f"{describe(a)} and {describe(b)} cannot be added",
            remedy="A ratio in dB may be added to a level, a difference in K to a temperature.",
        )
    return _same(a, b, "added")


def subtract(a: Dimension, b: Dimension) -> Dimension:
    """The dimension of a - b: dBm - dBm is dB, degC - degC is K, dBm - dB is dBm."""
    if a == b and a.kind == "level":
        return DECIBEL
    if a == b == CELSIUS:
        return KELVIN
    if (a.kind == "level" and b.kind == "db") or (a == CELSIUS and b == KELVIN):
        return a
    return _same(a, b, "subtracted")


def _same(a: Dimension, b: Dimension, deed: str) -> Dimension:
    if a != b:
        raise UnitError(f"{describe(a)} and {describe(b)} cannot be {deed}")
    return a


def multiply(a: Dimension, b: Dimension) -> Dimension:
    """The dimension of a * b. A ratio in dB may be multiplied by a plain number; a level or degC never."""
    for x, y in ((a, b), (b, a)):
        if x.kind == "db" and y.is_plain:
            return x
    return _combine(a, b, 1, "multiplied")


def divide(a: Dimension, b: Dimension) -> Dimension:
    """The dimension of a / b: V / V is a plain number, dB / dB too."""
    if a.kind == "db" and b.is_plain:
        return a
    if a.kind == b.kind == "db":
        return PLAIN
    return _combine(a, b, -1, "divided")


def _combine(a: Dimension, b: Dimension, sign: int, deed: str) -> Dimension:
    for x in (a, b):
        if x.kind != "linear":
            raise UnitError(
                f"{describe(x)} cannot be {deed}",
                remedy="A level is not scaled; add or subtract a ratio in dB."
                if x.kind in ("level", "db")
                else "Take a difference of temperatures first; that is in K.",
            )
    return Dimension("linear", tuple(p + sign * q for p, q in zip(a.powers, b.powers, strict=True)))


def power(a: Dimension, exponent: float) -> Dimension:
    """The dimension of a ^ exponent (a number known before the run unless a is plain)."""
    if a.kind != "linear":
        raise UnitError(f"{describe(a)} cannot be raised to a power")
    return Dimension("linear", tuple(p * exponent for p in a.powers))


def negate(a: Dimension) -> Dimension:
    """The dimension of -a. Raises UnitError: a level or a temperature in degC has no negative."""
    if a.kind in ("level", "point"):
        raise UnitError(f"{describe(a)} cannot be negated")
    return a


def difference(a: Dimension) -> Dimension:
    """The dimension of a tolerance of a: dB for a level, K for degC, else the same."""
    return DECIBEL if a.kind == "level" else KELVIN if a == CELSIUS else a
