"""What all fronts over TCP share: a port that can be shut for a while, and connections of which each holds the thread
for a bounded time only."""

from __future__ import annotations

import ctypes
import socket
import struct
import sys
from collections.abc import Callable
from math import inf

from ibexite.simulate.loop import Loop

# A socket filter of one instruction, which keeps nothing of any packet: struct sock_fprog of linux/filter.h.
_RETURN_NOTHING = ctypes.create_string_buffer(struct.pack("=HBBI", 0x06, 0, 0, 0), 8)
_ATTACH, _DETACH, _DROP_ALL = 26, 27, struct.pack("@HP", 1, ctypes.addressof(_RETURN_NOTHING))
PATIENCE = 10.0  # s; a reply that is not taken whole by then is the last one
BRIEFLY = 0.05  # s; the same while something goes wrong: the other instruments are to answer meanwhile


class Port:
    """Listens at one port, and gives whoever comes to `welcome`."""

    def __init__(self, loop: Loop, host: str, port: int, welcome: Callable[[socket.socket], None]) -> None:
        self._loop, self._host, self._welcome = loop, host, welcome
        self._listener = socket.create_server((host, port))
        self.number: int = self._listener.getsockname()[1]
        loop.watch(self._listener, self._accept)

    def _accept(self) -> None:
        try:
            connection, _ = self._listener.accept()
        except OSError:  # it has gone again, or nobody is let in just now
            return
        connection.settimeout(PATIENCE)
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._welcome(connection)

    def refuse(self, seconds: float) -> None:
        """Lets nobody in for so many seconds."""

        def listen_again() -> None:
            try:
                self._listener = socket.create_server((self._host, self.number))
            except OSError:  # links of before are not gone yet
                self._loop.after(0.1, listen_again)
                return
            self._loop.watch(self._listener, self._accept)

        if self._listener.fileno() >= 0:
            self._loop.forget(self._listener)
            self._listener.close()
            self._loop.after(seconds, listen_again)


class Connection:
    """One connection: gives what arrives to `hear`, and tells `gone` once when it has ended, whoever ended it."""

    def __init__(
        self, loop: Loop, connection: socket.socket, hear: Callable[[bytes], None], gone: Callable[[], None]
    ) -> None:
        self._loop, self._connection, self._hear, self._gone = loop, connection, hear, gone
        self.is_open, self._is_frozen = True, False
        loop.watch(connection, self._receive)

    def _receive(self) -> None:
        try:
            data = self._connection.recv(65536)
        except OSError:
            data = b""
        if data:
            self._hear(data)
        else:
            self.close()

    def send(self, data: bytes, *, briefly: bool = False) -> None:
        """Sends all of it; one that does not take it in time is given up."""
        if not self.is_open:
            return
        self._connection.settimeout(BRIEFLY if briefly else PATIENCE)
        try:
            self._connection.sendall(data)
        except OSError:
            self.close()

    def close(self, with_reset: bool = False) -> None:
        """Ends it."""
        if not self.is_open:
            return
        self.is_open = False
        if with_reset:
            self._connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        if not self._is_frozen:
            self._loop.forget(self._connection)
        self._connection.close()
        self._gone()

    def freeze(self, seconds: float) -> None:
        """For so many seconds nothing is taken any more. Where the system can be told so (Linux) what arrives is
        dropped before it is acknowledged: to the other side it is as if the cable were pulled."""
        if not self.is_open or self._is_frozen:
            return
        self._is_frozen = True
        self._loop.at_end(self._end_frozen)  # the loop closes what it watches, and this it does not
        self._loop.forget(self._connection)
        _filter(self._connection, _ATTACH, _DROP_ALL)
        if seconds != inf:
            self._loop.after(seconds, self._thaw)

    def _end_frozen(self) -> None:
        if self._is_frozen:
            self.close()

    def _thaw(self) -> None:
        if self.is_open:
            self._is_frozen = False
            _filter(self._connection, _DETACH, bytes(4))
            self._loop.watch(self._connection, self._receive)


def _filter(connection: socket.socket, option: int, value: bytes) -> None:
    if sys.platform == "linux":
        connection.setsockopt(socket.SOL_SOCKET, option, value)
