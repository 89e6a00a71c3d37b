"""A link that answers from what was said in a run."""

from __future__ import annotations

from collections import deque

from ibexite.errors import LinkError, NeverSaid
from ibexite.instruments.exchanges import (
    CONNECTING_ANEW,
    INTERRUPTED,
    NOT_OPENED,
    STATUS_BYTE,
    named_after,
    told_command,
)  # fmt: skip
from ibexite.instruments.failures import STRAY
from ibexite.instruments.link import Data, Lines, LinkOptions, Reply, Rescue, StrayError
from ibexite.instruments.recorded import Recorded, Whole


class ReplayedLink:
    """Says what an instrument said then, and fails as its link failed then."""

    def __init__(self, address: str, options: LinkOptions, recorded: Recorded, whole: Whole) -> None:
        self.address = address
        self.before_reopening = self.after_reopening = lambda: None
        self._options, self._recorded, self._whole = options, recorded, whole
        self._timeout = options.timeout
        self._end = options.command_end.decode("latin-1")
        self._entry = -1  # of what was said to it last
        self._lines: list[str] = []  # of that entry, that come yet
        self._said: deque[int] = recorded.said_before(options.name)
        self._asked = ""

    @property
    def is_waiting(self) -> bool:
        """Whether it was opened anew then, because an answer might have come late."""
        text = self._next_text()
        return text == INTERRUPTED or text.startswith(NOT_OPENED)

    @is_waiting.setter
    def is_waiting(self, is_waiting: bool) -> None:
        """What was done then is in the record."""

    @property
    def timeout(self) -> float:
        """How long a reply may take, in s."""
        return self._timeout

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        self._timeout = seconds

    def open(self) -> None:
        """Connects. Raises LinkError if it could not be opened then."""
        self._fail_if(self._next_text().startswith(NOT_OPENED))

    def reopen(self) -> None:
        """As then."""
        self.open()
        if self._next_text() == INTERRUPTED:
            self._said.popleft()

    def close(self) -> None:
        """Nothing is open."""

    def rescue(self) -> Rescue:
        """There is nothing to be made safe."""
        return Rescue({}, None)

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Takes what was sent then. Raises NeverSaid; LinkError if the link failed then."""
        self._say(data)
        self._fail_if(self._failed_at_once())

    def ask(self, data: bytes) -> None:
        """Takes what was asked then."""
        self._say(data)
        self._fail_if(self._failed_at_once() and not self._what_failed().endswith(named_after(self._asked)))

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """What was answered then. Raises LinkError if the link failed then; NeverSaid: the record ends before it."""
        self._options.heed()
        if not self._said or self._next_text() == INTERRUPTED:
            raise NeverSaid(self._options.name, self._asked, "no answer")
        self._fail_if(self._is_failure())
        return self._whole(self._recorded.take(self._said.popleft())[2])

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Both."""
        self.ask(data)
        return self.receive(reply)

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """As any other question."""
        return self.exchange(data)

    def look(self, seconds: float = 0.0) -> None:
        """Raises what was found then."""
        self._fail_if(self._failed_at_once())

    def clear(self) -> None:
        """Nothing is on its way."""

    def trigger(self) -> None:
        """Nothing is told of it."""

    def status_byte(self) -> int:
        """What it was then."""
        text = self._next_text()
        if not text.startswith(STATUS_BYTE):
            self._fail_if(self._is_failure())
            raise NeverSaid(self._options.name, "its status byte", "no look at it")
        self._recorded.take(self._said.popleft())
        return int(text.removeprefix(STATUS_BYTE))

    # --- what was told of the link -----------------------------------------------------------------------------------

    def _say(self, data: bytes) -> None:
        sent = data.decode("latin-1").removesuffix(self._end)
        told = told_command(sent)
        text = sent.replace(self._end, "\n") if told is sent else told
        self._asked = text
        said = text.split("\n")
        if self._lines[: len(said)] == said:  # more of an entry that was told as a whole
            del self._lines[: len(said)]
            return
        self._entry, self._said = self._recorded.find(self._options.name, text, self._end)
        self._lines = str(self._recorded.what[self._entry][2]).replace(self._end, "\n").split("\n")[len(said) :]

    def _next_text(self) -> str:
        """What is told next about the link, "" if it said something."""
        if not self._said:
            return ""
        _, direction, text = self._recorded.what[self._said[0]]
        return str(text) if direction == "!" else ""

    def _failed_at_once(self) -> bool:
        """The link failed before anything else happened."""
        return self._is_failure() and self._recorded.is_next(self._said[0])

    def _is_failure(self) -> bool:
        text = self._next_text()
        return bool(text) and text != INTERRUPTED and not text.startswith(STATUS_BYTE)

    def _what_failed(self) -> str:
        return self._next_text().partition("\n")[0].removesuffix(CONNECTING_ANEW).removeprefix(NOT_OPENED)

    def _fail_if(self, has_failed: bool) -> None:
        if not has_failed:
            return
        what, remedy = self._what_failed(), self._next_text().partition("\n")[2]
        self._recorded.take(self._said.popleft())
        what = what.removesuffix(named_after(self._asked))
        kind = StrayError if what.startswith(STRAY) else LinkError
        raise kind(what, where=f"{self._options.name} at {self.address}", remedy=remedy)
