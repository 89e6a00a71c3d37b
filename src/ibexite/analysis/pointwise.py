"""Functions of values point by point: for curves, lines and single values alike; comparisons and logic with holes."""

from __future__ import annotations

import math
import operator
from collections.abc import Callable
from typing import Any

import numpy as np

from ibexite.analysis.curve import Array, combine, is_curve
from ibexite.holes import EQUAL, decide, hole_of, is_equal
from ibexite.untyped import Measured


def pointwise(of_array: Callable[..., Any], of_number: Callable[..., Any]) -> Callable[..., Any]:
    """A function for curves, point by point, and for single values; what has no result is a hole."""

    def apply(*operands: Measured) -> Measured:
        if any(map(is_curve, operands)):
            return combine(of_array, *operands)
        if any(x != x for x in operands):
            return hole_of(*operands)
        try:
            return of_number(*operands)
        except (ValueError, OverflowError, ZeroDivisionError):  # the root of a negative number, the logarithm of zero
            return math.nan

    return apply


absolute = pointwise(np.abs, abs)
root = pointwise(np.sqrt, math.sqrt)
exponential = pointwise(np.exp, math.exp)
natural_log = pointwise(np.log, math.log)
decimal_log = pointwise(np.log10, math.log10)
sine = pointwise(np.sin, math.sin)
cosine = pointwise(np.cos, math.cos)
tangent = pointwise(np.tan, math.tan)
db_amplitude = pointwise(
    lambda x: 20 * np.log10(np.abs(x) if np.iscomplexobj(x) else x),  # a negative real ratio has none: a hole
    lambda x: 20 * math.log10(abs(x) if isinstance(x, complex) else x),
)
db_power = pointwise(lambda x: 10 * np.log10(x), lambda x: 10 * math.log10(x))
amplitude_ratio = pointwise(lambda x: 10 ** (x / 20), lambda x: 10 ** (x / 20))
power_ratio = pointwise(lambda x: 10 ** (x / 10), lambda x: 10 ** (x / 10))
raised = pointwise(np.power, math.pow)
real_part = pointwise(np.real, lambda z: complex(z).real)
imaginary_part = pointwise(np.imag, lambda z: complex(z).imag)
phase = pointwise(np.angle, lambda z: math.atan2(complex(z).imag, complex(z).real))
rectangular = pointwise(lambda a, b: a + 1j * np.asarray(b), complex)
polar = pointwise(lambda r, a: r * np.exp(1j * np.asarray(a)), lambda r, a: r * complex(math.cos(a), math.sin(a)))
smaller = pointwise(np.minimum, min)
larger = pointwise(np.maximum, max)
level_of_power = pointwise(lambda x: 10 * np.log10(x) + 30, lambda x: 10 * math.log10(x) + 30)
level_of_voltage = db_amplitude
power_of_level = pointwise(lambda x: 10 ** ((x - 30) / 10), lambda x: 10 ** ((x - 30) / 10))
voltage_of_level = amplitude_ratio
SOUND = 20e-6  # Pa, of 0 dBSPL (ISO 1683:2015)
level_of_pressure = pointwise(lambda x: 20 * np.log10(x / SOUND), lambda x: 20 * math.log10(x / SOUND))
pressure_of_level = pointwise(lambda x: SOUND * 10 ** (x / 20), lambda x: SOUND * 10 ** (x / 20))
level_of_full_scale = pointwise(lambda x, full: 20 * np.log10(x / full), lambda x, full: 20 * math.log10(x / full))


def chosen(condition: Measured, a: Measured, b: Measured) -> Measured:
    """a where a condition holds, else b, point by point; a hole where nobody can decide it. What is not chosen does not
    matter: it may be a hole."""
    if any(map(is_curve, (condition, a, b))):
        return combine(_chosen_arrays, condition, a, b, resolves_holes=True)
    if condition != condition:
        return hole_of(condition)
    return a if condition else b


def _chosen_arrays(condition: Any, a: Any, b: Any) -> Measured:
    where = np.asarray(condition, dtype=float)
    return np.where(np.isnan(where), where, np.where(where > 0, a, b))


_SIGNS: dict[str, Callable[[Any, Any], Any]] = {
    ">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt, "==": operator.eq, "!=": operator.ne,
}  # fmt: skip


def compared(sign: str, left: Measured, right: Measured) -> Measured:
    """A comparison point by point: True or False (curves: 1 or 0); where a side is a hole, so is the result."""
    operation = _SIGNS[sign]
    if is_curve(left) or is_curve(right):
        return combine(lambda a, b: _compared_arrays(sign, np.asarray(a), np.asarray(b)), left, right)
    if left != left or right != right:
        return hole_of(left, right)
    if is_equal(left, right):
        return sign in (">=", "<=", "==")
    return operation(left, right)


def _compared_arrays(sign: str, a: Array, b: Array) -> Measured:
    if "O" in (a.dtype.kind, b.dtype.kind):
        return np.asarray(_SIGNS[sign](a.astype(object), b.astype(object))).astype(float)
    found = _SIGNS[sign](a, b)
    a, b = (x.astype(float) if x.dtype.kind in "bi" else x for x in (a, b))
    same = np.abs(a - b) <= EQUAL * np.maximum(np.abs(a), np.abs(b))
    return np.where(same, sign in (">=", "<=", "=="), found).astype(float)


def logic(word: str, *operands: Measured) -> Measured:
    """and, or, not of conditions, point by point, in Kleene's three-valued logic: a hole is neither yes nor no."""
    if any(map(is_curve, operands)):
        operation: Callable[..., Any] = {"and": _all_of, "or": _any_of, "not": lambda x: 1.0 - x}[word]
        return combine(operation, *operands, resolves_holes=True)
    return decide(word, *operands)


def _all_of(*operands: Measured) -> Measured:
    given = np.broadcast_arrays(*(np.asarray(x, dtype=float) for x in operands))
    least = np.minimum.reduce([np.where(np.isnan(x), 1.0, x) for x in given])
    holes = np.logical_or.reduce([np.isnan(x) for x in given])
    return np.where((least > 0) & holes, math.nan, least)


def _any_of(*operands: Measured) -> Measured:
    return 1.0 - _all_of(*(1.0 - np.asarray(x, dtype=float) for x in operands))
