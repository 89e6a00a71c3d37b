"""What a run is given when it is replayed: time, operator, wish to end and programs as they were recorded."""

from __future__ import annotations

import json
from collections import deque
from collections.abc import Callable, Iterable, Iterator, Sequence
from pathlib import Path

from ibexite import events
from ibexite.bench.file import BenchFile
from ibexite.engine.calling import PROGRAM
from ibexite.engine.kept_recordings import Read, RecordingsOfThen
from ibexite.engine.services import Halts, Live, NoOperator, Question, Services
from ibexite.errors import NeverSaid, ProgramError
from ibexite.instruments.recorded import Recorded, Whole
from ibexite.instruments.user import CLOCK_SAID, What
from ibexite.outside.children import Outside, Talk
from ibexite.stop import Stop
from ibexite.untyped import Fields, Measured

HALF_A_DIGIT = 5e-7  # s; of times in events
THE_OPERATOR = "the operator"


def _nothing_recorded(file: str, name: str, begin: int, end: int) -> Measured:
    raise NotImplementedError


class Record:
    """A run that was recorded, as what a run is given that repeats it.

    Args:
        told: its events.
        file: the bench as it is now.
    """

    def __init__(self, told: Sequence[events.Event], file: BenchFile, whole: Whole) -> None:
        self._told, self._whole = told, whole
        self.file = _moved(file, told)
        answering = {name for name, fact in file.instruments.items() if fact.profile.acknowledge}
        self.said = Recorded(self._messages(), lambda name: name in answering or name.startswith(PROGRAM))

    def _messages(self) -> Iterator[tuple[What, float]]:
        last, told_at = 0.0, None
        untold: list[float] = []  # the times of events since the last one that tells what the clock said
        for event in self._told:
            what, at = getattr(event, "io", events.NOTHING_SAID)
            if at and at == told_at:  # older versions told it with both parts of a complex curve
                continue
            told_at = at or told_at
            for (name, direction, text), last in zip(what, at, strict=False):
                told = self._whole(text).decode("latin-1") if direction == ">" and not isinstance(text, str) else text
                yield (name, direction, told), last
            untold = [] if what else untold
            untold.append(getattr(event, "t", 0.0))
        start = self._told[0]
        clock = start.clock if isinstance(start, events.RunStarted) else 0.0
        for at_end in (clock + t for t in untold):  # of a run that broke off
            if at_end > last + HALF_A_DIGIT:
                yield CLOCK_SAID, at_end

    @property
    def has_times(self) -> bool:
        """What the clock said is in it; it is not in runs of older versions."""
        return CLOCK_SAID in self.said.what

    def services(
        self, changed: frozenset[str] = frozenset(), *, is_same: bool = True, read: Read = _nothing_recorded
    ) -> Services:
        """What a run is given. `changed` are files that are other ones now; is_same: the sequence is that of then;
        `read` gives what was recorded."""
        said, whole, stop = self.said, self._whole, ReplayStop(self.said)
        asked = [event for event in self._told if isinstance(event, events.Answered)]
        ended = next((event for event in self._told if isinstance(event, events.RunEnded)), None)
        confirmed = next((r.text for r in ended.trial if r.code == "confirmed"), "") if ended else ""
        start = self._told[0]
        orders = start.orders if isinstance(start, events.RunStarted) else {}
        return Services(
            ReplayClock(said), ReplayOperator(said, asked, stop, confirmed, is_same=is_same), stop,
            outside=lambda heed: ReplayedOutside(heed, said, whole, changed),
            kept={e.name: Path(e.path) for e in self._told if isinstance(e, events.Attached) and e.path},
            recordings=RecordingsOfThen(self._told, read),
            closings={(who, channel): times for who, channel, times in orders.get("closings", [])},
            halts=self._halts(orders.get("halts")),
        )  # fmt: skip

    def _halts(self, told: Fields | None) -> Halts | None:
        """Halts where the run halted then, and gives the answers of then."""
        if told is None:
            return None
        answers = (event.answer for event in self._told if isinstance(event, events.Halted))
        return Halts(lambda halt, evaluate: next(answers, "stop"), told["is_stepping"], frozenset(told["stops"]))


def _moved(file: BenchFile, told: Iterable[events.Event]) -> BenchFile:
    """The bench with its instruments where they were then."""
    connected = next((event for event in told if isinstance(event, events.BenchConnected)), None)
    then = {entry["name"]: entry["address"] for entry in connected.instruments} if connected else {}
    return file.moved_to({name: address for name, address in then.items() if name in file.instruments})


