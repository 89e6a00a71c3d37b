"""USBTMC messages, and the device's side of them, without I/O.

Sources: Universal Serial Bus Test and Measurement Class Specification, rev. 1.0 (tables 1 to 9), and its subclass
USB488, rev. 1.0 (4.2.1.1 the trigger message). Numbers are least significant byte first. A bulk message begins with

    MsgID  bTag  bTagInverse  0  then 8 bytes as the message has them

and what goes to the device is filled up to a multiple of four bytes. What always holds: an answer with another bTag
than that of the request is none; more than was asked for is refused.
"""

from __future__ import annotations

import struct
from enum import IntEnum

from ibexite.frozen import frozen

HEADER = struct.Struct("<BBBxIBBxx")  # the last: size of the transfer, attributes, termination character
assert HEADER.size == 12
OUT, REQUEST_IN, IN, TRIGGER = 1, 2, 2, 128  # MsgID (table 2, USB488 table 1)
END_OF_MESSAGE = 0x01  # attribute of both directions
TERMCHAR = 0x02  # of a request: it is to be looked for; of an answer: it was found
MOST_TRANSFER = 1 << 20  # bytes in one message


class UsbtmcError(Exception):
    """The device sent what the standard forbids."""


def next_tag(tag: int) -> int:
    """The bTag behind one: 1 to 255 (table 1)."""
    return tag % 255 + 1


def _message(kind: int, tag: int, size: int, attributes: int, character: int = 0) -> bytes:
    return HEADER.pack(kind, tag, tag ^ 0xFF, size, attributes, character)


def data_out(tag: int, data: bytes, *, is_end: bool) -> bytes:
    """DEV_DEP_MSG_OUT (table 3): a part of a program message.

    >>> data_out(1, b"*IDN?", is_end=True).hex(" ")
    '01 01 fe 00 05 00 00 00 01 00 00 00 2a 49 44 4e 3f 00 00 00'
    """
    return _message(OUT, tag, len(data), END_OF_MESSAGE * is_end) + data + bytes(-len(data) % 4)


def request_in(tag: int, most: int, termchar: int | None = None) -> bytes:
    """REQUEST_DEV_DEP_MSG_IN (table 4): asks for at most so many bytes of a response, up to a character where one is
    given.

    >>> request_in(2, 64).hex(" ")
    '02 02 fd 00 40 00 00 00 00 00 00 00'
    """
    return _message(REQUEST_IN, tag, most, 0 if termchar is None else TERMCHAR, termchar or 0)


def trigger(tag: int) -> bytes:
    """The trigger message of USB488 (4.2.1.1)."""
    return _message(TRIGGER, tag, 0, 0)


@frozen
class Part:
    """What a device has answered to one request."""

    data: bytes
    is_end: bool
    is_at_termchar: bool


def answer_size(transfer: bytes) -> int:
    """How many bytes the message has that begins like this; 12 while its header is not there."""
    return HEADER.size if len(transfer) < HEADER.size else HEADER.size + HEADER.unpack_from(transfer)[3]


def read_answer(transfer: bytes, tag: int, most: int) -> Part:
    """The part of a response in what a bulk-in transfer gave (table 9), which may have up to three bytes behind it.

    Raises:
        UsbtmcError: it is no answer to the request with this bTag, or not as long as it says.
    """
    if len(transfer) < HEADER.size:
        raise UsbtmcError(f"{transfer!r} is no message of USBTMC")
    kind, its_tag, inverse, size, attributes, _ = HEADER.unpack_from(transfer)
    if kind != IN or its_tag ^ inverse != 0xFF:
        raise UsbtmcError(f"what begins with {transfer[:12].hex(' ')} is no response of USBTMC")
    if its_tag != tag:
        raise UsbtmcError(f"a response to request {its_tag}, where {tag} is open")
    data = transfer[HEADER.size : HEADER.size + size]
    if size > most or len(data) < size:
        raise UsbtmcError(f"a response of {size} bytes, where {len(data)} came and {most} were asked for")
    return Part(data, bool(attributes & END_OF_MESSAGE), bool(attributes & TERMCHAR))


class DeviceSide:
    """What a device makes of bulk messages: program messages come out, responses are given when they are asked for."""

    def __init__(self) -> None:
        self.restart()

    def restart(self) -> None:
        """Behind a clear, and at the beginning."""
        self._content, self._output = bytearray(), bytearray()
        self._is_whole = False  # the end of the output is that of a message
        self._request: tuple[int, int, int | None] | None = None  # bTag, most bytes, termination character

    def take(self, transfer: bytes) -> bytes | None:
        """A bulk-out transfer; the program message that is whole with it. A trigger is *TRG.

        Raises:
            UsbtmcError: it is none of the messages, or not as long as it says.
        """
        if len(transfer) < HEADER.size or transfer[1] ^ transfer[2] != 0xFF:
            raise UsbtmcError("no message of USBTMC")
        kind, tag, _, size, attributes, character = HEADER.unpack_from(transfer)
        if kind == TRIGGER:
            return b"*TRG\n"
        if kind == REQUEST_IN:
            self._request = (tag, size, character if attributes & TERMCHAR else None)
            return None
        data = transfer[HEADER.size : HEADER.size + size]
        if kind != OUT or len(data) < size or len(transfer) % 4:
            raise UsbtmcError("no whole message of USBTMC")
        self._content += data
        if not attributes & END_OF_MESSAGE:
            return None
        content, self._content = bytes(self._content), bytearray()
        self._output.clear()  # of a query of before: interrupted (IEEE 488.2, 6.3.2.3)
        self._is_whole = False
        return content

    def respond(self, data: bytes, *, is_whole: bool) -> None:
        """A response or a part of one: it waits to be asked for."""
        self._output += data
        self._is_whole = is_whole

    @property
    def has_output(self) -> bool:
        """True if something is to be read."""
        return bool(self._output)

    def give(self) -> bytes | None:
        """The bulk-in transfer that answers the open request; None if there is none, or nothing to be read."""
        if self._request is None or not self._output:
            return None
        tag, most, stop = self._request
        place = -1 if stop is None else self._output.find(stop)
        count = min(most, place + 1 if place >= 0 else len(self._output))
        is_end = self._is_whole and count == len(self._output)
        data = bytes(self._output[:count])
        del self._output[:count]
        self._request = None
        attributes = END_OF_MESSAGE * is_end | TERMCHAR * (place >= 0 and count == place + 1)
        return _message(IN, tag, count, attributes) + data + bytes(-count % 4)


# --- a stand-in of the operating system's device file -----------------------------------------------------------------


class Deed(IntEnum):
    """What is asked of a device file: transfers, and the control calls of the driver."""

    WRITE = 1
    READ = 2  # most bytes, time in ms
    CLEAR = 3
    ABORT_IN = 4
    STATUS = 5
    LOCAL = 6


REQUEST, ANSWER, READING = struct.Struct("<BI"), struct.Struct("<iI"), struct.Struct("<II")


def asked(deed: Deed, payload: bytes = b"") -> bytes:
    """A request to a stand-in of a device file: what, how many bytes, bytes."""
    return REQUEST.pack(deed, len(payload)) + payload


def answered(error: int, payload: bytes = b"") -> bytes:
    """Its answer: the error number of the system (0 for none), how many bytes, bytes."""
    return ANSWER.pack(error, len(payload)) + payload
