"""Formulas as Python source. What is known before the run is computed now, exactly; the rest is float arithmetic.

Names of the sequence get the prefix v_, so that none can meet a name of Python or of ours. Curves use the functions of
ibexite.analysis, single values plain operators. What has no value is NaN: in arithmetic, and in comparisons too.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from decimal import Decimal

from ibexite.analysis.single_values import ARITHMETIC
from ibexite.errors import SequenceError
from ibexite.functions import Function, function_named, target_of
from ibexite.holes import Counts
from ibexite.language import constants, nodes
from ibexite.language.check_files import GOLDEN
from ibexite.language.function_arguments import ARGUMENTS
from ibexite.language.type_calls import split_flags
from ibexite.untyped import Measured
from ibexite.values import NUMBER, Type

_COMPARISONS = {">=": "ge", "<=": "le", ">": "gt", "<": "lt", "==": "eq", "!=": "ne"}


def decided(condition: Measured, counts: Counts | None = None) -> bool:
    """A condition that must be known.

    Raises:
        SequenceError: it depends on a value that is bad or was never measured, or out of which bad ones were left.
    """
    if condition != condition or (counts is not None and counts.bad):
        raise SequenceError(
            "the condition cannot be decided", remedy="A value in it is bad, or was never measured; see the readings."
        )
    return bool(condition)


def as_time(seconds: float) -> float:
    """Seconds that must be known.

    Raises:
        SequenceError: they depend on a bad value, or are below zero.
    """
    if not 0 <= seconds < math.inf:
        raise SequenceError("the time is not a number of seconds", remedy="What it depends on is bad.")
    return seconds


def never_over(axes: list[str]) -> Measured:
    """A curve of which no point was measured."""
    import numpy as np

    from ibexite.analysis.curve import ArrayCurve

    return ArrayCurve({axis: np.empty(0) for axis in axes}, np.empty((0,) * len(axes)))


HELPERS = {
    "never_over": never_over,
    "as_time": as_time,
    "decided": decided,
    **ARITHMETIC,
}


def variable(name: str) -> str:
    """The Python name of a name of the sequence."""
    return "v_" + name.replace(".", "_DOT_")


class Formulas:
    """Writes the source of expressions, given their types, what is known, and the names of the block (with those of its
    measurements, "lp.f_cut")."""

    def __init__(
        self,
        types: Mapping[nodes.Expr, Type],
        known: constants.Known,
        names: Collection[str] = (),
        python: Collection[str] = (),
        tolerances: Mapping[nodes.Criterion, str] | None = None,
    ) -> None:
        self._types, self._known, self._names, self._python = types, known, names, python
        self._tolerances = tolerances or {}
        self.by_reference: set[str] = set()  # names of which values come from references
        self.used: dict[
            str, str
        ] = {}  # the functions of ibexite.analysis that were written, by the names they have there

    def function(self, target: str) -> str:
        """The name under which the code calls a function of ibexite.analysis, "module.function"."""
        name = "f_" + target.replace(".", "__")
        self.used[name] = target
        return name

    def source(self, expr: nodes.Expr) -> str:
        """A Python expression for the value in base form. Arithmetic in it raises nothing: what has no value is NaN."""
        source = self._source(expr)
        is_chain = isinstance(expr, nodes.Arithmetic) and expr.op in "+-*" and source.startswith("(")
        return f"fin{source}" if is_chain and not self._any_axes(expr) else source

    def _source(self, expr: nodes.Expr) -> str:
        """The same; a sum or product, in brackets, may still be infinite."""
        known = constants.evaluate(expr, self._known)
        if known is not None:
            return repr(float(known)) if isinstance(known, Decimal) else repr(known)
        match expr:
            case nodes.Name(name=name):
                return variable(name)
            case nodes.ResultOf(test=test, name=name):
                key = f"{test}.{name}"
                return variable(key) if key in self._names else f"result_of({test!r}, {name!r})"
            case nodes.Minus(operand=operand):
                return f"(-{self.source(operand)})"
            case nodes.Arithmetic(op="^"):
                return f"{self.function('pointwise.raised')}({self.source(expr.left)}, {self.source(expr.right)})"
            case nodes.Arithmetic(op="/"):
                return f"div({self._source(expr.left)}, {self.source(expr.right)})"
            case nodes.Arithmetic(op=op):
                return f"({self._source(expr.left)} {op} {self._source(expr.right)})"
            case nodes.Compare(op=op):
                return self.compare(op, expr.left, expr.right)
            case nodes.Inside():
                return self._inside(expr)
            case nodes.Logic():
                operands = ", ".join(self.source(operand) for operand in expr.operands)
                name = self.function("pointwise.logic") if self._any_axes(*expr.operands) else "logic"
                return f"{name}({expr.op!r}, {operands})"
            case nodes.Call():
                return self._call(expr)
            case nodes.FromFile(kind=kind, name=name):
                return f"from_file({kind!r}, {name!r})"
        raise AssertionError(f"no source for {expr!r}")

    def _any_axes(self, *exprs: nodes.Expr) -> bool:
        return any(self._types[expr].axes for expr in exprs if expr in self._types)

    def time(self, expr: nodes.Expr) -> str:
        """The source of a time; it is looked at where it is not known before the run."""
        source = self.source(expr)
        return source if constants.number(expr, self._known) is not None else f"as_time({source})"

    def compare(self, op: str, left: nodes.Expr, right: nodes.Expr) -> str:
        """A comparison."""
        sides = f"{self.source(left)}, {self.source(right)}"
        if self._any_axes(left, right):
            return f"{self.function('pointwise.compared')}({op!r}, {sides})"
        return f"{_COMPARISONS[op]}({sides})"

    def _inside(self, expr: nodes.Inside) -> str:
        low, high = self.limits(expr.criterion, None)
        x = self.source(expr.operand)
        if self._any_axes(expr.operand):
            return f"{self.function('catalog.inside')}({x}, {low}, {high})"
        return f"logic('and', ge({x}, {low}), le({x}, {high}))"

    def limits(self, criterion: nodes.Criterion, tolerance_kind: str | None) -> tuple[str, str]:
        """The source of the lower and the upper limit; exact where both parts are known."""
        if criterion.kind == "inside":
            assert isinstance(criterion.a, nodes.FromFile)
            return f"from_file('low', {criterion.a.name!r})", f"from_file('high', {criterion.a.name!r})"
        a = self.source(criterion.a)
        if criterion.kind in (">=", ">"):
            return a, "INF"
        if criterion.kind in ("<=", "<"):
            return "-INF", a
        if criterion.kind in ("==", "is"):
            return a, a
        assert criterion.b is not None
        if criterion.kind == "between":
            return a, self.source(criterion.b)
        kind = tolerance_kind or self.tolerance_kind(criterion)
        both = constants.both_limits(criterion, self._known, kind)
        if both is not None:
            return repr(float(both[0])), repr(float(both[1]))
        tolerance = constants.number(criterion.b, self._known)
        if tolerance is not None:
            tolerance = constants.as_difference(criterion.b, tolerance)
        b = self.source(criterion.b) if tolerance is None else repr(float(tolerance))
        half = f"{self.function('pointwise.absolute')}({a} * {b})" if kind == "relative" else b
        wrap = "" if self._any_axes(criterion.a, criterion.b) else "fin"
        return f"{wrap}({a} - {half})", f"{wrap}({a} + {half})"

    def tolerance_kind(self, criterion: nodes.Criterion) -> str:
        """absolute or relative, as the checker found it."""
        return self._tolerances.get(criterion, "absolute")

    # --- functions ---------------------------------------------------------------------------------------------------

    def _call(self, expr: nodes.Call) -> str:
        if expr.function == "drift":
            assert isinstance(expr.arguments[0], nodes.Name)
            return f"drift({expr.arguments[0].name!r})"
        if expr.function in self._python:
            return self._python_call(expr)
        function = self._form_of(expr)
        arguments, flags = split_flags(expr, function)
        options = [f"{flag}=True" for flag in flags if flag != "all"]
        if function.name == "onto" and self.is_by_reference(expr.arguments[0]):
            options.append("is_reference=True")
        if expr.part:
            options.append(f"field={expr.part!r}")
        if function.name == "choose":
            given = [
                self.source(a) for a in arguments if not isinstance(a, nodes.Pair | nodes.Window | nodes.UnitArgument)
            ]
            return f"{self.function(function.target)}({', '.join(given)})"
        if function.name == "line":
            pairs = [f"({self.source(p.x)}, {self.source(p.y)})" for p in arguments if isinstance(p, nodes.Pair)]
            return f"{self.function('catalog.line')}({', '.join([repr(expr.along), *pairs, *options])})"
        return self._built_in(expr, function, arguments, frozenset(flags), options)

    def is_by_reference(self, expr: nodes.Argument) -> bool:
        """Whether an expression takes a value from a reference, itself or by names that do."""
        if isinstance(expr, nodes.Pair | nodes.Window | nodes.UnitArgument):
            return False
        has_own = any(file.kind == GOLDEN for file in constants.files_in(expr))
        return has_own or bool(constants.names_in(expr) & self.by_reference)

    def _form_of(self, expr: nodes.Call) -> Function:
        """The function in the form in which it is called. What has no type among the arguments, where parts of stimuli
        may stand, is one: that was looked at when it was vetted."""
        first = function_named(expr.function, len(expr.arguments))
        assert first is not None
        arguments, _ = split_flags(expr, first)
        places = tuple(
            i for i, a in enumerate(arguments) if isinstance(a, nodes.Name | nodes.ResultOf) and a not in self._types
        )
        found = function_named(expr.function, len(arguments), places)
        assert found is not None
        return found

    def _built_in(
        self,
        expr: nodes.Call,
        function: Function,
        arguments: list[nodes.Argument],
        flags: frozenset[str],
        options: list[str],
    ) -> str:
        first = arguments[0]
        assert not isinstance(first, nodes.Pair | nodes.Window | nodes.UnitArgument)
        x = self._types.get(first) or NUMBER
        given = [self.source(first)]
        if function.name == "at":
            places = ", ".join(f"{axis!r}: {self.source(value)}" for axis, value in expr.named)
            given.append("{" + places + "}")
        elif function.consumed:
            given.append(repr(function.consumed))
        elif function.kind in ("consume", "keep") or function.name == "intermittent":
            given.append(repr(expr.along or x.axes[0]))
        variant = ""
        for name, argument in zip(function.arguments[1:], arguments[1:], strict=False):
            kind = ARGUMENTS.get(name.strip("?"))
            if kind is None:  # x: one more value, as the first
                given.append(self.source(argument))  # type: ignore[arg-type]
                continue
            given += kind.source(argument, self.source)
            variant = variant or kind.variant(argument)
        if function.option_for(x.dimension):
            options.append(function.option_for(x.dimension))
        target = target_of(function, x.dimension, flags, variant)
        return f"{self.function(target)}({', '.join([*given, *options])})"

    def _python_call(self, expr: nodes.Call) -> str:
        given = [
            self.source(a) for a in expr.arguments if not isinstance(a, nodes.Pair | nodes.Window | nodes.UnitArgument)
        ]
        return f"call_python({', '.join([repr(expr.function), *given])})"


def readings_behind(expr: nodes.Expr, behind: Mapping[str, frozenset[str]]) -> frozenset[str]:
    """The readings that a value comes from, through all computed names."""
    names = constants.names_in(expr)
    return frozenset().union(*(behind.get(name, frozenset({name})) for name in names))
