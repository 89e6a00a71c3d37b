"""A TCP connection with bounded waiting: what all links over TCP stand on.

While a reply is waited for, `heed` of the options is called every TURN; what it raises ends the wait.
"""

from __future__ import annotations

import select
import socket
import struct
import sys
import time
from collections.abc import Callable
from typing import Any

from ibexite.instruments.failures import Failures
from ibexite.instruments.link import LinkOptions, Rescue
from ibexite.instruments.patience import PatientStream, closed, nothing_waits


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


def waiting_poll(*connections: socket.socket) -> Callable[[int], list[Any]]:
    """A function of a time in ms that tells whether bytes wait on a connection, or its end: empty if none."""
    if hasattr(select, "poll"):
        poll = select.poll()
        for connection in connections:
            poll.register(connection, select.POLLIN)
        return poll.poll
    return lambda ms: select.select(connections, [], [], ms / 1000)[0]


class TcpStream(PatientStream):
    """One connection. `send` (all of some bytes), `receive` (at most so many, for one turn) and `poll` are those of the
    system itself, for whoever is in a hurry: they raise OSError."""

    is_fresh, seconds_per_byte = True, 0.0

    def __init__(self, host: str, port: int, options: LinkOptions, failures: Failures) -> None:
        super().__init__(options)
        self.host, self.port, self._failures = host, port, failures
        self.socket: socket.socket | None = None
        self._forget()

    def _forget(self) -> None:
        self.send: Callable[[bytes], Any] = closed
        self.receive: Callable[[int], bytes] = closed
        self.poll: Callable[[int], list[Any]] = nothing_waits

    def open(self) -> None:
        """Connects. Raises LinkError: nothing listens, refused, unreachable, too slow."""
        self.close()
        try:
            self.socket = socket.create_connection((self.host, self.port), self._options.to_connect)
        except OSError as error:
            raise self._failures.unreachable(error, self._options.to_connect) from None
        self.socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.poll = waiting_poll(self.socket)
        can_turn = set_timeouts(self.socket, receiving=self._turn, sending=self._options.to_send)
        self.receive = self.socket.recv if can_turn else self._receive_in_turn
        self.send = self.socket.sendall

    def close(self) -> None:
        """Closes it."""
        if self.socket is not None:
            self.socket.close()
            self.socket = None
            self._forget()

    def why_ended(self) -> str:
        """Nobody says why the other side has closed it."""
        return ""

    def rescue(self, end: bytes) -> Rescue:
        """A copy of the connection, and where to connect anew; `end` is that of lines."""
        assert self.socket is not None
        plan = {
            "kind": "socket", "host": self.host, "port": self.port, "timeout": self._options.timeout,
            "end": end.decode("latin-1"), "terminator": self._options.terminator.decode("latin-1"),
        }  # fmt: skip
        return Rescue(plan, self.socket.fileno())

    def _receive_in_turn(self, most: int) -> bytes:
        """Receives, where the kernel knows no time-outs of receiving."""
        assert self.socket is not None
        if not self.poll(round(self._turn * 1000)):
            raise TimeoutError
        return self.socket.recv(most)

    def into(self, view: memoryview, deadline: float) -> None:
        """Fills a place in memory, as that of PatientStream, without a copy."""
        assert self.socket is not None
        got = 0
        while got < len(view):
            try:
                read = self.socket.recv_into(view[got:])
            except OSError as error:
                if not isinstance(error, TimeoutError | BlockingIOError) or time.monotonic() >= deadline:
                    raise
                self._options.heed()
                continue
            if not read:
                raise EOFError(bytes(view[:got]))
            got += read

    def exactly(self, count: int, deadline: float) -> bytearray:
        """So many bytes. Raises as `into`."""
        data = bytearray(count)
        self.into(memoryview(data), deadline)
        return data
