"""Types of calls: functions of formulas, and those of Python files."""

from __future__ import annotations

from collections.abc import Sequence

from ibexite import units
from ibexite.connections import CONTACT
from ibexite.errors import did_you_mean
from ibexite.functions import AXES, FUNCTIONS, IN_WAIT, Function, function_named
from ibexite.language import nodes
from ibexite.language.function_arguments import ARGUMENTS
from ibexite.language.python_function import PythonFunction
from ibexite.language.type_base import Lookup, TyperBase
from ibexite.units import PLAIN
from ibexite.values import Connections, Quantity, Type, YesNo


class CallTyper(TyperBase):
    """The types of what functions give."""

    def _call(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        if expr.function in self.functions:
            return self._python(expr, self.functions[expr.function], lookup)
        if expr.function in IN_WAIT:
            return self._drift(expr, lookup)
        function = self.function_of(expr)
        if function is None:
            known = [*FUNCTIONS, *self.functions]
            self.source.report(expr.span, f"unknown function {expr.function!r}", "", did_you_mean(expr.function, known))
            return None
        arguments, flags = split_flags(expr, function)
        if not self._is_called_right(expr, function, arguments):
            return None
        if function.name == "line":
            return self._line(expr, lookup)
        if function.name == "choose":
            return self._choose(expr, lookup)
        first = arguments[0]
        if isinstance(first, nodes.Pair | nodes.Window | nodes.UnitArgument):
            what = f"{first.unit.symbol!r} is a unit" if isinstance(first, nodes.UnitArgument) else "not a value"
            self.source.report(first.span, what, "", f"Write {function.usage}. Symbols of units cannot be names.")
            return None
        if function.name == "intermittent":
            return self._intermittent(expr, first, lookup)
        x = self.quantity(first, lookup)
        if x is None or not self._complexity_fits(first, x, function):
            return None
        if function.name == "at":
            return self._at(expr, x, lookup)
        if function.name == "onto":
            return self._onto(arguments, x, lookup)
        axis: str | None = ""
        if function.kind in ("consume", "keep"):
            axis = self._consumed_axis(expr, x)
        elif function.is_of_waveforms:
            axis = self._waveform_axis(expr, x, function)
        further = zip(function.arguments[1:], arguments[1:], strict=False)
        fits = [ARGUMENTS[kind.strip("?")].fits(self, function, x, argument, lookup) for kind, argument in further]
        if axis is None or not all(fits):
            return None
        return self._result(expr, function, x, axis, frozenset(flags), arguments, lookup)

    def function_of(self, expr: nodes.Call) -> Function | None:
        """The function that a call means, in the form in which it is called; None where there is none."""
        first = function_named(expr.function, len(expr.arguments))
        if first is None:
            return None
        arguments, _ = split_flags(expr, first)
        places = tuple(i for i, argument in enumerate(arguments) if self.names_stimulus(argument))
        return function_named(expr.function, len(arguments), places)

    def _waveform_axis(self, expr: nodes.Call, x: Type, function: Function) -> str | None:
        """The axis of a waveform, or of a spectrum or response; reports what is none."""
        axis = function.consumed
        kind = self.axis_of(axis)
        if axis in x.axes and kind is not None and kind.dimension == AXES[axis] and not expr.along:
            return axis
        first = expr.arguments[0]
        what, example = {
            "time": ("not a waveform", "It takes what was recorded over time: read wave = scope.wave(channel = 1)"),
            "freq": ("not a response", "It takes a curve over freq, such as response(rec.mic, ping.chirp)."),
        }[axis]
        self.source.report(first.span, what, str(x), example)
        return None

    def _intermittent(self, expr: nodes.Call, first: nodes.Expr, lookup: Lookup) -> Type | None:
        wires = self.type_of(first, lookup)
        if wires is None:
            return None
        if not isinstance(wires, Connections):
            self.source.report(first.span, "not connections", str(wires), "It takes what a tester read in each turn.")
            return None
        axis = self._consumed_axis(expr, wires)
        return None if axis is None else Quantity((*(a for a in wires.axes if a != axis), CONTACT))

    def _choose(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        kinds = []
        for argument in expr.arguments:
            if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
                self.source.report(argument.span, "not a value", "", f"Write {FUNCTIONS['choose'].usage}.")
                return None
            kinds.append(self.type_of(argument, lookup))
        condition, a, b = kinds
        if condition is None or a is None or b is None:
            return None
        if not isinstance(condition, YesNo):
            self.source.report(expr.arguments[0].span, "not a condition", str(condition), "Write, as: v_in > 6 V")
            return None
        if not a.fits(b) or not isinstance(a, Quantity):
            self.source.report(expr.arguments[2].span, "wrong unit", str(b), f"The other one is {a}.")
            return None
        axes = self._together(expr, condition, a, b)
        return None if axes is None else a.single().over(axes)

    def _result(
        self,
        expr: nodes.Call,
        function: Function,
        x: Type,
        axis: str,
        flags: frozenset[str],
        arguments: Sequence[nodes.Argument],
        lookup: Lookup,
    ) -> Type | None:
        along = self.axis_of(axis) if axis else None
        rule = function.fields[expr.part] if expr.part else function.result
        dimension = rule(x.dimension, along.dimension if along else PLAIN)
        if function.per_second:
            dimension = units.divide(dimension, self.types[arguments[1]].dimension)  # type: ignore[index]
        is_complex = {"makes_complex": True, "result_real": False}.get(function.complexity, x.is_complex)
        shown = x.shown if dimension == x.dimension else along.shown if along and dimension == along.dimension else None
        values = [a for a in arguments[1:] if not isinstance(a, nodes.Pair | nodes.Window | nodes.UnitArgument)]
        others = [self.types[value] for value in values if value in self.types]
        axes = self._together(expr, x, *others)
        if axes is None:
            return None
        if function.kind == "consume" or function.consumed:
            axes = x.axes if function.kind.endswith("keep") else tuple(a for a in x.axes if a != axis)
            axes += ("crossing",) if "all" in flags else function.gives
            for given in function.gives:
                self.axis_of(given)  # so that it is known of which unit the axis is
        return YesNo(axes) if function.is_yes_no else Quantity(axes, dimension, shown, is_complex)

    def _is_called_right(self, expr: nodes.Call, function: Function, arguments: list[nodes.Argument]) -> bool:
        wanted = len(function.arguments) - ("axis" in function.arguments)
        least = wanted - sum(kind.endswith("?") for kind in function.arguments)
        is_right = (
            (least <= len(arguments) <= wanted or (function.name == "line" and len(arguments) >= 2))
            and bool(expr.named) == (function.name == "at")
            and not (
                expr.along and function.kind in ("point", "special") and function.name not in ("line", "intermittent")
            )
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
            wanted, found = self.axis_of(axis), self.quantity(value, lookup)
            if wanted is None or found is None:
                return None
            if wanted.dimension != found.dimension or found.axes:
                self.source.report(
                    value.span, "wrong unit", str(found), f"{axis} is {units.describe(wanted.dimension)}."
                )
                return None
        taken = {axis for axis, _ in expr.named}
        return inner.over(tuple(a for a in inner.axes if a not in taken))

    def _onto(self, arguments: list[nodes.Argument], x: Type, lookup: Lookup) -> Type | None:
        second = arguments[1]
        like = (
            self.quantity(second, lookup)
            if not isinstance(second, nodes.Pair | nodes.Window | nodes.UnitArgument)
            else None
        )
        if like is None:
            return None
        if len(x.axes) == len(like.axes) == 1 and x.axes != like.axes:  # the same quantity under another name
            mine, other = self.axis_of(x.axes[0]), self.axis_of(like.axes[0])
            if mine is not None and other is not None and mine.dimension == other.dimension:
                return x.over(like.axes)
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
            x, y = self.quantity(pair.x, lookup), self.quantity(pair.y, lookup)
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
        return found.over((expr.along,)) if found else None

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
            found = self.quantity(argument, lookup)
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
        return Quantity(joined, function.result, function.shown) if joined is not None else None

    def _drift(self, expr: nodes.Call, lookup: Lookup) -> Type | None:
        first = expr.arguments[0] if len(expr.arguments) == 1 else None
        if not self.is_in_wait or not isinstance(first, nodes.Name) or expr.along or expr.named:
            self.source.report(
                expr.span, "drift(x) stands only in a wait", "",
                "Write: wait reading t_board every 2 s until abs(drift(t_board)) < 5 mK/s timeout 5 min",
            )  # fmt: skip
            return None
        x = self.quantity(first, lookup)
        if x is None:
            return None
        return Quantity((), units.divide(units.difference(x.dimension), units.SECOND))


def split_flags(expr: nodes.Call, function: Function) -> tuple[list[nodes.Argument], list[str]]:
    """The arguments of a call, and the words at its end that are flags of the function."""
    arguments, flags = list(expr.arguments), []
    while len(arguments) > 1 and isinstance(arguments[-1], nodes.Name) and arguments[-1].name in function.flags:
        flags.append(arguments.pop().name)  # type: ignore[union-attr]
    return arguments, flags
