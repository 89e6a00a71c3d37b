"""ONC remote procedure calls, without I/O: XDR values, record marking, calls and replies, and the port mapper.

Sources: RFC 4506 (XDR), RFC 5531 (RPC version 2; section 11 for record marking), RFC 1833 (port mapper, version 2).
What always holds: a length that a peer announces is compared with what is taken before anything is read.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from enum import IntEnum
from typing import NamedTuple

from ibexite.frozen import frozen

WORD, WORDS2 = struct.Struct("!I"), struct.Struct("!II")
RPC_VERSION = 2
LAST_FRAGMENT = 0x8000_0000  # bit of the record mark (RFC 5531, 11)
MOST_RECORD = 1 << 24  # bytes of one call or reply
CALL, REPLY = 0, 1


class RpcError(Exception):
    """The other side sent what the standards forbid, or says that it cannot do a call."""


class Accepted(IntEnum):
    """What became of a call that was accepted (RFC 5531, 9: accept_stat)."""

    SUCCESS = 0
    NO_PROGRAM = 1
    OTHER_VERSION = 2
    NO_PROCEDURE = 3
    BAD_ARGUMENTS = 4
    SYSTEM_ERROR = 5


_ACCEPTED_WORDS = {
    Accepted.NO_PROGRAM: "it has no such service", Accepted.OTHER_VERSION: "it has another version of this service",
    Accepted.NO_PROCEDURE: "it does not know this call", Accepted.BAD_ARGUMENTS: "it cannot read the arguments",
    Accepted.SYSTEM_ERROR: "it has an error of its own",
}  # fmt: skip


# --- XDR --------------------------------------------------------------------------------------------------------------


def opaque(data: bytes) -> bytes:
    """Bytes of any number (RFC 4506, 4.10): length, bytes, filled up to a multiple of four.

    >>> opaque(b"abcde")
    b'\\x00\\x00\\x00\\x05abcde\\x00\\x00\\x00'
    """
    return WORD.pack(len(data)) + data + bytes(-len(data) % 4)


class Arguments:
    """Takes values out of a message, in their order. Raises RpcError: there are fewer bytes than a value needs."""

    def __init__(self, data: bytes) -> None:
        self._data, self._at = data, 0

    def word(self) -> int:
        """An unsigned integer."""
        return int.from_bytes(self._take(4), "big")

    def words(self, count: int) -> list[int]:
        """So many of them."""
        return [self.word() for _ in range(count)]

    def opaque(self) -> bytes:
        """Bytes of any number."""
        length = self.word()
        found = self._take(length)
        self._take(-length % 4)
        return found

    def rest(self) -> bytes:
        """All that is left."""
        return self._take(len(self._data) - self._at)

    def finish(self) -> None:
        """Raises RpcError if anything is left."""
        if self._at != len(self._data):
            raise RpcError(f"has {len(self._data) - self._at} bytes too many")

    def _take(self, count: int) -> bytes:
        found = self._data[self._at : self._at + count]
        if len(found) < count:
            raise RpcError(f"ends {count - len(found)} bytes too early")
        self._at += count
        return found


# --- records on a stream ----------------------------------------------------------------------------------------------


def record(message: bytes) -> bytes:
    """A message as one record of one fragment."""
    return WORD.pack(LAST_FRAGMENT | len(message)) + message


class Records:
    """Messages out of a stream of bytes: feed what arrived, take what is complete."""

    def __init__(self, most: int = MOST_RECORD) -> None:
        self._most = most
        self._data, self._message = bytearray(), bytearray()

    def feed(self, data: bytes) -> None:
        """Adds received bytes."""
        self._data += data

    def next(self) -> bytes | None:
        """The next message, None when more bytes are needed. Raises RpcError: it is longer than what is taken."""
        while len(self._data) >= 4:
            (mark,) = WORD.unpack_from(self._data)
            length = mark & ~LAST_FRAGMENT
            if length + len(self._message) > self._most:
                raise RpcError(f"a record of {length} bytes, beginning with {bytes(self._data[:16])!r}")
            if len(self._data) < 4 + length:
                return None
            self._message += self._data[4 : 4 + length]
            del self._data[: 4 + length]
            if mark & LAST_FRAGMENT:
                message, self._message = bytes(self._message), bytearray()
                return message
        return None

    @property
    def missing(self) -> int:
        """How many bytes the present fragment lacks; 4 while its mark is not there."""
        if len(self._data) < 4:
            return 4 - len(self._data)
        return 4 + (int.from_bytes(self._data[:4], "big") & ~LAST_FRAGMENT) - len(self._data)

    @property
    def pending(self) -> bytes:
        """What has arrived of something that is not complete."""
        return bytes(self._message + self._data)


# --- calls and replies ------------------------------------------------------------------------------------------------


class Procedure(NamedTuple):
    """What is called."""

    program: int
    version: int
    number: int


@frozen
class Call:
    """A call that has arrived."""

    xid: int
    procedure: Procedure
    arguments: Arguments


_NOBODY = bytes(16)  # credentials and verifier of flavour AUTH_NONE, without a body


def call(xid: int, procedure: Procedure, arguments: bytes = b"") -> bytes:
    """A call as a message (RFC 5531, 9: call_body)."""
    return struct.pack("!6I", xid, CALL, RPC_VERSION, *procedure) + _NOBODY + arguments


def read_call(message: bytes) -> Call:
    """A call out of a message. Raises RpcError: it is none."""
    values = Arguments(message)
    xid, kind, version, *procedure = values.words(6)
    if kind != CALL:
        raise RpcError("no call")
    for _ in range(2):
        values.word()
        values.opaque()
    if version != RPC_VERSION:
        raise WrongRpcVersion(xid)
    return Call(xid, Procedure(*procedure), values)


class WrongRpcVersion(RpcError):
    """A call of another version of the protocol itself; to be answered by `mismatch`."""

    def __init__(self, xid: int) -> None:
        super().__init__("another version of remote procedure calls")
        self.xid = xid


def reply(xid: int, result: bytes = b"", status: Accepted = Accepted.SUCCESS) -> bytes:
    """A reply to a call that was accepted."""
    return struct.pack("!6I", xid, REPLY, 0, 0, 0, status) + result


def other_version(xid: int, lowest: int, highest: int) -> bytes:
    """A reply that says which versions of a program there are."""
    return reply(xid, WORDS2.pack(lowest, highest), Accepted.OTHER_VERSION)


def mismatch(xid: int) -> bytes:
    """A reply that denies a call of another version of the protocol itself (reject_stat RPC_MISMATCH)."""
    return struct.pack("!6I", xid, REPLY, 1, 0, RPC_VERSION, RPC_VERSION)


def read_reply(message: bytes) -> tuple[int, Arguments]:
    """The number of a call and what it has given. Raises RpcError: it was not carried out, or this is no reply."""
    values = Arguments(message)
    xid, kind, denied = values.words(3)
    if kind != REPLY or denied not in (0, 1):
        raise RpcError("no reply")
    if denied:
        raise RpcError("it denies the call")
    values.word()
    values.opaque()
    status = values.word()
    if status != Accepted.SUCCESS:
        raise RpcError(_ACCEPTED_WORDS.get(status, f"it answers status {status}"))  # type: ignore[call-overload]
    return xid, values


# --- a service and the port mapper ------------------------------------------------------------------------------------

Handler = Callable[[Call], bytes | None]
"""Carries out a call: its result, or None if that comes later (then by `reply`)."""


class Service:
    """One program in one version: what is answered to each message."""

    def __init__(self, program: int, version: int, procedures: dict[int, Handler]) -> None:
        self._program, self._version, self._procedures = program, version, procedures

    def answer(self, message: bytes) -> bytes | None:
        """The reply to a message; None if it comes later. Raises RpcError: it is no call."""
        try:
            found = read_call(message)
        except WrongRpcVersion as error:
            return mismatch(error.xid)
        program, version, number = found.procedure
        if program != self._program:
            return reply(found.xid, status=Accepted.NO_PROGRAM)
        if version != self._version:
            return other_version(found.xid, self._version, self._version)
        if number == 0:  # of every program: does nothing (RFC 5531, 12.1)
            return reply(found.xid)
        handler = self._procedures.get(number)
        if handler is None:
            return reply(found.xid, status=Accepted.NO_PROCEDURE)
        try:
            result = handler(found)
        except RpcError:
            return reply(found.xid, status=Accepted.BAD_ARGUMENTS)
        return None if result is None else reply(found.xid, result)


PORT_MAPPER, PORT_MAPPER_PORT = 100_000, 111
GETPORT = Procedure(PORT_MAPPER, 2, 3)
DUMP = Procedure(PORT_MAPPER, 2, 4)
TCP, UDP = 6, 17


def getport(program: int, version: int, protocol: int = TCP) -> bytes:
    """The arguments of GETPORT: where a program listens (RFC 1833, 3: mapping)."""
    return struct.pack("!4I", program, version, protocol, 0)


def port_mapper(services: dict[tuple[int, int, int], int], own_port: int = PORT_MAPPER_PORT) -> Service:
    """A port mapper: port by (program, version, protocol); itself is among them. 0 is answered for what it does not
    know, and for a version that is not there the port of another one, whose service says so itself (RFC 1833, 3.2)."""
    ports = {(PORT_MAPPER, 2, TCP): own_port, (PORT_MAPPER, 2, UDP): own_port} | services

    def look_up(asked: Call) -> bytes:
        program, version, protocol, _ = asked.arguments.words(4)
        others = [port for (known, _, over), port in ports.items() if (known, over) == (program, protocol)]
        return WORD.pack(ports.get((program, version, protocol), others[0] if others else 0))

    def dump(_: Call) -> bytes:
        entries = (struct.pack("!5I", 1, *key, port) for key, port in ports.items())
        return b"".join(entries) + WORD.pack(0)

    return Service(PORT_MAPPER, 2, {GETPORT.number: look_up, DUMP.number: dump})
