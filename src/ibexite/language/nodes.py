"""The tree of a sequence: plain frozen data, each node with its span. Nodes are compared by identity."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar, dataclass_transform

from ibexite.language.source import Span
from ibexite.units import Quantity, Unit

T = TypeVar("T")


@dataclass_transform(frozen_default=True, eq_default=False)
def node(cls: type[T]) -> type[T]:
    """Makes a class of the tree: frozen, compared by identity."""
    return dataclass(frozen=True, eq=False, repr=False, slots=True)(cls)


@node
class Literal:
    """A number with its unit, exact."""

    span: Span
    quantity: Quantity


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
    arguments: tuple[Expr, ...]
    named: tuple[tuple[str, Expr], ...]
    along: str | None


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


Expr = Literal | Text | Word | Name | ResultOf | Call | Arithmetic | Minus | Compare | Logic


@node
class Assignment:
    """role.setting = value of a set line."""

    span: Span
    role: str
    setting: str
    value: Expr


@node
class Set:
    """Sends settings, in the order written."""

    span: Span
    assignments: tuple[Assignment, ...]


@node
class Reading:
    """One value of a read line: a signal (role is None) or a reading of a role."""

    span: Span
    name: str
    source: str
    role: str | None = None
    arguments: tuple[tuple[str, Expr], ...] = ()


@node
class Read:
    """Takes readings."""

    span: Span
    readings: tuple[Reading, ...]
    together: bool
    averaging: int


@node
class Let:
    """A computed result."""

    span: Span
    name: str
    value: Expr
    shown: Unit | None


@node
class Criterion:
    """What a check demands: kind is >=, <=, >, <, between (a, b) or within (a +/- b)."""

    span: Span
    kind: str
    a: Expr
    b: Expr | None


@node
class Check:
    """A judgement."""

    span: Span
    value: Expr
    criterion: Criterion
    where: Expr | None
    label: str | None


@node
class Wait:
    """Waits for a time."""

    span: Span
    time: Expr


@node
class Segment:
    """A stretch of a sweep; start is None where it goes on from the end before. spacing: step, points or log."""

    span: Span
    start: Expr | None
    end: Expr
    spacing: str
    amount: Expr


@node
class Sweep:
    """Runs its block for each value; either over listed values or along segments."""

    span: Span
    name: str
    values: tuple[Expr, ...]
    segments: tuple[Segment, ...]
    body: tuple[Statement, ...]


@node
class Show:
    """Shows a text to the operator."""

    span: Span
    text: str


@node
class AskConfirm:
    """Asks the operator to do something and confirm it."""

    span: Span
    text: str


@node
class Plot:
    """A figure for the report."""

    span: Span
    ys: tuple[str, ...]
    x: str
    by: str | None
    title: str | None


Statement = Set | Read | Let | Check | Wait | Sweep | Show | AskConfirm | Plot


@node
class Need:
    """A role with its instrument class, or a signal with its unit."""

    span: Span
    name: str
    class_name: str | None
    unit: Unit | None


@node
class Param:
    """A parameter: default, choices, bounds, help."""

    span: Span
    name: str
    default: Expr
    choices: tuple[Expr, ...]
    bounds: tuple[Expr, Expr] | None
    help: str


@node
class Test:
    """A named test with its lines."""

    __test__ = False  # not for pytest
    span: Span
    name: str
    title: str
    is_gate: bool
    body: tuple[Statement, ...]


@node
class Sequence:
    """A whole file."""

    title: str
    product: str
    revision: str
    serial: str
    serial_span: Span
    needs: tuple[Need, ...]
    params: tuple[Param, ...]
    before_unit: tuple[Statement, ...]
    tests: tuple[Test, ...]
    after_unit: tuple[Statement, ...]
