"""The type of an expression: what it measures and over which axes. Finds wrong units and unknown names."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace

from ibexite import units
from ibexite.errors import UnitError, did_you_mean
from ibexite.functions import FUNCTIONS, IN_WAIT, Function
from ibexite.language import constants, nodes
from ibexite.language.source import Source
from ibexite.units import PLAIN, Dimension


@dataclass(frozen=True, slots=True)
class Type:
    """kind is quantity, yes_no or text. `axes` names the axes of a curve; `shown` is the unit it was written in."""

    kind: str
    dimension: Dimension = PLAIN
    axes: tuple[str, ...] = ()
    shown: str | None = None
    is_complex: bool = False

    def __str__(self) -> str:
        if self.kind == "quantity":
            what = units.describe(self.dimension) + (", complex" if self.is_complex else "")
        else:
            what = "a text" if self.kind == "text" else "a yes/no value"
        return f"{what} over {', '.join(self.axes)}" if self.axes else what

    def fits(self, other: Type) -> bool:
        """True if both are of one kind and dimension."""
        return (self.kind, self.dimension, self.is_complex) == (other.kind, other.dimension, other.is_complex)


@dataclass(frozen=True, slots=True)
class PythonFunction:
    """A function of a Python file with the units that it declares. An argument that takes whole curves is a list
    there."""

    name: str
    file: str
    arguments: tuple[tuple[str, Dimension, bool], ...]  # name, dimension, takes a whole curve
    result: Dimension
    shown: str | None
    help: str
    timeout: float
    takes: tuple[units.Unit, ...] = ()  # in which it gets each argument, as it declares them
    gives: units.Unit = units.NO_UNIT  # in which it gives its result

    @property
    def usage(self) -> str:
        """How it is called."""
        return f"{self.name}({', '.join(name for name, _, _ in self.arguments if name != 'axis')})"


YES_NO = Type("yes_no")
TEXT = Type("text")
NUMBER = Type("quantity")
Lookup = Callable[[nodes.Name | nodes.ResultOf], Type | None]
_SIGNS: dict[str, Callable[[Dimension, Dimension], Dimension]] = {
    "+": units.add, "-": units.subtract, "*": units.multiply, "/": units.divide,
}  # fmt: skip


def type_of_kind(kind: units.Unit | str, axes: tuple[str, ...] = ()) -> Type:
    """The type that a declaration names: a unit, or number, text, yes_no."""
    if isinstance(kind, units.Unit):
        is_bare = kind.symbol == units.symbol_of(kind.dimension) and kind.dimension.kind == "linear"
        return Type("quantity", kind.dimension, axes, None if is_bare else kind.symbol)
    return replace({"number": NUMBER, "text": TEXT, "yes_no": YES_NO}[kind], axes=axes)


class Typer:
    """Gives types to expressions; None where a mistake was reported. Keeps them in `types` for the compiler."""

    def __init__(
        self,
        source: Source,
        types: dict[nodes.Expr, Type],
        tolerances: dict[nodes.Criterion, str],
        functions: Mapping[str, PythonFunction],
    ) -> None:
        self.source, self.types, self.tolerances, self.functions = source, types, tolerances, functions
        self.is_in_wait = False
        self.known: Mapping[str, constants.Value] = {}  # before the run, to refuse limits that leave no room
        self.axis_of: Callable[[str], Type | None] = lambda name: (
            None
        )  # the type of an axis, as the present block knows it

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
            case nodes.Inside():
                operand = self._quantity(expr.operand, lookup)
                return self.demand(operand, expr.criterion, lookup) if operand else None
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
        axes = self._together(expr, left, right)
        is_complex = left.is_complex or right.is_complex
        if axes is None:
            return None
        if expr.op == "^":
            return Type("quantity", self._power(expr, left, right), axes, is_complex=is_complex)
        dimension = _SIGNS[expr.op](left.dimension, right.dimension)
        shown = None
        if expr.op in "+-" and dimension == left.dimension:
            shown = left.shown if left.shown == right.shown else None
        return Type("quantity", dimension, axes, shown, is_complex)

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
        if left.kind != right.kind or left.dimension != right.dimension:
            self.source.report(expr.right.span, "these cannot be compared", str(right), f"The left side is {left}.")
            return None
        if (left.kind != "quantity" or left.is_complex or right.is_complex) and expr.op not in ("==", "!="):
            what = "complex values" if left.kind == "quantity" else "texts and yes/no values"
            self.source.report(expr.span, f"only == and != compare {what}")
            return None
        axes = self._together(expr, left, right)
        return Type("yes_no", axes=axes) if axes is not None else None

    def _logic(self, expr: nodes.Logic, lookup: Lookup) -> Type | None:
        found = [self.type_of(operand, lookup) for operand in expr.operands]
        for operand, kind in zip(expr.operands, found, strict=True):
            if kind is not None and kind.kind != "yes_no":
                self.source.report(operand.span, "not a condition", str(kind), f"'{expr.op}' takes conditions, a >= b.")
                return None
        known = [kind for kind in found if kind is not None]
        axes = self._together(expr, *known)
        return Type("yes_no", axes=axes) if len(known) == len(found) and axes is not None else None

    def _together(self, expr: nodes.Expr, *kinds: Type) -> tuple[str, ...] | None:
        """The axes of a result of several operands: those of the one that has them all. Curves over different axes are
        not multiplied out behind anybody's back; None after that mistake."""
        axes = joined_axes(*kinds)
        if not axes or any(set(kind.axes) == set(axes) for kind in kinds):
            return axes
        over = [", ".join(kind.axes) for kind in kinds if kind.axes]
        self.source.report(
            expr.span, "curves over different axes", f"over {' and over '.join(dict.fromkeys(over))}",
            "Bring one onto the axis of the other: onto(a, b); or take single values: max(x along axis), "
            "at(x, axis = value).",
        )  # fmt: skip
        return None

    # --- limits ------------------------------------------------------------------------------------------------------

    def demand(self, kind: Type | None, criterion: nodes.Criterion, lookup: Lookup) -> Type | None:
        """The type of a condition "x between a and b": yes/no over the axes of x; None after a mistake."""
        parts = [criterion.a] if criterion.kind == "within" else [e for e in (criterion.a, criterion.b) if e]
        found = [self._limit(kind, limit, lookup) for limit in parts]  # all of them: each has its own mistakes
        is_right = all(found)
        if criterion.kind == "within":
            is_right = self._tolerance(kind, criterion, lookup) and is_right
        is_right = bool(is_right) and self._leaves_room(criterion)
        return Type("yes_no", axes=kind.axes) if kind is not None and is_right else None

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
        if (found.kind, found.dimension) != (kind.kind, kind.dimension) or found.is_complex:
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
        return found.kind == "quantity" and (
            found.dimension == units.difference(kind.dimension) or is_degrees(expr, kind)
        )

    # --- functions ---------------------------------------------------------------------------------------------------

    def _call(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        if expr.function in self.functions:
            return self._python(expr, self.functions[expr.function], lookup)
        if expr.function in IN_WAIT:
            return self._drift(expr, lookup)
        function = FUNCTIONS.get(expr.function)
        if function is None:
            known = [*FUNCTIONS, *self.functions]
            self.source.report(expr.span, f"unknown function {expr.function!r}", "", did_you_mean(expr.function, known))
            return None
        arguments, flags = split_flags(expr, function)
        if not self._is_called_right(expr, function, arguments):
            return None
        if function.name == "line":
            return self._line(expr, lookup)
        first = arguments[0]
        if isinstance(first, nodes.Pair | nodes.Window | nodes.UnitArgument):
            what = f"{first.unit.symbol!r} is a unit" if isinstance(first, nodes.UnitArgument) else "not a value"
            self.source.report(first.span, what, "", f"Write {function.usage}. Symbols of units cannot be names.")
            return None
        x = self._quantity(first, lookup)
        if x is None or not self._complexity_fits(first, x, function):
            return None
        if function.name == "at":
            return self._at(expr, x, lookup)
        if function.name == "onto":
            return self._onto(arguments, x, lookup)
        axis = self._consumed_axis(expr, x) if function.kind in ("consume", "keep") else ""
        further = zip(function.arguments[1:], arguments[1:], strict=True)
        fits = [self._argument(function, x, kind, argument, lookup) for kind, argument in further]
        if axis is None or not all(fits):
            return None
        return self._result(expr, function, x, axis, frozenset(flags), arguments, lookup)

    def _result(
        self,
        expr: nodes.Call,
        function: Function,
        x: Type,
        axis: str,
        flags: frozenset[str],
        arguments: list,
        lookup: Lookup,
    ) -> Type | None:
        along = self.axis_of(axis) if axis else None
        rule = function.fields[expr.part] if expr.part else function.result
        dimension = rule(x.dimension, along.dimension if along else PLAIN)
        is_complex = {"makes_complex": True, "result_real": False}.get(function.complexity, x.is_complex)
        shown = x.shown if dimension == x.dimension else along.shown if along and dimension == along.dimension else None
        others = [self.types[a] for a in arguments[1:] if a in self.types]
        axes = self._together(expr, x, *others)
        if axes is None:
            return None
        if function.kind == "consume":
            axes = tuple(a for a in x.axes if a != axis)
            if "all" in flags:
                axes += ("crossing",)
        return Type("quantity", dimension, axes, shown, is_complex)

    def _is_called_right(self, expr: nodes.Call, function: Function, arguments: list[nodes.Argument]) -> bool:
        wanted = len(function.arguments) - ("axis" in function.arguments)
        is_right = (
            (len(arguments) == wanted or (function.name == "line" and len(arguments) >= 2))
            and bool(expr.named) == (function.name == "at")
            and not (expr.along and function.kind in ("point", "special") and function.name != "line")
        )
        if not is_right:
            more = f" Words that may follow: {', '.join(function.flags)}." if function.flags else ""
            self.source.report(
                expr.span, f"'{function.name}' is called otherwise", "", f"Write {function.usage}.{more}"
            )
        elif bool(expr.part) != bool(function.fields) or (expr.part and expr.part not in function.fields):
            parts = ", ".join(function.fields)
            hint = f"Write {function.name}(…).{next(iter(function.fields))}; its parts are {parts}." if parts else ""
            what = "which part of it?" if not expr.part else f"no part {expr.part!r}"
            self.source.report(expr.span, what, "", hint or f"'{function.name}' gives one value.")
            is_right = False
        return is_right

    def _complexity_fits(self, expr: nodes.Expr, x: Type, function: Function) -> bool:
        if x.is_complex and function.complexity not in ("any", "result_real"):
            self.source.report(
                expr.span,
                "a complex value",
                str(x),
                f"'{function.name}' takes real ones: abs(z), phase(z), re(z), im(z).",
            )
            return False
        return True

    def _argument(self, function: Function, x: Type, kind: str, argument: nodes.Argument, lookup: Lookup) -> bool:
        """Whether a further argument is what the function takes; reports it if not."""
        if kind == "window":
            if isinstance(argument, nodes.Window):
                amount = self._quantity(argument.amount, lookup)
                return amount is not None and amount.dimension.is_plain
            self.source.report(
                argument.span, "not a window", "", "Write: smooth(x, 5 points) or smooth(x, 3 per octave)"
            )
            return False
        if kind == "unit":
            if not isinstance(argument, nodes.UnitArgument):
                self.source.report(argument.span, "not a unit", "", "Write, for example: number(v_out, mV)")
            elif argument.unit.dimension != x.dimension:
                self.source.report(argument.span, "wrong unit", argument.unit.symbol, f"The value is {x}.")
            else:
                return True
            return False
        if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
            self.source.report(argument.span, "not a value", "", f"Write {function.usage}.")
            return False
        found = self._quantity(argument, lookup)
        if found is None:
            return False
        wanted = {"same": x.dimension, "decibel": units.DECIBEL, "plain": PLAIN, "angle": units.RADIAN}[kind]
        if found.dimension != wanted or (found.axes and function.kind != "point"):
            self.source.report(argument.span, "wrong unit", str(found), f"Here belongs {units.describe(wanted)}.")
            return False
        return True

    def _consumed_axis(self, expr: nodes.Call, inner: Type) -> str | None:
        first = expr.arguments[0]
        if not inner.axes:
            self.source.report(
                first.span,
                "not a curve",
                str(inner),
                f"'{expr.function}' takes a name that got its values in a sweep, after that sweep.",
            )
            return None
        if expr.along:
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

    def _at(self, expr: nodes.Call, inner: Type, lookup: Lookup) -> Type | None:
        if not inner.axes:
            self._consumed_axis(expr, inner)
            return None
        for axis, value in expr.named:
            if axis not in inner.axes:
                self.source.report(expr.span, f"no axis {axis!r}", "", f"It has: {', '.join(inner.axes)}.")
                return None
            wanted, found = self.axis_of(axis), self._quantity(value, lookup)
            if wanted is None or found is None:
                return None
            if wanted.dimension != found.dimension or found.axes:
                self.source.report(
                    value.span, "wrong unit", str(found), f"{axis} is {units.describe(wanted.dimension)}."
                )
                return None
        taken = {axis for axis, _ in expr.named}
        return replace(inner, axes=tuple(a for a in inner.axes if a not in taken))

    def _onto(self, arguments: list[nodes.Argument], x: Type, lookup: Lookup) -> Type | None:
        second = arguments[1]
        like = (
            self._quantity(second, lookup)
            if not isinstance(second, nodes.Pair | nodes.Window | nodes.UnitArgument)
            else None
        )
        if like is None:
            return None
        if len(x.axes) == len(like.axes) == 1 and x.axes != like.axes:  # the same quantity under another name
            mine, other = self.axis_of(x.axes[0]), self.axis_of(like.axes[0])
            if mine is not None and other is not None and mine.dimension == other.dimension:
                return replace(x, axes=like.axes)
        if not x.axes or not set(x.axes) & set(like.axes):
            self.source.report(second.span, "no axis in common", str(like), f"The first curve is {x}.")
            return None
        return x

    def _line(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        if not expr.along:
            self.source.report(
                expr.span, "along which axis?", "", "Write: line(2 kHz -> -3 dB, 9 kHz -> -3 dB along freq)"
            )
            return None
        axis = self.axis_of(expr.along)
        if axis is None:
            self.source.report(
                expr.span, f"no axis {expr.along!r}", "", "Name the axis of the curve that it is a limit of."
            )
            return None
        found: Type | None = None
        for pair in expr.arguments:
            if isinstance(pair, nodes.Name):
                continue  # a flag
            if not isinstance(pair, nodes.Pair):
                self.source.report(pair.span, "not a point", "", "A line is made of points: x -> y.")
                return None
            x, y = self._quantity(pair.x, lookup), self._quantity(pair.y, lookup)
            if x is None or y is None:
                return None
            if x.dimension != axis.dimension:
                self.source.report(
                    pair.x.span, "wrong unit", str(x), f"{expr.along} is {units.describe(axis.dimension)}."
                )
                return None
            found = found or y
            if y.dimension != found.dimension:
                self.source.report(pair.y.span, "wrong unit", str(y), f"The line began with {found}.")
                return None
        return replace(found, axes=(expr.along,)) if found else None

    def _python(self, expr: nodes.Call, function: PythonFunction, lookup: Lookup) -> Type | None:
        wanted = [a for a in function.arguments if a[0] != "axis"]
        if len(expr.arguments) != len(wanted) or expr.named or expr.part:
            self.source.report(expr.span, f"'{function.name}' is called otherwise", "", f"Write {function.usage}.")
            return None
        axes: list[Type] = []
        for (name, dimension, is_whole), argument in zip(wanted, expr.arguments, strict=True):
            if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
                self.source.report(argument.span, "not a value", "", f"Write {function.usage}.")
                return None
            found = self._quantity(argument, lookup)
            if found is None:
                return None
            if found.dimension != dimension or found.is_complex:
                self.source.report(
                    argument.span,
                    "wrong unit",
                    str(found),
                    f"{name} of {function.name} is {units.describe(dimension)}.",
                )
                return None
            if is_whole and len(found.axes) != 1:
                self.source.report(
                    argument.span, "not a curve over one axis", str(found), f"{name} takes a whole curve."
                )
                return None
            axes += [] if is_whole else [found]
        joined = self._together(expr, *axes)
        return Type("quantity", function.result, joined, function.shown) if joined is not None else None

    def _drift(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        first = expr.arguments[0] if len(expr.arguments) == 1 else None
        if not self.is_in_wait or not isinstance(first, nodes.Name) or expr.along or expr.named:
            self.source.report(
                expr.span, "drift(x) stands only in a wait", "",
                "Write: wait reading t_board every 2 s until abs(drift(t_board)) < 5 mK/s timeout 5 min",
            )  # fmt: skip
            return None
        x = self._quantity(first, lookup)
        if x is None:
            return None
        return Type("quantity", units.divide(units.difference(x.dimension), units.SECOND))


def split_flags(expr: nodes.Call, function: Function) -> tuple[list[nodes.Argument], list[str]]:
    """The arguments of a call, and the words at its end that are flags of the function."""
    arguments, flags = list(expr.arguments), []
    while len(arguments) > 1 and isinstance(arguments[-1], nodes.Name) and arguments[-1].name in function.flags:
        flags.append(arguments.pop().name)  # type: ignore[union-attr]
    return arguments, flags


def joined_axes(*types: Type) -> tuple[str, ...]:
    """All axes of several operands, each once, in the order of first appearance."""
    return tuple(dict.fromkeys(axis for t in types for axis in t.axes))


def is_degrees(expr: nodes.Expr, kind: Type) -> bool:
    """True for a tolerance or step of a temperature that is written as a number in degC: it is a difference."""
    return kind.dimension == units.CELSIUS and isinstance(expr, nodes.Literal) and expr.quantity.unit.symbol == "degC"
