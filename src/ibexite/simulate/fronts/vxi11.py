"""A stand-in behind a VXI-11 server with its own port mapper: core and abort channel, links, a lock."""

from __future__ import annotations

import contextlib
import itertools
import socket
from collections import deque
from collections.abc import Callable

from ibexite.protocols import vxi11
from ibexite.protocols.onc_rpc import (
    TCP,
    WORD,
    WORDS2,
    Call,
    Records,
    RpcError,
    Service,
    opaque,
    port_mapper,
    record,
    reply,
)
from ibexite.protocols.vxi11 import Core, Error
from ibexite.simulate.conversation import Conversation, Instrument, messages_of
from ibexite.simulate.fronts.tcp import Connection, Port
from ibexite.simulate.loop import Loop

MOST_WRITTEN = 1 << 16  # bytes that one device_write takes
MOST_COMMAND = 16_000_000  # bytes of one program message
MESSAGE_AVAILABLE = 0x10


class Vxi11Front:
    """Serves an instrument under one device name."""

    def __init__(self, loop: Loop, instrument: Instrument) -> None:
        self.loop, self.instrument = loop, instrument
        place = instrument.stand_in
        self.device = place.device or "inst0"
        self.links: dict[int, _Link] = {}
        self.numbers = itertools.count(1)
        self._core = Port(loop, place.host, 0, lambda connection: _Core(self, connection).start())
        self.abort_port = Port(loop, place.host, 0, self._welcome_abort).number
        mapper = Port(loop, place.host, place.port, self._welcome_mapper)
        self._mapper = port_mapper({(vxi11.CORE, vxi11.VERSION, TCP): self._core.number}, mapper.number)
        self._datagrams = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        self._datagrams.bind((place.host, mapper.number))
        loop.watch(self._datagrams, self._hear_datagram)
        self.address = f"TCPIP::{place.host}:{mapper.number}::{self.device}::INSTR"
        instrument.refuse = self._core.refuse

    def _hear_datagram(self) -> None:
        with contextlib.suppress(OSError, RpcError):
            data, sender = self._datagrams.recvfrom(4096)
            answer = self._mapper.answer(data)
            if answer is not None:
                self._datagrams.sendto(answer, sender)

    def _welcome_mapper(self, connection: socket.socket) -> None:
        _Calls(self.loop, connection, self._mapper).start()

    def _welcome_abort(self, connection: socket.socket) -> None:
        service = Service(vxi11.ABORT, vxi11.VERSION, {vxi11.DEVICE_ABORT.number: self._abort})
        _Calls(self.loop, connection, service).start()

    def _abort(self, call: Call) -> bytes:
        link = self.links.get(call.arguments.word())
        if link is None:
            return WORD.pack(Error.NO_LINK)
        link.end_read(Error.ABORTED)
        return WORD.pack(Error.NONE)


class _Calls:
    """One connection on which calls are answered, one after the other."""

    def __init__(self, loop: Loop, connection: socket.socket, service: Service) -> None:
        self._loop, self._socket, self._service = loop, connection, service
        self._records = Records()

    def start(self) -> None:
        self.connection = Connection(self._loop, self._socket, self._hear, self.gone)

    def _hear(self, data: bytes) -> None:
        self._records.feed(data)
        try:
            while self.connection.is_open and (message := self._records.next()) is not None:
                self.take(message)
        except RpcError:
            self.connection.close()

    def take(self, message: bytes) -> None:
        """Answers a call."""
        answer = self._service.answer(message)
        if answer is not None:
            self.connection.send(record(answer))

    def gone(self) -> None:
        """The connection has ended."""


