"""What functions of formulas take behind their first argument: each kind says by itself whether an argument is one, and
how it is written in generated code. Their names stand in the table of ibexite.functions."""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from ibexite import units
from ibexite.errors import did_you_mean
from ibexite.functions import Function
from ibexite.language import nodes
from ibexite.language.type_base import Lookup, TyperBase
from ibexite.units import PLAIN, Dimension
from ibexite.values import Type


class ArgumentKind(Protocol):
    """One kind of argument."""

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """Whether an argument is of this kind, `x` being the first one; reports it if not."""

    def source(self, argument: nodes.Argument, write: Callable[[nodes.Expr], str]) -> list[str]:
        """The arguments of the function in generated code; `write` gives the source of an expression."""

    def variant(self, argument: nodes.Argument) -> str:
        """What in it decides which function of ibexite.analysis computes, "" if nothing."""


class Value:
    """A value of a dimension that follows from the first argument."""

    def __init__(self, wanted: Callable[[Type], Dimension]) -> None:
        self._wanted = wanted

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """It is a value of that dimension; a curve only where functions work value by value."""
        if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
            typer.source.report(argument.span, "not a value", "", f"Write {function.usage}.")
            return False
        found, wanted = typer.quantity(argument, lookup), self._wanted(x)
        if found is None:
            return False
        if found.dimension != wanted or (found.axes and function.kind != "point"):
            typer.source.report(argument.span, "wrong unit", str(found), f"Here belongs {units.describe(wanted)}.")
            return False
        return True

    def source(self, argument: nodes.Argument, write: Callable[[nodes.Expr], str]) -> list[str]:
        """The value."""
        assert not isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument)
        return [write(argument)]

    def variant(self, argument: nodes.Argument) -> str:
        """Nothing."""
        return ""


class WindowSize:
    """So many points, or a part of an octave."""

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """It is written as a window, with a plain number."""
        if isinstance(argument, nodes.Window):
            amount = typer.quantity(argument.amount, lookup)
            return amount is not None and amount.dimension.is_plain
        typer.source.report(argument.span, "not a window", "", "Write: smooth(x, 5 points) or smooth(x, 3 per octave)")
        return False

    def source(self, argument: nodes.Argument, write: Callable[[nodes.Expr], str]) -> list[str]:
        """Its size."""
        assert isinstance(argument, nodes.Window)
        return [write(argument.amount)]

    def variant(self, argument: nodes.Argument) -> str:
        """points or octave."""
        return argument.kind if isinstance(argument, nodes.Window) else ""


class UnitOfValue:
    """The symbol of a unit, that of the first argument."""

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """It is a unit, and of that dimension."""
        if not isinstance(argument, nodes.UnitArgument):
            typer.source.report(argument.span, "not a unit", "", "Write, for example: number(v_out, mV)")
        elif argument.unit.dimension != x.dimension:
            typer.source.report(argument.span, "wrong unit", argument.unit.symbol, f"The value is {x}.")
        else:
            return True
        return False

    def source(self, argument: nodes.Argument, write: Callable[[nodes.Expr], str]) -> list[str]:
        """Its factor and offset."""
        assert isinstance(argument, nodes.UnitArgument)
        return [repr(float(argument.unit.factor)), repr(float(argument.unit.offset))]

    def variant(self, argument: nodes.Argument) -> str:
        """Nothing."""
        return ""


class Waveform(Value):
    """Another waveform, over the axes of the first one, of any unit."""

    def __init__(self) -> None:
        super().__init__(lambda x: x.dimension)

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """It is a quantity over the same axes."""
        if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
            typer.source.report(argument.span, "not a waveform", "", f"Write {function.usage}.")
            return False
        found = typer.quantity(argument, lookup)
        if found is None:
            return False
        if found.axes != x.axes or found.is_complex:
            typer.source.report(argument.span, "not such a waveform", str(found), f"The first one is {x}.")
            return False
        return True


class OfAnyUnit(Value):
    """A single value of any unit."""

    def __init__(self) -> None:
        super().__init__(lambda x: x.dimension)

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """It is a single quantity of a linear unit."""
        if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
            typer.source.report(argument.span, "not a value", "", f"Write {function.usage}.")
            return False
        found = typer.quantity(argument, lookup)
        if found is not None and (found.axes or found.dimension.kind != "linear"):
            typer.source.report(argument.span, "not a single value", str(found), f"Write {function.usage}.")
            return False
        return found is not None


class StimulusPart:
    """A stimulus, or those of its parts that have a name."""

    def fits(self, typer: TyperBase, function: Function, x: Type, argument: nodes.Argument, lookup: Lookup) -> bool:
        """It names parts of a declared stimulus, of a kind that the function can take."""
        if isinstance(argument, nodes.Pair | nodes.Window | nodes.UnitArgument):
            typer.source.report(argument.span, "not a stimulus", "", f"Write {function.usage}.")
            return False
        found = typer.stimulus_of(argument)
        if typer.is_of_broken_stimulus(argument):
            return False
        if found is None:
            self._report(typer, function, argument)
            return False
        if not function.part_kinds:
            return True
        try:
            found.of_one_kind(*function.part_kinds)
        except ValueError as error:
            named = dict.fromkeys(
                f"{found.name}.{p.name}" for p in found.parts if p.kind in function.part_kinds and p.is_judged
            )
            remedy = f"Name one: {', '.join(named)}." if named else f"{function.name}() takes other parts."
            typer.source.report(argument.span, "which part is meant?", "", f"{error}. {remedy}")
            return False
        return True

    @staticmethod
    def _report(typer: TyperBase, function: Function, argument: nodes.Expr) -> None:
        whole = typer.stimuli.get(argument.test) if isinstance(argument, nodes.ResultOf) else None
        if isinstance(argument, nodes.ResultOf) and whole is not None:
            names = whole.names
            typer.source.report(
                argument.span, f"'{argument.test}' has no part {argument.name!r}", "",
                did_you_mean(argument.name, names) or f"Its parts are {', '.join(names)}.",
            )  # fmt: skip
            return
        remedy = f"Stimuli are declared at the left margin: {', '.join(typer.stimuli) or 'there are none yet'}."
        typer.source.report(argument.span, "not a stimulus", "", remedy)

    def source(self, argument: nodes.Argument, write: Callable[[nodes.Expr], str]) -> list[str]:
        """The parts, as they were declared."""
        assert isinstance(argument, nodes.Name | nodes.ResultOf)
        name = argument.name if isinstance(argument, nodes.Name) else f"{argument.test}.{argument.name}"
        return [f"from_file('stimulus', {name!r})"]

    def variant(self, argument: nodes.Argument) -> str:
        """Nothing."""
        return ""


ARGUMENTS: dict[str, ArgumentKind] = {
    "same": Value(lambda x: x.dimension), "plain": Value(lambda x: PLAIN), "angle": Value(lambda x: units.RADIAN),
    "decibel": Value(lambda x: units.DECIBEL), "window": WindowSize(), "unit": UnitOfValue(),
    "time": Value(lambda x: units.SECOND), "frequency": Value(lambda x: units.HERTZ), "any": OfAnyUnit(),
    "waveform": Waveform(), "part": StimulusPart(),
}  # fmt: skip
