"""A stand-in of a USBTMC instrument, behind a socket that takes the calls of a device file."""

from __future__ import annotations

import errno
import socket
import tempfile
from collections.abc import Callable
from pathlib import Path

from ibexite.protocols.usbtmc import READING, REQUEST, Deed, DeviceSide, UsbtmcError, answered
from ibexite.simulate.conversation import Conversation, Instrument, messages_of
from ibexite.simulate.fronts.tcp import PATIENCE, Connection
from ibexite.simulate.loop import Loop

MOST_REQUEST = 1 << 22  # bytes
MESSAGE_AVAILABLE = 0x10


class UsbFront:
    """Serves an instrument at the path of a socket; pulling the plug takes the path away."""

    def __init__(self, loop: Loop, instrument: Instrument) -> None:
        self._loop, self._instrument = loop, instrument
        self._folder = tempfile.TemporaryDirectory(prefix="ibexite-usb-")
        self._path = Path(self._folder.name) / "usbtmc0"
        self.address = f"USB::{self._path}::INSTR"
        instrument.refuse = self._refuse
        self._plug_in()
        loop.at_end(self._folder.cleanup)

    def _plug_in(self) -> None:
        self._path.unlink(missing_ok=True)
        self._listener = socket.socket(socket.AF_UNIX)
        self._listener.bind(str(self._path))
        self._listener.listen()
        self._loop.watch(self._listener, self._accept)

    def _accept(self) -> None:
        try:
            connection, _ = self._listener.accept()
        except OSError:
            return
        connection.settimeout(PATIENCE)
        _Opened(self._loop, self._instrument, connection)

    def _refuse(self, seconds: float) -> None:
        self._loop.forget(self._listener)
        self._listener.close()
        self._path.unlink(missing_ok=True)
        self._loop.after(seconds, self._plug_in)


class _Opened:
    """One program that has the device file open."""

    def __init__(self, loop: Loop, instrument: Instrument, connection: socket.socket) -> None:
        self._loop, self._instrument = loop, instrument
        instrument.clients += 1
        self._data, self._side = bytearray(), DeviceSide()
        self._reading: Callable[[int], None] | None = None
        self._connection = Connection(loop, connection, self._hear, self._gone)
        self._conversation = Conversation(loop, instrument, self)

    def _gone(self) -> None:
        self._instrument.clients -= 1
        self._reading = None

    def _hear(self, data: bytes) -> None:
        self._data += data
        while len(self._data) >= REQUEST.size:
            deed, length = REQUEST.unpack_from(self._data)
            if length > MOST_REQUEST:
                self._connection.close()
                return
            if len(self._data) < REQUEST.size + length:
                return
            payload = bytes(self._data[REQUEST.size : REQUEST.size + length])
            del self._data[: REQUEST.size + length]
            self._take(deed, payload)

    def _take(self, deed: int, payload: bytes) -> None:
        if deed == Deed.WRITE:
            self._write(payload)
        elif deed == Deed.READ:
            self._read(READING.unpack(payload)[1] / 1000)
        elif deed == Deed.STATUS:
            status = self._instrument.device.status_byte() | MESSAGE_AVAILABLE * self._side.has_output
            self._answer(0, bytes([status]))
        else:
            if deed == Deed.CLEAR:
                self._conversation.end()
                self._conversation = Conversation(self._loop, self._instrument, self)
                self._side.restart()
                self._instrument.device.take_output()
            self._answer(0 if deed in set(Deed) else errno.ENOTTY)

    def _write(self, transfer: bytes) -> None:
        try:
            content = self._side.take(transfer)
        except UsbtmcError:
            self._answer(errno.EPIPE)  # the device halts the endpoint
            return
        self._answer(0)
        if content is not None:
            self._conversation.hear(messages_of(content, self._instrument.stand_in.command_end))

    def _read(self, seconds: float) -> None:
        """Answers at once, or when there is something, or after so many seconds."""

        def try_it(error: int) -> None:
            transfer = self._side.give()
            if transfer is not None or error:
                self._reading = None
                self._answer(0 if transfer is not None else error, transfer or b"")

        def give_up() -> None:
            if self._reading is try_it:
                try_it(errno.ETIMEDOUT)

        self._reading = try_it
        self._loop.after(seconds, give_up)
        try_it(0)

    def _answer(self, error: int, payload: bytes = b"") -> None:
        self._connection.send(answered(error, payload))

    def send(self, data: bytes, number: int, *, briefly: bool = False) -> None:
        """A reply or a part of one: it waits to be asked for."""
        self._side.respond(data, is_whole=data.endswith(self._instrument.stand_in.reply_end.encode("latin-1")))
        if self._reading is not None:
            self._reading(0)

    def freeze(self, seconds: float) -> None:
        """What the device has taken waits."""

    def close(self, with_reset: bool) -> None:
        """The plug is pulled, and put in again."""
        self._connection.close(with_reset=False)
