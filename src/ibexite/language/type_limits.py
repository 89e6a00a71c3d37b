"""Types of limits: what a value is demanded to be, tolerances, differences of temperatures."""

from __future__ import annotations

from ibexite import units
from ibexite.language import constants, nodes
from ibexite.language.type_base import Lookup, TyperBase
from ibexite.values import Quantity, Type, YesNo


class LimitTyper(TyperBase):
    """The types of what is demanded."""

    def demand(self, kind: Type | None, criterion: nodes.Criterion, lookup: Lookup) -> Type | None:
        """The type of a condition "x between a and b": yes/no over the axes of x; None after a mistake."""
        if criterion.kind == "inside":
            return self._inside_mask(kind, criterion)
        parts = [criterion.a] if criterion.kind == "within" else [e for e in (criterion.a, criterion.b) if e]
        found = [self._limit(kind, limit, lookup) for limit in parts]  # all of them: each has its own mistakes
        is_right = all(found)
        if criterion.kind == "within":
            is_right = self._tolerance(kind, criterion, lookup) and is_right
        is_right = bool(is_right) and self._leaves_room(criterion)
        return YesNo(kind.axes) if kind is not None and is_right else None

    def _inside_mask(self, kind: Type | None, criterion: nodes.Criterion) -> Type | None:
        expr = criterion.a
        if not isinstance(expr, nodes.FromFile) or expr.kind != "mask":
            self.source.report(expr.span, "not a mask", "", 'Write: check x inside mask("name")')
            return None
        found = self.from_file(expr)
        if kind is None or found is None:
            return None
        self.types[expr] = found
        if not found.compares(kind):
            self.source.report(expr.span, "wrong unit", f"a mask of {found}", f"The value to be judged is {kind}.")
            return None
        if not set(found.axes) <= set(kind.axes):
            self.source.report(
                expr.span, f"a mask along {found.axes[0]}", "",
                f"The value to be judged is {kind}. A curve of a sweep is judged after it.",
            )  # fmt: skip
            return None
        return YesNo(kind.axes)

    def _leaves_room(self, criterion: nodes.Criterion) -> bool:
        """Whether limits that are known before the run can be met at all; reports those that cannot."""
        if criterion.b is None:
            return True
        a, b = constants.number(criterion.a, self.known), constants.number(criterion.b, self.known)
        if criterion.kind == "between" and a is not None and b is not None and a > b:
            self.source.report(criterion.span, "limits the wrong way round", "", "Write the lower limit first.")
            return False
        if criterion.kind != "within" or b is None:
            return True
        if constants.as_difference(criterion.b, b) < 0:
            self.source.report(criterion.b.span, "a negative tolerance", "", "Write how far the value may be away.")
            return False
        if self.tolerances.get(criterion) == "relative" and a == 0:
            self.source.report(
                criterion.b.span, "per cent of nothing", "the nominal value is 0", "Give the tolerance in its unit."
            )
            return False
        return True

    def _limit(self, kind: Type | None, limit: nodes.Expr, lookup: Lookup) -> bool:
        found = self.type_of(limit, lookup)
        if kind is None or found is None:
            return False
        if not found.compares(kind) or found.is_complex:
            self.source.report(limit.span, "wrong unit", str(found), f"The value to be judged is {kind}.")
            return False
        if not set(found.axes) <= set(kind.axes):
            self.source.report(limit.span, "a limit over other axes", str(found), f"The value to be judged is {kind}.")
            return False
        return True

    def _tolerance(self, kind: Type | None, criterion: nodes.Criterion, lookup: Lookup) -> bool:
        assert criterion.b is not None
        nominal, found = self.types.get(criterion.a), self.type_of(criterion.b, lookup)
        if kind is None or found is None or nominal is None:
            return False
        in_percent = found.dimension.is_plain and found.shown in ("%", "ppm")
        if in_percent and (kind.dimension.kind != "linear"):
            self.source.report(
                criterion.b.span,
                f"{found.shown} of {units.describe(kind.dimension)}",
                "",
                f"Give the tolerance in {units.symbol_of(units.difference(kind.dimension))}.",
            )
        elif in_percent and {"%", "ppm"} & {nominal.shown, kind.shown}:
            own = nominal.shown if nominal.shown in ("%", "ppm") else kind.shown
            self.source.report(
                criterion.b.span,
                "per cent of what?" if found.shown == "%" else f"{found.shown} of what?",
                "",
                f"The nominal value is in {own} itself. Write: between 83 {own} and 87 {own}",
            )
        elif in_percent:
            self.tolerances[criterion] = "relative"
            return True
        elif self.is_difference(criterion.b, found, kind):
            self.tolerances[criterion] = "absolute"
            return True
        else:
            self.source.report(
                criterion.b.span,
                "wrong unit",
                str(found),
                f"The tolerance is {units.describe(units.difference(kind.dimension))} or in %.",
            )
        return False

    @staticmethod
    def is_difference(expr: nodes.Expr, found: Type, kind: Type) -> bool:
        """True if an expression can be a difference of two values of a type; of temperatures also as 5 degC."""
        return isinstance(found, Quantity) and (
            found.dimension == units.difference(kind.dimension) or is_degrees(expr, kind)
        )


def is_degrees(expr: nodes.Expr, kind: Type) -> bool:
    """True for a tolerance or step of a temperature that is written as a number in degC: it is a difference."""
    return kind.dimension == units.CELSIUS and isinstance(expr, nodes.Literal) and expr.quantity.unit.symbol == "degC"
