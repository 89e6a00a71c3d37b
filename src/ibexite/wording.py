"""How judged values are written: one unit and one number of decimals for value, limits and margin, and enough digits
to see why a value passed or failed."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from ibexite import units
from ibexite.units import Unit

MOST_DECIMALS = 25


@dataclass(frozen=True, slots=True)
class JudgedText:
    """A result in words. Empty where there is nothing to say; numbers without unit, which is in `unit`."""

    value: str
    low: str
    high: str
    margin: str
    unit: str
    demand: str = ""  # what was demanded of a value that is no number: is yes, matches "v2.*"
    percent: str = ""  # the margin in % of half the tolerance, or of a single limit

    @property
    def limits(self) -> str:
        """Both limits with the unit: "17 to 46 mA", ">= 79 %"; or what was demanded."""
        if self.demand:
            return self.demand
        if self.low and self.high:
            return f"{self.low} to {self.high} {self.unit}".rstrip()
        one = f">= {self.low}" if self.low else f"<= {self.high}" if self.high else ""
        return f"{one} {self.unit}".rstrip() if one else ""

    @property
    def value_with_unit(self) -> str:
        """The value with its unit, "" if there is none."""
        return f"{self.value} {self.unit}".rstrip() if self.value else ""

    @property
    def margin_with_unit(self) -> str:
        """The margin with its sign and unit."""
        unit = {"degC": "K"}.get(self.unit, "dB" if self.unit.startswith("dB") else self.unit)
        return f"{self.margin} {unit}".rstrip() if self.margin else ""


def result_unit(result: Mapping[str, Any]) -> Unit:
    """The unit in which a result is shown; `result` has value, low, high, unit, shown."""
    numbers = [x for x in (result["value"], result["low"], result["high"]) if x is not None]
    return units.unit_for(*numbers, dimension=_dimension(result), shown=result["shown"] or None)


def _dimension(entry: Mapping[str, Any]) -> units.Dimension:
    if entry["shown"]:
        return units.parse_unit(entry["shown"]).dimension
    return units.parse_unit(entry["unit"]).dimension if entry["unit"] else units.PLAIN


def percent_of_tolerance(margin: float | None, low: float | None, high: float | None) -> float | None:
    """A margin in per cent of half the tolerance; with one limit only, of its distance from zero. None if there is
    none.

    >>> percent_of_tolerance(0.5, 8.0, 10.0), percent_of_tolerance(0.5, None, 5.0)
    (50.0, 10.0)
    """
    if margin is None or (low is None and high is None):
        return None
    half = (high - low) / 2 if low is not None and high is not None else abs(low if low is not None else high or 0.0)
    return 100 * margin / half if half else None


def judged_text(result: Mapping[str, Any]) -> JudgedText:
    """The words for a result (an event Judged as a mapping, or a stored row)."""
    if result.get("kind", "quantity") != "quantity":
        return JudgedText(str(result["said"]), "", "", "", "", str(result["demand"]))
    unit = result_unit(result)
    value, low, high = (
        None if x is None else unit.from_base(x) for x in (result["value"], result["low"], result["high"])
    )
    margin = None if result["margin"] is None else result["margin"] / float(unit.factor)
    places = _decimals(value, low, high, margin)
    margin_places = places if margin is None or not margin or abs(margin) >= 10.0**-places else places + 3

    def text(x: float | None, sign: str = "") -> str:
        return "" if x is None else f"{x:{sign}.{places}f}"

    share = percent_of_tolerance(result["margin"], result["low"], result["high"])
    said = str(result.get("said", ""))
    return JudgedText(
        said.removesuffix(" " + unit.symbol) if said else text(value),
        text(low),
        text(high),
        "" if margin is None else f"{margin:+.{margin_places}f}",
        unit.symbol,
        percent="" if share is None else _percent_text(share, low is not None and high is not None),
    )


def _written_decimals(limit: float) -> int:
    """The decimals of a limit that somebody wrote; one that was computed has as many as it happens to have: 0 then."""
    text = units.plain_number(limit, 9)
    is_written = abs(limit) > 1e-4 and len(text.replace(".", "").replace("-", "").strip("0")) <= 6
    return len(text.partition(".")[2]) if is_written else 0


def _percent_text(share: float, has_both: bool) -> str:
    """A margin in per cent, and of what."""
    number = f"{share:+.0f}" if abs(share) >= 99.5 else f"{share:+.3g}"
    return f"{number} % of {'tolerance' if has_both else 'limit'}"


def _decimals(value: float | None, low: float | None, high: float | None, margin: float | None) -> int:
    """Enough for four digits of the value, for the limits as written, and for two digits of the margin."""
    wanted = [0]
    if value is not None and value:
        wanted.append(3 - math.floor(math.log10(abs(value))))
    for limit in (low, high):
        if limit is not None:
            wanted.append(_written_decimals(limit))
    if margin:
        digits = 1 - math.floor(math.log10(abs(margin)))
        wanted.append(digits if margin < 0 else min(digits, 7))  # a failing value must differ from its limit as shown
    return max(0, min(max(wanted), MOST_DECIMALS))


def column_text(value: float | None, entry: Mapping[str, Any], digits: int = 5) -> str:
    """A stored value with unit; `entry` has unit and shown."""
    if value is None or value != value:
        return "-"
    if entry.get("labels"):
        return str(entry["labels"][int(value)])
    if entry.get("kind") == "yes_no":
        return "yes" if value else "no"
    return units.format_value(value, _dimension(entry), shown=entry["shown"] or None, digits=digits)


def place_text(at: Mapping[str, float], axes: Sequence[Mapping[str, Any]]) -> str:
    """The place of a point: "vin = 6.5 V, iload = 1.08 A"."""
    by_name = {axis["name"]: axis for axis in axes}
    return ", ".join(f"{name} = {column_text(x, by_name[name])}" for name, x in at.items() if name in by_name)


def worst_first(results: list[Any]) -> list[Any]:
    """Results ordered by how near they are to their limits: errors, failures, then the least relative margin."""

    def key(result: Mapping[str, Any]) -> tuple[int, float]:
        rank = {"error": 0, "fail": 1}.get(result["verdict"], 2)
        margin, low, high = result["margin"], result["low"], result["high"]
        if margin is None:
            return rank, -math.inf
        share = percent_of_tolerance(margin, low, high)
        return rank, share if share is not None else margin

    return sorted(results, key=key)


def duration_text(seconds: float) -> str:
    """A duration for people: 42 ms, 12.3 s, 4 min 05 s, 2 h 10 min.

    >>> duration_text(0.042), duration_text(245.2), duration_text(0)
    ('42 ms', '4 min 05 s', '0 s')
    """
    if seconds < 0.9995:
        return f"{seconds * 1000:.0f} ms" if seconds else "0 s"
    if seconds < 59.95:
        return f"{seconds:.1f} s"
    minutes, rest = divmod(round(seconds), 60)
    return f"{minutes} min {rest:02d} s" if minutes < 60 else f"{minutes // 60} h {minutes % 60:02d} min"
