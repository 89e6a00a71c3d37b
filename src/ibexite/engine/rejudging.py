"""Judges stored runs again: by the formulas and checks of a program, which may have changed since, on the readings of
then. What counts is found by the same rules as in a run."""

from __future__ import annotations

import datetime
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, NamedTuple, Protocol

from ibexite import events, verdicts
from ibexite.engine.leaving import TestOver, UnitOver
from ibexite.engine.retelling import compiled, frame_of
from ibexite.engine.retold_runtime import NeverReadError, Retold, StoredValues
from ibexite.engine.skipping import corner_of
from ibexite.errors import IbexiteError
from ibexite.language import nodes
from ibexite.language.program import Case, Program
from ibexite.verdicts import Judgement, Reason, Verdict

BEFORE_UNIT = "before unit"
# Why a test ended as it did that its checks decide; all else is a fact of then, which no other limit changes.
OF_CHECKS = frozenset([
    "", "limit", "overload", "bad", "undecided", "nothing", "no_limit", "no_reference", "reference", "mask",
    "guard_zone", "older", *verdicts.BAD_READINGS,
])  # fmt: skip
FOUND_THEN = frozenset(["limiting", "tripped", "off", "damage"])  # by instruments: it stays a fact about the unit


class StoredTest(NamedTuple):
    """A test of a stored run: what counted of it, its values (those of each time that they are taken), whether it was
    begun at all, what each check was called and its verdict (as ibexite.verdicts.labelled tells it, joined)."""

    facts: Judgement
    values: Callable[[], StoredValues]
    was_begun: bool
    labelled: str


class StoredUnit(Protocol):
    """A stored run of a unit. `tests` are by name, the blocks around them among them."""

    serial: str
    started: datetime.datetime
    is_aborted: bool
    is_broken: bool

    def test(self, name: str) -> StoredTest | None:
        """A test or block; None if there is none."""


@dataclass(slots=True)
class RejudgedTest:
    """A test that was judged again. `why` says why it could not be: one that was broken off or ended in an error then
    has its verdict of then, one that needs what was never read is an error. Where all checks have their verdicts of
    then (`is_as_then`), the results may be left out."""

    name: str
    facts: Judgement
    results: list[events.Judged] = field(default_factory=list)
    why: str = ""
    is_as_then: bool = False


@dataclass(slots=True)
class RejudgedUnit:
    """A unit that was judged again, and why a pass of it would not count."""

    verdict: Verdict
    tests: list[RejudgedTest]
    trial: list[Reason]


