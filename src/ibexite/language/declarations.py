"""Declarations: the part of the tree of a sequence that says what there is: needs, parameters, tests, measurements."""

from __future__ import annotations

from ibexite.frozen import node
from ibexite.language.expressions import Expr
from ibexite.language.source import Span
from ibexite.language.statements import Segment, Statement, Typed
from ibexite.values import Quantity, Type

ROUTE = "route"  # in the place of an instrument class


@node
class Need:
    """A role with its instrument class, a signal with its type, or a route."""

    span: Span
    name: str
    class_name: str | None
    type: Type | None = None

    @property
    def is_signal(self) -> bool:
        """True for a signal."""
        return self.class_name is None

    @property
    def is_route(self) -> bool:
        """True for a route."""
        return self.class_name == ROUTE

    @property
    def is_role(self) -> bool:
        """True for what has settings and readings of its own."""
        return not self.is_signal and not self.is_route

    @property
    def words(self) -> str:
        """What it is, as a declaration says it: power_supply, signal in V, signal text."""
        if self.type is None:
            return self.class_name or ""
        is_measured = isinstance(self.type, Quantity) and self.type.written.symbol
        return f"signal {'in ' if is_measured else ''}{self.type.word}"

    def takes(self, other: Need) -> bool:
        """True if the other can play it: the same class, or a signal of the same kind and dimension."""
        if self.type is None or other.type is None:
            return self.type is other.type and self.class_name == other.class_name
        return self.type.fits(other.type)


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
class StimulusPart:
    """One part of a stimulus. Which of its fields are there follows from its kind, as the grammar has it: `low`, `high`
    of what fills a band; `segments` of steps; `tones` with their shares; `frequency` of bursts; `file`, `channel`."""

    span: Span
    kind: str
    name: str
    low: Expr | None = None
    high: Expr | None = None
    segments: tuple[Segment, ...] = ()
    tones: tuple[tuple[Expr, Expr | None], ...] = ()
    frequency: Expr | None = None
    file: str = ""
    channel: int = 1
    time: Expr | None = None
    cycles: Expr | None = None
    at_least: Expr | None = None
    every: Expr | None = None
    times: int = 1
    level: Expr | None = None
    is_peak: bool = False
    is_judged: bool = True


@node
class Shaping:
    """By what a stimulus is shaped: a curve over freq, or the inverse of one, taken as 1 at a frequency; how old it may
    be."""

    span: Span
    curve: Expr
    is_inverse: bool
    at: Expr | None
    not_older: Expr | None


@node
class Stimulus:
    """A declared stimulus: its rate and its parts."""

    span: Span
    name: str
    title: str
    rate: Expr
    parts: tuple[StimulusPart, ...]
    shaping: Shaping | None
    is_broken: bool = False  # a mistake in it was reported


@node
class Use:
    """Another file: a shared sequence file, or Python functions."""

    span: Span
    file: str
    is_python: bool


@node
class Sequence:
    """A whole file. A shared file has only uses, constants, stimuli and measurements."""

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
    stimuli: tuple[Stimulus, ...]
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
