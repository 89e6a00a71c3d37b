"""Calls over TCP and UDP to a server of ONC RPC: a thin shell around ibexite.protocols.onc_rpc."""

from __future__ import annotations

import itertools
import os
import socket
import time

from ibexite.errors import LinkError
from ibexite.instruments.failures import Failures, hint_of
from ibexite.instruments.link import LinkOptions
from ibexite.instruments.patience import MOST_AT_ONCE
from ibexite.instruments.tcp_stream import TcpStream
from ibexite.protocols.onc_rpc import (
    GETPORT,
    LAST_FRAGMENT,
    WORD,
    Arguments,
    Procedure,
    Records,
    RpcError,
    call,
    getport,
    read_reply,
    record,
)


class RpcClient:
    """One connection. A call that was interrupted leaves `is_calling` true: then it is good for nothing any more."""

    def __init__(self, options: LinkOptions, failures: Failures) -> None:
        self._options, self._failures = options, failures
        self._stream = TcpStream("", 0, options, failures)
        self._xids = itertools.count(int.from_bytes(os.urandom(3), "big"))  # others' replies do not fit
        self.is_calling = False
        self.poll = self._stream.poll

    def allow(self, seconds: float) -> None:
        """From now on a call may take so long."""
        self._stream.timeout = seconds

    def open(self, host: str, port: int) -> None:
        """Connects. Raises LinkError."""
        self._stream.host, self._stream.port = host, port
        self._stream.open()
        self.is_calling = False
        self.poll = self._stream.poll

    def close(self) -> None:
        """Closes the connection."""
        self._stream.close()
        self.poll = self._stream.poll

    def call(self, procedure: Procedure, arguments: bytes = b"") -> Arguments:
        """What a call gives. Raises LinkError: no answer, or it was not carried out."""
        xid = self.next_xid()
        return self.finish(xid, self.begin(record(call(xid, procedure, arguments))))

    def next_xid(self) -> int:
        """The number of the next call."""
        return next(self._xids) & 0xFFFF_FFFF

    def begin(self, message: bytes) -> bytes:
        """Sends a call, as a record; the first bytes that come back: nearly always all. Whoever sees that they are says
        so by `is_calling`; else `finish` takes the rest. Raises LinkError."""
        self.is_calling = True
        try:
            self._stream.send(message)
            try:
                return self._stream.receive(MOST_AT_ONCE)
            except OSError as error:
                return self._stream.patiently(error)
        except OSError as error:
            raise self._failures.broken(error) from None

    def finish(self, xid: int, data: bytes) -> Arguments:
        """What a call gives of which these bytes have come. Raises LinkError."""
        try:
            message = data[4:] if _is_one_record(data) else self._in_parts(data)
            number, values = read_reply(message)
        except OSError as error:
            raise self._failures.broken(error) from None
        except RpcError as error:
            raise self._failures.error(str(error), hint_of(data) or "Does it speak VXI-11?") from None
        if number != xid:
            raise self._failures.error("answered a call that it was not asked")
        self.is_calling = False
        return values

    def _in_parts(self, data: bytes) -> bytes:
        """A reply that came in several pieces or fragments, within one time-out for all of them."""
        records = Records()
        deadline = time.monotonic() + self._stream.timeout
        while True:
            if not data:
                raise self._failures.ended()
            if hint_of(data):
                raise self._failures.error(f"answered {data[:40]!r}", hint_of(data))
            records.feed(data)
            message = records.next()
            if message is not None:
                return message
            if records.missing > 65536:
                try:
                    data = bytes(self._stream.exactly(records.missing, deadline))
                except EOFError:
                    raise self._failures.ended(records.pending) from None
            else:
                data = self._stream.more(deadline)


def _is_one_record(data: bytes) -> bool:
    """True if these bytes are a whole record of one fragment: nearly always."""
    return len(data) > 4 and WORD.unpack_from(data)[0] == LAST_FRAGMENT | len(data) - 4


def port_of(host: str, mapper_port: int, procedure: Procedure, options: LinkOptions, failures: Failures) -> int:
    """The TCP port at which a program of another computer listens, asked of its port mapper, by TCP and if nothing
    listens there by UDP.

    Raises:
        LinkError: nobody answers, or it does not know the program.
    """
    arguments = getport(procedure.program, procedure.version)
    client = RpcClient(options, failures)
    try:
        client.open(host, mapper_port)
    except LinkError as error:
        values = _asked_by_udp(host, mapper_port, arguments, options.timeout)
        if values is None:
            raise LinkError(
                f"its port mapper (port {mapper_port}) cannot be reached: {error.what}", where=error.where,
                remedy=error.remedy,
            ) from None  # fmt: skip
    else:
        try:
            values = client.call(GETPORT, arguments)
        finally:
            client.close()
    try:
        port = values.word()
    except RpcError as error:
        raise failures.error(f"its port mapper's answer {error}") from None
    if not 0 < port < 65536:
        raise failures.error(
            "its port mapper knows of no VXI-11", "Is VXI-11 switched on in its LAN settings, or does it speak HiSLIP?"
        )
    return port


def _asked_by_udp(host: str, port: int, arguments: bytes, timeout: float) -> Arguments | None:
    """The answer of a port mapper; None if there is none."""
    xid = int.from_bytes(os.urandom(4), "big")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        sender.settimeout(min(timeout, 1.0))
        try:
            sender.connect((host, port))
            sender.send(call(xid, GETPORT, arguments))
            number, values = read_reply(sender.recv(512))
        except (OSError, RpcError):
            return None
    return values if number == xid else None