class Rejudging:
    """Judges units again by one program; its blocks are compiled once."""

    def __init__(self, program: Program, *, is_quick: bool = True) -> None:
        """`is_quick`: a test in which each check has the verdict of then is told without its results."""
        self.program, self._is_quick = program, is_quick
        self._runtime = Retold(program, "", datetime.datetime.now(datetime.UTC))
        self._blocks: dict[str, Callable[[], Any]] = {}
        self._frames: dict[str, Any] = {}

    def unit(self, unit: StoredUnit) -> RejudgedUnit:
        """The verdict of a unit."""
        runtime = self._runtime
        runtime.serial, runtime.started = unit.serial, unit.started
        runtime.results, runtime.left_bad, runtime.told_conditions, runtime.trial[:] = {}, {}, {}, []
        tests: list[RejudgedTest] = []
        before = self._before_unit(unit)
        for case in self.program.cases:
            stored = unit.test(case.name)
            tests.append(self._test(case, stored) if stored is not None else _new_test(case))
        verdict = verdicts.verdict_of_unit(
            [test.facts for test in tests], is_aborted=unit.is_aborted, is_broken=unit.is_broken or before is not None
        )
        return RejudgedUnit(verdict, tests, [*runtime.trial, *self._unapproved()])

    def _unapproved(self) -> list[Reason]:
        program = self.program
        found = [Reason("unapproved", f"{path}: {why}") for path, why in program.objections.items() if why]
        if program.placeholders:
            names = ", ".join(dict.fromkeys(program.placeholders))
            found.append(Reason("placeholder", f"limits that nobody has approved: {names}"))
        return found

    def _before_unit(self, unit: StoredUnit) -> str | None:
        """Carries `before unit` out, for what tests use of it; what did not pass, in words."""
        body, stored = self.program.sequence.before_unit, unit.test(BEFORE_UNIT)
        if not body or not _judges(body):
            return None
        if stored is None:
            return None
        try:
            self._carry_out(BEFORE_UNIT, BEFORE_UNIT, "", None, body, stored.values())
        except (IbexiteError, TestOver, UnitOver) as error:
            return str(error)
        if any(verdict != Verdict.PASS for verdict, _ in self._runtime.found):
            return "a check of before unit did not pass"
        return None

    def _test(self, case: Case, stored: StoredTest) -> RejudgedTest:
        facts = stored.facts
        if facts.verdict == Verdict.ABORTED:
            return RejudgedTest(case.name, facts, [], "it was broken off")
        if not stored.was_begun:
            return RejudgedTest(case.name, facts)
        if facts.verdict == Verdict.ERROR and facts.reason.code not in OF_CHECKS:
            return RejudgedTest(case.name, facts, [], f"it ended in an error: {facts.reason.text}")
        trial = len(self._runtime.trial)
        if self._is_quick:
            quick = self._test_once(case, stored, is_quick=True)
            if quick.is_as_then:
                return quick
            del self._runtime.trial[trial:]
        return self._test_once(case, stored, is_quick=False)

    def _test_once(self, case: Case, stored: StoredTest, *, is_quick: bool) -> RejudgedTest:
        facts = stored.facts
        problems: list[Reason] = []
        left: Reason | None = None
        runtime = self._runtime
        why = ""
        try:
            self._carry_out(
                case.name, case.test.name, case.corner_text, corner_of(case), case.test.body, stored.values(),
                is_quick=is_quick,
            )  # fmt: skip
            runtime.keep_results()
        except TestOver as over:
            left = over.reason if over.verdict == Verdict.SKIPPED else None
            if over.verdict != Verdict.SKIPPED and (over.verdict, over.reason) not in runtime.found:
                runtime.found.append((over.verdict, over.reason))
        except UnitOver as over:
            left = Reason("stop", f"stopped: {over.reason}")
        except NeverReadError as error:
            why = error.what
            problems.append(Reason("never_read", error.what))
        except IbexiteError as error:
            problems.append(Reason("line", error.what))
        if facts.reason.code in FOUND_THEN:
            runtime.found.append((Verdict.FAIL, facts.reason))
        judged = verdicts.verdict_of_test(runtime.found, problems=problems, left=left, is_doubtful=False)
        is_as_then = not why and verdicts.RECORD_SEPARATOR.join(runtime.labelled) == stored.labelled
        return RejudgedTest(case.name, judged, [] if is_quick else list(runtime.heard), why, is_as_then)

    def _carry_out(
        self, key: str, block: str, corner_text: str, corner: Any, body: tuple[nodes.Statement, ...],
        values: StoredValues, *, is_quick: bool = False,
    ) -> None:  # fmt: skip
        runtime = self._runtime
        runtime.begin(block, corner_text, values, is_quick=is_quick)
        run = self._blocks.get(key)
        if run is None:
            frame = self._frames[key] = frame_of(runtime, block, runtime.block, corner, body)
            run = self._blocks[key] = compiled(frame, body)
        else:
            self._frames[key].renew()
        runtime.demand_kinds()
        run.__globals__["v_serial"] = runtime.serial
        run()


def _new_test(case: Case) -> RejudgedTest:
    """A test that the run did not have."""
    why = "the run has no such test: it was never carried out"
    return RejudgedTest(case.name, Judgement(Verdict.ERROR, reason=Reason("never_read", why)), [], why)


def _judges(body: tuple[nodes.Statement, ...]) -> bool:
    """Whether a block has a check."""
    return any(isinstance(statement, nodes.Check) for statement in nodes.walk(body))
