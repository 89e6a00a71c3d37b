"""Expressions: the part of the tree of a sequence that has values, and what is demanded of them."""

from __future__ import annotations

from ibexite.frozen import node
from ibexite.language.source import Span
from ibexite.units import Amount, Unit


@node
class Literal:
    """A number with its unit, exact."""

    span: Span
    quantity: Amount


@node
class Text:
    """A text; `{name}` in it is filled in when it is shown."""

    span: Span
    value: str


@node
class Word:
    """on, off, yes or no."""

    span: Span
    value: str

    @property
    def is_true(self) -> bool:
        """True for on and yes."""
        return self.value in ("on", "yes")


REPORTED = ""  # a name for what is no value at all, and was reported: no further message comes of it


@node
class Name:
    """A parameter, sweep variable, reading or computed result of this test."""

    span: Span
    name: str


@node
class ResultOf:
    """The result of another test: test.name."""

    span: Span
    test: str
    name: str


@node
class Call:
    """A function of a formula. `named` are the arguments with a name (at(x, axis = value))."""

    span: Span
    function: str
    arguments: tuple[Argument, ...]
    named: tuple[tuple[str, Expr], ...]
    along: str | None
    part: str = ""  # of a result with parts: resonance(z).q


@node
class Pair:
    """x -> y, an argument of line()."""

    span: Span
    x: Expr
    y: Expr


@node
class Window:
    """5 points or 3 per octave, an argument of smooth()."""

    span: Span
    amount: Expr
    kind: str  # points or octave


@node
class UnitArgument:
    """The symbol of a unit, an argument of number()."""

    span: Span
    unit: Unit


@node
class Arithmetic:
    """left op right, with op one of + - * / ^."""

    span: Span
    op: str
    left: Expr
    right: Expr


@node
class Minus:
    """-operand."""

    span: Span
    operand: Expr


@node
class Compare:
    """left op right, with op one of >= <= > < == !=."""

    span: Span
    op: str
    left: Expr
    right: Expr


@node
class Logic:
    """operands joined by and, or; a single one by not."""

    span: Span
    op: str
    operands: tuple[Expr, ...]


@node
class Inside:
    """A condition: operand between a and b, or within a +/- b."""

    span: Span
    operand: Expr
    criterion: Criterion


@node
class FromFile:
    """What lies in a file of its own: kind is mask (only in `inside`), mask_low, mask_high or golden."""

    span: Span
    kind: str
    name: str


@node
class Criterion:
    """What a check demands: kind is >=, <=, >, <, ==, between (a, b), within (a +/- b), is (a Word), matches (a Text),
    inside (a mask) or same_as (within `tolerances`)."""

    span: Span
    kind: str
    a: Expr
    b: Expr | None
    tolerances: tuple[Expr, ...] = ()


Expr = Literal | Text | Word | Name | ResultOf | Call | Arithmetic | Minus | Compare | Logic | Inside | FromFile
Argument = Expr | Pair | Window | UnitArgument
