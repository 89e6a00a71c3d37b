"""How judged values are written: one unit and one number of decimals for value, limits and margin, and enough digits
to see why a value passed or failed."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence

from ibexite import units
from ibexite.frozen import frozen
from ibexite.holes import is_equal
from ibexite.units import Unit
from ibexite.untyped import Fields
from ibexite.values import Quantity, stored_type

MOST_DECIMALS = 18


@frozen
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


def result_unit(result: Fields) -> Unit:
    """The unit in which a result is shown; `result` has value, low, high, unit, shown."""
    numbers = [x for x in (result["value"], result["low"], result["high"]) if x is not None]
    kind = stored_type(result)
    return units.unit_for(*numbers, dimension=kind.dimension, shown=kind.shown)


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


def judged_text(result: Fields) -> JudgedText:
    """The words for a result (an event Judged as a mapping, or a stored row)."""
    if not isinstance(stored_type(result), Quantity):
        return JudgedText(str(result["said"]), "", "", "", "", str(result["demand"]))
    unit = result_unit(result)
    low, high = (None if x is None else unit.from_base(x) for x in (result["low"], result["high"]))
    exact = result["value"]
    if exact is not None:  # what counts as equal to its limit looks equal
        exact = next((x for x in (result["low"], result["high"]) if x is not None and is_equal(exact, x)), exact)
    value = None if exact is None else unit.from_base(exact)
    margin = None if result["margin"] is None else result["margin"] / float(unit.factor)
    exponent = _exponent(*(abs(x) for x in (value, low, high) if x is not None))
    value, low, high, margin = (None if x is None else x / 10.0**exponent for x in (value, low, high, margin))
    ending = f"e{exponent}" if exponent else ""
    places = 0 if not unit.symbol and _are_whole(value, low, high) else _decimals(value, low, high)  # counts

    def text(x: float | None) -> str:
        return "" if x is None else fixed(x, places)

    # As many digits as it takes to see on which side of its limits the value lies.
    while places < MOST_DECIMALS and not _looks_right(value, low, high, text):
        places += 1
    share = percent_of_tolerance(result["margin"], result["low"], result["high"])
    said = str(result.get("said", ""))
    return JudgedText(
        said.removesuffix(" " + unit.symbol) if said else text(value) and text(value) + ending,
        "" if low is None else _without_zeros(text(low)) + ending,
        "" if high is None else _without_zeros(text(high)) + ending,
        "" if margin is None else _margin_text(margin, places) + ending,
        unit.symbol,
        percent="" if share is None else _percent_text(share, low is not None and high is not None),
    )


def _are_whole(*numbers: float | None) -> bool:
    """Whether all numbers that there are, are whole ones: counts are."""
    return all(number is None or number == round(number) for number in numbers)


def points_told(result: Fields) -> str:
    """How many points of a result failed or were bad, and of how many values a single one was made, in words."""
    told = []
    if result["judged"] != 1:
        told.append(f"{result['failed']} of {result['judged']} failed")
        told += [f"{result['bad']} bad"] if result["bad"] else []
    return ", ".join([*told, *([f"n = {result['n']}"] if result["n"] else [])])


def limits_told(result: Fields) -> list[str]:
    """What happened to the limits of a result before it was judged, in words: moved onto it, guarded by a rule."""
    told = [str(result["moved"])] if result["moved"] else []
    unit = result_unit(result) if result["rule"] else units.NO_UNIT
    if result["rule"]:
        size = result["guard"] or result["uncertainty"]
        by = f" by {units.plain_number(size / float(unit.factor), 4)} {unit.symbol}".rstrip() if size else ""
        told.append(f"{'guarded' if result['guard'] else 'uncertain'}{by}: {result['rule']}")
    if result["risk"] is not None:
        what = "it lies beyond its limit" if result["reason_code"] == "guard_zone" else "the verdict is wrong"
        told.append(f"probability that {what}: {risk_text(result['risk'])}")
    return told


def risk_text(risk: float) -> str:
    """A probability in words.

    >>> risk_text(0.0228), risk_text(1e-9), risk_text(0.5)
    ('2.3 %', 'below 0.01 %', '50 %')
    """
    return "below 0.01 %" if risk < 1e-4 else f"{100 * risk:.2g} %"


def _exponent(*sizes: float) -> int:
    """The power of ten that is written behind numbers whose unit has no prefix for them, 0 for none: 3.2e-9 m^3/s."""
    largest = max((size for size in sizes if math.isfinite(size)), default=0.0)
    return 0 if not largest or 1e-4 <= largest < 1e9 else 3 * math.floor(math.log10(largest) / 3)


def fixed(value: float, places: int) -> str:
    """A number with so many decimals, never "-0".

    >>> fixed(-0.0004, 2), fixed(45.5, 2)
    ('0.00', '45.50')
    """
    text = f"{value:.{places}f}"
    return text.removeprefix("-") if text.startswith("-") and not text.strip("-0.") else text


def _without_zeros(text: str) -> str:
    """A number without superfluous zeros behind its point."""
    return text.rstrip("0").rstrip(".") if "." in text else text


def _looks_right(value: float | None, low: float | None, high: float | None, text: Callable[[float], str]) -> bool:
    """Whether value and limits as they are shown stand to one another as they do."""
    if value is None:
        return True
    shown = float(text(value))
    if low is not None and high is not None and low < high and text(low) == text(high):
        return False
    is_below = low is not None and value < low
    is_above = high is not None and value > high
    return (low is None or (shown < float(text(low))) == is_below) and (
        high is None or (shown > float(text(high))) == is_above
    )


def _margin_text(margin: float, places: int) -> str:
    """A margin with its sign: with the decimals of the value, or with two digits where it is less than those show."""
    if margin and abs(margin) < 10.0**-places:
        digits = 1 - math.floor(math.log10(abs(margin)))
        places = min(digits, MOST_DECIMALS)
    text = fixed(margin, places)
    return text if text.startswith("-") else "+" + text


def _written_decimals(limit: float) -> int:
    """The decimals of a limit that somebody wrote; one that was computed has as many as it happens to have: 0 then."""
    text = units.plain_number(limit, 9)
    is_written = abs(limit) > 1e-4 and len(text.replace(".", "").replace("-", "").strip("0")) <= 6
    return len(text.partition(".")[2]) if is_written else 0


def _percent_text(share: float, has_both: bool) -> str:
    """A margin in per cent, and of what."""
    number = f"{share:+.0f}" if abs(share) >= 99.5 else f"{share:+.3g}"
    return f"{number} % of {'tolerance' if has_both else 'limit'}"


def _decimals(value: float | None, low: float | None, high: float | None) -> int:
    """Enough for four digits of the value and for the limits as written."""
    wanted = [0]
    if value is not None and value:
        wanted.append(3 - math.floor(math.log10(abs(value))))
    for limit in (low, high):
        if limit is not None:
            wanted.append(_written_decimals(limit))
    return max(0, min(max(wanted), MOST_DECIMALS))


def column_text(value: float | str | None, entry: Fields, digits: int = 5) -> str:
    """A stored value with unit; `entry` has unit and shown. A text may be given as its number among its labels."""
    if value is None or value != value:
        return "-"
    if entry.get("labels") and not isinstance(value, str):
        value = entry["labels"][int(value)]
    return stored_type(entry).said(value, digits)


def single_text(column: Fields, value: float) -> str:
    """A stored single value: with the number of values it was made of, or the bound that is all that is known."""
    text = str(column["bound"]) or column_text(value, column)
    return f"{text} (n = {column['n']})" if column["n"] else text


def place_text(at: Mapping[str, float | str], axes: Sequence[Fields]) -> str:
    """The place of a point: "vin = 6.5 V, iload = 1.08 A"."""
    by_name = {axis["name"]: axis for axis in axes}
    return ", ".join(f"{name} = {column_text(x, by_name[name])}" for name, x in at.items() if name in by_name)


def worst_first(results: list[Fields]) -> list[Fields]:
    """Results ordered by how near they are to their limits: errors, failures, then the least relative margin."""

    def key(result: Fields) -> tuple[int, float]:
        rank = {"error": 0, "fail": 1}.get(result["verdict"], 2)
        margin, low, high = result["margin"], result["low"], result["high"]
        if margin is None:
            return rank, -math.inf
        share = percent_of_tolerance(margin, low, high)
        return rank, share if share is not None else margin

    return sorted(results, key=key)


def is_log_spaced(points: Sequence[float]) -> bool:
    """True for the points of a logarithmic sweep, also for one in pieces of different density: their ratios are much
    more even than their distances, or those of neighbours are more often alike.

    >>> is_log_spaced([20.0, 50.0, 100.0, 200.0, 500.0, 1000.0]), is_log_spaced([1.0, 2.0, 3.0, 4.0, 5.0])
    (True, False)
    """
    xs = sorted({x for x in points if math.isfinite(x)})
    if len(xs) < 4 or xs[0] <= 0 or xs[-1] / xs[0] < 3:
        return False
    steps = [b - a for a, b in zip(xs, xs[1:], strict=False)]
    ratios = [math.log(b / a) for a, b in zip(xs, xs[1:], strict=False)]
    return _unevenness(ratios) < 0.5 * _unevenness(steps) or _alike(ratios) > _alike(steps) + 0.5


def _alike(steps: Sequence[float]) -> float:
    """The share of steps that are as long as the one before."""
    return sum(abs(b / a - 1) < 0.02 for a, b in zip(steps, steps[1:], strict=False)) / (len(steps) - 1)


def _unevenness(steps: Sequence[float]) -> float:
    mean = sum(steps) / len(steps)
    return math.sqrt(sum((step - mean) ** 2 for step in steps) / len(steps)) / mean


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
