"""The services a run is given: time, the operator, the wish to stop, and so on. Tests and rehearsals pass their own."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from ibexite.errors import NoAnswerError, SequenceError
from ibexite.events import RecordingEnded, SideRef, StreamChannel
from ibexite.frozen import frozen
from ibexite.stop import Stop
from ibexite.units import Unit
from ibexite.untyped import Fields, Measured

if TYPE_CHECKING:
    from ibexite.bench.guardian import Guardian
    from ibexite.engine.timing import Timing
    from ibexite.outside.children import Outside

SLICE = 0.25  # s of a time that is jumped over, behind which others catch up
TURN = 0.1  # s; a wait is done in turns, so that a stop is heard at once


class Clock(Protocol):
    """Time as a run sees it."""

    def now(self) -> float:
        """Seconds on a monotonic clock."""

    def stamp(self) -> float:
        """The same, for what is told as it happens: nothing is decided by it."""

    def wait(self, seconds: float, heed: Callable[[], None]) -> None:
        """Returns after so many seconds. `heed` is called now and then; what it raises ends the wait."""

    between: list[Callable[[], None]]
    """Called each SLICE of a time that is jumped over: what goes on by itself in real time catches up."""


class RealClock:
    """The time of the world. It jumps over nothing."""

    now = stamp = staticmethod(time.monotonic)

    def __init__(self) -> None:
        self.between: list[Callable[[], None]] = []

    @staticmethod
    def wait(seconds: float, heed: Callable[[], None]) -> None:
        """Returns after so many seconds; at once if they are over already (readings took longer than their turn)."""
        heed()
        end = time.monotonic() + seconds
        while seconds > TURN:
            time.sleep(TURN)
            heed()
            seconds = end - time.monotonic()
        if seconds > 0:
            time.sleep(seconds)


class AheadClock:
    """A clock that jumps over waits, and tells a simulated bench to do the same; all else takes the time it takes."""

    def __init__(self, advance: Callable[[float], None]) -> None:
        self._advance, self._ahead = advance, 0.0
        self.between: list[Callable[[], None]] = []

    def now(self) -> float:
        """Seconds of the world and those that were jumped over."""
        return time.monotonic() + self._ahead

    stamp = now

    def wait(self, seconds: float, heed: Callable[[], None]) -> None:
        """Returns at once; so many seconds are over for the bench and for everybody who asks this clock."""
        heed()
        while self.between and seconds > SLICE:
            self._jump(SLICE)
            seconds -= SLICE
            heed()
        if seconds > 0:
            self._jump(seconds)

    def _jump(self, seconds: float) -> None:
        self._ahead += seconds  # first: nobody may see the bench ahead of it
        self._advance(seconds)
        for catch_up in tuple(self.between):
            catch_up()


class NotedClock:
    """A clock that notes what it said, so that a replay of the run decides by the same times."""

    def __init__(self, clock: Clock, note: Callable[[float], None]) -> None:
        self._now, self._note, self.stamp, self.wait = clock.now, note, clock.stamp, clock.wait
        self.between = clock.between

    def now(self) -> float:
        """Seconds on the clock."""
        seconds = self._now()
        self._note(seconds)
        return seconds


@frozen
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


class Kept(Protocol):
    """A recording that is being kept."""

    count: int  # samples so far, with those that are missing

    def write(self, first: int, columns: Sequence[Any]) -> None:
        """Appends samples of all channels, the first of which has this number."""

    def ref(self, name: str) -> SideRef:
        """Where the values of a channel are."""

    def values(self, name: str, begin: int, end: int) -> Any:
        """Some of them, in base units."""

    def close(self) -> None:
        """Ends it; once more does nothing."""


class Recordings(Protocol):
    """What keeps recordings, or has kept them then."""

    def begin(self, number: int, channels: Sequence[StreamChannel]) -> tuple[str, Kept]:
        """A new one, with this number in the run: its file, and what is written to."""

    def streamed(self, number: int) -> RecordingEnded | None:
        """How one had ended that is not made now: of a run that is replayed."""


class Operator(Protocol):
    """Whoever answers questions and reads what is shown."""

    name: str
    trial_reason: str  # why answers of this operator make the run a trial, "" if they do not

    def ask(self, question: Question) -> Measured:
        """The answer: a text, True or False, or a number in base units; for confirm and button what was done."""

    def press(self, question: Question, pressed: Callable[[], bool]) -> Measured:
        """As `ask`, where the bench has a button as well. `pressed` looks at that, and is to be called again and
        again."""

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

    def ask(self, question: Question) -> Measured:
        """Raises NoAnswerError."""
        raise NoAnswerError(
            f"there is nobody to answer: {question.text!r}",
            remedy="Run it in a terminal, or with --yes where every confirmation may be taken as given.",
        )

    def press(self, question: Question, pressed: Callable[[], bool]) -> Measured:
        """As `ask`: without anybody nothing is pressed."""
        return self.ask(question)

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

    def __init__(self, answers: Fields | None = None) -> None:
        self._answers = answers or {}
        self.trial_reason = ""

    def ask(self, question: Question) -> Measured:
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


@frozen
class Halt:
    """Where the run stands: the line that comes next, its text, and the values so far by name."""

    file: str
    line: int
    text: str
    values: Fields
    is_after: bool  # the line was carried out already, and can be run again


class Prompt(Protocol):
    """Whoever decides at a halt: "next", "continue", "again" or "stop"."""

    def __call__(self, halt: Halt, evaluate: Callable[[str], str]) -> str:
        """The decision; `evaluate` gives the value of a formula in words."""


@frozen
class Halts:
    """Where a run halts: at each line, or at the lines and tests that are named; and who is asked there."""

    prompt: Prompt
    is_stepping: bool = False
    stops: frozenset[str] = frozenset()


@dataclass(slots=True)
class Services:
    """All that a run is given besides its program and bench file. Without a guardian nobody makes the bench safe if the
    process dies."""

    clock: Clock
    operator: Operator
    stop: Stop = field(default_factory=Stop)
    guardian: Guardian | None = None
    halts: Halts | None = None
    timing: Timing | None = None
    records: Path | None = None  # folder of the records, where attached files are kept
    outside: Callable[[Callable[[], None]], Outside] | None = None  # what runs programs, if not the usual one
    kept: Mapping[str, Path] | None = None  # copies of attached files, by name, where none are to be made
    closings: Mapping[tuple[str, int], int] = field(default_factory=dict)  # of relays so far, by identity and channel
    recordings: Recordings | None = None  # what keeps recordings; None: nothing does

    def as_told(self) -> Fields:
        """What a replay needs of it, as plain data."""
        halts = self.halts
        return {
            "halts": None if halts is None else {"is_stepping": halts.is_stepping, "stops": sorted(halts.stops)},
            "closings": [[*relay, times] for relay, times in self.closings.items()],
        }
