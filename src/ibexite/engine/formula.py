"""Formulas as Python source. What is known before the run is computed now, exactly; the rest is float arithmetic.

Names of the sequence get the prefix v_, so that none can meet a name of Python or of ours. Curves use the functions of
ibexite.analysis.curve, single values plain operators.
"""

from __future__ import annotations

import math
from collections.abc import Mapping
from decimal import Decimal
from typing import Any

from ibexite.functions import FUNCTIONS
from ibexite.language import constants, nodes
from ibexite.language.types import Type

_INFINITE = (math.inf, -math.inf)


def divided(a: Any, b: Any) -> Any:
    """a / b; NaN where b is zero or so small that the result has no number. As curves do it."""
    try:
        result = a / b
    except ZeroDivisionError:
        return math.nan
    return math.nan if result in _INFINITE else result


class Formulas:
    """Writes the source of expressions, given their types and the parameters of the run."""

    def __init__(self, types: Mapping[nodes.Expr, Type], params: constants.Known) -> None:
        self._types, self._params = types, params

    def source(self, expr: nodes.Expr) -> str:
        """A Python expression for the value in base form. It raises nothing: what has no value is NaN."""
        known = constants.evaluate(expr, self._params)
        if known is not None:
            return repr(float(known)) if isinstance(known, Decimal) else repr(known)
        match expr:
            case nodes.Name(name=name):
                return f"v_{name}"
            case nodes.ResultOf(test=test, name=name):
                return f"result_of({test!r}, {name!r})"
            case nodes.Minus(operand=operand):
                return f"(-{self.source(operand)})"
            case nodes.Arithmetic(op="^"):
                return f"f_raised({self.source(expr.left)}, {self.source(expr.right)})"
            case nodes.Arithmetic(op="/"):
                return f"div({self.source(expr.left)}, {self.source(expr.right)})"
            case nodes.Arithmetic(op=op):
                return f"({self.source(expr.left)} {op} {self.source(expr.right)})"
            case nodes.Compare(op=op):
                if self._has_axes(expr.left) or self._has_axes(expr.right):
                    return f"f_compared({op!r}, {self.source(expr.left)}, {self.source(expr.right)})"
                return f"({self.source(expr.left)} {op} {self.source(expr.right)})"
            case nodes.Logic():
                return self._logic(expr)
            case nodes.Call():
                return self._call(expr)
        raise AssertionError(f"no source for {expr!r}")

    def _has_axes(self, expr: nodes.Expr) -> bool:
        return bool(self._types[expr].axes)

    def _logic(self, expr: nodes.Logic) -> str:
        operands = [self.source(operand) for operand in expr.operands]
        if any(map(self._has_axes, expr.operands)):
            return f"f_logic({expr.op!r}, {', '.join(operands)})"
        return f"(not {operands[0]})" if expr.op == "not" else "(" + f" {expr.op} ".join(operands) + ")"

    def _call(self, expr: nodes.Call) -> str:
        function = FUNCTIONS[expr.function]
        inner = self.source(expr.arguments[0])
        if not function.consumes:
            return f"f_{function.target}({inner})"
        if expr.named:
            axis, value = expr.named[0]
            return f"f_{function.target}({inner}, {axis!r}, {self.source(value)})"
        axis = expr.along or self._types[expr.arguments[0]].axes[0]
        return f"f_{function.target}({inner}, {axis!r})"


def readings_behind(expr: nodes.Expr, behind: Mapping[str, frozenset[str]]) -> frozenset[str]:
    """The readings that a value comes from, through all computed names."""
    names = constants.names_in(expr)
    return frozenset().union(*(behind.get(name, frozenset({name})) for name in names))