class ReplayClock:
    """Tells the times of then; waits are over at once."""

    def __init__(self, recorded: Recorded) -> None:
        self.now, self.stamp, self._recorded = recorded.now, recorded.stamp, recorded
        self.between: list[Callable[[], None]] = []

    def wait(self, seconds: float, heed: Callable[[], None]) -> None:
        """Over at once."""
        heed()
        self._recorded.wait(seconds)


class ReplayStop(Stop):
    """Wishes the end where somebody wished it then."""

    def __init__(self, recorded: Recorded) -> None:
        super().__init__()
        self._recorded = recorded

    def _look(self) -> None:
        reason = self._recorded.wish_to_end
        if reason:
            self.request(reason)

    def check(self) -> None:
        """Raises StopRun where the run ended then, or if somebody asks for the end now."""
        self._look()
        super().check()

    def seal(self) -> str:
        """As the run did then."""
        self._look()
        return super().seal()


class ReplayOperator(NoOperator):
    """Answers what was answered then."""

    def __init__(
        self, recorded: Recorded, answers: Iterable[events.Answered], stop: Stop, trial_reason: str, *, is_same: bool
    ) -> None:
        """is_same: the sequence is that of then, so that a question without an answer had none then."""
        self._recorded, self._answers, self._stop, self._is_same = recorded, deque(answers), stop, is_same
        self._trial_reason = trial_reason

    def ask(self, question: Question) -> Measured:
        """The answer of then. Raises NeverSaid: it was never asked; NoAnswerError: nobody answered it then."""
        self._stop.check()
        if not self._answers and self._is_same:
            return super().ask(question)
        if not self._answers or self._answers[0].question != question.text:
            then = repr(self._answers[0].question) if self._answers else "no further question"
            raise NeverSaid(THE_OPERATOR, question.text, then)
        self.trial_reason = self._trial_reason
        return _value_of(self._answers.popleft(), question)

    def press(self, question: Question, pressed: Callable[[], bool]) -> Measured:
        """As `ask`, when the button was looked at as often as then."""
        while self._recorded.is_said_next:
            pressed()
        return self.ask(question)

    def adjust(self, question: Question, live: Live) -> str:
        """As `ask`, when the value was looked at as often as then."""
        while self._recorded.is_said_next:
            live()
        return str(self.ask(question)).removeprefix("adjusted to ")


def _value_of(answered: events.Answered, question: Question) -> Measured:
    """The value of an answer; those of older runs were kept in words alone. Raises NeverSaid: they do not tell it."""
    if answered.value is not None:
        return answered.value
    if question.kind == "number":
        raise NeverSaid(THE_OPERATOR, question.text, f"its answer in words alone, {answered.answer!r}")
    return answered.answer == "yes" if question.kind == "yes_no" else answered.answer


class ReplayedOutside(Outside):
    """Programs and measurements that answer as they did then. Functions of formulas are carried out, and so are
    measurements of Python files that have changed since; a program that has changed cannot be."""

    def __init__(self, heed: Callable[[], None], recorded: Recorded, whole: Whole, changed: frozenset[str]) -> None:
        """`changed`: the files that are other ones now."""
        super().__init__(heed)
        self._recorded, self._whole, self._changed = recorded, whole, changed

    def call_executable(self, program: Path, given: Fields, seconds: float) -> Fields:
        """What it answered then. Raises ProgramError: it failed then."""
        return ReplayedConversation(self._recorded, self._whole, program.name, given).receive(seconds)

    def measurement(self, file: str, name: str, kind: str, inputs: Fields) -> tuple[Talk, bool]:
        """The conversation of then."""
        if kind == "python" and file in self._changed:
            self._recorded.find(PROGRAM + name, json.dumps(inputs))  # called as then, whatever it says now
            return super().measurement(file, name, kind, inputs)
        return ReplayedConversation(self._recorded, self._whole, name, inputs), False

    def drop(self, file: str) -> None:
        """Nothing runs of what was not started."""
        if file in self._workers:
            super().drop(file)


class ReplayedConversation:
    """What a child said then."""

    def __init__(self, recorded: Recorded, whole: Whole, name: str, given: Fields) -> None:
        """Raises NeverSaid: it was never called so."""
        self._recorded, self._whole, self._name, self._given = recorded, whole, PROGRAM + name, json.dumps(given)
        _, self._said = recorded.find(self._name, self._given)

    def receive(self, seconds: float) -> Fields:
        """What it said next. Raises ProgramError: it failed then."""
        if not self._said:
            raise NeverSaid(self._name, self._given, "no further answer")
        _, direction, text = self._recorded.take(self._said.popleft())
        if direction == "!":
            what, _, remedy = str(text).partition("\n")
            raise ProgramError(what, remedy=remedy)
        message: Fields = json.loads(self._whole(text))
        return message

    def send(self, message: Fields) -> None:
        """It was answered then."""

    def close(self) -> None:
        """Nothing was started."""
