"""A link over HiSLIP. A thin shell around ibexite.protocols.hislip: two connections, one time-out for each answer.

Each opening takes the exclusive lock of the instrument unless the bench file says `lock = false`, so that two computers
never drive it at a time; it goes away with the connections.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from typing import Any

from ibexite.errors import LinkError
from ibexite.instruments.address import Hislip
from ibexite.instruments.failures import Failures, hint_of
from ibexite.instruments.link import Data, Lines, LinkOptions, Reply, connecting
from ibexite.instruments.message_link import MessageLink
from ibexite.instruments.patience import MOST_AT_ONCE
from ibexite.instruments.replies import content_of
from ibexite.instruments.tcp_stream import TcpStream, waiting_poll
from ibexite.protocols import hislip
from ibexite.protocols.framing import MOST_BYTES, BlockInPlace, NoBlock, TooLong, is_long_block
from ibexite.protocols.hislip import HEADER, HislipError, Lock, Message, Nonfatal, Numbering, Type

MOST_BLOCK_HEAD = 11  # bytes: #, one digit, up to nine digits of the length
LOCK_PATIENCE = 1.0  # s; how long somebody else's lock is waited for
_DATA_END = int(Type.DATA_END)


class _Channel:
    """One of the two connections: messages out and in. Raises LinkError."""

    def __init__(self, place: Hislip, options: LinkOptions, failures: Failures) -> None:
        self.stream = TcpStream(place.host, place.port, options, failures)
        self._failures = failures
        self.left = b""  # what has come and was not taken yet
        self.is_torn = False  # left in the middle of a message

    def open(self) -> None:
        self.stream.open()
        self.left, self.is_torn = b"", False

    def send(self, data: bytes) -> None:
        try:
            self.stream.send(data)
        except OSError as error:
            raise self._failures.broken(error) from None

    def next(self, deadline: float) -> Message:
        """The next message."""
        return self.message(self.header(deadline), deadline)

    def header(self, deadline: float, begun: Sequence[bytes] = ()) -> hislip.Header:
        """The next header; `begun` is what has come of the reply that it goes on with."""
        self.is_torn = True
        try:
            return hislip.header(self.some(HEADER.size, deadline, begun), hislip.MOST_PAYLOAD)
        except HislipError as error:
            raise self.refusal(error) from None

    def message(self, header: hislip.Header, deadline: float, begun: Sequence[bytes] = ()) -> Message:
        """The message of a header."""
        payload = self.some(header.length, deadline, begun)
        self.is_torn = False
        return Message(header.type, header.control, header.parameter, payload)

    def into(self, view: memoryview, deadline: float) -> None:
        """The payload of a header, where it is to stay."""
        there = min(len(self.left), len(view))
        view[:there], self.left = self.left[:there], self.left[there:]
        with view[there:] as rest:
            try:
                self.stream.into(rest, deadline)
            except EOFError:
                raise self._failures.ended(bytes(view[:60])) from None
            except OSError as error:
                raise self._failures.broken(error, bytes(view[:60])) from None
        self.is_torn = False

    def refusal(self, error: HislipError) -> LinkError:
        """The other side breaks the rules: it is told, and so is the user."""
        try:
            self.stream.send(Message(Type.FATAL_ERROR, error.code, payload=error.what.encode()).encoded())
        except OSError:
            pass
        return self._failures.error(error.what, hint_of(self.left) or "Does it speak HiSLIP, and at this port?")

    def some(self, count: int, deadline: float, begun: Sequence[bytes] = ()) -> bytes:
        """So many bytes."""
        if len(self.left) < count:
            try:
                self.left += self.stream.exactly(count - len(self.left), deadline)
            except EOFError as end:
                raise self._failures.ended(b"".join([*begun, self.left, end.args[0]])) from None
            except OSError as error:
                raise self._failures.broken(error, b"".join([*begun, self.left])) from None
        taken, self.left = self.left[:count], self.left[count:]
        return taken


class HislipLink(MessageLink):
    """One session with an instrument."""

    def __init__(self, address: str, place: Hislip, options: LinkOptions) -> None:
        super().__init__(address, options)
        self._place = place
        self._sync, self._async = (_Channel(place, options, self._failures) for _ in range(2))
        self._reset()

    def _reset(self) -> None:
        self.is_waiting = False
        self._numbering = Numbering()
        self._take_over()
        self._poll: Callable[[int], list[Any]] = lambda ms: []

    def _take_over(self) -> None:
        """Has at hand what the loop over points calls."""
        self._send_bytes, self._receive_bytes = self._sync.stream.send, self._sync.stream.receive

    # --- opening and closing -----------------------------------------------------------------------------------------

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        super().allow(seconds)
        self._sync.stream.timeout = self._async.stream.timeout = seconds

    def open(self) -> None:
        """Connects both channels, agrees on sizes and mode, and takes the lock. Raises LinkError."""
        try:
            with self._failures.opening("HiSLIP"), connecting(self, self._options):
                self._open()
        except BaseException:
            self.close()
            raise

    def _open(self) -> None:
        self._sync.open()
        self._reset()
        answer = self._ask(self._sync, hislip.initialize(self._place.sub_address), Type.INITIALIZE_RESPONSE)
        self._numbering.is_overlapped = bool(answer.control & 1)
        session = answer.parameter & 0xFFFF
        self._async.open()
        self._ask_async(Message(Type.ASYNC_INITIALIZE, 0, session), Type.ASYNC_INITIALIZE_RESPONSE)
        most = Message(Type.ASYNC_MAXIMUM_MESSAGE_SIZE, payload=hislip.MOST_PAYLOAD.to_bytes(8, "big"))
        told = self._ask_async(most, Type.ASYNC_MAXIMUM_MESSAGE_SIZE_RESPONSE)
        try:
            self._numbering.most_sent = min(hislip.size(told.payload), MOST_BYTES)
        except HislipError as error:
            raise self._async.refusal(error) from None
        if self._options.keys.get("lock", True):
            self._lock()
        assert self._sync.stream.socket and self._async.stream.socket
        self._poll = waiting_poll(self._sync.stream.socket, self._async.stream.socket)
        if self._numbering.is_overlapped != self._wants_overlapped:
            self.clear()

    @property
    def _wants_overlapped(self) -> bool:
        return bool(self._options.keys.get("overlapped", False))

    def _lock(self) -> None:
        patience = min(LOCK_PATIENCE, self.timeout / 2)
        request = Message(Type.ASYNC_LOCK, Lock.REQUEST, round(patience * 1000))
        answer = self._ask_async(request, Type.ASYNC_LOCK_RESPONSE).control
        if answer == Lock.FAILED:
            others = self._ask_async(Message(Type.ASYNC_LOCK_INFO), Type.ASYNC_LOCK_INFO_RESPONSE).parameter
            raise self._failures.error(
                f"it is locked by another client ({others} of them hold a lock)",
                "Another computer drives it, or it has not noticed yet that a link of before is dead. Wait for that.",
            )
        if answer not in (Lock.SUCCESS, Lock.IMPOSSIBLE):  # one that cannot lock is used without
            raise self._failures.error(f"answered {answer} when its lock was asked for", "That is no answer of HiSLIP.")

    def close(self) -> None:
        """Closes both channels; the lock goes away with them."""
        self._sync.stream.close()
        self._async.stream.close()
        self._reset()

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends a program message. Raises LinkError: the connection broke, or nothing is taken for the time-out."""
        try:
            self._send_bytes(self._numbering.data(data))
        except OSError as error:
            raise self._failures.broken(error) from None

    def ask(self, data: bytes) -> None:
        """Sends a query whose reply `receive` takes. Raises as `send`, and StrayError."""
        if self.is_waiting:
            raise self._failures.outstanding()
        if self._poll(0):
            self._heed_what_waits()
        self.is_waiting = True
        self.send(data)

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The next reply. Raises LinkError; then it must be reopened."""
        try:
            data = self._receive_bytes(MOST_AT_ONCE)
        except OSError as error:
            data = self._late(error)
        message = self._in_one(data)
        if message:
            found: Data = content_of(message, reply, self._terminator, self._failures)
        else:
            found = self._in_parts(data, reply)
        self._numbering.has_delivered = True
        self.is_waiting = False
        return found

    def look(self, seconds: float = 0.0) -> None:
        """Raises StrayError if a response waits, or comes within so many seconds, that nobody asked for; LinkError if
        a connection was closed."""
        if self._poll(round(seconds * 1000)):
            self._heed_what_waits()

    def _late(self, error: OSError) -> bytes:
        """What comes after the first turn of waiting was over; the run may be stopped meanwhile."""
        try:
            return self._sync.stream.patiently(error)
        except OSError as last:
            raise self._failures.broken(last) from None

    def _in_one(self, data: bytes) -> bytes:
        """A reply that came as one message, and nothing else: nearly always. Else nothing."""
        if len(data) > HEADER.size:
            prologue, kind, _, number, length = HEADER.unpack_from(data)
            if (
                kind == _DATA_END and length == len(data) - HEADER.size and prologue == hislip.PROLOGUE
                and self._numbering.is_answer(number)
            ):  # fmt: skip
                self._numbering.taken()
                return data[HEADER.size :]
        return b""

    def _in_parts(self, data: bytes, reply: Reply | Lines) -> Data:
        """A reply in as many messages as it needs, within one time-out for all of them."""
        if not data:
            raise self._failures.ended()
        self._sync.left = data
        deadline = time.monotonic() + self.timeout
        parts: list[bytes] = []
        while True:
            header = self._sync.header(deadline, parts)
            if header.type not in (Type.DATA, Type.DATA_END):
                self._heed(self._sync, self._sync.message(header, deadline, parts))
                continue
            is_answer = self._numbering.is_answer(header.parameter)  # else to a query of before: passed over (3.1.2)
            if is_answer and reply is Reply.BLOCK and not parts:
                begin = self._sync.some(min(header.length, MOST_BLOCK_HEAD), deadline)
                if is_long_block(begin):
                    return self._long_block(begin, header, deadline)
                self._sync.left = begin + self._sync.left
            message = self._sync.message(header, deadline, parts)
            if is_answer:
                self._numbering.taken()
                parts.append(message.payload)
                if sum(map(len, parts)) > MOST_BYTES:
                    raise self._failures.endless()
                if message.type == Type.DATA_END:
                    self._expect_nothing_more()
                    return content_of(b"".join(parts), reply, self._terminator, self._failures)

    def _expect_nothing_more(self) -> None:
        if self._sync.left:
            raise self._failures.stray(self._sync.left[HEADER.size :])

    def _long_block(self, begin: bytes, header: hislip.Header, deadline: float) -> bytearray:
        """A block that is received in place; `begin` is what was taken of the payload of its first message."""
        try:
            block = BlockInPlace(begin, self._terminator)
            length = header.length - len(begin)
            while True:
                with block.room(length) as room:
                    self._sync.into(room, deadline)
                self._numbering.taken()
                if header.type == Type.DATA_END:
                    self._expect_nothing_more()
                    return block.content()
                while (header := self._sync.header(deadline, [begin])).type not in (Type.DATA, Type.DATA_END):
                    self._heed(self._sync, self._sync.message(header, deadline, [begin]))
                if not self._numbering.is_answer(header.parameter):
                    raise self._failures.error("mixed two answers")
                length = header.length
        except TooLong:
            raise self._failures.endless() from None
        except NoBlock as error:
            raise self._failures.no_block(error) from None

    def _heed_what_waits(self) -> None:
        """Takes what has come though nobody asked: notices are heeded, an answer is a StrayError."""
        for channel in (self._async, self._sync):
            while channel.stream.poll(0):
                try:
                    channel.left = channel.stream.next_bytes()
                except OSError as error:
                    raise self._failures.broken(error) from None
                if not channel.left:
                    raise self._failures.error("closed the connection")
                while channel.left:
                    message = channel.next(time.monotonic() + self.timeout)
                    if message.type in (Type.DATA, Type.DATA_END):
                        raise self._failures.stray(message.payload)
                    self._heed(channel, message)

    def _heed(self, channel: _Channel, message: Message) -> None:
        """A message that is no answer. Raises LinkError unless it may be passed over."""
        kind = message.type
        if kind in (Type.FATAL_ERROR, Type.ERROR):
            raise self._failures.error(f"its HiSLIP server says: {hislip.words_of(message)}")
        if kind in (Type.INTERRUPTED, Type.ASYNC_INTERRUPTED):  # 3.1.1: this one never asks before it has its answer
            raise self._failures.error("says that a query was interrupted by another one")
        if kind not in set(Type):
            channel.send(Message(Type.ERROR, Nonfatal.UNKNOWN_TYPE, payload=b"unknown message type").encoded())
        elif kind != Type.ASYNC_SERVICE_REQUEST:
            raise self._failures.error(f"sent a message of type {Type(kind).name} that belongs nowhere")

    # --- what the asynchronous channel is for ------------------------------------------------------------------------

    def clear(self) -> None:
        """Device clear (6.12): what is on its way is thrown away on both sides, and the mode agreed on."""
        if self._sync.is_torn or self._async.is_torn:
            self.reopen()
            return
        self._ask_async(Message(Type.ASYNC_DEVICE_CLEAR), Type.ASYNC_DEVICE_CLEAR_ACKNOWLEDGE)
        self._sync.send(Message(Type.DEVICE_CLEAR_COMPLETE, self._wants_overlapped).encoded())
        deadline = time.monotonic() + self.timeout
        while (message := self._sync.next(deadline)).type != Type.DEVICE_CLEAR_ACKNOWLEDGE:
            if message.type == Type.FATAL_ERROR:
                self._heed(self._sync, message)
        self._numbering.is_overlapped = bool(message.control & 1)
        self._numbering.restart()
        self.is_waiting = False

    def trigger(self) -> None:
        """The message Trigger. Raises LinkError."""
        self._sync.send(self._numbering.trigger())

    def status_byte(self) -> int:
        """The status byte (6.14). Raises LinkError."""
        return self._ask_async(self._numbering.status_query(), Type.ASYNC_STATUS_RESPONSE).control

    def _ask_async(self, message: Message, wanted: Type) -> Message:
        return self._ask(self._async, message, wanted)

    def _ask(self, channel: _Channel, message: Message, wanted: Type) -> Message:
        """Sends a message and waits for its answer; notices before it are heeded."""
        channel.send(message.encoded())
        deadline = time.monotonic() + self.timeout
        while (answer := channel.next(deadline)).type != wanted:
            self._heed(channel, answer)
        return answer
