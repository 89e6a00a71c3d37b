"""A link over a stream of bytes (a raw TCP socket, a serial port, a program): lines out, lines and blocks in. A thin
shell; where a reply ends is found by ibexite.protocols.framing."""

from __future__ import annotations

import time
from collections.abc import Callable
from functools import partial
from typing import Any, Protocol

from ibexite.errors import LinkError
from ibexite.instruments.failures import Failures
from ibexite.instruments.link import Data, Lines, LinkOptions, Reply, Rescue
from ibexite.protocols.framing import BlockInPlace, Framer, NoBlock, TooLong, block_content, is_long_block
from ibexite.protocols.scpi import response_value


class Stream(Protocol):
    """What moves the bytes."""

    timeout: float  # s, of a reply
    is_fresh: bool  # when it was opened nothing of before can arrive
    seconds_per_byte: float  # that a slow line needs for a byte, beyond the time-out; 0 for one that is not slow

    def send(self, data: bytes, /) -> Any:
        """Sends all of it. Raises OSError."""

    def receive(self, most: int, /) -> bytes:
        """Some bytes; none if it has ended. Raises OSError: TimeoutError if none come within a turn."""

    def poll(self, ms: int, /) -> Any:
        """Whether bytes wait, or come within so many ms, or it has ended."""

    def why_ended(self) -> str:
        """Why it has ended, "" if nobody knows."""

    def open(self) -> None:
        """Makes it ready, with nothing of before on its way. Raises LinkError."""

    def close(self) -> None:
        """Closes it."""

    def patiently(self, error: OSError) -> bytes:
        """What comes after the first turn of waiting was over. Raises OSError: that of the last try."""

    def more(self, deadline: float) -> bytes:
        """What comes next until a deadline in monotonic s. Raises OSError."""

    def into(self, view: memoryview, deadline: float) -> None:
        """Fills a place in memory until a deadline. Raises OSError, and EOFError if it has ended before."""

    def rescue(self, end: bytes) -> Rescue:
        """What the guardian needs; `end` is that of commands."""


MOST_GREETING = 65536  # bytes
GREETING = "Check greeting in the quirks of its profile."
TRIGGER, STATUS = b"*TRG", b"*STB?"  # IEEE 488.2, 10.37 and 10.36


