"""What was said in a run, to be said once more: messages in their order, with what the clock was asked for in between.

A question is answered as it was answered then, if the bench was in the same state: the commands before it are the same,
in the same order, all instruments together. Between two commands questions may come in another order, or be left out.
What was never said so is a `NeverSaid`, and nothing goes on behind it.
"""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Callable, Iterable
from typing import Any

from ibexite.errors import NeverSaid, in_lines
from ibexite.instruments.user import CLOCK_SAID, What

Whole = Callable[[Any], bytes]
"""Gives the bytes of what was said: of long replies, of which the record has only the place, from where they are
kept."""
ASIDE = "?"  # in each part of a question; what has none changes something
END = "the end of the record"
_TINY = 1e-6  # s; a clock that jumped may be behind by a rounding


class Recorded:
    """The messages of a run, each with its time in s. To whom `changes` says yes each message changes something,
    whatever it looks like."""

    def __init__(self, said: Iterable[tuple[What, float]], changes: Callable[[str], bool] = lambda name: False) -> None:
        entries = list(said)
        self._changes = changes
        self.what = [what for what, _ in entries]
        self.at = [at for _, at in entries]
        self._place = 0  # of the entry that the clock and the stamps come to next
        self._time = self.at[0] if self.at else 0.0
        self._sent = [place for place, (name, direction, _) in enumerate(self.what) if name and direction == ">"]
        self._next = 0  # among those: the first one behind the last command that may be asked yet
        self._used: set[int] = set()
        self._behind = self._replies()

    def _replies(self) -> dict[int, list[int]]:
        """For each message to an instrument, or for its name before the first: what it said before the next one."""
        last: dict[str, int] = {}
        found: dict[int, list[int]] = defaultdict(list)
        self._before: dict[str, deque[int]] = defaultdict(deque)
        for place, (name, direction, _) in enumerate(self.what):
            if direction == ">":
                last[name] = place
            elif name in last:
                found[last[name]].append(place)
            elif name:
                self._before[name].append(place)
        return found

    # --- time --------------------------------------------------------------------------------------------------------

    def now(self) -> float:
        """What the clock said then; where it was not asked then, the time of what was said last."""
        if self._place < len(self.what) and self.what[self._place] == CLOCK_SAID:
            self._pass()
        return self._time

    def stamp(self) -> float:
        """When this message was said then."""
        if self._place < len(self.what) and self.what[self._place] != CLOCK_SAID:
            self._pass()
        return self._time

    def wait(self, seconds: float) -> None:
        """So much later it is at least."""
        self._time += max(0.0, seconds)

    def _pass(self) -> None:
        at = self.at[self._place]
        self._time = at if at > self._time - _TINY else self._time
        self._place += 1

    def _come_to(self, place: int) -> None:
        while self._place < place:
            self._pass()

    @property
    def is_said_next(self) -> bool:
        """The next that happened then was a message, not a look at the clock."""
        return self._place < len(self.what) and self.what[self._place] != CLOCK_SAID

    @property
    def wish_to_end(self) -> str:
        """Why somebody wished the run to end just now, "" if nobody did."""
        if self._place < len(self.what):
            name, direction, text = self.what[self._place]
            return str(text) if direction == "!" and not name else ""
        return ""

    def is_next(self, place: int) -> bool:
        """Whether nothing else happened before that entry."""
        return self._place == place

    # --- messages ----------------------------------------------------------------------------------------------------

    def said_before(self, name: str) -> deque[int]:
        """The entries of an instrument before anything was said to it."""
        return self._before[name]

    def find(self, name: str, text: str, end: str = "\n") -> tuple[int, deque[int]]:
        """The entry in which this was said to an instrument, or that begins with it, and those of what it said to that.

        Args:
            text: its lines, with a line feed between them.
            end: what ends its commands.

        Raises:
            NeverSaid: not now, as the bench was then.
        """
        then = END
        for number in range(self._next, len(self._sent)):
            place = self._sent[number]
            if place in self._used:
                continue
            own, _, told = self.what[place]
            is_change = self._changes(own) or not is_question(str(told))
            if own == name and begins_with(str(told).replace(end, "\n"), text):
                self._used.add(place)
                self._next = number + 1 if is_change else self._next
                while self._next < len(self._sent) and self._sent[self._next] in self._used:
                    self._next += 1  # else each question of a long row would come by all those before it
                self._come_to(place + 1)
                return place, deque(self._behind[place])
            then = f"{own} {in_lines(str(told))}" if then == END else then
            if is_change:
                break
        raise NeverSaid(name, text, then)

    def take(self, place: int) -> What:
        """An entry that an instrument said."""
        self._come_to(place)
        return self.what[place]


def is_question(text: str) -> bool:
    """Whether all parts of a message are questions, which change nothing.

    >>> is_question("*IDN?"), is_question("VOLT 8;*OPC?"), is_question("CONF:VOLT:DC\\nREAD?"), is_question("V1?;I1?")
    (True, False, False, True)
    """
    return all(ASIDE in part for line in text.split("\n") for part in line.split(";"))


def begins_with(told: str, text: str) -> bool:
    """Whether what was told at a time is this text, or its first lines are.

    >>> begins_with("VOLT 8", "VOLT 8"), begins_with("A\\nB", "A"), begins_with("AB", "A")
    (True, True, False)
    """
    return told == text or told.startswith(text + "\n")
