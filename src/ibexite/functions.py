"""The functions that formulas may use: one table, from which the checker, the compiler and the reference are made.

No NumPy here: the checker must start quickly. The computing itself is in ibexite.analysis.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ibexite import units
from ibexite.errors import UnitError
from ibexite.units import Dimension


@dataclass(frozen=True, slots=True)
class Function:
    """One function. `consumes` is true when it takes an axis away (max, mean, at)."""

    name: str
    usage: str
    help: str
    result: Callable[[Dimension], Dimension]
    consumes: bool = False
    target: str = ""  # name in ibexite.analysis.curve


def _same(x: Dimension) -> Dimension:
    return x


def _not_a_level(x: Dimension) -> Dimension:
    if x.kind in ("level", "db"):
        raise UnitError(
            "the mean of levels is not the level of the mean", remedy="Compute it from the linear quantity."
        )
    return x


def _to_decibel(x: Dimension) -> Dimension:
    if not x.is_plain:
        raise UnitError(f"a ratio is a plain number, this is {units.describe(x)}", remedy="Divide it by a reference.")
    return units.DECIBEL


FUNCTIONS = {
    f.name: f
    for f in (
        Function("max", "max(x along axis)", "largest value; holes are left out", _same, True, "largest"),
        Function("min", "min(x along axis)", "smallest value; holes are left out", _same, True, "smallest"),
        Function("mean", "mean(x along axis)", "arithmetic mean; holes are left out", _not_a_level, True, "mean"),
        Function("at", "at(x, axis = value)", "value at a point of an axis, interpolated between neighbours", _same,
                 True, "at"),
        Function("abs", "abs(x)", "size without sign", lambda x: x if x.kind != "level" else units.negate(x),
                 target="absolute"),
        Function("sqrt", "sqrt(x)", "square root; of V^2 it is V", lambda x: units.power(x, 0.5), target="root"),
        Function("db_amplitude", "db_amplitude(ratio)", "20 log10 of a ratio of voltages, currents or pressures",
                 _to_decibel, target="db_amplitude"),
        Function("db_power", "db_power(ratio)", "10 log10 of a ratio of powers", _to_decibel, target="db_power"),
    )
}  # fmt: skip
