"""The services a run is given: time and the operator. Tests and rehearsals pass their own."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Protocol

from ibexite.errors import NoAnswerError, SequenceError
from ibexite.units import Unit

LONGEST_SLEEP = 1e6  # s


class Clock(Protocol):
    """Time as a run sees it."""

    def now(self) -> float:
        """Seconds on a monotonic clock."""

    def wait(self, seconds: float) -> None:
        """Returns after so many seconds."""


class RealClock:
    """The time of the world."""

    now = staticmethod(time.monotonic)

    @staticmethod
    def wait(seconds: float) -> None:
        """Returns after so many seconds; at once if they are over already (readings took longer than their turn)."""
        end = time.monotonic() + seconds
        while seconds > LONGEST_SLEEP:  # the system refuses times that it cannot hold
            time.sleep(LONGEST_SLEEP)
            seconds = end - time.monotonic()
        if seconds > 0:
            time.sleep(seconds)


class AheadClock:
    """A clock that jumps over waits, and tells a simulated bench to do the same; all else takes the time it takes."""

    def __init__(self, advance: Callable[[float], None]) -> None:
        self._advance, self._ahead = advance, 0.0

    def now(self) -> float:
        """Seconds of the world and those that were jumped over."""
        return time.monotonic() + self._ahead

    def wait(self, seconds: float) -> None:
        """Returns at once; so many seconds are over for the bench and for everybody who asks this clock."""
        if seconds > 0:
            self._advance(seconds)
            self._ahead += seconds


@dataclass(frozen=True, slots=True)
class Question:
    """A question: kind is confirm, button, yes_no, choice, text, number or adjust. Bounds are in base units."""

    kind: str
    text: str
    choices: tuple[str, ...] = ()
    pattern: str = ""
    unit: Unit | None = None
    bounds: tuple[float, float] = (float("-inf"), float("inf"))
    picture: str = ""


Live = Callable[[], tuple[str, bool]]  # the present value in words, and whether it lies within its limits


class Operator(Protocol):
    """Whoever answers questions and reads what is shown."""

    name: str
    trial_reason: str  # why answers of this operator make the run a trial, "" if they do not

    def ask(self, question: Question) -> Any:
        """The answer: a text, True or False, or a number in base units; for confirm and button what was done."""

    def adjust(self, question: Question, live: Live) -> str:
        """Shows the live value until it is adjusted; the last value in words."""

    def show(self, text: str) -> None:
        """Shows a text."""

    def tone(self, kind: str) -> None:
        """Sounds a tone, good or bad."""


class NoOperator:
    """Nobody is there: a question ends the run at once, it never hangs."""

    name = ""
    trial_reason = ""

    def ask(self, question: Question) -> Any:
        """Raises NoAnswerError."""
        raise NoAnswerError(
            f"there is nobody to answer: {question.text!r}",
            remedy="Run it in a terminal, or with --yes where every confirmation may be taken as given.",
        )

    def adjust(self, question: Question, live: Live) -> str:
        """Raises NoAnswerError."""
        self.ask(question)
        raise AssertionError

    def show(self, text: str) -> None:
        """Nobody sees it; it is in the journal."""

    def tone(self, kind: str) -> None:
        """Nobody hears it."""


class Consenting(NoOperator):
    """Confirms everything without asking, for simulated benches and unattended rehearsals.

    Other questions are answered from `answers`, by a part of their text; one without an answer ends the run.
    """

    name = "none (--yes)"

    def __init__(self, answers: dict[str, Any] | None = None) -> None:
        self._answers = answers or {}
        self.trial_reason = ""

    def ask(self, question: Question) -> Any:
        """Confirms, or gives the answer that was prepared."""
        self.trial_reason = "confirmations taken as given (--yes)"
        if question.kind in ("confirm", "button"):
            return "confirmed without asking"
        for part, answer in self._answers.items():
            if part in question.text:
                return answer
        return super().ask(question)

    def adjust(self, question: Question, live: Live) -> str:
        """Takes the first value that lies within the limits."""
        self.trial_reason = "confirmations taken as given (--yes)"
        for _ in range(20):
            said, is_inside = live()
            if is_inside:
                return said
        raise SequenceError(f"nobody can adjust it: {question.text!r}", remedy=f"It is at {said}.")
