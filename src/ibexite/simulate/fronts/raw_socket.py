"""A stand-in behind a raw TCP socket: lines in, lines out."""

from __future__ import annotations

import socket

from ibexite.protocols.framing import Framer, TooLong
from ibexite.simulate.conversation import Conversation, Instrument, text_of
from ibexite.simulate.fronts.tcp import Connection, Port
from ibexite.simulate.loop import Loop


class RawSocketFront:
    """Serves an instrument at one port."""

    def __init__(self, loop: Loop, instrument: Instrument) -> None:
        self._loop, self._instrument = loop, instrument
        place = instrument.stand_in
        self._port = Port(loop, place.host, place.port, self._welcome)
        self.port = self._port.number
        self.address = f"TCPIP::{place.host}::{self.port}::SOCKET"
        instrument.refuse = self._port.refuse

    def _welcome(self, connection: socket.socket) -> None:
        _Lines(self._loop, self._instrument, connection)


class _Lines:
    """One client."""

    def __init__(self, loop: Loop, instrument: Instrument, connection: socket.socket) -> None:
        self._instrument = instrument
        instrument.clients += 1
        self._framer = Framer(instrument.stand_in.command_end.encode("latin-1"))
        self._connection = Connection(loop, connection, self._hear, self._gone)
        self._conversation = Conversation(loop, instrument, self)
        if instrument.stand_in.greeting:
            self._connection.send(instrument.stand_in.greeting.encode("latin-1"), briefly=False)

    def send(self, data: bytes, number: int, *, briefly: bool = False) -> None:
        """Sends a reply or a part of one."""
        self._connection.send(data, briefly=briefly)

    def close(self, with_reset: bool) -> None:
        """Ends the link."""
        self._connection.close(with_reset)

    def freeze(self, seconds: float) -> None:
        """Nothing is taken for so long."""
        self._connection.freeze(seconds)

    def _gone(self) -> None:
        self._instrument.clients -= 1

    def _hear(self, data: bytes) -> None:
        lines = []
        try:
            self._framer.feed(data)
        except TooLong:
            self._connection.close()
            return
        while (line := self._framer.next_message()) is not None:
            lines.append(text_of(line))
        self._conversation.hear(lines)
