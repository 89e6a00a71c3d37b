"""Statements: the part of the tree of a sequence that is carried out, and the names that it makes."""

from __future__ import annotations

from collections.abc import Iterator

from ibexite.decision_rules import GUARDED
from ibexite.frozen import node
from ibexite.language.expressions import Criterion, Expr
from ibexite.language.source import Span
from ibexite.units import Unit
from ibexite.values import Type


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
    text, and `type` what it gives)."""

    span: Span
    name: str
    source: str
    role: str | None = None
    arguments: tuple[tuple[str, Expr], ...] = ()
    query: str = ""
    type: Type | None = None


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
class Play:
    """Plays a stimulus on a role. `readings` are the records of signals that are captured meanwhile, called
    name.signal, and behind them name.repeats: how often it was played again while `again` held, `times` at most.
    `marker` is the signal in which the marker is looked for."""

    span: Span
    stimulus: str
    role: str
    name: str = ""
    readings: tuple[Reading, ...] = ()
    marker: str = ""
    again: Expr | None = None
    times: int = 0

    @property
    def repeats(self) -> str:
        """The name of how often it was played again."""
        return f"{self.name}.repeats"

    @property
    def read(self) -> Read:
        """The reading of its records, as a read line has it."""
        return Read(self.span, self.readings, True, 1, 1)


@node
class Record:
    """A recording of signals that goes on while the lines of its block run. `readings` are its curves, called
    name.signal, each over the time since it began."""

    span: Span
    name: str
    readings: tuple[Reading, ...]
    every: Expr
    body: tuple[Statement, ...]

    @property
    def read(self) -> Read:
        """The reading of its curves, as a read line has it."""
        return Read(self.span, self.readings, True, 1, 1)


@node
class Do:
    """An action of a role."""

    span: Span
    role: str
    action: str


@node
class Connect:
    """Connects or disconnects routes, each with its place."""

    span: Span
    routes: tuple[tuple[str, Span], ...]
    is_on: bool


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
class Aligned:
    """By how much the limits of a check may be moved onto what is judged: up or down, or along an axis."""

    span: Span
    by: Expr
    along: str | None


@node
class Check:
    """A judgement. Without a criterion its limits come from the limit table. `guard` is the uncertainty, by which it is
    judged as a `rule` of decision_rules.py says, `risk` what that one takes; `not_older` a time that references may be
    old."""

    span: Span
    value: Expr
    criterion: Criterion | None
    where: Expr | None
    label: str | None
    guard: Expr | None = None
    allowing: int = 0
    aligned: tuple[Aligned, ...] = ()
    not_older: Expr | None = None
    rule: str = GUARDED
    risk: Expr | None = None


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
    """A result with its type."""

    span: Span
    name: str
    type: Type


@node
class CallExecutable:
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
class Teach:
    """Makes values of this unit a reference once its run has ended well: their names (name, or test.name), each with
    its place, and the name of the reference."""

    span: Span
    names: tuple[tuple[str, Span], ...]
    reference: str


@node
class Tone:
    """A tone for the operator, good or bad."""

    span: Span
    kind: str


@node
class Ask:
    """A question to the operator. kind: confirm, button, yes_no, choice, text, number or adjust. `type` is that of the
    answer, if there is one."""

    span: Span
    kind: str
    text: str
    name: str = ""  # that gets the answer; for adjust the signal
    choices: tuple[str, ...] = ()
    pattern: str = ""
    type: Type | None = None
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
    Set | Read | Play | Record | Do | Send | Let | Check | Wait | WaitReading | Watch | Sweep | Repeat | Search | Leave
    | Skip | Stop | If | Connect | Expect | Measure | CallExecutable | Show | Attach | Teach | Tone | Ask | Plot
)  # fmt: skip


def inner_bodies(statement: Statement) -> tuple[tuple[Statement, ...], ...]:
    """The blocks within a statement."""
    match statement:
        case Sweep(body=body) | Repeat(body=body) | Search(body=body) | Watch(body=body) | Record(body=body):
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


def names_made(statement: Statement) -> list[tuple[str, Span]]:
    """The names that a statement itself gives a value, each with its place. What lies in its blocks is not among them,
    nor are the outputs of a measurement, which its declaration names."""
    match statement:
        case Read(readings=readings) | Record(readings=readings):
            return [(reading.name, reading.span) for reading in readings]
        case Play(readings=readings) if readings:
            return [*((reading.name, reading.span) for reading in readings), (statement.repeats, statement.span)]
        case Let(name=name, span=span) | Sweep(name=name, span=span) | Search(name=name, span=span):
            return [(name, span)]
        case Repeat(name=name, elapsed=elapsed, span=span):
            return [(name, span), (elapsed, span)]
        case Ask(name=name, kind=kind, span=span) if name and kind != "adjust":
            return [(name, span)]
        case CallExecutable(gives=gives):
            return [(typed.name, typed.span) for typed in gives]
    return []