class _Core(_Calls):
    """The core channel of one client, with its links. A call that takes its time makes the next ones wait."""

    def __init__(self, front: Vxi11Front, connection: socket.socket) -> None:
        no, nothing = WORD.pack(Error.NOT_SUPPORTED), opaque(b"")
        procedures: dict[Core, Callable[[Call], bytes | None]] = {
            Core.CREATE_LINK: self._create, Core.DESTROY_LINK: self._destroy, Core.DEVICE_WRITE: self._write,
            Core.DEVICE_READ: self._read, Core.DEVICE_READSTB: self._status, Core.DEVICE_TRIGGER: self._trigger,
            Core.DEVICE_CLEAR: self._clear, Core.DEVICE_REMOTE: self._switch, Core.DEVICE_LOCAL: self._switch,
            Core.DEVICE_LOCK: self._lock, Core.DEVICE_UNLOCK: self._unlock,
            Core.DEVICE_ENABLE_SRQ: lambda call: no, Core.DEVICE_DOCMD: lambda call: no + nothing,
            Core.CREATE_INTR_CHAN: lambda call: no, Core.DESTROY_INTR_CHAN: lambda call: no,
        }  # fmt: skip
        service = Service(vxi11.CORE, vxi11.VERSION, {int(number): deed for number, deed in procedures.items()})
        super().__init__(front.loop, connection, service)
        self._front, self._device_lock = front, front.instrument.lock
        self._links: dict[int, _Link] = {}
        self._waiting: deque[bytes] = deque()
        self._is_busy = False

    def take(self, message: bytes) -> None:
        """Answers a call, or has it wait behind one that is not answered yet."""
        self._waiting.append(message)
        self._go_on()

    def _go_on(self) -> None:
        while self._waiting and not self._is_busy:
            self._is_busy = True
            answer = self._service.answer(self._waiting.popleft())
            if answer is not None:
                self._is_busy = False
                self.connection.send(record(answer))

    def answer_late(self, xid: int, result: bytes) -> None:
        """The answer to a call that has taken its time."""
        if self.connection.is_open:
            self._is_busy = False
            self.connection.send(record(reply(xid, result)))
            self._go_on()

    def gone(self) -> None:
        """The connection has ended, and with it all its links."""
        for number in list(self._links):
            self._forget(number)

    def _forget(self, number: int) -> None:
        self._links.pop(number).end()
        del self._front.links[number]

    def _link_of(self, call: Call) -> _Link | None:
        return self._links.get(call.arguments.word())

    # --- links and their lock ----------------------------------------------------------------------------------------

    def _create(self, call: Call) -> bytes | None:
        _, wants_lock, patience = call.arguments.words(3)
        if call.arguments.opaque().decode("latin-1").lower() != self._front.device.lower():
            return WORD.pack(Error.NOT_ACCESSIBLE) + bytes(12)
        number = next(self._front.numbers)
        link = self._links[number] = self._front.links[number] = _Link(self._front, self)
        made = WORD.pack(Error.NONE) + WORD.pack(number) + WORDS2.pack(self._front.abort_port, MOST_WRITTEN)
        if not wants_lock:
            return made

        def given(is_given: bool) -> None:
            if not is_given:
                self._forget(number)
            self.answer_late(call.xid, made if is_given else WORD.pack(Error.LOCKED) + bytes(12))

        self._device_lock.request(link, "", patience / 1000, given)
        return None

    def _destroy(self, call: Call) -> bytes:
        number = call.arguments.word()
        if number not in self._links:
            return WORD.pack(Error.NO_LINK)
        self._forget(number)
        return WORD.pack(Error.NONE)

    def _lock(self, call: Call) -> bytes | None:
        link = self._link_of(call)
        flags, patience = call.arguments.words(2)
        if link is None:
            return WORD.pack(Error.NO_LINK)

        def given(is_given: bool) -> None:
            self.answer_late(call.xid, WORD.pack(Error.NONE if is_given else Error.LOCKED))

        self._device_lock.request(link, "", patience / 1000 if flags & vxi11.WAIT_LOCK else 0.0, given)
        return None

    def _unlock(self, call: Call) -> bytes:
        link = self._link_of(call)
        if link is None:
            return WORD.pack(Error.NO_LINK)
        return WORD.pack(Error.NONE if self._device_lock.release(link) else Error.NO_LOCK)

    def _barred(self, link: _Link | None) -> Error:
        """What hinders an operation on a link."""
        if link is None:
            return Error.NO_LINK
        return Error.LOCKED if self._device_lock.bars(link) else Error.NONE

    # --- operations --------------------------------------------------------------------------------------------------

    def _write(self, call: Call) -> bytes:
        link = self._link_of(call)
        _, _, flags = call.arguments.words(3)
        data = call.arguments.opaque()
        error = self._barred(link)
        if link is None or error:
            return WORDS2.pack(error, 0)
        taken = link.write(data[:MOST_WRITTEN], is_end=bool(flags & vxi11.END) and len(data) <= MOST_WRITTEN)
        return WORDS2.pack(Error.NONE, taken)

    def _read(self, call: Call) -> bytes | None:
        link = self._link_of(call)
        most, timeout, _, flags, termchar = call.arguments.words(5)
        error = self._barred(link)
        if link is None or error:
            return WORDS2.pack(error, 0) + opaque(b"")
        stop = termchar if flags & vxi11.TERMCHAR_SET else None
        link.read(most, stop, timeout / 1000, lambda result: self.answer_late(call.xid, result))
        return None

    def _status(self, call: Call) -> bytes:
        link = self._link_of(call)
        error = self._barred(link)
        return WORDS2.pack(error, link.status() if link is not None and not error else 0)

    def _trigger(self, call: Call) -> bytes:
        link = self._link_of(call)
        error = self._barred(link)
        if link is not None and not error:
            link.write(b"*TRG\n", is_end=True)
        return WORD.pack(error)

    def _clear(self, call: Call) -> bytes:
        link = self._link_of(call)
        error = self._barred(link)
        if link is not None and not error:
            link.clear()
        return WORD.pack(error)

    def _switch(self, call: Call) -> bytes:
        """Remote and local: a stand-in has no front panel."""
        return WORD.pack(self._barred(self._link_of(call)))


