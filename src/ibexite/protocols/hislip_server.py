"""The server's side of a HiSLIP session, without I/O: messages of the client in, messages to it and deeds out.

Source: IVI-6.1, rev. 1.1, as in ibexite.protocols.hislip.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from ibexite.protocols.hislip import (
    FIRST_ID,
    IDS,
    MOST_PAYLOAD,
    VENDOR,
    VERSION,
    Fatal,
    HislipError,
    Lock,
    Message,
    Nonfatal,
    Type,
    size,
)

MESSAGE_AVAILABLE = 0x10  # bit of the status byte (IEEE 488.2, 11.2)
MOST_COMMAND = 16_000_000  # bytes of one program message


class Host(Protocol):
    """The instrument behind a session."""

    def tell(self, message: Message, *, is_async: bool) -> None:
        """Sends a message to the client."""

    def command(self, content: bytes, number: int) -> None:
        """A whole program message with the MessageID of its end; `ServerSession.respond` takes what it answers."""

    def trigger(self, number: int) -> None:
        """A trigger."""

    def clear(self) -> None:
        """Device clear: gives up what is being carried out, and what waits to be."""

    def status(self) -> int:
        """The status byte, whatever it says of a response that waits."""

    def lock(self, key: str, seconds: float, answer: Callable[[Lock], None]) -> None:
        """Asks for the lock, shared by all with the same key, exclusive without one; the answer may come later."""

    def release(self) -> Lock:
        """Gives a lock back."""

    def locks(self) -> tuple[bool, int]:
        """Whether somebody has the exclusive lock, and how many have one."""


class ServerSession:
    """One client."""

    def __init__(self, host: Host, *, prefers_overlapped: bool = False) -> None:
        self._host, self._prefers_overlapped = host, prefers_overlapped
        self.is_overlapped = prefers_overlapped
        self._most = MOST_PAYLOAD  # bytes of payload that the client takes
        self._is_clearing = False
        self._restart()

    def _restart(self) -> None:
        self._content = bytearray()
        self._next_own = FIRST_ID  # of responses, in overlapped mode
        self._responded = 0  # MessageID of the last response
        self._is_undelivered = False  # its end was sent, and the client has not said that it has it

    def opening(self, session: int) -> Message:
        """The answer to Initialize."""
        return Message(Type.INITIALIZE_RESPONSE, self.is_overlapped, VERSION << 16 | session)

    @staticmethod
    def opening_async() -> Message:
        """The answer to AsyncInitialize."""
        return Message(Type.ASYNC_INITIALIZE_RESPONSE, 0, VENDOR)

    # --- the synchronous channel -------------------------------------------------------------------------------------

    def from_sync(self, message: Message) -> None:
        """A message on the synchronous channel. Raises HislipError: it ends the session."""
        kind = message.type
        if self._is_clearing and kind != Type.DEVICE_CLEAR_COMPLETE:
            return  # thrown away until then (6.12)
        if kind in (Type.DATA, Type.DATA_END, Type.TRIGGER):
            self._notice_interruption(message)
        if kind in (Type.DATA, Type.DATA_END):
            self._content += message.payload
            if len(self._content) > MOST_COMMAND:
                raise HislipError("a program message without end")
            if kind == Type.DATA_END:
                content, self._content = bytes(self._content), bytearray()
                self._host.command(content, message.parameter)
        elif kind == Type.TRIGGER:
            self._host.trigger(message.parameter)
        elif kind == Type.DEVICE_CLEAR_COMPLETE and self._is_clearing:
            self._is_clearing = False
            self.is_overlapped = bool(message.control & 1)
            self._restart()
            self._host.tell(Message(Type.DEVICE_CLEAR_ACKNOWLEDGE, self.is_overlapped), is_async=False)
        elif kind == Type.FATAL_ERROR:
            raise HislipError("the client gives up")
        elif kind != Type.ERROR:
            self._refuse(message, is_async=False)

    def _notice_interruption(self, message: Message) -> None:
        """A message before the response to the one before was taken: that is given up (3.1.1, rule 5)."""
        is_interruption = self._is_undelivered and not message.control & 1 and not self.is_overlapped
        self._is_undelivered = False
        if is_interruption:
            self._host.tell(Message(Type.INTERRUPTED, 0, message.parameter), is_async=False)
            self._host.tell(Message(Type.ASYNC_INTERRUPTED, 0, message.parameter), is_async=True)

    def respond(self, data: bytes, number: int, *, is_whole: bool) -> None:
        """Sends a response, or a part of one.

        Args:
            number: MessageID of the message that it answers.
        """
        self._is_undelivered = True
        for start in range(0, max(1, len(data)), self._most):
            part = data[start : start + self._most]
            is_end = is_whole and start + self._most >= len(data)
            if self.is_overlapped:
                number, self._next_own = self._next_own, (self._next_own + 2) % IDS
            kind = Type.DATA_END if is_end else Type.DATA
            self._host.tell(Message(kind, 0, number, part), is_async=False)
        self._responded = number

    # --- the asynchronous channel ------------------------------------------------------------------------------------

    def from_async(self, message: Message) -> None:
        """A message on the asynchronous channel. Raises HislipError: it ends the session."""
        kind = message.type
        if kind == Type.ASYNC_MAXIMUM_MESSAGE_SIZE:
            self._most = min(size(message.payload), MOST_PAYLOAD)
            answer = Message(Type.ASYNC_MAXIMUM_MESSAGE_SIZE_RESPONSE, payload=MOST_PAYLOAD.to_bytes(8, "big"))
        elif kind == Type.ASYNC_STATUS_QUERY:
            answer = Message(Type.ASYNC_STATUS_RESPONSE, self._status(message))
        elif kind == Type.ASYNC_DEVICE_CLEAR:
            self._is_clearing = True
            self._host.clear()
            answer = Message(Type.ASYNC_DEVICE_CLEAR_ACKNOWLEDGE, self._prefers_overlapped)
        elif kind == Type.ASYNC_LOCK and message.control == Lock.REQUEST:
            key, seconds = message.payload.decode("latin-1"), message.parameter / 1000
            self._host.lock(key, seconds, lambda lock: self._answer(Message(Type.ASYNC_LOCK_RESPONSE, lock)))
            return
        elif kind == Type.ASYNC_LOCK and message.control == Lock.RELEASE:
            answer = Message(Type.ASYNC_LOCK_RESPONSE, self._host.release())
        elif kind == Type.ASYNC_LOCK:
            self._answer(Message(Type.ERROR, Nonfatal.UNKNOWN_CONTROL, payload=b"unknown control code"))
            return
        elif kind == Type.ASYNC_LOCK_INFO:
            is_exclusive, count = self._host.locks()
            answer = Message(Type.ASYNC_LOCK_INFO_RESPONSE, is_exclusive, count)
        elif kind == Type.ASYNC_REMOTE_LOCAL_CONTROL:
            answer = Message(Type.ASYNC_REMOTE_LOCAL_RESPONSE)
        elif kind == Type.FATAL_ERROR:
            raise HislipError("the client gives up")
        elif kind == Type.ERROR:
            return
        else:
            self._refuse(message, is_async=True)
            return
        self._answer(answer)

    def _answer(self, message: Message) -> None:
        self._host.tell(message, is_async=True)

    def _status(self, query: Message) -> int:
        """The status byte. A response is available if the client has not yet taken the end of it: it names the last
        message that it has sent, which may still be on its way, or in overlapped mode the last response (6.14)."""
        if query.control & 1:
            self._is_undelivered = False
        is_last = query.parameter == self._responded
        is_available = self._is_undelivered and is_last != self.is_overlapped
        return self._host.status() & ~MESSAGE_AVAILABLE | MESSAGE_AVAILABLE * is_available

    def _refuse(self, message: Message, *, is_async: bool) -> None:
        """Says that a message is not known (6.2: the rest of the session goes on)."""
        code = Nonfatal.UNKNOWN_VENDOR_MESSAGE if message.type >= 128 else Nonfatal.UNKNOWN_TYPE
        self._host.tell(Message(Type.ERROR, code, payload=b"unknown message type"), is_async=is_async)


def fatal(error: HislipError) -> Message:
    """What the other side is told before the connections are closed."""
    return Message(Type.FATAL_ERROR, error.code, payload=error.what.encode())


REFUSALS = {
    "before": HislipError("messages before both channels were there", Fatal.NO_CHANNELS),
    "device": HislipError("there is no device of this name here", Fatal.BAD_INITIALIZATION),
    "session": HislipError("there is no session of this number", Fatal.BAD_INITIALIZATION),
    "clients": HislipError("too many clients", Fatal.TOO_MANY_CLIENTS),
}
