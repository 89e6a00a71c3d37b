"""Everything that is said on links, in a file, as it is said: so that a link which hangs can be looked into.

A line each: seconds since the beginning, instrument, direction (> to it, < from it, ! about the link), bytes, and for a
reply how long it took. Bytes that are no text are written as \\x.., long ones shortened with their length.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from pathlib import Path
from typing import Protocol

from ibexite.errors import LinkError, MistakeError
from ibexite.instruments.link import Data, Lines, Link, LinkOptions, Reply
from ibexite.instruments.wrapped_link import WrappedLink

SHOWN = 200  # bytes of a message
Opening = Callable[[str, LinkOptions], Link]


def shown(data: Data) -> str:
    r"""Bytes as text: one line, whatever they are.

    >>> shown(b"VOLT 5\n")
    'VOLT 5'
    >>> print(shown(b"A\nB\x00"), shown(b"x" * 300)[-16:])
    A\nB\x00 xxx… (300 bytes)
    """
    text = bytes(data[:SHOWN]).decode("latin-1")
    if len(data) <= SHOWN:
        text = text.rstrip("\r\n")
    line = "".join(c if c.isprintable() and c.isascii() else f"\\x{ord(c):02x}" for c in text)
    return line.replace("\\x0a", "\\n") + (f"… ({len(data)} bytes)" if len(data) > SHOWN else "")


class TrafficFile:
    """A file to which the links that it opens tell what is said on them."""

    def __init__(self, path: Path, what: str, opening: Opening) -> None:
        """`what` is told of: a run, a unit. Raises MistakeError: it cannot be written."""
        self._opening, self._began = opening, time.monotonic()
        self.problem = ""  # why it ends before its time
        try:
            self._file = path.open("a", buffering=1)
        except OSError as error:
            raise MistakeError(f"cannot be written ({error.strerror})", where=str(path)) from None
        self._write(f"# {what}: s, instrument, > to it, < from it, ! about the link")

    def open(self, address: str, options: LinkOptions) -> Link:
        """A link, opened, of which everything is told. Raises as the opening itself."""
        return traced(self._opening, address, options, self)

    def tell(self, name: str, direction: str, text: str, took: float | None = None) -> None:
        """Writes a line; `took` in s."""
        behind = f"   ({1000 * took:.3f} ms)" if took is not None else ""
        self._write(f"{time.monotonic() - self._began:12.6f} {name} {direction} {text}{behind}")

    def _write(self, line: str) -> None:
        """A file that cannot be written any more does not end a run."""
        if self.problem:
            return
        try:
            self._file.write(line + "\n")
        except (OSError, ValueError) as error:
            self.problem = getattr(error, "strerror", None) or str(error)

    def close(self) -> None:
        """Ends it."""
        try:
            self._file.close()
        except OSError as error:
            self.problem = self.problem or error.strerror or str(error)


class Telling(Protocol):
    """What takes what is said."""

    def tell(self, name: str, direction: str, text: str, took: float | None = None) -> None:
        """One message of one instrument; `took` in s."""


def traced(opening: Opening, address: str, options: LinkOptions, file: Telling) -> Link:
    """A link, opened, of which everything is told. Raises as the opening itself."""
    try:
        link = opening(address, options)
    except LinkError as error:
        file.tell(options.name, "!", error.what)
        raise
    file.tell(options.name, "!", f"connected to {address}")
    return TracedLink(options.name, link, file)


class TracedLink(WrappedLink):
    """A link that tells what is said on it."""

    def __init__(self, name: str, link: Link, file: Telling) -> None:
        super().__init__(link)
        self._name, self._file = name, file
        self._asked_at = 0.0

    def _tell(self, direction: str, text: str, took: float | None = None) -> None:
        self._file.tell(self._name, direction, text, took)

    def _done(self, what: str, deed: Callable[[], None]) -> None:
        self._tell("!", what)
        self._trying(deed)

    def _trying(self, deed: Callable[[], None]) -> None:
        try:
            deed()
        except LinkError as error:
            self._tell("!", error.what)
            raise

    def open(self) -> None:
        """As the link does, like all that follows."""
        self._done("connecting", self._link.open)

    def reopen(self) -> None:
        """Closes and connects anew."""
        self._done("connecting anew", self._link.reopen)

    def close(self) -> None:
        """Closes the link."""
        self._done("closed", self._link.close)

    def clear(self) -> None:
        """Device clear."""
        self._done("device clear", self._link.clear)

    def trigger(self) -> None:
        """Triggers it."""
        self._done("trigger", self._link.trigger)

    def status_byte(self) -> int:
        """The status byte."""
        status = self._link.status_byte()
        self._tell("!", f"status byte {status}")
        return status

    def look(self, seconds: float = 0.0) -> None:
        """Whether something waits that nobody asked for."""
        self._trying(lambda: self._link.look(seconds))

    def send(self, data: bytes) -> None:
        """Sends commands."""
        self._tell(">", shown(data))
        self._trying(lambda: self._link.send(data))

    def ask(self, data: bytes) -> None:
        """Sends a query."""
        self._tell(">", shown(data))
        self._asked_at = time.monotonic()
        self._trying(lambda: self._link.ask(data))

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The reply to it."""
        return self._heard(lambda: self._link.receive(reply), reply)

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and takes its reply."""
        self._tell(">", shown(data))
        self._asked_at = time.monotonic()
        return self._heard(lambda: self._link.exchange(data, reply), reply)

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """Asks what has a known answer."""
        self._tell(">", shown(data))
        self._asked_at = time.monotonic()
        return self._heard(lambda: self._link.ask_known(data, wanted), Reply.LINE)

    def _heard(self, taking: Callable[[], Data], reply: Reply | Lines) -> Data:
        try:
            data = taking()
        except LinkError as error:
            self._tell("!", error.what)
            raise
        text = f"block of {len(data)} bytes: {shown(data[:20])}" if reply is Reply.BLOCK else shown(data)
        self._tell("<", text, time.monotonic() - self._asked_at)
        return data
