"""Links: bytes to and from one instrument, with time-outs. A thin shell; lines are found by ibexite.protocols.lines.

What always holds: `send`, `receive` and `exchange` return within the time-out or raise LinkError (a reply that comes in
pieces has one time-out more, for all its pieces together); while they wait for a reply they look, every TURN, whether
the run is to end; after `reopen` nothing of an earlier exchange can arrive;
before a query and after each reply it is looked whether something waits that nobody asked for (StrayError).
`is_waiting` is true from a query's sending until its reply was taken.
"""

from __future__ import annotations

import re
import select
import socket
import struct
import sys
import time
from collections.abc import Callable
from typing import Any

from ibexite.errors import LinkError, MistakeError
from ibexite.protocols.lines import LineBuffer, LineTooLong

TURN = 0.1  # s
_SOCKET_ADDRESS = re.compile(r"TCPIP\d*::([^:]+)::(\d+)::SOCKET", re.IGNORECASE)


class StrayError(LinkError):
    """Something was sent that nobody had asked for: which answer belongs to which question is in doubt."""


def parse_address(address: str) -> tuple[str, int]:
    """Host and port of a VISA resource string for a raw socket.

    >>> parse_address("TCPIP::192.0.2.10::5025::SOCKET")
    ('192.0.2.10', 5025)

    Raises:
        MistakeError: any other address.
    """
    match = _SOCKET_ADDRESS.fullmatch(address)
    if match is None or not 0 < int(match[2]) < 65536:
        raise MistakeError(
            f"{address!r} is not an address that can be reached",
            remedy='Write a raw socket as "TCPIP::192.0.2.10::5025::SOCKET".',
        )
    return match[1], int(match[2])


def _closed(_: Any) -> Any:
    raise OSError(0, "it is closed")


def _nothing_waits(_: int) -> list[Any]:
    return []


def set_timeouts(connection: socket.socket, *, receiving: float, sending: float) -> bool:
    """Sets the time-outs in s. Where the system can, they are told to the kernel: Python's own time-outs cost one more
    system call an operation. False where it cannot: then the one of sending holds for both."""
    if sys.platform not in ("linux", "darwin"):
        connection.settimeout(sending)
        return False
    connection.settimeout(None)
    for option, seconds in ((socket.SO_RCVTIMEO, receiving), (socket.SO_SNDTIMEO, sending)):
        spec = struct.pack("ll", int(seconds), int(seconds % 1 * 1_000_000))
        connection.setsockopt(socket.SOL_SOCKET, option, spec)
    return True


def _waiting_poll(connection: socket.socket) -> Callable[[int], Any]:
    """A function of a time in ms that tells whether bytes wait on a connection, or its end."""
    if hasattr(select, "poll"):
        poll = select.poll()
        poll.register(connection, select.POLLIN)
        return poll.poll
    return lambda ms: select.select([connection], [], [], ms / 1000)[0]


