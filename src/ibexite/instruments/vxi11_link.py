"""A link over VXI-11. A thin shell around ibexite.protocols.vxi11.

The device is locked for this link unless the bench file says `lock = false`; where it cannot lock it is used without.
A device speaks only when it is asked for its output, so that nothing comes unasked while commands are sent; `look` asks
whether a reply waits that nobody had asked for.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import TypeVar

from ibexite.errors import LinkError
from ibexite.frozen import replaced
from ibexite.instruments.address import Vxi11
from ibexite.instruments.link import Data, Lines, LinkOptions, Reply, connecting
from ibexite.instruments.message_link import MessageLink
from ibexite.instruments.replies import content_of
from ibexite.instruments.rpc_client import RpcClient, port_of
from ibexite.protocols import vxi11
from ibexite.protocols.framing import MOST_BYTES, Framer
from ibexite.protocols.onc_rpc import Arguments, RpcError
from ibexite.protocols.vxi11 import Core, Error, core

GRACE = 0.5  # s beyond the time-out that the instrument was told, until its saying so must be here
LOCK_PATIENCE = 1.0  # s; how long somebody else's lock is waited for
MOST_READ = 1 << 20  # bytes that are asked for at a time
MESSAGE_AVAILABLE = 0x10  # bit of the status byte (IEEE 488.2, 11.2)
T = TypeVar("T")
_WRITE, _READ = core(Core.DEVICE_WRITE), core(Core.DEVICE_READ)


class Vxi11Link(MessageLink):
    """One link to a device."""

    def __init__(self, address: str, place: Vxi11, options: LinkOptions) -> None:
        super().__init__(address, options)
        self._place = place
        self._calling = replaced(options, timeout=options.timeout + GRACE)
        self._core = RpcClient(self._calling, self._failures)
        self._timeout_ms = vxi11.milliseconds(self.timeout)
        self._link, self._abort_port, self._most_written = 0, 0, 0
        self._ends_at_terminator = bool(options.keys.get("reads_to_terminator", False))
        self._has_lock = self._is_open = False

    # --- opening and closing -----------------------------------------------------------------------------------------

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        super().allow(seconds)
        self._timeout_ms = vxi11.milliseconds(seconds)
        self._core.allow(seconds + GRACE)

    def open(self) -> None:
        """Finds the port, connects, and creates the link. Raises LinkError."""
        place = self._place
        with self._failures.opening("VXI-11"), connecting(self, self._options):
            port = self._options.keys.get("port") or port_of(
                place.host, place.port_mapper, core(Core.CREATE_LINK), self._options, self._failures
            )
            self._core.open(place.host, port)
            self._begin()
        self.is_waiting = False

    def _begin(self) -> None:
        try:
            self._create(wants_lock=bool(self._options.keys.get("lock", True)))
        except BaseException:
            self._core.close()
            raise

    def _create(self, *, wants_lock: bool) -> None:
        patience = min(LOCK_PATIENCE, self.timeout / 2) if wants_lock else None
        arguments = vxi11.create_link(os.getpid() & 0x7FFF_FFFF, self._place.device, patience)
        made = self._read(vxi11.created, self._core.call(core(Core.CREATE_LINK), arguments))
        if made.error == Error.NOT_SUPPORTED and wants_lock:
            self._create(wants_lock=False)
            return
        if made.error in (Error.NOT_ACCESSIBLE, Error.ADDRESS):
            raise self._failures.error(
                f"there is no device {self._place.device!r} at this host ({vxi11.words_of(made.error)})",
                "A gateway has the bus and the number in it, such as gpib0,5; an instrument of its own is inst0.",
            )
        if made.error == Error.LOCKED:
            raise self._failures.error(
                "it is locked by another client",
                "Another computer drives it, or it has not noticed yet that a link of before is dead. Wait for that.",
            )
        self._check(made.error, "create a link")
        self._link, self._abort_port = made.link, made.abort_port
        self._most_written = max(64, min(made.most_written, MOST_BYTES))
        self._has_lock, self._is_open = wants_lock, True

    def reopen(self) -> None:
        """Ends the call that is going on, closes, connects anew, and clears the device: nothing of an earlier exchange
        can arrive."""
        if self._core.is_calling and self._is_open:
            self._abort()
        self._is_open = False
        super().reopen()

    def _abort(self) -> None:
        """Ends what the device is at, over the abort channel; whether it heeds that or not, the link is given up."""
        abort = RpcClient(replaced(self._options, timeout=min(1.0, self.timeout)), self._failures)
        try:
            abort.open(self._place.host, self._abort_port)
            abort.call(vxi11.DEVICE_ABORT, self._link.to_bytes(4, "big"))
        except (LinkError, OverflowError):
            pass
        finally:
            abort.close()

    def close(self) -> None:
        """Gives back the lock, ends the link and closes the connection."""
        if self._is_open and not self._core.is_calling:
            self._is_open = False
            try:
                if self._options.keys.get("local"):
                    self._core.call(core(Core.DEVICE_LOCAL), vxi11.generic(self._link, self.timeout))
                if self._has_lock:
                    self._core.call(core(Core.DEVICE_UNLOCK), self._link.to_bytes(4, "big"))
                self._core.call(core(Core.DESTROY_LINK), self._link.to_bytes(4, "big"))
            except LinkError:
                pass  # closing the connection does all of that as well
        self._core.close()
        self.is_waiting = False

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends a program message. Raises LinkError: it broke, or is not taken within the time-out."""
        if len(data) > self._most_written:
            self._send_in_parts(data)
            return
        xid = self._core.next_xid()
        message, good = vxi11.write_record(xid, self._link, data, self._timeout_ms)
        found = self._core.begin(message)
        if found == good:
            self._core.is_calling = False
            return
        left = data[self._taken(self._core.finish(xid, found), data) :]
        if left:
            self._send_in_parts(left)

    def _taken(self, values: Arguments, data: bytes) -> int:
        """How many bytes a write has taken. Raises LinkError."""
        error, taken = self._read(lambda v: v.words(2), values)
        self._check(error, "write")
        if not 0 < taken <= len(data):
            raise self._failures.error(f"took {taken} bytes of {len(data)}")
        return taken

    def _send_in_parts(self, data: bytes) -> None:
        while data:
            part = data[: self._most_written]
            is_end = len(part) == len(data)
            arguments = vxi11.device_write(self._link, part, self.timeout, is_end=is_end)
            data = data[self._taken(self._core.call(_WRITE, arguments), part) :]

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The next reply. Raises LinkError; then it must be reopened."""
        message = self._in_parts(reply) if self._ends_at_terminator else self._in_one(reply)
        found = content_of(message, reply, self._terminator, self._failures)
        self.is_waiting = False
        return found

    def _in_one(self, reply: Reply | Lines) -> bytes:
        """A whole response message, which nearly always comes at once."""
        xid = self._core.next_xid()
        found = self._core.begin(vxi11.read_record(xid, self._link, MOST_READ, self._timeout_ms))
        data = vxi11.data_of(found, xid)
        if data is None:
            return self._in_parts(reply, self._core.finish(xid, found))
        self._core.is_calling = False
        return data

    def _in_parts(self, reply: Reply | Lines, values: Arguments | None = None) -> bytes:
        """A whole response message: up to its end, or to the terminator where the device tells no end. `values` are the
        result of a first read."""
        to_terminator = self._ends_at_terminator
        termchar = self._terminator[-1] if to_terminator and reply is Reply.LINE else None
        framer = Framer(self._terminator) if to_terminator else None
        parts: list[bytes] = []
        taken = 0
        while True:
            if values is None:
                arguments = vxi11.device_read(self._link, MOST_READ, self.timeout, termchar)
                values = self._core.call(_READ, arguments)
            error, reason, data = self._read(vxi11.read, values)
            values = None
            parts.append(data)
            if error == Error.IO_TIMEOUT:
                raise self._failures.broken(TimeoutError(), b"".join(parts))
            self._check(error, "read")
            taken += len(data)
            if taken > MOST_BYTES:
                raise self._failures.endless()
            if reason & vxi11.REASON_END or (termchar is not None and reason & vxi11.REASON_TERMCHAR):
                return data if len(parts) == 1 else b"".join(parts)
            if framer is not None:
                framer.feed(data)
                if framer.next_message() is not None:
                    return b"".join(parts)

    def look(self, seconds: float = 0.0) -> None:
        """Raises StrayError if after so many seconds a reply waits that nobody asked for; LinkError if the connection
        was closed."""
        if self._core.poll(round(seconds * 1000)):
            raise self._failures.error("closed the connection")
        error, status = self._status()
        if error == Error.NONE and status & MESSAGE_AVAILABLE:
            raise self._failures.stray(self._in_parts(Reply.LINE))

    # --- what the protocol has calls for -----------------------------------------------------------------------------

    def clear(self) -> None:
        """Device clear. Raises LinkError."""
        self._generic(Core.DEVICE_CLEAR, "clear")
        self.is_waiting = False

    def trigger(self) -> None:
        """Triggers it. Raises LinkError."""
        self._generic(Core.DEVICE_TRIGGER, "trigger")

    def status_byte(self) -> int:
        """The status byte, by a serial poll. Raises LinkError."""
        error, status = self._status()
        self._check(error, "read the status byte")
        return status & 0xFF

    def _status(self) -> tuple[int, int]:
        values = self._core.call(core(Core.DEVICE_READSTB), vxi11.generic(self._link, self.timeout))
        error, status = self._read(lambda v: v.words(2), values)
        return error, status

    def _generic(self, procedure: Core, what: str) -> None:
        values = self._core.call(core(procedure), vxi11.generic(self._link, self.timeout))
        self._check(self._read(Arguments.word, values), what)

    def _check(self, error: int, what: str) -> None:
        if error == Error.LOCKED:
            raise self._failures.error("it has been locked by another client", "Another computer drives it.")
        if error:
            raise self._failures.error(f"cannot {what}: {vxi11.words_of(error)} (VXI-11 error {error})")

    def _read(self, reader: Callable[[Arguments], T], values: Arguments) -> T:
        """The result of a call. Raises LinkError: it is not as the standard says."""
        try:
            found = reader(values)
            values.finish()
            return found
        except RpcError as error:
            raise self._failures.error(f"a reply of VXI-11 that {error}") from None
