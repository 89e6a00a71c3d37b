"""The functions that formulas may use: one table, from which checker, compiler, help and reference are made.

No NumPy here: the checker must start quickly. The computing itself is in ibexite.analysis.
"""

from __future__ import annotations

from ibexite import units
from ibexite.functions import of_values, of_waveforms
from ibexite.functions.function import AXES, Function
from ibexite.functions.rules import LEVEL_NAMES, to_linear
from ibexite.units import Dimension

__all__ = ["AXES", "FUNCTIONS", "IN_WAIT", "Function", "function_named", "target_of"]

FUNCTIONS = {f.name: f for f in (*of_values.ROWS, *of_waveforms.ROWS)}
IN_WAIT = {"drift": "drift(x)"}  # only in the condition of `wait reading`: change per second over the last readings
_OF_TWO = {"min": "smaller", "max": "larger"}


def function_named(name: str, arguments: int, parts: tuple[int, ...] = ()) -> Function | None:
    """The function that a call with so many arguments means, with parts of stimuli in these places; None where there is
    none. Where no form of it is called like that, its first form."""
    found = FUNCTIONS.get(_OF_TWO.get(name, name) if arguments == 2 else name)
    if found is None:
        return None
    return next((form for form in found.forms if form.takes(arguments, parts)), found)


def target_of(function: Function, x: Dimension, flags: frozenset[str], variant: str = "") -> str:
    """The function of ibexite.analysis that computes it, "module.function"; `variant` is what its arguments say."""
    if function.name == "level":
        return f"pointwise.level_of_{LEVEL_NAMES[x]}"
    if function.name == "level_of":
        return f"waves.level_of_{LEVEL_NAMES[x]}"
    if function.name == "linear":
        return f"pointwise.{LEVEL_NAMES[to_linear(x, x)]}_of_level"
    if function.name == "crossing" and "all" in flags:
        return "catalog.crossings"
    if function.name == "mean" and x == units.RADIAN:
        return "statistics.mean_angle"
    if function.name == "smooth" and variant != "points":
        return "shaping.smooth_octaves"
    return function.target
