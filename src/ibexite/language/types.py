"""The type of an expression: what it measures and over which axes. Finds wrong units and unknown names."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from ibexite import units
from ibexite.errors import UnitError, did_you_mean
from ibexite.functions import FUNCTIONS
from ibexite.language import nodes
from ibexite.language.source import Source
from ibexite.units import PLAIN, Dimension


@dataclass(frozen=True, slots=True)
class Type:
    """kind is quantity, yes_no or text. `axes` names the axes of a curve; `shown` is the unit it was written in."""

    kind: str
    dimension: Dimension = PLAIN
    axes: tuple[str, ...] = ()
    shown: str | None = None

    def __str__(self) -> str:
        if self.kind == "quantity":
            what = units.describe(self.dimension)
        else:
            what = "a text" if self.kind == "text" else "a yes/no value"
        return f"{what} over {', '.join(self.axes)}" if self.axes else what


YES_NO = Type("yes_no")
TEXT = Type("text")
Lookup = Callable[[nodes.Name | nodes.ResultOf], Type | None]
_SIGNS: dict[str, Callable[[Dimension, Dimension], Dimension]] = {
    "+": units.add, "-": units.subtract, "*": units.multiply, "/": units.divide,
}  # fmt: skip


class Typer:
    """Gives types to expressions; None where a mistake was reported. Keeps them in `types` for the compiler."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.types: dict[nodes.Expr, Type] = {}

    def type_of(self, expr: nodes.Expr, lookup: Lookup) -> Type | None:
        """The type of an expression whose names are found by `lookup`."""
        try:
            result = self._type(expr, lookup)
        except UnitError as error:
            self.source.report(expr.span, error.what, "", error.remedy)
            return None
        if result is not None:
            self.types[expr] = result
        return result

    def _type(self, expr: nodes.Expr, lookup: Lookup) -> Type | None:
        match expr:
            case nodes.Literal(quantity=quantity):
                return Type("quantity", quantity.dimension, shown=quantity.unit.symbol or None)
            case nodes.Text():
                return TEXT
            case nodes.Word():
                return YES_NO
            case nodes.Name() | nodes.ResultOf():
                return lookup(expr)
            case nodes.Arithmetic():
                return self._arithmetic(expr, lookup)
            case nodes.Minus():
                inner = self._quantity(expr.operand, lookup)
                return replace(inner, dimension=units.negate(inner.dimension)) if inner else None
            case nodes.Compare():
                return self._compare(expr, lookup)
            case nodes.Logic():
                return self._logic(expr, lookup)
            case nodes.Call():
                return self._call(expr, lookup)

    def _quantity(self, expr: nodes.Expr, lookup: Lookup) -> Type | None:
        found = self.type_of(expr, lookup)
        if found is not None and found.kind != "quantity":
            self.source.report(expr.span, "not a number", str(found), "Arithmetic takes numbers with units.")
            return None
        return found

    def _arithmetic(self, expr: nodes.Arithmetic, lookup: Lookup) -> Type | None:
        left, right = self._quantity(expr.left, lookup), self._quantity(expr.right, lookup)
        if left is None or right is None:
            return None
        axes = joined_axes(left, right)
        if expr.op == "^":
            return Type("quantity", self._power(expr, left, right), axes)
        dimension = _SIGNS[expr.op](left.dimension, right.dimension)
        shown = None
        if expr.op in "+-" and dimension == left.dimension:
            shown = left.shown if left.shown == right.shown else None
        return Type("quantity", dimension, axes, shown)

    def _power(self, expr: nodes.Arithmetic, left: Type, right: Type) -> Dimension:
        if not right.dimension.is_plain:
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
        if left.kind != right.kind or left.dimension != right.dimension:
            self.source.report(expr.right.span, "these cannot be compared", str(right), f"The left side is {left}.")
            return None
        if left.kind != "quantity" and expr.op not in ("==", "!="):
            self.source.report(expr.span, "only == and != compare texts and yes/no values")
            return None
        return Type("yes_no", axes=joined_axes(left, right))

    def _logic(self, expr: nodes.Logic, lookup: Lookup) -> Type | None:
        found = [self.type_of(operand, lookup) for operand in expr.operands]
        for operand, kind in zip(expr.operands, found, strict=True):
            if kind is not None and kind.kind != "yes_no":
                self.source.report(operand.span, "not a condition", str(kind), f"'{expr.op}' takes conditions, a >= b.")
                return None
        known = [kind for kind in found if kind is not None]
        return Type("yes_no", axes=joined_axes(*known)) if len(known) == len(found) else None

    def _call(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        function = FUNCTIONS.get(expr.function)
        if function is None:
            self.source.report(
                expr.span, f"unknown function {expr.function!r}", "", did_you_mean(expr.function, FUNCTIONS)
            )
            return None
        wants_axis = function.name == "at"
        if len(expr.arguments) != 1 or len(expr.named) != wants_axis or (expr.along and not function.consumes):
            self.source.report(expr.span, f"'{function.name}' is called otherwise", "", f"Write {function.usage}.")
            return None
        inner = self._quantity(expr.arguments[0], lookup)
        if inner is None:
            return None
        result = replace(inner, dimension=function.result(inner.dimension))
        if not function.consumes:
            return result if result.dimension == inner.dimension else replace(result, shown=None)
        axis = self._consumed_axis(expr, inner, lookup)
        return replace(result, axes=tuple(a for a in inner.axes if a != axis)) if axis else None

    def _consumed_axis(self, expr: nodes.Call, inner: Type, lookup: Lookup) -> str | None:
        if not inner.axes:
            self.source.report(
                expr.arguments[0].span,
                "not a curve",
                str(inner),
                f"'{expr.function}' takes a name that got its values in a sweep, after that sweep.",
            )
            return None
        if expr.named:
            axis, value = expr.named[0]
            wanted, found = lookup(nodes.Name(value.span, axis)), self._quantity(value, lookup)
            if wanted and found and axis in inner.axes and (wanted.dimension != found.dimension or found.axes):
                self.source.report(
                    value.span, "wrong unit", str(found), f"{axis} is {units.describe(wanted.dimension)}."
                )
                return None
        elif expr.along:
            axis = expr.along
        elif len(inner.axes) == 1:
            axis = inner.axes[0]
        else:
            self.source.report(
                expr.span,
                "along which axis?",
                "",
                f"It has {' and '.join(inner.axes)}: write {expr.function}(x along {inner.axes[-1]}).",
            )
            return None
        if axis not in inner.axes:
            self.source.report(expr.span, f"no axis {axis!r}", "", f"It has: {', '.join(inner.axes)}.")
            return None
        return axis


def joined_axes(*types: Type) -> tuple[str, ...]:
    """All axes of several operands, each once, in the order of first appearance."""
    return tuple(dict.fromkeys(axis for t in types for axis in t.axes))
