"""A stand-in with what goes wrong with it, and what one client says to it: the same on every link.

What always holds: messages are carried out in the order in which they came, also those of a client that has gone; a
reply is sent when no other message waits behind its query.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from math import inf
from typing import Protocol

from ibexite.protocols.framing import Framer
from ibexite.simulate.device import ScpiDevice
from ibexite.simulate.locks import DeviceLock
from ibexite.simulate.loop import Loop
from ibexite.simulate.plan import StandIn
from ibexite.simulate.troubles import Frozen, Troubles


@dataclass(slots=True)
class Instrument:
    """One simulated instrument, whoever talks to it."""

    stand_in: StandIn
    device: ScpiDevice
    troubles: Troubles
    lock: DeviceLock
    refuse: Callable[[float], None] = lambda seconds: None  # lets nobody in for so many seconds
    clients: int = 0  # that are connected
    held: int = 0  # conversations in which a trouble makes the messages wait


class Client(Protocol):
    """The way back to whoever talks to an instrument."""

    def send(self, data: bytes, number: int, *, briefly: bool = False) -> None:
        """Sends a reply to the message of this number, or a part of one; it is whole where it ends with a line feed. To
        one that has gone nothing is sent. `briefly`: something goes wrong just now, and the other instruments are to
        answer meanwhile."""

    def close(self, with_reset: bool) -> None:
        """Ends the link."""

    def freeze(self, seconds: float) -> None:
        """For so many seconds (infinity: for ever) nothing is taken on this link, nor acknowledged where it knows
        that."""


def text_of(message: bytes) -> str:
    """A message as a text, without a carriage return at its end; a block in it may end with one of its own."""
    text = message.decode("latin-1")
    return text if "#" in text else text.rstrip("\r")


def messages_of(content: bytes, end: str = "\n") -> list[str]:
    """The program messages in what came as one; a line feed (or what the instrument has in its place) ends one as the
    end of the link's message does (IEEE 488.2, 7.5)."""
    last = end.encode("latin-1")
    framer = Framer(last)
    framer.feed(content if content.endswith(last) else content + last)
    found = []
    while (message := framer.next_message()) is not None:
        found.append(text_of(message))
    return found


@dataclass(slots=True)
class Conversation:
    """What one client says, and what becomes of it."""

    loop: Loop
    instrument: Instrument
    client: Client
    _waiting: deque[tuple[int, str]] = field(default_factory=deque)
    _number: int = 0  # of the message that is being carried out
    _is_over: bool = False  # whatever it still has to say, nobody wants to hear it
    _is_held: bool = False  # by a trouble: what has arrived must wait

    def hear(self, messages: Iterable[str], number: int = 0) -> None:
        """Messages that have arrived together, and their number where the link numbers them."""
        self._waiting += [(number, message) for message in messages]
        self._go_on()

    def end(self) -> None:
        """Device clear: what waits is forgotten, and nothing more is said."""
        self._is_over = True
        self._waiting.clear()

    def _go_on(self) -> None:
        instrument = self.instrument
        while self._waiting and not self._is_held:
            self._number, message = self._waiting.popleft()
            ways = (self._send_briefly, self._close, instrument.refuse)
            trouble = instrument.troubles.begin(message, instrument.device, *ways)
            if trouble is not None:
                instrument.held += 1
                self._is_held = True
                self._step(trouble)
                continue
            instrument.device.receive(message)
            if instrument.device.has_output and not self._waiting:
                self._answer()

    def _step(self, trouble: Iterator[float]) -> None:
        """The next step of a trouble; behind the last one the messages that have waited."""
        pause = next(trouble, None)
        if isinstance(pause, Frozen):
            self.client.freeze(pause)
        if pause == inf:  # it is held for ever, and nobody waits for that
            self.instrument.held -= 1
            return
        if pause is not None:
            self.loop.after(pause, lambda: self._step(trouble))
            return
        self.instrument.held -= 1
        self._is_held = False
        self._go_on()

    def _answer(self) -> None:
        delay, number = self.instrument.stand_in.answer_time, self._number
        if delay > 0:
            self.loop.after(delay, lambda: self._send_output(number))
        else:
            self._send_output(number)

    def _send_output(self, number: int) -> None:
        output = self.instrument.device.take_output()
        if output is not None and not self._is_over:
            self.client.send(output.encode("latin-1") + self._end, number)

    @property
    def _end(self) -> bytes:
        return self.instrument.stand_in.reply_end.encode("latin-1")

    def _send_briefly(self, data: bytes) -> None:
        if data.endswith(b"\n"):
            data = data[:-1] + self._end
        if not self._is_over:
            self.client.send(data, self._number, briefly=True)

    def _close(self, with_reset: bool) -> None:
        self._waiting.clear()
        if not self._is_over:
            self.client.close(with_reset)
