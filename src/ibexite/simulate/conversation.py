"""A stand-in with what goes wrong with it, and what one client says to it: the same on every link.

What always holds: messages are carried out in the order in which they came, also those of a client that has gone; a
reply is sent when no other message waits behind its query.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Protocol

from ibexite.simulate.device import ScpiDevice
from ibexite.simulate.loop import Loop
from ibexite.simulate.plan import StandIn
from ibexite.simulate.troubles import Troubles, begun


@dataclass(slots=True)
class Instrument:
    """One simulated instrument, whoever talks to it."""

    stand_in: StandIn
    device: ScpiDevice
    troubles: Troubles
    refuse: Callable[[float], None] = lambda seconds: None  # lets nobody in for so many seconds
    clients: int = 0  # that are connected
    held: int = 0  # conversations in which a trouble makes the messages wait


class Client(Protocol):
    """The way back to whoever talks to an instrument."""

    def send(self, data: bytes, *, briefly: bool = False) -> None:
        """Sends a reply or a part of one; it is whole where it ends with a line feed. To one that has gone nothing is
        sent. `briefly`: something goes wrong just now, and the other instruments are to answer meanwhile."""

    def close(self, with_reset: bool) -> None:
        """Ends the link."""


@dataclass(slots=True)
class Conversation:
    """What one client says, and what becomes of it."""

    loop: Loop
    instrument: Instrument
    client: Client
    _waiting: deque[str] = field(default_factory=deque)
    _is_held: bool = False  # by a trouble: what has arrived must wait

    def hear(self, messages: Iterable[str]) -> None:
        """Messages that have arrived together."""
        self._waiting += messages
        self._go_on()

    def _go_on(self) -> None:
        instrument = self.instrument
        while self._waiting and not self._is_held:
            message = self._waiting.popleft()
            trouble = instrument.troubles.at(message)
            if trouble is not None:
                instrument.held += 1
                self._is_held = True
                self._step(
                    begun(trouble, message, instrument.device, self._send_briefly, self._close, instrument.refuse)
                )
                continue
            instrument.device.receive(message)
            if "?" in message and not self._waiting:
                self._answer()

    def _step(self, trouble: Iterator[float]) -> None:
        """The next step of a trouble; behind the last one the messages that have waited."""
        pause = next(trouble, None)
        if pause is not None:
            self.loop.after(pause, lambda: self._step(trouble))
            return
        self.instrument.held -= 1
        self._is_held = False
        self._go_on()

    def _answer(self) -> None:
        delay = self.instrument.stand_in.answer_time
        if delay > 0:
            self.loop.after(delay, self._send_output)
        else:
            self._send_output()

    def _send_output(self) -> None:
        output = self.instrument.device.take_output()
        if output is not None:
            self.client.send(output.encode("latin-1") + b"\n")

    def _send_briefly(self, data: bytes) -> None:
        self.client.send(data, briefly=True)

    def _close(self, with_reset: bool) -> None:
        self._waiting.clear()
        self.client.close(with_reset)
