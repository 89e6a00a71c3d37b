"""A link to an instrument that takes one message at a time: between two of them it is given time, and what stands in
one message otherwise goes line by line."""

from __future__ import annotations

import time

from ibexite.instruments.link import Data, Lines, Link, Reply
from ibexite.instruments.wrapped_link import WrappedLink


class PacedLink(WrappedLink):
    """Waits before a message until `pace` s are over since the last one was sent, or answered."""

    def __init__(self, link: Link, pace: float, end: bytes) -> None:
        """`end` is what ends a command."""
        super().__init__(link)
        self._pace, self._end = pace, end
        self._free_at = 0.0

    def _wait(self) -> None:
        time.sleep(max(0.0, self._free_at - time.monotonic()))

    def _done(self) -> None:
        self._free_at = time.monotonic() + self._pace

    def _all_but_last(self, data: bytes) -> bytes:
        """Sends the lines of a message one by one, but for the last one, which it gives back."""
        *before, last = [line + self._end for line in data.removesuffix(self._end).split(self._end)]
        for line in before:
            self._wait()
            self._link.send(line)
            self._done()
        self._wait()
        return last

    def send(self, data: bytes) -> None:
        """Sends commands."""
        self._link.send(self._all_but_last(data))
        self._done()

    def ask(self, data: bytes) -> None:
        """Sends a query."""
        self._link.ask(self._all_but_last(data))
        self._done()

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The reply to it."""
        found = self._link.receive(reply)
        self._done()
        return found

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and takes its reply."""
        found = self._link.exchange(self._all_but_last(data), reply)
        self._done()
        return found

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """Asks what has a known answer."""
        found = self._link.ask_known(self._all_but_last(data), wanted)
        self._done()
        return found
