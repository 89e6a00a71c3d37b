"""HiSLIP messages, and the two sides of a session, without I/O.

Source: IVI-6.1, High-Speed LAN Instrument Protocol, rev. 1.1; numbers of sections and tables in here are its. A message
is a header of 16 bytes (table 3) and a payload:

    "HS"  type  control code  message parameter (4 bytes)  length of the payload (8 bytes), most significant first

A session has two connections, synchronous and asynchronous. What always holds: a payload beyond what was announced is
refused before it is read; a response with another MessageID than that of the last query is no answer to it.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from enum import IntEnum
from typing import NamedTuple

from ibexite.frozen import frozen

HEADER = struct.Struct("!2sBBIQ")
assert HEADER.size == 16
PROLOGUE = b"HS"
VERSION = 0x0101  # 1.1, major and minor
VENDOR = int.from_bytes(b"IB", "big")
FIRST_ID = 0xFFFFFF00  # of messages of either side, after initializing and after a device clear (3.1.1)
ANY_ID = 0xFFFFFFFF  # of a response whose query the server cannot tell (3.1.2)
IDS = 1 << 32
MOST_PAYLOAD = 1 << 20  # bytes in one message that we take; long responses come in several
RMT_DELIVERED = 1  # control code: the end of a response has been given to the client since the last message


class Type(IntEnum):
    """Message types (table 4)."""

    INITIALIZE = 0
    INITIALIZE_RESPONSE = 1
    FATAL_ERROR = 2
    ERROR = 3
    ASYNC_LOCK = 4
    ASYNC_LOCK_RESPONSE = 5
    DATA = 6
    DATA_END = 7
    DEVICE_CLEAR_COMPLETE = 8
    DEVICE_CLEAR_ACKNOWLEDGE = 9
    ASYNC_REMOTE_LOCAL_CONTROL = 10
    ASYNC_REMOTE_LOCAL_RESPONSE = 11
    TRIGGER = 12
    INTERRUPTED = 13
    ASYNC_INTERRUPTED = 14
    ASYNC_MAXIMUM_MESSAGE_SIZE = 15
    ASYNC_MAXIMUM_MESSAGE_SIZE_RESPONSE = 16
    ASYNC_INITIALIZE = 17
    ASYNC_INITIALIZE_RESPONSE = 18
    ASYNC_DEVICE_CLEAR = 19
    ASYNC_SERVICE_REQUEST = 20
    ASYNC_STATUS_QUERY = 21
    ASYNC_STATUS_RESPONSE = 22
    ASYNC_DEVICE_CLEAR_ACKNOWLEDGE = 23
    ASYNC_LOCK_INFO = 24
    ASYNC_LOCK_INFO_RESPONSE = 25


class Fatal(IntEnum):
    """Codes of FatalError (table 15): both sides close the connections."""

    UNIDENTIFIED = 0
    BAD_HEADER = 1
    NO_CHANNELS = 2  # used before both are there
    BAD_INITIALIZATION = 3
    TOO_MANY_CLIENTS = 4


class Nonfatal(IntEnum):
    """Codes of Error (table 16): the message that it is about was not heeded."""

    UNIDENTIFIED = 0
    UNKNOWN_TYPE = 1
    UNKNOWN_CONTROL = 2
    UNKNOWN_VENDOR_MESSAGE = 3
    TOO_LONG = 4


class Lock(IntEnum):
    """Control codes of AsyncLock and of its response (tables 18 to 20)."""

    RELEASE = 0
    REQUEST = 1
    FAILED = 0
    SUCCESS = 1
    SUCCESS_SHARED = 2
    IMPOSSIBLE = 3


FATAL_WORDS = {
    Fatal.UNIDENTIFIED: "an error without a number", Fatal.BAD_HEADER: "a message with a wrong header",
    Fatal.NO_CHANNELS: "a message before both channels were there", Fatal.BAD_INITIALIZATION: "a wrong initialization",
    Fatal.TOO_MANY_CLIENTS: "too many clients",
}  # fmt: skip
NONFATAL_WORDS = {
    Nonfatal.UNIDENTIFIED: "an error without a number", Nonfatal.UNKNOWN_TYPE: "a message of an unknown type",
    Nonfatal.UNKNOWN_CONTROL: "an unknown control code", Nonfatal.UNKNOWN_VENDOR_MESSAGE: "an unknown vendor's message",
    Nonfatal.TOO_LONG: "a message that is too long",
}  # fmt: skip


class HislipError(Exception):
    """The other side sent what the standard forbids; `code` is what it is to be told by FatalError."""

    def __init__(self, what: str, code: Fatal = Fatal.UNIDENTIFIED) -> None:
        super().__init__(what)
        self.what, self.code = what, code


class Message(NamedTuple):
    """One message."""

    type: int
    control: int = 0
    parameter: int = 0
    payload: bytes = b""

    def encoded(self) -> bytes:
        """Its bytes."""
        return HEADER.pack(PROLOGUE, self.type, self.control, self.parameter, len(self.payload)) + self.payload


@frozen
class Header:
    """What stands before a payload."""

    type: int
    control: int
    parameter: int
    length: int


def header(data: bytes, most: int) -> Header:
    """The header in 16 bytes.

    Args:
        most: longest payload that is taken, in bytes.

    Raises:
        HislipError: it does not begin as one does, or announces more than `most`.
    """
    prologue, kind, control, parameter, length = HEADER.unpack(data)
    if prologue != PROLOGUE:
        raise HislipError(f"what begins with {data[:16]!r} is no HiSLIP message", Fatal.BAD_HEADER)
    if length > most:
        raise HislipError(f"a message of {length} bytes, where {most} were agreed", Fatal.BAD_HEADER)
    return Header(kind, control, parameter, length)


class Reader:
    """Messages out of a stream of bytes: feed what arrived, take what is complete.

    Args:
        most: longest payload that is taken, in bytes.
        too_long: told of a message with a longer one, which is thrown away as it comes; an error without it.
    """

    def __init__(self, most: int = MOST_PAYLOAD, too_long: Callable[[], None] | None = None) -> None:
        self._most, self._too_long, self._data = most, too_long, bytearray()
        self._skipped = 0  # bytes that are still to be thrown away

    def feed(self, data: bytes) -> None:
        """Adds received bytes."""
        self._skipped, data = max(0, self._skipped - len(data)), data[self._skipped :]
        self._data += data

    def next(self) -> Message | None:
        """The next complete message, None when more bytes are needed. Raises HislipError."""
        data = self._data
        if not PROLOGUE.startswith(bytes(data[:2])):
            raise HislipError(f"what begins with {bytes(data[:16])!r} is no HiSLIP message", Fatal.BAD_HEADER)
        if len(data) < HEADER.size:
            return None
        found = header(bytes(data[: HEADER.size]), self._most if self._too_long is None else 1 << 64)
        end = HEADER.size + found.length
        if self._too_long is not None and found.length > self._most:
            self._skipped = max(0, end - len(data))
            del data[:end]
            self._too_long()
            return self.next()
        if len(data) < end:
            return None
        payload = bytes(data[HEADER.size : end])
        del data[:end]
        return Message(found.type, found.control, found.parameter, payload)

    @property
    def pending(self) -> bytes:
        """What has arrived of something that is not complete, or was not taken."""
        return bytes(self._data)


def next_id(number: int) -> int:
    """The MessageID behind one (3.1.1: they count by two)."""
    return (number + 2) % IDS


class Numbering:
    """What the client of a session knows of the numbers of messages, and writes its own with them.

    `last` is the MessageID of the last message sent; `has_delivered` is true when the end of a response was taken
    since; `expected` is that of the next response in overlapped mode.
    """

    def __init__(self) -> None:
        self.is_overlapped = False
        self.most_sent = 1 << 16  # bytes of payload that the server takes in one message, until it has said so
        self.restart()

    def restart(self) -> None:
        """Behind a device clear, and at the beginning."""
        self.last, self.expected, self.has_delivered = FIRST_ID - 2, FIRST_ID, False

    def data(self, content: bytes) -> bytes:
        """A whole program message: as many Data messages as are needed, and a DataEND."""
        if len(content) <= self.most_sent:
            return self._numbered(Type.DATA_END, content)
        parts = [content[i : i + self.most_sent] for i in range(0, len(content), self.most_sent)]
        return b"".join(self._numbered(Type.DATA, part) for part in parts[:-1]) + self._numbered(
            Type.DATA_END, parts[-1]
        )

    def trigger(self) -> bytes:
        """A Trigger message."""
        return self._numbered(Type.TRIGGER, b"")

    def _numbered(self, kind: Type, payload: bytes) -> bytes:
        self.last = (self.last + 2) % IDS
        delivered, self.has_delivered = self.has_delivered, False
        return HEADER.pack(PROLOGUE, kind, delivered, self.last, len(payload)) + payload

    def is_answer(self, parameter: int) -> bool:
        """Whether a response with this MessageID belongs to the last query. In overlapped mode responses are numbered
        by themselves (3.1.2)."""
        return parameter in (self.expected if self.is_overlapped else self.last, ANY_ID)

    def taken(self) -> None:
        """A Data or DataEND message was taken as an answer."""
        self.expected = next_id(self.expected)

    def status_query(self) -> Message:
        """The question for the status byte; the server tells by the MessageID whether a response is still to be read
        (section 6.14: in overlapped mode that of the last response taken)."""
        number = (self.expected - 2) % IDS if self.is_overlapped else self.last
        delivered, self.has_delivered = self.has_delivered, False
        return Message(Type.ASYNC_STATUS_QUERY, delivered, number)


def initialize(sub_address: str) -> Message:
    """What opens the synchronous channel (6.1)."""
    return Message(Type.INITIALIZE, 0, VERSION << 16 | VENDOR, sub_address.encode("ascii"))


def words_of(message: Message) -> str:
    """What a FatalError or Error says, in words."""
    known = FATAL_WORDS if message.type == Type.FATAL_ERROR else NONFATAL_WORDS
    text = known.get(message.control, f"error {message.control}")  # type: ignore[call-overload]
    told = message.payload.decode("latin-1").strip()
    return f"{text} ({told})" if told else text


def size(payload: bytes) -> int:
    """The number in a message about the largest message (6.9). Raises HislipError: it is none, or none that works."""
    if len(payload) != 8 or (number := int.from_bytes(payload, "big")) < 1:
        raise HislipError(f"{payload!r} is no size of a message")
    return number
