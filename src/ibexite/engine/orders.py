"""What a run is told before it begins, and what it has found in the end: plain data."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from dataclasses import dataclass, field, replace

from ibexite.engine.selection import Selection
from ibexite.frozen import frozen
from ibexite.untyped import Fields, Measured
from ibexite.verdicts import NO_REASON, Judgement, Reason, Verdict


@dataclass(slots=True)
class Identity:
    """Who and what is being tested, by whom, where, and under which run id."""

    run: str
    serial: str
    operator: str
    station: str
    started: datetime.datetime
    sequence_sha256: str = ""
    lot: str = ""
    retest_of: str = ""
    number: int = 0  # in the order of starting, within one folder of records


@dataclass(slots=True)
class Outcome:
    """How a run ended. `trial` holds the reasons for which a pass does not count."""

    verdict: Verdict = Verdict.PASS
    reason: Reason = NO_REASON
    run: str = ""  # its id
    trial: list[Reason] = field(default_factory=list)
    facts: dict[str, Judgement] = field(default_factory=dict)
    is_safe: bool = True
    broken_views: list[str] = field(default_factory=list)

    @property
    def tests(self) -> dict[str, Verdict]:
        """The verdict of each test."""
        return {name: facts.verdict for name, facts in self.facts.items()}


@frozen
class EarlierTest:
    """A test as an earlier run left it; `run` is the run in which it was carried out."""

    facts: Judgement
    duration: float
    run: str


@dataclass(frozen=True, slots=True)
class Earlier:
    """What is taken over from the run that a retest completes."""

    run: str
    first_run: str  # of the whole chain of retests
    first_verdict: Verdict
    tests: dict[str, EarlierTest] = field(default_factory=dict)
    trial: tuple[Reason, ...] = ()  # the reasons of all runs whose values it holds, each with its run
    changes: dict[str, tuple[str, ...]] = field(default_factory=dict)  # by run: what differs since from what is now
    own: tuple[Reason, ...] = ()  # why the retest itself is a trial
    is_first_pass: bool = False  # the verdict of the first pass is that of the merged result
    result: Callable[[str, str], Measured] | None = (
        None  # of (test, name): a value that may be used, None if there is none
    )

    def reasons(self, taken: set[str]) -> list[Reason]:
        """Why the merged result is a trial, given the runs of the tests that are taken over from them."""
        kept = [reason for reason in self.trial if reason.run in taken]
        changed = [
            Reason("changed", f"changed since run {run}: {change}", run)
            for run, changes in self.changes.items()
            if run in taken
            for change in changes
        ]
        return kept + changed


@dataclass(slots=True)
class Orders:
    """How a run is to be carried out."""

    selection: Selection = field(default_factory=Selection)
    stops_on_fail: bool = False
    begins_lot: bool = True  # the first unit of a lot: `before lot` is carried out
    ends_lot: bool = True  # the last one
    variant_params: frozenset[str] = frozenset()  # parameters that may be set from outside without making a trial
    earlier: Earlier | None = None  # the run that this one completes
    is_measurement: bool = False  # one measurement at the desk: nothing need be judged
    is_simulated: bool = False  # a simulated bench was asked for, whether the sequence needs instruments or not
    trial: tuple[Reason, ...] = ()  # why a pass would not count, known before the run

    def as_told(self) -> Fields:
        """As plain data; of what a retest completes only what the store does not tell."""
        selection = self.selection
        earlier = self.earlier
        return {
            "only": selection.only, "skip": selection.skip, "tags": selection.tags, "listed": selection.listed,
            "stops_on_fail": self.stops_on_fail, "begins_lot": self.begins_lot, "ends_lot": self.ends_lot,
            "is_measurement": self.is_measurement, "is_simulated": self.is_simulated,
            "trial": [reason._asdict() for reason in self.trial],
            "own_trial": [reason._asdict() for reason in earlier.own] if earlier else [],
            "is_first_pass": earlier is not None and earlier.is_first_pass,
        }  # fmt: skip


def orders_of(told: Fields, variant_params: frozenset[str], earlier: Earlier | None) -> Orders:
    """Orders from what was told of them; nothing is known of those of older runs."""
    if not told:
        return Orders(variant_params=variant_params, earlier=earlier)
    selection = Selection(tuple(told["only"]), tuple(told["skip"]), tuple(told["tags"]), told["listed"])
    own = tuple(Reason(**entry) for entry in told["own_trial"])
    if earlier is not None:
        earlier = replace(earlier, own=own, is_first_pass=told["is_first_pass"])
    return Orders(
        selection, told["stops_on_fail"], told["begins_lot"], told["ends_lot"], variant_params, earlier,
        told["is_measurement"], told["is_simulated"], tuple(Reason(**entry) for entry in told["trial"]),
    )  # fmt: skip
