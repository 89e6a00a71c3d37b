"""The tree of a sequence: plain frozen data, each node with its span. Nodes are compared by identity."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, TypeVar, dataclass_transform

from ibexite.language.source import Span
from ibexite.units import Quantity, Unit

T = TypeVar("T")


@dataclass_transform(frozen_default=True, eq_default=False)
def node(cls: type[T]) -> type[T]:
    """Makes a class of the tree from its annotations: slots, an __init__, compared by identity. Frozen for mypy.

    Not `dataclass`: that takes a millisecond and a half a class, and there are forty, at every start of the program.
    """
    names = tuple(cls.__annotations__)
    defaults = {name: cls.__dict__[name] for name in names if name in cls.__dict__}
    taken = (*defaults, "__dict__", "__weakref__")
    body = {key: value for key, value in cls.__dict__.items() if key not in taken}
    arguments = ", ".join(f"{name}=defaults[{name!r}]" if name in defaults else name for name in names)
    made: dict[str, Any] = {"defaults": defaults}
    exec(f"def __init__(self, {arguments}):\n" + "".join(f"    self.{name} = {name}\n" for name in names), made)
    return type(cls)(cls.__name__, cls.__bases__, {  # type: ignore[misc]
        **body, "__slots__": names, "__match_args__": names, "__init__": made["__init__"],
    })  # fmt: skip


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


Expr = Literal | Text | Word | Name | ResultOf | Call | Arithmetic | Minus | Compare | Logic | Inside
Argument = Expr | Pair | Window | UnitArgument


@node
class Assignment:
    """role.setting = value of a set line."""

    span: Span
    role: str
    setting: str
    value: Expr


@node
class Set:
    """Sends settings, in the order written; verified: reads back and compares."""

    span: Span
    assignments: tuple[Assignment, ...]
    is_verified: bool = False


@node
class Reading:
    """One value of a read line: a signal (role is None), a reading of a role, or a raw query (then `query` is its
    text).

    `kind` is the kind of a raw query's value: a unit, or "number", "text", "yes_no".
    """

    span: Span
    name: str
    source: str
    role: str | None = None
    arguments: tuple[tuple[str, Expr], ...] = ()
    query: str = ""
    kind: Unit | str = ""


@node
class Read:
    """Takes readings. tries: how often in all a bad one is taken; settled: until two in a row agree to within it."""

    span: Span
    readings: tuple[Reading, ...]
    together: bool
    averaging: int
    tries: int = 3
    settled: Expr | None = None


@node
class Do:
    """An action of a role."""

    span: Span
    role: str
    action: str


@node
class Send:
    """A raw command."""

    span: Span
    role: str
    text: str


@node
class Let:
    """A computed result."""

    span: Span
    name: str
    value: Expr
    shown: Unit | None


@node
class Criterion:
    """What a check demands: kind is >=, <=, >, <, ==, between (a, b), within (a +/- b), is (a Word) or matches (a
    Text)."""

    span: Span
    kind: str
    a: Expr
    b: Expr | None


@node
class Check:
    """A judgement. Without a criterion its limits come from the limit table."""

    span: Span
    value: Expr
    criterion: Criterion | None
    where: Expr | None
    label: str | None
    guard: Expr | None = None
    allowing: int = 0


@node
class Wait:
    """Waits for a time."""

    span: Span
    time: Expr


@node
class WaitReading:
    """Waits until a condition on readings holds so many times in a row."""

    span: Span
    read: Read
    every: Expr
    until: Expr
    count: int
    timeout: Expr


@node
class Watch:
    """Limits observed while the block's lines run; beyond them the test fails at once, or the unit is stopped. Bad
    readings trip it too, unless so many in a row are allowed."""

    span: Span
    signal: str
    criterion: Criterion
    every: Expr
    is_stopping: bool
    body: tuple[Statement, ...]
    allowing: int = 0


@node
class Segment:
    """A stretch of a sweep; start is None where it goes on from the end before.

    spacing: step, points, log, decade or octave.
    """

    span: Span
    start: Expr | None
    end: Expr
    spacing: str
    amount: Expr


@node
class Refine:
    """Further points where a column bends or comes near its limit, at most so many in all."""

    span: Span
    column: str
    how: str  # bends or limit
    most: int


@node
class Sweep:
    """Runs its block for each value: over listed values, along segments, or over the values in a file."""

    span: Span
    name: str
    values: tuple[Expr, ...]
    segments: tuple[Segment, ...]
    body: tuple[Statement, ...]
    file: str = ""
    refine: Refine | None = None


@node
class Repeat:
    """Runs its block again and again. kind: times (amount), for (amount) or until (condition, timeout)."""

    span: Span
    name: str
    kind: str
    amount: Expr
    every: Expr | None
    timeout: Expr | None
    body: tuple[Statement, ...]

    @property
    def elapsed(self) -> str:
        """The name of the column with the seconds since the first turn."""
        return f"{self.name}_elapsed"


@node
class Search:
    """Finds the first value at which a condition holds, to a resolution."""

    span: Span
    name: str
    start: Expr
    end: Expr
    step: Expr | None
    resolution: Expr
    is_halving: bool
    until: Expr
    body: tuple[Statement, ...]


@node
class Leave:
    """Ends the innermost loop."""

    span: Span
    why: str


@node
class Skip:
    """Leaves this test."""

    span: Span
    why: str


@node
class Stop:
    """Ends the tests of this unit."""

    span: Span
    why: str


@node
class If:
    """Carries out the block of the first condition that holds, else `otherwise`."""

    span: Span
    branches: tuple[tuple[Expr, tuple[Statement, ...]], ...]
    otherwise: tuple[Statement, ...]


@node
class Expect:
    """This test expects its sources to limit."""

    span: Span


@node
class Measure:
    """Runs a reusable measurement. Arguments are inputs, or roles and signals (then the value is a Name)."""

    span: Span
    measurement: str
    arguments: tuple[tuple[str, Expr], ...]
    name: str


@node
class Typed:
    """A result with its type: a unit or "number", "text", "yes_no"; over axes."""

    span: Span
    name: str
    kind: Unit | str
    axes: tuple[str, ...] = ()


@node
class CallProgram:
    """Runs a program: values in, values out."""

    span: Span
    program: str
    arguments: tuple[tuple[str, Expr], ...]
    gives: tuple[Typed, ...]
    timeout: Expr


@node
class Show:
    """Shows a text to the operator (how = show), or puts one into the report (how = note)."""

    span: Span
    text: str
    how: str = "show"


@node
class Attach:
    """Puts a file into the records and the report."""

    span: Span
    file: str


@node
class Tone:
    """A tone for the operator, good or bad."""

    span: Span
    kind: str


@node
class Ask:
    """A question to the operator. kind: confirm, button, yes_no, choice, text, number or adjust."""

    span: Span
    kind: str
    text: str
    name: str = ""  # that gets the answer; for adjust the signal
    choices: tuple[str, ...] = ()
    pattern: str = ""
    unit: Unit | None = None
    bounds: tuple[Expr, Expr] | None = None
    criterion: Criterion | None = None
    picture: str = ""


@node
class Plot:
    """A figure for the report."""

    span: Span
    ys: tuple[str, ...]
    x: str
    by: str | None
    title: str | None


Loop = Sweep | Repeat | Search
Statement = (
    Set | Read | Do | Send | Let | Check | Wait | WaitReading | Watch | Sweep | Repeat | Search | Leave | Skip | Stop
    | If
    | Expect | Measure | CallProgram | Show | Attach | Tone | Ask | Plot
)  # fmt: skip


def inner_bodies(statement: Statement) -> tuple[tuple[Statement, ...], ...]:
    """The blocks within a statement."""
    match statement:
        case Sweep(body=body) | Repeat(body=body) | Search(body=body) | Watch(body=body):
            return (body,)
        case If(branches=branches, otherwise=otherwise):
            return (*(body for _, body in branches), otherwise)
    return ()


def walk(body: tuple[Statement, ...]) -> Iterator[Statement]:
    """All statements of a block and of the blocks within it, in the order of the text."""
    for statement in body:
        yield statement
        for inner in inner_bodies(statement):
            yield from walk(inner)


@node
class Need:
    """A role with its instrument class, or a signal with its unit or its kind ("number", "yes_no", "text")."""

    span: Span
    name: str
    class_name: str | None
    unit: Unit | None
    kind: str = ""

    @property
    def is_signal(self) -> bool:
        """True for a signal."""
        return self.class_name is None


@node
class Param:
    """A parameter, constant or input: default, choices, bounds, help."""

    span: Span
    name: str
    default: Expr
    choices: tuple[Expr, ...]
    bounds: tuple[Expr, Expr] | None
    help: str


@node
class Test:
    """A named test with its lines and its clauses."""

    __test__ = False  # not for pytest
    span: Span
    name: str
    title: str
    is_gate: bool
    body: tuple[Statement, ...]
    is_off: bool = False
    tags: tuple[str, ...] = ()
    condition: Expr | None = None
    needs_pass: tuple[tuple[str, Span], ...] = ()
    keeps_state: bool = False


@node
class Group:
    """Tests that belong together; with `over`, repeated for each value of `corner`."""

    span: Span
    name: str
    title: str
    corner: str
    values: tuple[Expr, ...]
    tests: tuple[Test, ...]
    is_off: bool = False
    tags: tuple[str, ...] = ()
    condition: Expr | None = None


@node
class Measurement:
    """A reusable measurement: what it needs, takes and gives, and its lines."""

    span: Span
    name: str
    title: str
    needs: tuple[Need, ...]
    inputs: tuple[Param, ...]
    outputs: tuple[Typed, ...]
    body: tuple[Statement, ...]


@node
class Use:
    """Another file: a shared sequence file, or Python functions."""

    span: Span
    file: str
    is_python: bool


@node
class Sequence:
    """A whole file. A shared file has only uses, constants and measurements."""

    title: str
    product: str
    revision: str
    serial: str
    serial_span: Span
    limits: str
    limits_span: Span
    tags: tuple[str, ...]
    uses: tuple[Use, ...]
    needs: tuple[Need, ...]
    params: tuple[Param, ...]
    constants: tuple[Param, ...]
    measurements: tuple[Measurement, ...]
    before_lot: tuple[Statement, ...]
    before_unit: tuple[Statement, ...]
    parts: tuple[Test | Group, ...]  # in the order of the text
    after_unit: tuple[Statement, ...]
    after_lot: tuple[Statement, ...]

    @property
    def tests(self) -> tuple[Test, ...]:
        """All tests, also those in groups, each once, in the order of the text."""
        return tuple(t for part in self.parts for t in (part.tests if isinstance(part, Group) else (part,)))