class StreamLink:
    """A link over a stream of bytes."""

    def __init__(self, address: str, options: LinkOptions, stream: Stream, failures: Failures) -> None:
        self.address, self.timeout = address, options.timeout
        self._stream, self._failures = stream, failures
        self._command_end, self._terminator = options.command_end, options.terminator
        self._greeting = options.greeting
        self._terminator_length = len(options.terminator)
        self.before_reopening: Callable[[], None] = lambda: None
        self.after_reopening: Callable[[], None] = lambda: None
        self.is_waiting = False
        self._asked = b""  # the last query
        self._known_asked = 0  # questions with a known answer that no answer has come to for certain
        self._framer = Framer(options.terminator)
        self._take_over()

    def _take_over(self) -> None:
        """Has at hand what the loop over points calls."""
        self._send_bytes, self._receive_bytes, self._poll = self._stream.send, self._stream.receive, self._stream.poll

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        self.timeout = self._stream.timeout = self._failures.timeout = seconds

    def open(self) -> None:
        """Connects. Raises LinkError: nothing listens, refused, unreachable, too slow."""
        self._stream.open()
        self._take_over()
        self._framer = Framer(self._terminator)
        self.is_waiting = False
        if self._greeting:
            try:
                self._pass_over(self._greeting)
            except LinkError:
                self.close()
                raise

    def _pass_over(self, ending: bytes) -> None:
        """Takes what it says by itself when it is connected."""
        deadline, said = time.monotonic() + self.timeout, b""
        try:
            while not said.endswith(ending):
                data = self._stream.more(deadline)
                if not data or len(said) > MOST_GREETING:
                    raise self._failures.error(f"did not greet with {ending!r}: {said[:60]!r}", GREETING)
                said += data
        except TimeoutError:
            raise self._failures.error(
                f"did not greet with {ending!r} within {self.timeout:g} s" + (f": {said[:60]!r}" if said else ""),
                GREETING,
            ) from None
        except OSError as error:
            raise self._failures.broken(error, said) from None

    def reopen(self) -> None:
        """Closes and connects anew. Whoever holds a copy of the connection is told before and after."""
        self.before_reopening()
        if not self.is_waiting:
            self._asked = b""  # it was answered
        self.close()
        self.open()
        self.after_reopening()

    def rescue(self) -> Rescue:
        """A copy of the connection, and how it is opened anew."""
        return self._stream.rescue(self._command_end)

    def close(self) -> None:
        """Closes the connection."""
        self._stream.close()
        self._take_over()

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends all of it. Raises LinkError: the connection broke, or nothing is taken for the time-out."""
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._failures.broken(error) from None

    def ask(self, data: bytes) -> None:
        """Sends a query whose reply `receive` takes. Raises as `send`, and StrayError."""
        if self.is_waiting:
            raise self._failures.outstanding()
        if self._poll(0):
            raise self._uncalled()
        self.is_waiting, self._asked = True, data
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._failures.broken(error) from None

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The next reply. Raises LinkError: silent for the time-out, cut off, flooded, no block where one is expected;
        then it must be reopened."""
        try:
            data = self._receive_bytes(65536)
        except OSError as error:
            data = self._late(error)
        # Nearly always one whole line and nothing else. What came before was taken, or thrown away by `reopen`.
        if reply is Reply.LINE and data and data.find(self._terminator) == len(data) - self._terminator_length:
            self.is_waiting = False
            return data[: -self._terminator_length]
        return self._whole(data, reply)

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and receives its reply: `ask` and `receive` in one, for the loop over points."""
        if self.is_waiting:
            raise self._failures.outstanding()
        if self._poll(0):
            raise self._uncalled()
        self.is_waiting, self._asked = True, data
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._failures.broken(error) from None
        try:
            found = self._receive_bytes(65536)
        except OSError as error:
            found = self._late(error)
        if reply is Reply.LINE and found and found.find(self._terminator) == len(found) - self._terminator_length:
            self.is_waiting = False  # as in `receive`
            return found[: -self._terminator_length]
        return self._whole(found, reply)

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """Asks what has a known answer; see ibexite.instruments.link.Link. Where it was asked before and the answer did
        not come, as many are waited for: behind the first of them the others are on their way, unless they were thrown
        away when the link was opened anew, of which silence for the time-out tells."""
        if self._stream.is_fresh:
            return self.exchange(data)
        self.is_waiting = True
        self._known_asked += 2 if self._asked == data else 1
        self._asked = b""
        deadline = time.monotonic() + self.timeout
        found, seen = b"", 0
        try:
            self._send_bytes(data)
            while seen < self._known_asked:
                while (line := self._framer.next_line()) is not None:
                    found = line
                    if line.strip() == wanted:
                        seen += 1
                        deadline = time.monotonic() + self.timeout
                if seen < self._known_asked:
                    self._framer.feed(self._stream.more(deadline))
        except TooLong:
            raise self._failures.endless() from None
        except OSError as error:
            if not (found and isinstance(error, TimeoutError)):
                raise self._failures.broken(error, self._framer.pending) from None
            if not seen:
                return found
        self.is_waiting, self._known_asked = False, 0
        return wanted

    def look(self, seconds: float = 0.0) -> None:
        """Raises StrayError if something waits, or comes within so many seconds, that nobody asked for; LinkError if
        the connection was closed."""
        if self._poll(round(seconds * 1000)):
            raise self._uncalled()

    def clear(self) -> None:
        """A stream of lines knows no device clear: the connection is made anew."""
        self.reopen()

    def trigger(self) -> None:
        """Triggers by a common command: a stream of lines has no message of its own for it."""
        self.send(TRIGGER + self._command_end)

    def status_byte(self) -> int:
        """The status byte, asked for by a common query. Raises LinkError: also if the answer is none."""
        return status_of(self.exchange(STATUS + self._command_end), self._failures)

    def _late(self, error: OSError) -> bytes:
        """What comes after the first turn of waiting was over; the run may be stopped meanwhile."""
        try:
            return self._stream.patiently(error)
        except OSError as last:
            raise self._failures.broken(last, self._framer.pending) from None

    def _whole(self, data: bytes, reply: Reply | Lines) -> Data:
        if reply is Reply.BLOCK and is_long_block(data):
            return self._long_block(data)
        try:
            found = self._collect(data, self._next_one(reply))
        except TooLong:
            raise self._failures.endless() from None
        except OSError as error:
            raise self._failures.broken(error, self._framer.pending) from None
        if self._framer.pending:
            raise self._failures.stray(self._framer.pending, found)
        if reply is Reply.BLOCK:
            try:
                found = block_content(found)
            except NoBlock as error:
                raise self._failures.no_block(error) from None
        self.is_waiting = False
        return found

    def _next_one(self, reply: Reply | Lines) -> Callable[[], bytes | None]:
        if isinstance(reply, Lines):
            return partial(reply.of, self._framer)
        return self._framer.next_line if reply is Reply.LINE else self._framer.next_message

    def _long_block(self, data: bytes) -> bytearray:
        """A block that is received in place, within one time-out, and what a slow line needs for so many bytes."""
        try:
            block = BlockInPlace(data, self._terminator)
            deadline = time.monotonic() + self.timeout + block.length * self._stream.seconds_per_byte
            with block.room(block.missing) as room:
                self._stream.into(room, deadline)
            content = block.content()
        except TooLong:
            raise self._failures.endless() from None
        except NoBlock as error:
            raise self._failures.no_block(error) from None
        except EOFError:
            raise self._failures.ended(data, self._stream.why_ended()) from None
        except OSError as error:
            raise self._failures.broken(error, data) from None
        self.is_waiting = False
        return content

    def _collect(self, data: bytes, next_one: Callable[[], bytes | None]) -> bytes:
        """A reply that came in pieces, within one time-out for all of them."""
        deadline = time.monotonic() + self.timeout
        while True:
            if not data:
                raise self._failures.ended(self._framer.pending, self._stream.why_ended())
            self._framer.feed(data)
            deadline += len(data) * self._stream.seconds_per_byte
            found = next_one()
            if found is not None:
                return found
            data = self._stream.more(deadline)

    def _uncalled(self) -> LinkError:
        """The error for what waits though nobody asked: bytes, or the end of the connection."""
        try:
            data = self._receive_bytes(65536)
        except OSError as error:
            return self._failures.broken(error)
        if data:
            return self._failures.stray(data)
        why = self._stream.why_ended()
        return self._failures.error("closed the connection" + (f" ({why})" if why else ""))


def status_of(reply: Data, failures: Failures) -> int:
    """The status byte in a reply to *STB? (IEEE 488.2, 10.36). Raises LinkError: it is none."""
    try:
        value = response_value(reply.decode("latin-1"))
        if value in range(256):
            return int(value)
    except ValueError:
        pass
    raise failures.error(
        f"answered {bytes(reply[:60])!r} when asked for its status byte", "It is a number from 0 to 255."
    )
