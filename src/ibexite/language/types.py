"""The type of an expression: what it measures and over which axes. Finds wrong units and unknown names. Operators are
in type_operators, limits in type_limits, functions in type_calls."""

from __future__ import annotations

from ibexite import units
from ibexite.frozen import replaced
from ibexite.language import nodes
from ibexite.language.type_base import Lookup
from ibexite.language.type_calls import CallTyper
from ibexite.language.type_limits import LimitTyper
from ibexite.language.type_operators import OperatorTyper
from ibexite.values import TEXT, YES_NO, Quantity, Type


class Typer(OperatorTyper, LimitTyper, CallTyper):
    """Gives types to expressions; None where a mistake was reported. Keeps them in `types` for the compiler."""

    def _type(self, expr: nodes.Expr, lookup: Lookup) -> Type | None:
        match expr:
            case nodes.Literal(quantity=quantity):
                return Quantity((), quantity.dimension, quantity.unit.symbol or None)
            case nodes.Text():
                return TEXT
            case nodes.Word():
                return YES_NO
            case nodes.Name() | nodes.ResultOf():
                return lookup(expr)
            case nodes.Arithmetic():
                return self._arithmetic(expr, lookup)
            case nodes.Minus():
                inner = self.quantity(expr.operand, lookup)
                return replaced(inner, dimension=units.negate(inner.dimension)) if inner else None
            case nodes.Compare():
                return self._compare(expr, lookup)
            case nodes.Logic():
                return self._logic(expr, lookup)
            case nodes.Inside():
                operand = self.quantity(expr.operand, lookup)
                return self.demand(operand, expr.criterion, lookup) if operand else None
            case nodes.Call():
                return self._call(expr, lookup)
            case nodes.FromFile(kind="mask"):
                what = f'Write: check x inside mask("{expr.name}"); its lines are mask_low, mask_high.'
                self.source.report(expr.span, "a mask is no value", "", what)
            case nodes.FromFile():
                return self.from_file(expr)
        return None
