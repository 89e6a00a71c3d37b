"""Values of parameters and inputs that are given from outside, as texts."""

from __future__ import annotations

from ibexite import units
from ibexite.errors import MistakeError, UnitError
from ibexite.language import constants, nodes
from ibexite.language.constants import Value
from ibexite.language.program import Scope
from ibexite.values import Quantity, Type, YesNo


def parse_value(scope: Scope, param: nodes.Param, text: str, where: str) -> Value:
    """The value of a parameter or input that was given from outside.

    Raises:
        MistakeError: wrong unit, not one of the choices, out of bounds.
    """
    value = parse_typed(scope.types[param.name], text, where)
    problem = constants.refusal(param, value, scope.types[param.name], scope.known)
    if problem:
        raise MistakeError(problem[0], where=where, remedy=problem[1])
    return value


def parse_typed(kind: Type, text: str, where: str) -> Value:
    """A text from outside as a value of a type. Raises MistakeError."""
    if isinstance(kind, Quantity):
        try:
            quantity = units.parse_quantity(text)
        except UnitError as error:
            raise MistakeError(error.what, where=where, remedy=error.remedy) from None
        if quantity.dimension != kind.dimension:
            raise MistakeError(
                f"{text!r} is {units.describe(quantity.dimension)}", where=where, remedy=f"It takes {kind}."
            )
        return quantity.value
    if isinstance(kind, YesNo):
        if text not in ("yes", "no", "on", "off"):
            raise MistakeError(f"{text!r} is neither yes nor no", where=where, remedy="Write yes or no.")
        return text in ("yes", "on")
    return text
