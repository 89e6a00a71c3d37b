"""Under which conditions something was measured: settings, ranges, parameters, each with its value in words; and how
those of two measurements are compared."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from ibexite import units
from ibexite.errors import UnitError

AS_GOOD_AS_EQUAL = 1e-6  # of the larger magnitude; finer than instruments are set
_TO = " to "


def span_said(low: str, high: str) -> str:
    """A condition that lay between two values.

    >>> span_said("7 V", "16 V"), span_said("on", "on")
    ('7 V to 16 V', 'on')
    """
    return low if low == high else f"{low}{_TO}{high}"


def together(parts: Iterable[Mapping[str, str]]) -> dict[str, str]:
    """The conditions of a value for which several lines have read something.

    >>> together([{"a.volts": "9 V", "b.amps": "1 A"}, {"a.volts": "12 V", "b.amps": "1 A"}])
    {'a.volts': '9 V; 12 V', 'b.amps': '1 A'}
    """
    found: dict[str, str] = {}
    for conditions in parts:
        for what, said in conditions.items():
            found[what] = said if found.get(what, said) == said else f"{found[what]}; {said}"
    return found


def differences(then: Mapping[str, str], now: Mapping[str, str]) -> list[str]:
    """What is otherwise now than then, in words; what is known of one of both only is no difference.

    >>> differences({"a.volts": "9 V", "b.amps": "0 A"}, {"a.volts": "9000 mV", "b.amps": "1 A"})
    ['b.amps is 1 A, was 0 A']
    """
    return [
        f"{what} is {now[what]}, was {before}"
        for what, before in then.items()
        if what in now and not _is_same(before, now[what])
    ]


def _is_same(one: str, other: str) -> bool:
    if one == other:
        return True
    parts, others = one.split(_TO), other.split(_TO)
    return len(parts) == len(others) and all(map(_is_same_value, parts, others))


def _is_same_value(one: str, other: str) -> bool:
    try:
        a, b = units.parse_quantity(one), units.parse_quantity(other)
    except UnitError:
        return one == other
    x, y = float(a), float(b)
    return a.dimension == b.dimension and abs(x - y) <= AS_GOOD_AS_EQUAL * max(abs(x), abs(y))
