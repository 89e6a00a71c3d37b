"""A link that two threads talk on: one message with its reply at a time."""

from __future__ import annotations

import threading

from ibexite.instruments.link import Data, Lines, Link, Reply
from ibexite.instruments.wrapped_link import WrappedLink


class SharedLink(WrappedLink):
    """Whoever asks has the link until the reply was taken, or the link was opened anew. `turn` is held by whoever talks
    on it otherwise."""

    def __init__(self, link: Link) -> None:
        super().__init__(link)
        self.whole = link
        self.turn = threading.RLock()
        self._is_asking = False

    def send(self, data: bytes) -> None:
        """Sends commands."""
        with self.turn:
            self._link.send(data)

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and takes its reply."""
        with self.turn:
            return self._link.exchange(data, reply)

    def ask(self, data: bytes) -> None:
        """Sends a query; until its reply was taken nobody else does."""
        self.turn.acquire()
        try:
            self._link.ask(data)
        except BaseException:
            self.turn.release()
            raise
        self._is_asking = True

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The reply to it."""
        try:
            return self._link.receive(reply)
        finally:
            self._answered()

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """Asks what has a known answer."""
        with self.turn:
            return self._link.ask_known(data, wanted)

    def look(self, seconds: float = 0.0) -> None:
        """Whether something waits that nobody asked for."""
        with self.turn:
            self._link.look(seconds)

    def status_byte(self) -> int:
        """The status byte."""
        with self.turn:
            return self._link.status_byte()

    def reopen(self) -> None:
        """Closes and connects anew."""
        with self.turn:
            self._link.reopen()
        self._answered()

    def _answered(self) -> None:
        if self._is_asking:
            self._is_asking = False
            self.turn.release()
