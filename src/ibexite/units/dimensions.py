"""Dimensions: what a value measures."""

from __future__ import annotations

from ibexite.frozen import frozen

Powers = tuple[float, ...]
BASE_UNITS = ("m", "kg", "s", "A", "K", "cd", "rad")


@frozen
class Dimension:
    """What a value measures: its kind (linear, point, level, db) and its powers of the base units."""

    kind: str
    powers: Powers

    @property
    def is_plain(self) -> bool:
        """True for a number without unit."""
        return self.kind == "linear" and not any(self.powers)


def powers_of(
    m: float = 0, kg: float = 0, s: float = 0, A: float = 0, K: float = 0, cd: float = 0, rad: float = 0
) -> Powers:
    """The powers of the base units."""
    return (m, kg, s, A, K, cd, rad)


PLAIN = Dimension("linear", powers_of())
VOLT = Dimension("linear", powers_of(m=2, kg=1, s=-3, A=-1))
AMPERE = Dimension("linear", powers_of(A=1))
WATT = Dimension("linear", powers_of(m=2, kg=1, s=-3))
OHM = Dimension("linear", powers_of(m=2, kg=1, s=-3, A=-2))
SECOND = Dimension("linear", powers_of(s=1))
HERTZ = Dimension("linear", powers_of(s=-1))
KELVIN = Dimension("linear", powers_of(K=1))
RADIAN = Dimension("linear", powers_of(rad=1))
CELSIUS = Dimension("point", KELVIN.powers)
DECIBEL = Dimension("db", PLAIN.powers)
POWER_LEVEL = Dimension("level", WATT.powers)
VOLTAGE_LEVEL = Dimension("level", VOLT.powers)
PASCAL = Dimension("linear", powers_of(m=-1, kg=1, s=-2))
PRESSURE_LEVEL = Dimension("level", PASCAL.powers)
FULL_SCALE_LEVEL = Dimension("level", PLAIN.powers)
