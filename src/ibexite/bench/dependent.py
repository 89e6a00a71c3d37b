"""Readings that stand on others: which they need, and what is made of them together.

What they need is read in the same line (with `together` in the same scan), and is not in its result.
"""

from __future__ import annotations

from collections.abc import Callable
from math import nan

from ibexite import units
from ibexite.analysis import thermocouples
from ibexite.bench.conversions import Interpolation
from ibexite.bench.entries import Correction, Junction
from ibexite.bench.query import Dependent, Item
from ibexite.bench.state import BenchState
from ibexite.holes import Bad
from ibexite.instruments.settings import Value
from ibexite.untyped import Measured
from ibexite.verdicts import BAD_READINGS, Reason

HIDDEN = "needed by "  # before the name of a reading that another one needs


class Joining:
    """Of one read line: `items` are those that it was asked for, `whole` has those that they need behind them."""

    def __init__(self, items: list[Item]) -> None:
        self.items, self.whole = items, list(items)
        self._plans: list[tuple[int, Dependent, list[int]]] = []
        for place, item in enumerate(items):
            if item.after is not None:
                needed = range(len(self.whole), len(self.whole) + len(item.after.others))
                self._plans.append((place, item.after, list(needed)))
                self.whole += item.after.others

    def __bool__(self) -> bool:
        return bool(self._plans)

    def join(self, values: list[Measured], bad: list[Bad], before: int) -> list[Measured]:
        """The values of the items, from those of the whole. What is bad of those that they need is told as theirs.

        Args:
            before: how many bad readings had been told before this line.
        """
        told, bad[before:] = bad[before:], []
        hidden = {one.name: one.reason for one in told if one.name.startswith(HIDDEN)}
        bad.extend(one for one in told if one.name not in hidden)
        spoilt = {one.name for one in told}
        for place, plan, needed in self._plans:
            name = self.items[place].name
            why = hidden.get(HIDDEN + name)
            if why is not None and name not in spoilt:
                bad.append(Bad(name, Reason(why.code, f"its cold junction: {why.text}"), ""))
            if why is not None or name in spoilt:
                values[place] = nan
                continue
            values[place] = _made(self.items[place], plan, values[place], [values[i] for i in needed], bad)
        return values[: len(self.items)]


def _made(item: Item, plan: Dependent, value: Measured, others: list[Measured], bad: list[Bad]) -> float:
    result, code = plan.apply(value, *others)
    more = ""
    if plan.damage is not None:
        plan.damage.check(result)
    if not code and plan.believe is not None and not plan.believe[0] <= result <= plan.believe[1]:
        code, more = "unbelievable", f": {units.format_value(result, plan.dimension)}"
    if code:
        bad.append(Bad(item.name, Reason(code, BAD_READINGS[code] + more), f"{value:.9g}"))
        return nan
    return result


def cold_junction(junction: Junction) -> Callable[..., tuple[float, str]]:
    """What makes a temperature of the voltage of a thermocouple and the temperature of its cold junction, in K."""

    def apply(volts: float, temperature: float) -> tuple[float, str]:
        more = thermocouples.voltage(junction.kind, temperature)
        result = thermocouples.temperature(junction.kind, volts + more)
        return result, "" if result == result else "beyond_sensor"

    return apply


def corrected(correction: Correction, bench: BenchState, is_level: bool) -> Callable[..., tuple[float, str]]:
    """What corrects a value at the frequency to which its generator is set at that moment, or at which a sweep is."""
    factor_at = Interpolation(correction.frequencies, correction.factors)
    key = (correction.role, correction.setting)

    def apply(value: float) -> tuple[float, str]:
        frequency: Value | None = bench.state.get(key) if correction.role else bench.at_axes.get(correction.setting)
        if frequency is None or isinstance(frequency, str):
            return nan, "no_frequency"
        factor = factor_at(frequency)
        if factor != factor:
            return nan, "no_correction"
        return (value + factor if is_level else value * factor), ""

    return apply
