"""What the blocks of a program share while they are carried out once more on values that were stored."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable, Mapping
from types import SimpleNamespace
from typing import Protocol

from ibexite import events
from ibexite.engine.judge import At
from ibexite.engine.runtime import Runtime
from ibexite.engine.services import Consenting, Services
from ibexite.errors import SequenceError
from ibexite.language.program import Program
from ibexite.untyped import Measured
from ibexite.values import Quantity
from ibexite.verdicts import Reason, labelled

TAKES_PRODUCT = "It takes the product again: ibexite run."


class NeverReadError(SequenceError):
    """A line needs what was never read."""


class StoredValues(Protocol):
    """The values of one test or block of a run, by the names that they were recorded under. `singles` are its single
    numbers: most values of most tests."""

    singles: Mapping[str, float]

    def value(self, name: str) -> Measured:
        """What came outside of loops: a number, yes or no, a text, a curve; None if there is none."""

    def turn(self, name: str, at: At) -> Measured:
        """What came in a turn of loops that were at these values; where there were several, each is given once, in
        their order. None if there is none."""

    def has_turn(self, name: str, at: At) -> bool:
        """Whether there was such a turn."""

    def take_log(self, name: str) -> Iterable[tuple[float, float]]:
        """The next log of this name that was kept beside the lines: times and values. Nothing if there is none."""

    @property
    def kinds(self) -> Mapping[str, tuple[str, str]]:
        """Of each name its base unit and the kind of its values (ibexite.values.Type.stored)."""

    @property
    def plain_units(self) -> Mapping[str, str] | None:
        """The base units of its values if all are single numbers."""

    @property
    def bad(self) -> Iterable[tuple[str, Reason]]:
        """The readings that were bad, and why."""

    @property
    def conditions(self) -> Mapping[str, Mapping[str, str]]:
        """Under which conditions each value came to be."""


class _Clock:
    """Time that stands still."""

    def now(self) -> float:
        return 0.0

    stamp = now

    def __init__(self) -> None:
        self.between: list[Callable[[], None]] = []

    def wait(self, seconds: float, heed: Callable[[], None]) -> None:
        """Over at once."""


class Retold(Runtime):
    """What the blocks share while they are retold. `values` are those of the block that is carried out, `heard` what
    was judged."""

    values: StoredValues

    def __init__(self, program: Program, serial: str, started: datetime.datetime) -> None:
        nobody = SimpleNamespace(
            bad=[], state={}, expects_limiting=False, file=None, has_time_limits=False, tell_time=lambda seconds: None
        )
        services = Services(_Clock(), Consenting())
        super().__init__(
            program, nobody, services, lambda event: None, serial=serial, started=started,
            trial=[], earlier_results=None,
        )  # fmt: skip
        self.clock = services.clock  # nothing need be noted
        self.heard: list[events.Judged] = []
        self.labelled: list[str] = []  # what each check is called, and its verdict: ibexite.verdicts.labelled
        self.is_quick = False
        self._fitting: dict[str, Mapping[str, str]] = {}  # of each block the units of what was found right last
        self.taken: dict[str, dict[str, tuple[str, str]]] = {}  # of each block what it takes of stored values

    def wait(self, seconds: float) -> None:
        """Over at once."""

    pause = wait

    def tick(self) -> None:
        """Nothing is watched."""

    def judged(self, event: events.Judged) -> None:
        """A check is done."""
        self.found.append((event.verdict, event.reason))
        self.heard.append(event)
        self.labelled.append(labelled(event.subject.label, event.verdict))

    def demand_kinds(self) -> None:
        """Sees that what the block takes is what was stored. Raises NeverReadError: it was something else."""
        plain = self.values.plain_units
        if plain is not None and plain == self._fitting.get(self.block):
            return  # as those of the unit before
        kinds = self.values.kinds
        for name, wanted in self.taken.get(self.block, {}).items():
            found = kinds.get(name, wanted)
            if found != wanted:
                then, now = (kind if kind != Quantity.stored else unit or "a number" for unit, kind in (found, wanted))
                raise NeverReadError(f"{name} was {then} then, and is {now} now", remedy=TAKES_PRODUCT)
        if plain is not None:
            self._fitting[self.block] = plain

    def begin(self, block: str, corner_text: str, values: StoredValues, *, is_quick: bool) -> None:
        """A block begins, with its stored values. `is_quick`: of a check that passes only that is told."""
        self.begin_block(block, corner_text)
        self.begin_judging()
        self.values, self.heard, self.labelled, self.is_quick = values, [], [], is_quick
        for name, reason in values.bad:
            self.bad_reasons.setdefault(name, []).append(reason)
        for name, conditions in values.conditions.items() if self.program.references else ():
            self.told_conditions[self.block, name] = dict(conditions)