class SocketLink:
    """A raw TCP socket. TCP_NODELAY is set: without it a setting followed by a query costs 44 ms.

    `heed` is called while a reply is waited for; what it raises ends the wait.
    """

    def __init__(
        self, address: str, *, name: str, timeout: float, terminator: bytes, heed: Callable[[], None] = lambda: None
    ) -> None:
        self.address, self.name, self.timeout, self.terminator = address, name, timeout, terminator
        self._heed, self._turn = heed, min(TURN, timeout)
        self._terminator_length = len(terminator)
        self.before_reopening: Callable[[], None] = lambda: None
        self.after_reopening: Callable[[int], None] = lambda handle: None
        self.is_waiting = False
        self._host, self._port = parse_address(address)
        self._socket: socket.socket | None = None
        self._send_bytes: Callable[[bytes], Any] = _closed
        self._receive_bytes: Callable[[int], bytes] = _closed
        self._poll: Callable[[int], Any] = _nothing_waits
        self._buffer = LineBuffer(terminator)

    def open(self) -> None:
        """Connects. Raises LinkError: nothing listens, refused, unreachable, too slow."""
        try:
            self._socket = socket.create_connection((self._host, self._port), self.timeout)
        except ConnectionRefusedError:
            raise self._error(
                "nothing listens there (connection refused)",
                "Is the instrument switched on, and is its LAN interface enabled?",
            ) from None
        except TimeoutError:
            raise self._error(
                f"no answer to the connection within {self.timeout:g} s", "Check cable, address and network."
            ) from None
        except OSError as error:
            raise self._error(
                f"cannot connect ({error.strerror or error})", "Check the address in the bench file."
            ) from None
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._poll = _waiting_poll(self._socket)
        can_turn = set_timeouts(self._socket, receiving=self._turn, sending=self.timeout)
        self._receive_bytes = self._socket.recv if can_turn else self._receive_in_turn
        self._send_bytes = self._socket.sendall
        self._buffer = LineBuffer(self.terminator)
        self.is_waiting = False

    def reopen(self) -> None:
        """Closes and connects anew. Whoever holds a copy of the connection is told before and after."""
        self.before_reopening()
        self.close()
        self.open()
        self.after_reopening(self.handle())

    def handle(self) -> int:
        """The operating system's number of the connection."""
        assert self._socket is not None
        return self._socket.fileno()

    def close(self) -> None:
        """Closes the socket."""
        if self._socket is not None:
            self._socket.close()
            self._socket = None
            self._send_bytes = self._receive_bytes = _closed
            self._poll = _nothing_waits

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends all of it. Raises LinkError: the connection broke, or nothing is taken for the time-out."""
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._broken(error) from None

    def ask(self, data: bytes) -> None:
        """Sends a query whose reply `receive` takes. Raises as `send`, and StrayError."""
        if self._poll(0):
            raise self._uncalled()
        self.is_waiting = True
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._broken(error) from None

    def receive(self) -> bytes:
        """The next line. Raises LinkError: silent for the time-out, cut off, flooded; then it must be reopened."""
        try:
            reply = self._receive_bytes(65536)
        except OSError as error:
            reply = self._patiently(error)
        # Nearly always one whole line and nothing else. What came before was taken, or thrown away by `reopen`.
        if reply and reply.find(self.terminator) == len(reply) - self._terminator_length:
            self.is_waiting = False
            return reply[: -self._terminator_length]
        return self._line(reply)

    def exchange(self, data: bytes) -> bytes:
        """Sends a query and receives its reply: `ask` and `receive` in one, for the loop over points."""
        if self._poll(0):
            raise self._uncalled()
        self.is_waiting = True
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._broken(error) from None
        try:
            reply = self._receive_bytes(65536)
        except OSError as error:
            reply = self._patiently(error)
        if reply and reply.find(self.terminator) == len(reply) - self._terminator_length:  # as in `receive`
            self.is_waiting = False
            return reply[: -self._terminator_length]
        return self._line(reply)

    def look(self, seconds: float = 0.0) -> None:
        """Raises StrayError if something waits, or comes within so many seconds, that nobody asked for; LinkError if
        the connection was closed."""
        if self._poll(round(seconds * 1000)):
            raise self._uncalled()

    def _receive_in_turn(self, most: int) -> bytes:
        """Receives, where the kernel knows no time-outs of receiving."""
        assert self._socket is not None
        if not self._poll(round(self._turn * 1000)):
            raise TimeoutError
        return self._socket.recv(most)

    def _patiently(self, error: OSError) -> bytes:
        """What comes after the first turn of waiting was over; the run may be stopped meanwhile."""
        deadline = time.monotonic() + self.timeout - self._turn
        while isinstance(error, TimeoutError | BlockingIOError) and time.monotonic() < deadline:
            self._heed()
            try:
                return self._receive_bytes(65536)
            except OSError as again:
                error = again
        raise self._broken(error) from None

    def _line(self, data: bytes) -> bytes:
        try:
            line = self._collect(data)
        except LineTooLong:
            raise self._error("a reply without end") from None
        except OSError as error:
            raise self._broken(error) from None
        self.is_waiting = False
        if self._buffer.pending:
            raise self._stray(self._buffer.pending)
        return line

    def _collect(self, data: bytes) -> bytes:
        """A line that came in pieces, within one time-out for all of them."""
        deadline = time.monotonic() + self.timeout
        while True:
            if not data:
                begun = self._buffer.pending
                raise self._error(
                    f"cut off in the middle of a reply: {begun[:60]!r}"
                    if begun
                    else "closed the connection instead of answering"
                )
            self._buffer.feed(data)
            line = self._buffer.next_line()
            if line is not None:
                return line
            while not self._poll(max(1, round(min(self._turn, deadline - time.monotonic()) * 1000))):
                self._heed()
                if time.monotonic() >= deadline:
                    raise TimeoutError
            data = self._receive_bytes(65536)

    # --- what went wrong ---------------------------------------------------------------------------------------------

    def _uncalled(self) -> LinkError:
        """The error for what waits though nobody asked: bytes, or the end of the connection."""
        try:
            data = self._receive_bytes(65536)
        except OSError as error:
            return self._broken(error)
        return self._stray(data) if data else self._error("closed the connection")

    def _stray(self, data: bytes) -> StrayError:
        return StrayError(
            f"sent what nobody had asked for: {data[:60]!r}",
            where=f"{self.name} at {self.address}",
            remedy="Does anybody else talk to it? Does one of its settings make it talk by itself?",
        )

    def _broken(self, error: OSError) -> LinkError:
        """The error for what the system said while sending or receiving."""
        if not isinstance(error, TimeoutError | BlockingIOError):
            return self._error(f"the connection broke ({error.strerror or error})")
        begun = self._buffer.pending
        after = f" in the middle of a reply: {begun[:60]!r}" if begun else ""
        return self._error(f"silent for {self.timeout:g} s{after}", "Does it know the command? Is it busy?")

    def _error(self, what: str, remedy: str = "") -> LinkError:
        return LinkError(what, where=f"{self.name} at {self.address}", remedy=remedy)
