"""What all parts of the typer share: the types found so far, the axes of several operands together."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ibexite.errors import UnitError
from ibexite.language import constants, nodes
from ibexite.language.python_function import PythonFunction
from ibexite.language.source import Source
from ibexite.stimulus import Stimulus
from ibexite.values import Quantity, Type

Lookup = Callable[[nodes.Name | nodes.ResultOf], Type | None]


class TyperBase:
    """Keeps the types of expressions in `types` for the compiler; the parts say what the types are."""

    def __init__(
        self,
        source: Source,
        types: dict[nodes.Expr, Type],
        tolerances: dict[nodes.Criterion, str],
        functions: Mapping[str, PythonFunction],
        *,
        known: Mapping[str, constants.Value] | None = None,
        axis_of: Callable[[str], Type | None] = lambda name: None,
        from_file: Callable[[nodes.FromFile], Type | None] = lambda expr: None,
        stimuli: Mapping[str, Stimulus | None] | None = None,
    ) -> None:
        """`known` are values known before the run, to refuse limits that leave no room; `axis_of` tells the type of an
        axis, as the present block knows it; `from_file` that of what a file holds; `stimuli` are those declared."""
        self.source, self.types, self.tolerances, self.functions = source, types, tolerances, functions
        self.known: Mapping[str, constants.Value] = known or {}
        self.axis_of, self.from_file = axis_of, from_file
        self.stimuli: Mapping[str, Stimulus | None] = stimuli if stimuli is not None else {}
        self.is_in_wait = False  # within the condition of a wait, where drift() may be used

    def type_of(self, expr: nodes.Expr, lookup: Lookup) -> Type | None:
        """The type of an expression whose names are found by `lookup`; None where a mistake was reported."""
        try:
            result = self._type(expr, lookup)
        except UnitError as error:
            self.source.report(expr.span, error.what, "", error.remedy)
            return None
        if result is not None:
            self.types[expr] = result
        return result

    def _type(self, expr: nodes.Expr, lookup: Lookup) -> Type | None:
        raise NotImplementedError

    def quantity(self, expr: nodes.Expr, lookup: Lookup) -> Quantity | None:
        """The type of an expression that must be a quantity; None, and reported, where it is none."""
        found = self.type_of(expr, lookup)
        if found is not None and not isinstance(found, Quantity):
            self.source.report(expr.span, "not a number", str(found), "Arithmetic takes numbers with units.")
            return None
        return found

    def stimulus_of(self, argument: nodes.Argument) -> Stimulus | None:
        """The stimulus that an argument names, of which only the parts that it names are meant: ping, ping.chirp; None
        for anything else, and for a part that there is not."""
        if isinstance(argument, nodes.Name):
            return self.stimuli.get(argument.name)
        whole = self.stimuli.get(argument.test) if isinstance(argument, nodes.ResultOf) else None
        if whole is not None and isinstance(argument, nodes.ResultOf) and argument.name in whole.names:
            return whole.only(argument.name)
        return None

    def names_stimulus(self, argument: nodes.Argument) -> bool:
        """Whether an argument names a stimulus, or a part that there may be or not."""
        return _stimulus_named(argument) in self.stimuli

    def is_of_broken_stimulus(self, argument: nodes.Argument) -> bool:
        """Whether it names one in which a mistake was reported."""
        name = _stimulus_named(argument)
        return name in self.stimuli and self.stimuli[name] is None

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


def _stimulus_named(argument: nodes.Argument) -> str:
    return argument.name if isinstance(argument, nodes.Name) else str(getattr(argument, "test", ""))


def joined_axes(*types: Type) -> tuple[str, ...]:
    """All axes of several operands, each once, in the order of first appearance."""
    return tuple(dict.fromkeys(axis for t in types for axis in t.axes))
