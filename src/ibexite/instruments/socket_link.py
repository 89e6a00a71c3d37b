"""A link over a raw TCP socket: lines out, lines and blocks in. A thin shell; where a reply ends is found by
ibexite.protocols.framing."""

from __future__ import annotations

import select
import socket
import struct
import sys
import time
from collections.abc import Callable
from typing import Any

from ibexite.errors import LinkError
from ibexite.instruments.address import RawSocket
from ibexite.instruments.link import TURN, LinkOptions, Reply, Rescue, StrayError
from ibexite.protocols.framing import Framer, NoBlock, TooLong, block_content


def _closed(_: object) -> Any:
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
    """A raw TCP socket. TCP_NODELAY is set: without it a setting followed by a query costs 44 ms."""

    def __init__(self, address: str, place: RawSocket, options: LinkOptions) -> None:
        self.address, self.name, self.timeout = address, options.name, options.timeout
        self._place, self._terminator = place, options.terminator
        self._heed, self._turn = options.heed, min(TURN, options.timeout)
        self._terminator_length = len(options.terminator)
        self.before_reopening: Callable[[], None] = lambda: None
        self.after_reopening: Callable[[], None] = lambda: None
        self.is_waiting = False
        self._socket: socket.socket | None = None
        self._send_bytes: Callable[[bytes], Any] = _closed
        self._receive_bytes: Callable[[int], bytes] = _closed
        self._poll: Callable[[int], Any] = _nothing_waits
        self._framer = Framer(options.terminator)

    def open(self) -> None:
        """Connects. Raises LinkError: nothing listens, refused, unreachable, too slow."""
        try:
            self._socket = socket.create_connection((self._place.host, self._place.port), self.timeout)
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
        self._framer = Framer(self._terminator)
        self.is_waiting = False

    def reopen(self) -> None:
        """Closes and connects anew. Whoever holds a copy of the connection is told before and after."""
        self.before_reopening()
        self.close()
        self.open()
        self.after_reopening()

    def rescue(self) -> Rescue:
        """A copy of the socket, and where to connect anew."""
        assert self._socket is not None
        plan = {
            "kind": "socket", "host": self._place.host, "port": self._place.port, "timeout": self.timeout,
            "end": self._terminator.decode("latin-1"),
        }  # fmt: skip
        return Rescue(plan, self._socket.fileno())

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

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        """The next reply. Raises LinkError: silent for the time-out, cut off, flooded, no block where one is expected;
        then it must be reopened."""
        try:
            data = self._receive_bytes(65536)
        except OSError as error:
            data = self._patiently(error)
        # Nearly always one whole line and nothing else. What came before was taken, or thrown away by `reopen`.
        if reply is Reply.LINE and data and data.find(self._terminator) == len(data) - self._terminator_length:
            self.is_waiting = False
            return data[: -self._terminator_length]
        return self._whole(data, reply)

    def exchange(self, data: bytes, reply: Reply = Reply.LINE) -> bytes:
        """Sends a query and receives its reply: `ask` and `receive` in one, for the loop over points."""
        if self._poll(0):
            raise self._uncalled()
        self.is_waiting = True
        try:
            self._send_bytes(data)
        except OSError as error:
            raise self._broken(error) from None
        try:
            found = self._receive_bytes(65536)
        except OSError as error:
            found = self._patiently(error)
        if reply is Reply.LINE and found and found.find(self._terminator) == len(found) - self._terminator_length:
            self.is_waiting = False  # as in `receive`
            return found[: -self._terminator_length]
        return self._whole(found, reply)

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

    def _whole(self, data: bytes, reply: Reply) -> bytes:
        try:
            found = self._collect(data, self._framer.next_line if reply is Reply.LINE else self._framer.next_message)
        except TooLong:
            raise self._error("a reply without end") from None
        except OSError as error:
            raise self._broken(error) from None
        if self._framer.pending:
            raise self._stray(self._framer.pending)
        if reply is Reply.BLOCK:
            try:
                found = block_content(found)
            except NoBlock as error:
                raise self._error(f"answered {error}", "Does its profile say how it answers?") from None
        self.is_waiting = False
        return found

    def _collect(self, data: bytes, next_one: Callable[[], bytes | None]) -> bytes:
        """A reply that came in pieces, within one time-out for all of them."""
        deadline = time.monotonic() + self.timeout
        while True:
            if not data:
                begun = self._framer.pending
                raise self._error(
                    f"cut off in the middle of a reply: {begun[:60]!r}"
                    if begun
                    else "closed the connection instead of answering"
                )
            self._framer.feed(data)
            found = next_one()
            if found is not None:
                return found
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
        begun = self._framer.pending
        after = f" in the middle of a reply: {begun[:60]!r}" if begun else ""
        return self._error(f"silent for {self.timeout:g} s{after}", "Does it know the command? Is it busy?")

    def _error(self, what: str, remedy: str = "") -> LinkError:
        return LinkError(what, where=f"{self.name} at {self.address}", remedy=remedy)
