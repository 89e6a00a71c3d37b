"""Waiting for a reply in turns, each as long as TURN: at each of them the run may say that it is to end."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from ibexite.instruments.link import TURN, LinkOptions

MOST_AT_ONCE = 1 << 16  # bytes


def closed(_: object) -> Any:
    """In place of what would send or receive on what is not open."""
    raise OSError(0, "it is closed")


def nothing_waits(_: int) -> list[Any]:
    """In place of a poll of what is not open."""
    return []


class PatientStream:
    """What all streams share: a reply is waited for as long as the time-out, `receive` gives up after one turn."""

    receive: Callable[[int], bytes]
    poll: Callable[[int], Any]  # both are methods of some of them

    def __init__(self, options: LinkOptions) -> None:
        self._options, self.timeout = options, options.timeout
        self._turn = min(TURN, options.timeout)

    def patiently(self, error: OSError) -> bytes:
        """What comes after the first turn of waiting was over. Raises OSError: that of the last try."""
        if not isinstance(error, TimeoutError | BlockingIOError):
            raise error
        try:
            return self.more(time.monotonic() + self.timeout - self._turn)
        except TimeoutError:
            raise error from None

    def next_bytes(self) -> bytes:
        """What comes next, within the time-out; nothing if the other side has closed it. Raises OSError."""
        try:
            return self.receive(MOST_AT_ONCE)
        except OSError as error:
            return self.patiently(error)

    def into(self, view: memoryview, deadline: float) -> None:
        """Fills a place in memory, until a deadline in monotonic s. Raises OSError, and EOFError with what had come by
        then if it has ended."""
        got = 0
        while got < len(view):
            data = self.more(deadline, len(view) - got)
            if not data:
                raise EOFError(bytes(view[:got]))
            view[got : got + len(data)] = data
            got += len(data)

    def more(self, deadline: float, most: int = MOST_AT_ONCE) -> bytes:
        """The same, until a deadline in monotonic s. Raises OSError."""
        while not self.poll(max(0, round(min(self._turn, deadline - time.monotonic()) * 1000))):
            self._options.heed()
            if time.monotonic() >= deadline:
                raise TimeoutError
        return self.receive(most)
