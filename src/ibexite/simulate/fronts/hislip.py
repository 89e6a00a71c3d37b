"""A stand-in behind a HiSLIP server. A thin shell around ibexite.protocols.hislip_server: two connections a session."""

from __future__ import annotations

import itertools
import socket
from collections import deque
from collections.abc import Callable

from ibexite.protocols.hislip import HislipError, Lock, Message, Nonfatal, Reader, Type
from ibexite.protocols.hislip_server import REFUSALS, ServerSession, fatal
from ibexite.simulate.conversation import Conversation, Instrument, messages_of
from ibexite.simulate.fronts.tcp import Connection, Port
from ibexite.simulate.loop import Loop

MOST_CLIENTS = 16


class HislipFront:
    """Serves an instrument at one port, under one sub-address."""

    def __init__(self, loop: Loop, instrument: Instrument) -> None:
        self._loop, self._instrument = loop, instrument
        place = instrument.stand_in
        self._port = Port(loop, place.host, place.port, self._welcome)
        self.device = place.device or "hislip0"
        self.address = f"TCPIP::{place.host}::{self.device},{self._port.number}::INSTR"
        self.sessions: dict[int, _Session] = {}
        self._numbers = itertools.count(1)
        instrument.refuse = self._port.refuse

    def _welcome(self, connection: socket.socket) -> None:
        _Channel(self, self._loop, connection)

    def begin(self, channel: _Channel, message: Message) -> _Session | None:
        """The session that the first message of a channel belongs to, None if it is refused."""
        if message.type == Type.INITIALIZE:
            if message.payload.decode("latin-1").lower() not in ("", self.device.lower()):
                channel.refuse(REFUSALS["device"])
            elif len(self.sessions) >= MOST_CLIENTS:
                channel.refuse(REFUSALS["clients"])
            else:
                number = next(self._numbers) & 0xFFFF
                self.sessions[number] = _Session(self, self._loop, self._instrument, channel, number)
                return self.sessions[number]
        elif message.type == Type.ASYNC_INITIALIZE:
            session = self.sessions.get(message.parameter & 0xFFFF)
            if session is not None and session.join(channel):
                return session
            channel.refuse(REFUSALS["session"])
        else:
            channel.refuse(REFUSALS["before"])
        return None


class _Channel:
    """One of the two connections of a client."""

    def __init__(self, front: HislipFront, loop: Loop, connection: socket.socket) -> None:
        self._front, self._session = front, None  # type: HislipFront, _Session | None
        self._reader = Reader(too_long=self._refuse_length)
        self._connection = Connection(loop, connection, self._hear, self._gone)

    def send(self, message: Message, *, briefly: bool = False) -> None:
        self._connection.send(message.encoded(), briefly=briefly)

    def close(self, with_reset: bool = False) -> None:
        self._connection.close(with_reset)

    def freeze(self, seconds: float) -> None:
        """Nothing is taken for so long."""
        self._connection.freeze(seconds)

    def refuse(self, error: HislipError) -> None:
        """Tells what is wrong, and ends it."""
        self.send(fatal(error))
        self.close()

    def _refuse_length(self) -> None:
        self.send(Message(Type.ERROR, Nonfatal.TOO_LONG, payload=b"message too large"))

    def _gone(self) -> None:
        if self._session is not None:
            self._session.close()

    def _hear(self, data: bytes) -> None:
        self._reader.feed(data)
        try:
            while self._connection.is_open and (message := self._reader.next()) is not None:
                if self._session is None:
                    self._session = self._front.begin(self, message)
                else:
                    self._session.take(self, message)
        except HislipError as error:
            self.refuse(error)


class _Session:
    """One client with its two channels, and what it says to the instrument."""

    def __init__(self, front: HislipFront, loop: Loop, instrument: Instrument, sync: _Channel, number: int) -> None:
        self._front, self._loop, self._instrument = front, loop, instrument
        self._sync, self._async = sync, None  # type: _Channel, _Channel | None
        self._number = number
        self._server = ServerSession(self, prefers_overlapped=instrument.stand_in.overlapped)
        self._conversation = Conversation(loop, instrument, self)
        self._barred: deque[Callable[[], None]] = deque()  # by the lock of somebody else
        self._is_open = True
        instrument.clients += 1
        instrument.lock.freed.append(self._go_on)
        sync.send(self._server.opening(number))

    def join(self, channel: _Channel) -> bool:
        """Takes the asynchronous channel; false if there is one."""
        if self._async is not None:
            return False
        self._async = channel
        channel.send(self._server.opening_async())
        return True

    def take(self, channel: _Channel, message: Message) -> None:
        """A message of the client."""
        if self._async is None:
            channel.refuse(REFUSALS["before"])
        elif channel is self._sync:
            self._server.from_sync(message)
        else:
            self._server.from_async(message)

    # --- what the server's side of the protocol needs ----------------------------------------------------------------

    def tell(self, message: Message, *, is_async: bool) -> None:
        channel = self._async if is_async else self._sync
        if channel is not None:
            channel.send(message)

    def command(self, content: bytes, number: int) -> None:
        self._unless_barred(
            lambda: self._conversation.hear(messages_of(content, self._instrument.stand_in.command_end), number)
        )

    def trigger(self, number: int) -> None:
        self._unless_barred(lambda: self._conversation.hear(["*TRG"], number))

    def clear(self) -> None:
        self._conversation.end()
        self._conversation = Conversation(self._loop, self._instrument, self)
        self._barred.clear()
        self._instrument.device.take_output()

    def status(self) -> int:
        return self._instrument.device.status_byte()

    def lock(self, key: str, seconds: float, answer: Callable[[Lock], None]) -> None:
        def given(is_given: bool) -> None:
            answer(Lock.SUCCESS if is_given else Lock.FAILED)

        self._instrument.lock.request(self, key, seconds, given)

    def release(self) -> Lock:
        return Lock.SUCCESS if self._instrument.lock.release(self) else Lock.IMPOSSIBLE

    def locks(self) -> tuple[bool, int]:
        lock = self._instrument.lock
        return lock.is_exclusive, lock.count

    def _unless_barred(self, deed: Callable[[], None]) -> None:
        self._barred.append(deed)
        self._go_on()

    def _go_on(self) -> None:
        while self._barred and not self._instrument.lock.bars(self):
            self._barred.popleft()()

    # --- the way back of the conversation ----------------------------------------------------------------------------

    def send(self, data: bytes, number: int, *, briefly: bool = False) -> None:
        """Sends a reply or a part of one."""
        self._server.respond(
            data, number, is_whole=data.endswith(self._instrument.stand_in.reply_end.encode("latin-1"))
        )

    def freeze(self, seconds: float) -> None:
        """Nothing is taken for so long, on both channels."""
        for channel in (self._sync, self._async):
            if channel is not None:
                channel.freeze(seconds)

    def close(self, with_reset: bool = False) -> None:
        """Ends both channels."""
        if not self._is_open:
            return
        self._is_open = False
        self._instrument.clients -= 1
        self._instrument.lock.freed.remove(self._go_on)
        self._instrument.lock.gone(self)
        del self._front.sessions[self._number]
        for channel in (self._sync, self._async):
            if channel is not None:
                channel.close(with_reset)
