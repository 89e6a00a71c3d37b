"""The vetted program: what the checker hands to the engine, to preview and to the bench check."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import NamedTuple, Protocol

from ibexite.classes import InstrumentClass, instrument_classes
from ibexite.frozen import frozen
from ibexite.language import nodes
from ibexite.language.constants import Value
from ibexite.language.python_function import PythonFunction
from ibexite.language.source import Source, Span
from ibexite.mask import Mask
from ibexite.reference import Reference
from ibexite.stimulus import Stimulus
from ibexite.values import Type


@frozen
class Binding:
    """A name of a test: how it came to be (sweep, read, let, ask, call, elapsed, output), its type, where it got its
    value."""

    name: str
    origin: str
    type: Type
    span: Span


class AccuracyUse(NamedTuple):
    """Where it is told how exact a signal or role.reading is; whether each line that reads it names its range."""

    span: Span
    source: Source
    has_range: bool


@frozen
class SetPoint:
    """One assignment with what is around it, kept for the comparison with ceilings and ranges.

    `given` are the values that names have here besides the parameters (a corner, the inputs of a measurement); `role`
    is the role as the sequence knows it; `source` the file where the assignment stands.
    """

    assignment: nodes.Assignment
    loops: tuple[nodes.Loop, ...]
    role: str
    source: Source
    known: Mapping[str, Value]


@frozen
class RoleUse:
    """A reading, action, raw command or query of a role."""

    node: nodes.Reading | nodes.Do | nodes.Send
    role: str
    source: Source


@frozen
class LimitRow:
    """A row of a limit table, in base units; `is_approved` is false for a placeholder. `origin`: file and row."""

    low: Decimal | None
    high: Decimal | None
    is_approved: bool
    origin: str


@frozen
class PlayUse:
    """A play line: the role and the signals (where they are called otherwise) as the sequence knows them; `source` is
    the file where it stands."""

    node: nodes.Play
    role: str
    source: Source
    signals: Mapping[str, str] = {}  # never changed


@frozen
class RecordUse:
    """A recording, as PlayUse; `every` is the time in s from sample to sample, None where it is known at run time."""

    node: nodes.Record
    source: Source
    every: float | None
    signals: Mapping[str, str] = {}  # never changed


@dataclass(slots=True)
class Scope:
    """What the names of one file mean: constants (and parameters), needs, measurements, Python functions."""

    source: Source
    known: dict[str, Value] = field(default_factory=dict)
    types: dict[str, Type] = field(default_factory=dict)
    needs: dict[str, nodes.Need] = field(default_factory=dict)
    measurements: dict[str, MeasurementFacts] = field(default_factory=dict)
    functions: dict[str, PythonFunction] = field(default_factory=dict)
    used: set[str] = field(default_factory=set)  # names that some line uses

    def inner(self, needs: dict[str, nodes.Need], known: dict[str, Value], types: dict[str, Type]) -> Scope:
        """The scope of a measurement or a corner: its own needs and values, all else as around it."""
        return replace(self, needs=needs, known={**self.known, **known}, types={**self.types, **types})


@dataclass(slots=True)
class MeasurementFacts:
    """A reusable measurement as callers see it. kind: sequence (then node and scope are there), python or program."""

    name: str
    title: str
    kind: str
    needs: dict[str, nodes.Need]
    inputs: dict[str, Type]
    defaults: dict[str, Value]
    outputs: dict[str, Type]
    origin: str  # the file it comes from
    sha256: str = ""
    version: str = ""
    timeout: float = 60.0  # s; of python and program
    helps: dict[str, str] = field(default_factory=dict)
    node: nodes.Measurement | None = None
    scope: Scope | None = None
    names: dict[str, Binding] = field(default_factory=dict)
    set_points: list[SetPoint] = field(default_factory=list)
    uses: list[RoleUse] = field(default_factory=list)
    plays: list[PlayUse] = field(default_factory=list)
    recordings: list[RecordUse] = field(default_factory=list)
    home: Program | None = None  # the program in which it was checked

    def refusal(self, name: str, value: Value) -> tuple[str, str] | None:
        """What is wrong with a value of an input (what, remedy), None if it is one of its choices and within bounds."""
        from ibexite.language.constants import refusal

        if self.node is None or self.scope is None:
            return None
        param = next((param for param in self.node.inputs if param.name == name), None)
        return refusal(param, value, self.inputs[name], self.scope.known) if param is not None else None


@frozen
class VettedMeasure:
    """One `measure` line, vetted: what plays each role and signal, and the inputs as expressions or defaults."""

    measurement: MeasurementFacts
    roles: dict[str, str]
    inputs: dict[str, nodes.Expr | None]


@frozen
class Case:
    """A test as it is run: once, or once for each corner of its group. `name` is unique within the run."""

    name: str
    test: nodes.Test
    group: nodes.Group | None = None
    corner: Value | None = None
    corner_text: str = ""

    @property
    def tags(self) -> tuple[str, ...]:
        """Its tags and those of its group."""
        return (*(self.group.tags if self.group else ()), *self.test.tags)

    @property
    def is_off(self) -> bool:
        """True if it or its group is switched off in the sequence."""
        return self.test.is_off or bool(self.group and self.group.is_off)

    @property
    def title(self) -> str:
        """Its title, with the corner."""
        return f"{self.test.title}, {self.corner_text}" if self.corner_text else self.test.title


class Companions(Protocol):
    """Where the files come from that a sequence names. Errors are MistakeErrors."""

    def classes(self) -> Mapping[str, InstrumentClass]:
        """The instrument classes that a sequence may need, by name."""

    def shared(self, name: str) -> Source:
        """Another file of the language."""

    def limits(self, name: str) -> LimitTable:
        """A limit table."""

    def mask(self, name: str, variant: str) -> Mask:
        """A mask of the project; for a variant its own, if there is one."""

    def golden(self, name: str, product: str, variant: str) -> Reference | None:
        """A reference of the project; for a variant its own, if there is one. None where none of this name has been
        saved for the product."""

    def objection(self, path: str, sha256: str, *, is_needed: bool = True) -> str:
        """Why a file does not count as approved, in words; "" if it does. Where an approval `is_needed` not, one that
        nobody has ever approved has no objection either."""

    def wave(self, name: str) -> WaveFacts:
        """What a WAV file beside the sequence holds."""

    def points(self, name: str, column: str) -> tuple[list[Decimal], Type]:
        """The values of a column of a file."""

    def functions(self, name: str) -> tuple[dict[str, PythonFunction], dict[str, MeasurementFacts]]:
        """What a Python file offers: functions and measurements."""

    def measurements(self) -> dict[str, MeasurementFacts]:
        """The measurements that the project offers."""

    def installed(self) -> dict[str, MeasurementFacts]:
        """The measurements that installed packages offer."""

    def exists(self, name: str) -> bool:
        """True if there is such a file beside the sequence."""


class WaveFacts(Protocol):
    """What is known of a WAV file."""

    @property
    def path(self) -> str:
        """Where it is."""

    @property
    def sha256(self) -> str:
        """Of its bytes."""

    @property
    def rate(self) -> float:
        """In Hz."""

    @property
    def channels(self) -> int:
        """How many there are."""

    @property
    def samples(self) -> int:
        """Of each channel."""


class LimitTable(Protocol):
    """A table of limits, kept apart from the sequence."""

    path: str
    sha256: str

    def row(self, test: str, name: str, variant: str, revision: str, kind: Type) -> LimitRow | None:
        """The limits of a value; None if there are none. Raises MistakeError: wrong unit, two rows fit."""

    def unused(self) -> list[str]:
        """The rows that were never asked for, in words."""


@dataclass(slots=True)
class Program:
    """A sequence with everything that was found out about it before the run."""

    source: Source
    sequence: nodes.Sequence
    main: Scope
    types: dict[nodes.Expr, Type] = field(default_factory=dict)
    overrides: tuple[str, ...] = ()
    names: dict[str, dict[str, Binding]] = field(default_factory=dict)  # of each test
    points: dict[nodes.Sweep, list[Decimal] | None] = field(default_factory=dict)  # None: known only at run time
    axes: dict[str, Type] = field(default_factory=dict)  # that came with readings of whole curves
    labels: dict[nodes.Sweep, tuple[str, ...]] = field(default_factory=dict)  # of sweeps over texts; points are indexes
    # Of a loop whose name is set as it is: the value that the instrument gets, where its profile sends few digits.
    rounding: dict[nodes.Loop, Callable[[float], float]] = field(default_factory=dict)
    tolerances: dict[nodes.Criterion, str] = field(default_factory=dict)  # "absolute" or "relative"
    set_points: list[SetPoint] = field(default_factory=list)
    uses: list[RoleUse] = field(default_factory=list)
    plays: list[PlayUse] = field(default_factory=list)
    recordings: list[RecordUse] = field(default_factory=list)
    measures: dict[nodes.Measure, VettedMeasure] = field(default_factory=dict)
    accuracies: dict[str, AccuracyUse] = field(
        default_factory=dict
    )  # signals and role.reading that must say how exact they are
    limits: dict[nodes.Check, LimitRow] = field(default_factory=dict)
    masks: dict[str, Mask] = field(default_factory=dict)  # by the names that lines call them by
    references: dict[str, Reference | None] = field(default_factory=dict)  # likewise; None where there is none yet
    objections: dict[str, str] = field(default_factory=dict)  # by path, of masks, references and the limit table
    # With the values of parameters of this run; None where a mistake in one was reported.
    stimuli: dict[str, Stimulus | None] = field(default_factory=dict)
    checks_of_numbers: dict[nodes.Check, nodes.Check] = field(
        default_factory=dict
    )  # in place of those of complex values
    without_reference: dict[nodes.Check, str] = field(default_factory=dict)  # checks that need one that is not there
    guards: dict[nodes.Check, nodes.Expr] = field(default_factory=dict)  # uncertainties that were given from outside
    bounds: dict[nodes.Aligned, tuple[float, bool]] = field(default_factory=dict)  # how far; whether it is a factor
    limits_file: str = ""
    is_table_approved: bool = False  # the limit table as a whole; else each row says it
    placeholders: list[str] = field(default_factory=list)  # rows of the limit table that nobody has approved
    shared: list[Source] = field(default_factory=list)  # all files of the language besides the sequence
    python_files: list[tuple[str, str]] = field(default_factory=list)  # path and SHA-256
    classes: Mapping[str, InstrumentClass] = field(default_factory=instrument_classes)

    def class_of(self, need: nodes.Need | None) -> InstrumentClass | None:
        """The class of a role that is needed; None for a signal, and where there is no such class."""
        return self.classes.get((need.class_name if need is not None else None) or "")

    @property
    def params(self) -> dict[str, Value]:
        """Parameters and constants by name."""
        return self.main.known

    @property
    def param_types(self) -> dict[str, Type]:
        """Their types."""
        return self.main.types

    @property
    def needs(self) -> dict[str, nodes.Need]:
        """Roles and signals by name."""
        return self.main.needs

    @property
    def cases(self) -> list[Case]:
        """All tests in the order in which they run."""
        cases = []
        for part in self.sequence.parts:
            if isinstance(part, nodes.Test):
                cases.append(Case(part.name, part))
                continue
            for value, text in self.corners(part):
                suffix = f" [{text}]" if text else ""
                cases += [Case(test.name + suffix, test, part, value, text) for test in part.tests]
        return cases

    def corners(self, group: nodes.Group) -> list[tuple[Value | None, str]]:
        """The corners of a group with their texts; one without value for a group that has none."""
        from ibexite.language import constants

        if not group.corner:
            return [(None, "")]
        found: list[tuple[Value | None, str]] = []
        for expr in group.values:
            value = constants.evaluate(expr, self.params)
            kind = self.types.get(expr)
            if value is not None and kind is not None:
                found.append((value, f"{group.corner} = {constants.written(value, kind.dimension, kind.shown)}"))
        return found

    def adopt(self, facts: MeasurementFacts) -> None:
        """Takes over what was found out about a measurement that was checked with another file."""
        home = facts.home
        if home is None or home is self or home.source in self.shared:
            return
        self.shared += [source for source in home.sources if source not in self.shared]
        self.types |= home.types
        self.points |= home.points
        self.labels |= home.labels
        self.axes |= home.axes
        self.tolerances |= home.tolerances
        self.measures |= home.measures
        self.limits |= home.limits
        self.masks |= home.masks
        self.references |= home.references
        self.stimuli |= home.stimuli
        self.objections |= home.objections
        self.without_reference |= home.without_reference
        self.checks_of_numbers |= home.checks_of_numbers
        self.bounds |= home.bounds

    @property
    def sources(self) -> list[Source]:
        """All files of the language."""
        return [self.source, *self.shared]

    @property
    def has_mistakes(self) -> bool:
        """True if any of its files has one."""
        return any(source.has_mistakes for source in self.sources)
