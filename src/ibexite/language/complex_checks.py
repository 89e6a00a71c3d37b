"""Checks of complex values: what is judged of them, as a check of a number.

Within a tolerance in dB their sizes are judged, as is usual for S-parameters; within one in their unit, or a part of
it, how far apart both are in the complex plane.
"""

from __future__ import annotations

from ibexite import units
from ibexite.frozen import replaced
from ibexite.language import nodes
from ibexite.values import Type

REMEDY = "Judge its size or its phase: abs(z); or how far it is from another: z within golden(…) +/- 0.3 dB."


def check_of_number(statement: nodes.Check, kind: Type, tolerance: Type | None) -> nodes.Check | None:
    """The check of a number that stands for one of a complex value, given the type of that and of its tolerance; None
    if a complex value cannot be judged so."""
    criterion = statement.criterion
    if criterion is None or criterion.kind != "within" or criterion.b is None or tolerance is None:
        return None
    span, value, nominal = criterion.span, statement.value, criterion.a
    if tolerance.dimension == units.DECIBEL:
        if not kind.dimension.is_plain:
            ratio = nodes.Arithmetic(span, "/", value, nominal)
            zero = nodes.Literal(span, units.parse_quantity("0 dB"))
            return replaced(statement, value=_size_in_db(ratio), criterion=replaced(criterion, a=zero))
        return replaced(statement, value=_size_in_db(value), criterion=replaced(criterion, a=_size_in_db(nominal)))
    apart = _call("abs", nodes.Arithmetic(span, "-", value, nominal))
    most = criterion.b
    if tolerance.dimension.is_plain and tolerance.shown in ("%", "ppm"):
        most = nodes.Arithmetic(span, "*", most, _call("abs", nominal))
    return replaced(statement, value=apart, criterion=replaced(criterion, kind="<=", a=most, b=None))


def _size_in_db(value: nodes.Expr) -> nodes.Expr:
    return _call("db_amplitude", _call("abs", value))


def _call(function: str, value: nodes.Expr) -> nodes.Expr:
    return nodes.Call(value.span, function, (value,), (), None)
