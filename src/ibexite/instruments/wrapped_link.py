"""A link around another one: everything is passed on. What changes something on the way overrides that alone."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.instruments.link import Data, Lines, Link, Reply, Rescue


class WrappedLink:
    """Passes everything on to the link within."""

    def __init__(self, link: Link) -> None:
        self._link, self.address = link, link.address

    @property
    def timeout(self) -> float:
        """How long a reply may take, in s."""
        return self._link.timeout

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        self._link.allow(seconds)

    @property
    def is_waiting(self) -> bool:
        """That of the link itself, as the hooks are."""
        return self._link.is_waiting

    @is_waiting.setter
    def is_waiting(self, value: bool) -> None:
        self._link.is_waiting = value

    @property
    def before_reopening(self) -> Callable[[], None]:
        """That of the link itself."""
        return self._link.before_reopening

    @before_reopening.setter
    def before_reopening(self, told: Callable[[], None]) -> None:
        self._link.before_reopening = told

    @property
    def after_reopening(self) -> Callable[[], None]:
        """That of the link itself."""
        return self._link.after_reopening

    @after_reopening.setter
    def after_reopening(self, told: Callable[[], None]) -> None:
        self._link.after_reopening = told

    def open(self) -> None:
        """As the link does, like all that follows."""
        self._link.open()

    def reopen(self) -> None:
        """Closes and connects anew."""
        self._link.reopen()

    def close(self) -> None:
        """Closes the link."""
        self._link.close()

    def clear(self) -> None:
        """Device clear."""
        self._link.clear()

    def trigger(self) -> None:
        """Triggers it."""
        self._link.trigger()

    def status_byte(self) -> int:
        """The status byte."""
        return self._link.status_byte()

    def rescue(self) -> Rescue:
        """What the guardian needs."""
        return self._link.rescue()

    def look(self, seconds: float = 0.0) -> None:
        """Whether something waits that nobody asked for."""
        self._link.look(seconds)

    def send(self, data: bytes) -> None:
        """Sends commands."""
        self._link.send(data)

    def ask(self, data: bytes) -> None:
        """Sends a query."""
        self._link.ask(data)

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The reply to it."""
        return self._link.receive(reply)

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and takes its reply."""
        return self._link.exchange(data, reply)

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """Asks what has a known answer."""
        return self._link.ask_known(data, wanted)
