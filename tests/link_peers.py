"""The other side of a link of each kind, which does as it is told: the fronts of the simulated bench around a script."""

import threading
from collections.abc import Callable, Iterator

from ibexite.simulate.conversation import Instrument
from ibexite.simulate.device import ScpiDevice
from ibexite.simulate.locks import DeviceLock
from ibexite.simulate.loop import Loop
from ibexite.simulate.plan import StandIn
from ibexite.simulate.server import FRONTS
from ibexite.simulate.troubles import Troubles

Reply = bytes | tuple[float | bytes, ...] | None


class Script(Troubles):
    """To each message that asks, what is next in `replies`: bytes, or bytes with pauses in s between. None closes the link."""

    def __init__(self) -> None:
        super().__init__()
        self.replies: list[Reply] = []
        self.answers: dict[str, Reply] = {}  # to messages whose answer is always the same
        self.heard: list[str] = []

    def begin(self, message: str, device: ScpiDevice, send: Callable, close: Callable, refuse: Callable) -> Iterator[float] | None:
        """The next reply, begun; what does not ask is noted."""
        self.heard.append(message)
        if "?" not in message:
            return iter(())
        reply = self.answers[message] if message in self.answers else self.replies.pop(0)
        return self._replying(reply, send, close)

    def _replying(self, reply: Reply, send: Callable, close: Callable) -> Iterator[float]:
        if reply is None:
            close(False)
        for part in reply if isinstance(reply, tuple) else (reply or b"",):
            if isinstance(part, bytes):
                send(part)
            else:
                yield part


class Peer:
    """One stand-in on a link of one kind, in a thread."""

    def __init__(self, kind: str, port: int = 0, **place: object) -> None:
        self.loop, self.script = Loop(), Script()
        self.device = ScpiDevice("Firnline,T-1", "peer")
        stand_in = StandIn("psu", "", "", "127.0.0.1", port, {}, link=kind, **place)  # type: ignore[arg-type]
        self.instrument = Instrument(stand_in, self.device, self.script, DeviceLock(self.loop))
        self.front = FRONTS[kind](self.loop, self.instrument)
        self.address = self.front.address
        self.timeout = 0.3  # s, of links to it
        self.is_traced = False  # what is said on them goes to a file
        self._thread = threading.Thread(target=self.loop.run, daemon=True)
        self._thread.start()

    def close(self) -> None:
        """Ends it."""
        self.loop.stop()
        self._thread.join(5)
