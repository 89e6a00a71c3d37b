"""The vetted program: what the checker hands to the engine, to preview and to the bench check."""

from __future__ import annotations

from dataclasses import dataclass, field
from decimal import Decimal

from ibexite.language import nodes
from ibexite.language.constants import Value
from ibexite.language.source import Source, Span
from ibexite.language.types import Type


@dataclass(frozen=True, slots=True)
class Binding:
    """A name of a test: how it came to be (param, sweep, read, let), its type, its axes, where it got its value."""

    name: str
    origin: str
    type: Type
    span: Span


@dataclass(frozen=True, slots=True)
class SetPoint:
    """One assignment with the sweeps around it, kept for the comparison with ceilings and ranges."""

    assignment: nodes.Assignment
    sweeps: tuple[nodes.Sweep, ...]


@dataclass(slots=True)
class Program:
    """A sequence with everything that was found out about it before the run."""

    source: Source
    sequence: nodes.Sequence
    types: dict[nodes.Expr, Type] = field(default_factory=dict)
    params: dict[str, Value] = field(default_factory=dict)
    param_types: dict[str, Type] = field(default_factory=dict)
    overrides: tuple[str, ...] = ()
    names: dict[str, dict[str, Binding]] = field(default_factory=dict)  # of each test
    points: dict[nodes.Sweep, list[Decimal] | None] = field(default_factory=dict)  # None: known only at run time
    tolerances: dict[nodes.Criterion, str] = field(default_factory=dict)  # "absolute" or "relative"
    set_points: list[SetPoint] = field(default_factory=list)
    role_readings: list[nodes.Reading] = field(default_factory=list)

    @property
    def needs(self) -> dict[str, nodes.Need]:
        """Roles and signals by name."""
        return {need.name: need for need in self.sequence.needs}
