"""Whether a test is run, and if not, why: its own condition, what it needs, gates, stops, the selection."""

from __future__ import annotations

from ibexite.engine.blocks import condition_holds
from ibexite.engine.orders import Orders
from ibexite.engine.runtime import Runtime
from ibexite.errors import SequenceError
from ibexite.language import nodes
from ibexite.language.constants import Value
from ibexite.language.program import Case, Program
from ibexite.verdicts import Judgement, Reason, Verdict


def corner_of(case: Case) -> tuple[str, Value] | None:
    """The variable of the corner that a test is run in, and its value."""
    return (case.group.corner, case.corner) if case.group is not None and case.corner is not None else None


class Skipping:
    """Looks at the tests of a run in their order. `facts` is what has become of those before."""

    def __init__(self, program: Program, orders: Orders, runtime: Runtime, facts: dict[str, Judgement]) -> None:
        self._program, self._orders, self._runtime, self._facts = program, orders, runtime, facts
        self._closed: Reason | None = None  # why no further test is run
        self._before: Case | None = None
        self._last_run = ""

    def close(self, why: Reason) -> None:
        """No further test is run; the first reason stays. Codes are those of ibexite.verdicts.SKIPS."""
        self._closed = self._closed or why

    def has_run(self, case: Case) -> None:
        """A test is being run now."""
        self._last_run = case.name

    def keeps(self, case: Case) -> bool:
        """True for a test that keeps the state of the one before it."""
        return case.test.keeps_state and self._before is not None

    def reason(self, case: Case) -> Reason | None:
        """Why a test is skipped; None for one that is to be run."""
        skip = self._reason(case)
        if skip is None and self._before is not None and self.keeps(case) and self._before.name != self._last_run:
            skip = Reason("state", f"it keeps the state of {self._before.name}, which was not run")
        return skip

    def _reason(self, case: Case) -> Reason | None:
        """A condition that is not met goes before all else that is found on the way: then the sequence itself says that
        the test is not for this unit."""
        if case.is_off:
            return Reason("off", "switched off in the sequence")
        if not self._orders.selection.chooses(case):
            return Reason("selection", "not selected")
        if self.condition(case) is False:
            return Reason("condition", "its condition is not met")
        if self._closed is not None:
            return self._closed
        for name, _ in case.test.needs_pass:
            found = self._needed(case, name)
            if any(verdict != Verdict.PASS for verdict in found):
                told = ", ".join(dict.fromkeys(v for v in found if v != Verdict.PASS))
                return Reason("needs", f"it needs {name} to pass ({told})")
        return None

    def _needed(self, case: Case, name: str) -> list[str]:
        """The verdicts of a test that another one needs: that of the same corner, or of all corners."""
        facts = self._facts
        if case.corner_text and (same := f"{name} [{case.corner_text}]") in facts:
            return [facts[same].verdict]
        names = [other.name for other in self._program.cases if other.test.name == name]
        return [facts[n].verdict if n in facts else "not run" for n in names]

    def condition(self, case: Case) -> bool | str:
        """Whether the conditions of a test hold; a text that says why nobody can decide."""
        for condition in (case.group.condition if case.group else None, case.test.condition):
            if condition is None:
                continue
            try:
                if not self._holds(case, condition):
                    return False
            except SequenceError as error:
                return f"its condition: {error.what}. {error.remedy}"
        return True

    def _holds(self, case: Case, condition: nodes.Expr) -> bool:
        return condition_holds(self._runtime, case.test.name, condition, corner_of(case), case.corner_text)

    def done(self, case: Case, *, was_run: bool) -> None:
        """A test has its result. A gate that did not pass closes what is behind it (one that was not selected closes
        nothing: whoever selects tests wants them to run, and it is a trial), and so may any that did not pass."""
        self._before = case
        facts = self._facts[case.name]
        if case.test.is_gate and facts.verdict != Verdict.PASS and facts.skip != "selection":
            self.close(Reason("gate", f"gate {case.name} did not pass ({facts.verdict})"))
        if was_run and self._orders.stops_on_fail and facts.verdict in (Verdict.FAIL, Verdict.ERROR):
            self.close(Reason("stop", f"stopped after {case.name} ({facts.verdict})"))
