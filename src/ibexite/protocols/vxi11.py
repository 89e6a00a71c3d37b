"""VXI-11, without I/O: its calls, their arguments and results, its errors.

Source: VXI-11, TCP/IP Instrument Protocol, rev. 1.0; numbers of sections in here are its. The values are those of
appendix C (RPCL). All calls go over ONC RPC, see ibexite.protocols.onc_rpc.
"""

from __future__ import annotations

import struct
from enum import IntEnum
from typing import NamedTuple

from ibexite.protocols.onc_rpc import LAST_FRAGMENT, Arguments, Procedure, opaque

CORE, ABORT = 0x0607AF, 0x0607B0  # programs (B.6.9, B.6.10)
VERSION = 1


class Core(IntEnum):
    """Procedures of the core channel."""

    CREATE_LINK = 10
    DEVICE_WRITE = 11
    DEVICE_READ = 12
    DEVICE_READSTB = 13
    DEVICE_TRIGGER = 14
    DEVICE_CLEAR = 15
    DEVICE_REMOTE = 16
    DEVICE_LOCAL = 17
    DEVICE_LOCK = 18
    DEVICE_UNLOCK = 19
    DEVICE_ENABLE_SRQ = 20
    DEVICE_DOCMD = 22
    DESTROY_LINK = 23
    CREATE_INTR_CHAN = 25
    DESTROY_INTR_CHAN = 26


DEVICE_ABORT = Procedure(ABORT, VERSION, 1)


def core(procedure: Core) -> Procedure:
    """A procedure of the core channel, to be called."""
    return Procedure(CORE, VERSION, procedure)


class Error(IntEnum):
    """Errors of a device (table B.2)."""

    NONE = 0
    SYNTAX = 1
    NOT_ACCESSIBLE = 3
    NO_LINK = 4
    PARAMETER = 5
    NO_CHANNEL = 6
    NOT_SUPPORTED = 8
    OUT_OF_RESOURCES = 9
    LOCKED = 11
    NO_LOCK = 12
    IO_TIMEOUT = 15
    IO = 17
    ADDRESS = 21
    ABORTED = 23
    CHANNEL_EXISTS = 29


WORDS = {
    Error.SYNTAX: "syntax error", Error.NOT_ACCESSIBLE: "device not accessible",
    Error.NO_LINK: "invalid link identifier", Error.PARAMETER: "parameter error",
    Error.NO_CHANNEL: "channel not established", Error.NOT_SUPPORTED: "operation not supported",
    Error.OUT_OF_RESOURCES: "out of resources", Error.LOCKED: "device locked by another link",
    Error.NO_LOCK: "no lock held by this link", Error.IO_TIMEOUT: "I/O time-out", Error.IO: "I/O error",
    Error.ADDRESS: "invalid address", Error.ABORTED: "aborted", Error.CHANNEL_EXISTS: "channel already established",
}  # fmt: skip


def words_of(error: int) -> str:
    """An error by its name."""
    return WORDS[Error(error)] if error in set(Error) - {Error.NONE} else f"error {error}"


# Flags of an operation (B.5.3) and reasons for the end of a read (B.6.4, table B.10).
WAIT_LOCK, END, TERMCHAR_SET = 0x01, 0x08, 0x80
REASON_COUNT, REASON_TERMCHAR, REASON_END = 1, 2, 4
_FIVE, _SIX = struct.Struct("!5I"), struct.Struct("!6I")


def milliseconds(seconds: float) -> int:
    """A time-out as the calls have it."""
    return max(0, min(round(seconds * 1000), 0xFFFF_FFFF))


# --- arguments of calls -----------------------------------------------------------------------------------------------


def create_link(client: int, device: str, lock_seconds: float | None) -> bytes:
    """Create_LinkParms. With a time the device is locked for this link, if it is free within that (in s)."""
    head = struct.pack("!iII", client, lock_seconds is not None, milliseconds(lock_seconds or 0.0))
    return head + opaque(device.encode("latin-1"))


def device_write(link: int, data: bytes, timeout: float, *, is_end: bool) -> bytes:
    """Device_WriteParms; time-out in s."""
    return _FIVE.pack(link, milliseconds(timeout), 0, END * is_end, len(data)) + data + bytes(-len(data) % 4)


def device_read(link: int, most: int, timeout: float, termchar: int | None = None) -> bytes:
    """Device_ReadParms: at most so many bytes; up to a character, where one is given; time-out in s."""
    flags = 0 if termchar is None else TERMCHAR_SET
    return _SIX.pack(link, most, milliseconds(timeout), 0, flags, termchar or 0)


def generic(link: int, timeout: float) -> bytes:
    """Device_GenericParms: read status byte, trigger, clear, remote, local; time-out in s."""
    return struct.pack("!4I", link, 0, 0, milliseconds(timeout))


def device_lock(link: int, seconds: float) -> bytes:
    """Device_LockParms: waits so many s for the lock."""
    return struct.pack("!3I", link, WAIT_LOCK if seconds > 0 else 0, milliseconds(seconds))


# --- the two calls of the loop over points, each as one record --------------------------------------------------------
# What the functions above and those of ibexite.protocols.onc_rpc say in general, in one go.

_WRITE_CALL, _WRITE_REPLY = struct.Struct("!16I"), struct.Struct("!9I")
_READ_CALL, _READ_REPLY = struct.Struct("!17I"), struct.Struct("!10I")


def write_record(xid: int, link: int, data: bytes, ms: int) -> tuple[bytes, bytes]:
    """A call of device_write that ends a message, and the reply that says that all was taken; time-out in ms."""
    size = len(data)
    padding = -size % 4
    head = _WRITE_CALL.pack(
        LAST_FRAGMENT | 60 + size + padding, xid, 0, 2, CORE, VERSION, 11, 0, 0, 0, 0, link, ms, 0, END, size
    )
    good = _WRITE_REPLY.pack(LAST_FRAGMENT | 32, xid, 1, 0, 0, 0, 0, 0, size)
    return head + data + bytes(padding), good


def read_record(xid: int, link: int, most: int, ms: int) -> bytes:
    """A call of device_read of a whole message, at most so many bytes."""
    return _READ_CALL.pack(LAST_FRAGMENT | 64, xid, 0, 2, CORE, VERSION, 12, 0, 0, 0, 0, link, most, ms, 0, 0, 0)


def data_of(reply: bytes, xid: int) -> bytes | None:
    """What a read has given, if this is a whole reply without an error, and the end of a message; else None."""
    if len(reply) < _READ_REPLY.size:
        return None
    mark, its_xid, kind, denied, _, verifier, status, error, reason, size = _READ_REPLY.unpack_from(reply)
    if (
        mark == LAST_FRAGMENT | len(reply) - 4 and its_xid == xid and kind == 1 and reason & REASON_END
        and not (denied or verifier or status or error) and len(reply) == _READ_REPLY.size + size + -size % 4
    ):  # fmt: skip
        return reply[_READ_REPLY.size : _READ_REPLY.size + size]
    return None


# --- results ----------------------------------------------------------------------------------------------------------


class Created(NamedTuple):
    """Create_LinkResp: the link, the port of the abort channel, the most bytes that a write takes."""

    error: int
    link: int
    abort_port: int
    most_written: int


class Read(NamedTuple):
    """Device_ReadResp."""

    error: int
    reason: int
    data: bytes


def created(values: Arguments) -> Created:
    """The result of create_link. Raises RpcError."""
    return Created(*values.words(4))


def read(values: Arguments) -> Read:
    """The result of device_read. Raises RpcError."""
    error, reason = values.words(2)
    return Read(error, reason, values.opaque())
