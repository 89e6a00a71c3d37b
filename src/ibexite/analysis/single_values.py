"""Arithmetic and comparisons of single values with holes, as generated code uses them; no NumPy here."""

from __future__ import annotations

import math

from ibexite.holes import hole_of, is_equal, settled_hole
from ibexite.untyped import Measured

_INFINITE = (math.inf, -math.inf)


def divided(a: Measured, b: Measured) -> Measured:
    """a / b; NaN where b is zero or so small that the result has no number. As curves do it."""
    try:
        result = a / b
    except ZeroDivisionError:
        return hole_of(a)
    if isinstance(result, float):
        return math.nan if result in _INFINITE else result
    return result


def finite(value: Measured) -> Measured:
    """What single values were added or multiplied to; NaN where that is too large for a number. As curves do it."""
    return math.nan if isinstance(value, float) and value in _INFINITE else value


def ge(a: Measured, b: Measured) -> Measured:
    """a >= b; a hole where a or b is one; values that are as good as equal are equal. The functions below likewise."""
    return hole_of(a, b) if a != a or b != b else a >= b or is_equal(a, b)


def le(a: Measured, b: Measured) -> Measured:
    """a <= b."""
    return hole_of(a, b) if a != a or b != b else a <= b or is_equal(a, b)


def gt(a: Measured, b: Measured) -> Measured:
    """a > b."""
    return hole_of(a, b) if a != a or b != b else a > b and not is_equal(a, b)


def lt(a: Measured, b: Measured) -> Measured:
    """a < b."""
    return hole_of(a, b) if a != a or b != b else a < b and not is_equal(a, b)


def eq(a: Measured, b: Measured) -> Measured:
    """a == b."""
    return hole_of(a, b) if a != a or b != b else a == b or is_equal(a, b)


def ne(a: Measured, b: Measured) -> Measured:
    """a != b."""
    return hole_of(a, b) if a != a or b != b else not (a == b or is_equal(a, b))


ARITHMETIC = {
    "div": divided,
    "fin": finite,
    "ge": ge,
    "le": le,
    "gt": gt,
    "lt": lt,
    "eq": eq,
    "ne": ne,
    "settled_hole": settled_hole,
}