class _Link:
    """One link: what was written and is not whole yet, what is to be read, who waits for it."""

    def __init__(self, front: Vxi11Front, core: _Core) -> None:
        self._loop, self._instrument, self._core = front.loop, front.instrument, core
        self._conversation = Conversation(self._loop, self._instrument, self)
        self._content, self._output = bytearray(), bytearray()
        self._is_whole = False  # the end of the output is that of a message
        self._reading: Callable[[Error], None] | None = None
        self._instrument.clients += 1

    def write(self, data: bytes, *, is_end: bool) -> int:
        """Takes a part of a program message; how many bytes."""
        self._content += data
        if is_end or len(self._content) > MOST_COMMAND:
            content, self._content = bytes(self._content), bytearray()
            self._drop_output()  # of a query of before: interrupted (IEEE 488.2, 6.3.2.3)
            self._conversation.hear(messages_of(content, self._instrument.stand_in.command_end))
        return len(data)

    def _drop_output(self) -> None:
        self._output.clear()
        self._is_whole = False

    def send(self, data: bytes, number: int, *, briefly: bool = False) -> None:
        """A reply or a part of one: it waits to be read."""
        self._output += data
        self._is_whole = data.endswith(self._instrument.stand_in.reply_end.encode("latin-1"))
        if self._reading is not None:
            self._reading(Error.NONE)

    def read(self, most: int, stop: int | None, seconds: float, answer: Callable[[bytes], None]) -> None:
        """Answers with what is to be read: up to so many bytes, a character or the end of the message, at once or when
        it comes; after so many seconds with what there is."""

        def try_it(error: Error) -> None:
            place = -1 if stop is None else self._output.find(stop)
            count = min(most, place + 1 if place >= 0 else len(self._output))
            is_end = self._is_whole and count == len(self._output)
            reason = vxi11.REASON_END * is_end | vxi11.REASON_TERMCHAR * (place >= 0 and count == place + 1)
            reason |= vxi11.REASON_COUNT * (count == most)
            if not reason and not error:
                return
            data = bytes(self._output[:count])
            del self._output[:count]
            self._is_whole = self._is_whole and not is_end
            self._reading = None
            answer(WORDS2.pack(Error.NONE if reason else error, reason) + opaque(data))

        def give_up() -> None:
            if self._reading is try_it:
                try_it(Error.IO_TIMEOUT)

        self._reading = try_it
        self._loop.after(seconds, give_up)
        try_it(Error.NONE)

    def end_read(self, error: Error) -> None:
        """Ends the read that is going on."""
        if self._reading is not None:
            self._reading(error)

    def status(self) -> int:
        """The status byte, with whether something is to be read."""
        return self._instrument.device.status_byte() | MESSAGE_AVAILABLE * bool(self._output)

    def clear(self) -> None:
        """Device clear."""
        self._conversation.end()
        self._conversation = Conversation(self._loop, self._instrument, self)
        self._content.clear()
        self._drop_output()
        self._instrument.device.take_output()

    def freeze(self, seconds: float) -> None:
        """Nothing is taken for so long."""
        self._core.connection.freeze(seconds)

    def close(self, with_reset: bool) -> None:
        """Ends the connection."""
        self._core.connection.close(with_reset)

    def end(self) -> None:
        """The link is not there any more."""
        self._reading = None
        self._instrument.clients -= 1
        self._instrument.lock.gone(self)
