"""The end of a run on the bench: `after unit` line by line, then the safe state, then what the operator is told.
Nothing in here raises: whatever one step does, the next one follows."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from ibexite import events
from ibexite.bench.guardian import Guardian
from ibexite.bench.interface import SafeDeed
from ibexite.engine.blocks import block_of
from ibexite.engine.course import Course
from ibexite.engine.orders import Orders
from ibexite.engine.runtime import Runtime
from ibexite.errors import BenchError, IbexiteError
from ibexite.verdicts import Reason


class Cleaning:
    """Cleans up after a run. A line of `after unit` that fails takes away a pass."""

    def __init__(self, runtime: Runtime, course: Course, orders: Orders, guardian: Guardian | None) -> None:
        self._runtime, self._course, self._orders, self._guardian = runtime, course, orders, guardian
        self._block = ""

    def carry_out(self, *, is_prepared: bool) -> None:
        """All of it. `is_prepared` is true if the bench was connected: then `after unit` has something to do."""
        runtime = self._runtime
        if self._guardian is not None:
            self._guardian.stand_back()
        runtime.held_back = []
        if is_prepared and self._can_talk():
            self._try(self._after_unit)  # whatever it is, everything is switched off next
        deeds = runtime.bench.make_safe()
        runtime.flush()
        runtime.emit(events.MadeSafe(runtime.now(), [{"role": d.role, "problem": d.problem} for d in deeds]))
        not_safe = [deed.role for deed in deeds if deed.problem]
        self._course.outcome.is_safe = not not_safe
        if not_safe:
            self._not_safe(deeds)
        else:
            self._say_what_was_held_back()
        if self._guardian is not None and not self._guardian.dismiss(not_safe):
            runtime.emit(events.Problem(runtime.now(), "the guardian process had ended before the run did"))
        self._try(runtime.bench.close)
        if runtime.outside is not None:
            self._try(runtime.outside.close)

    def _try(self, deed: Callable[[], None]) -> None:
        try:
            deed()
        except Exception as error:
            self._tell(error)

    def _tell(self, error: Exception) -> None:
        what = error.what if isinstance(error, IbexiteError) else repr(error)
        place = (self._block, self._course.line_of(error))
        text = ", ".join(part for part in place if part) + f": {what}"
        self._course.note(Reason("after_unit", text))
        self._runtime.emit(events.Problem(self._runtime.now(), text))

    def _can_talk(self) -> bool:
        try:
            self._runtime.bench.settle_links()
        except Exception as error:
            what = error.what if isinstance(error, IbexiteError) else repr(error)
            self._tell(IbexiteError(f"after unit was left out: {what}"))
            return False
        return True

    def _after_unit(self) -> None:
        runtime, sequence = self._runtime, self._runtime.program.sequence
        runtime.debugger = None  # nobody is asked while cleaning up
        for block, body in (("after unit", sequence.after_unit), ("after lot", sequence.after_lot)):
            if block == "after lot" and not self._orders.ends_lot:
                continue
            self._block = block
            self._try(lambda block=block, body=body: block_of(runtime, block, body, self._tell)())  # type: ignore[misc]
        errors = runtime.bench.read_errors()
        if errors:
            self._tell(BenchError("; ".join(errors)))

    def _say_what_was_held_back(self) -> None:
        """Texts of `after unit` for the operator: everything is off now."""
        waiting, self._runtime.held_back = self._runtime.held_back or [], None
        self._runtime.block = self._block = "after unit"
        for say in waiting:
            self._try(say)

    def _not_safe(self, deeds: Iterable[SafeDeed]) -> None:
        problems = "; ".join(f"{deed.role}: {deed.problem}" for deed in deeds if deed.problem)
        outcome = self._course.outcome
        outcome.reason = Reason(
            "not_safe", f"NOT SAFE. {problems}. Switch it off by hand. {outcome.reason.text}".strip()
        )
        self._course.is_broken = True
