"""Types of operators: arithmetic, comparisons, logic."""

from __future__ import annotations

from collections.abc import Callable

from ibexite import units
from ibexite.errors import UnitError
from ibexite.language import nodes
from ibexite.language.type_base import Lookup, TyperBase
from ibexite.units import PLAIN, Dimension
from ibexite.values import Compound, Quantity, Type, YesNo

_SIGNS: dict[str, Callable[[Dimension, Dimension], Dimension]] = {
    "+": units.add, "-": units.subtract, "*": units.multiply, "/": units.divide,
}  # fmt: skip


class OperatorTyper(TyperBase):
    """The types of what operators make."""

    def _arithmetic(self, expr: nodes.Arithmetic, lookup: Lookup) -> Type | None:
        left, right = self.quantity(expr.left, lookup), self.quantity(expr.right, lookup)
        if left is None or right is None:
            return None
        axes = self._together(expr, left, right)
        is_complex = left.is_complex or right.is_complex
        if axes is None:
            return None
        if expr.op == "^":
            return Quantity(axes, self._power(expr, left, right), None, is_complex)
        dimension = _SIGNS[expr.op](left.dimension, right.dimension)
        shown = None
        if expr.op in "+-" and dimension == left.dimension:
            shown = left.shown if left.shown == right.shown else None
        return Quantity(axes, dimension, shown, is_complex)

    def _power(self, expr: nodes.Arithmetic, left: Type, right: Type) -> Dimension:
        if not right.dimension.is_plain or right.is_complex:
            raise UnitError(f"an exponent is a plain number, this is {right}")
        if left.dimension.is_plain:
            return PLAIN
        if not isinstance(expr.right, nodes.Literal):
            raise UnitError("the exponent of a quantity must be written as a number", remedy="Write x^2, for example.")
        return units.power(left.dimension, float(expr.right.quantity))

    def _compare(self, expr: nodes.Compare, lookup: Lookup) -> Type | None:
        left, right = self.type_of(expr.left, lookup), self.type_of(expr.right, lookup)
        if left is None or right is None:
            return None
        if not left.compares(right):
            self.source.report(expr.right.span, "these cannot be compared", str(right), f"The left side is {left}.")
            return None
        if isinstance(left, Compound):  # with holes in it nobody can say; a check can
            self.source.report(expr.span, "only a check compares these", str(left), "Write, for example: check a == b")
            return None
        if (not isinstance(left, Quantity) or left.is_complex or right.is_complex) and expr.op not in ("==", "!="):
            what = "complex values" if isinstance(left, Quantity) else "texts and yes/no values"
            self.source.report(expr.span, f"only == and != compare {what}")
            return None
        axes = self._together(expr, left, right)
        return YesNo(axes) if axes is not None else None

    def _logic(self, expr: nodes.Logic, lookup: Lookup) -> Type | None:
        found = [self.type_of(operand, lookup) for operand in expr.operands]
        for operand, kind in zip(expr.operands, found, strict=True):
            if kind is not None and not isinstance(kind, YesNo):
                self.source.report(operand.span, "not a condition", str(kind), f"'{expr.op}' takes conditions, a >= b.")
                return None
        known = [kind for kind in found if kind is not None]
        axes = self._together(expr, *known)
        return YesNo(axes) if len(known) == len(found) and axes is not None else None
