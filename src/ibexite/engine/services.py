"""The services a run is given: time and the operator. Tests and rehearsals pass their own."""

from __future__ import annotations

import time
from typing import Protocol

from ibexite.errors import SequenceError


class Clock(Protocol):
    """Time as a run sees it."""

    def now(self) -> float:
        """Seconds on a monotonic clock."""

    def wait(self, seconds: float) -> None:
        """Returns after so many seconds."""


class RealClock:
    """The time of the world."""

    now = staticmethod(time.monotonic)
    wait = staticmethod(time.sleep)


class Operator(Protocol):
    """Whoever answers questions and reads what is shown."""

    name: str
    trial_reason: str  # why answers of this operator make the run a trial, "" if they do not

    def confirm(self, text: str) -> str:
        """Asks to do something; returns the answer once it is done."""

    def show(self, text: str) -> None:
        """Shows a text."""


class NoOperator:
    """Nobody is there: a question ends the run at once, it never hangs."""

    name = ""
    trial_reason = ""

    def confirm(self, text: str) -> str:
        """Raises SequenceError."""
        raise SequenceError(
            f"there is nobody to answer: {text!r}",
            remedy="Run it in a terminal, or with --yes where every confirmation may be taken as given.",
        )

    def show(self, text: str) -> None:
        """Nobody sees it; it is in the journal."""


class Consenting(NoOperator):
    """Confirms everything without asking, for simulated benches and unattended rehearsals."""

    name = "none (--yes)"
    trial_reason = "confirmations taken as given (--yes)"

    def confirm(self, text: str) -> str:
        """Confirms."""
        return "confirmed without asking"
