"""The simulated bench as TCP servers: one thread, one selector, each instrument on its own port.

Run as a process of its own (`python -m ibexite.simulate.server`): the plan comes in as one line of JSON on standard
input, the ports go out as one line on standard output, and the process ends when standard input is closed. So it never
outlives the program that started it, and a Ctrl-C meant for the run does not take the instruments away.
"""

from __future__ import annotations

import contextlib
import heapq
import itertools
import json
import os
import selectors
import signal
import socket
import struct
import sys
import threading
import time
from collections import deque
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from functools import partial

from ibexite.protocols.framing import Framer, TooLong
from ibexite.simulate.build import build
from ibexite.simulate.device import ScpiDevice
from ibexite.simulate.plan import SimulationPlan, StandIn
from ibexite.simulate.troubles import Troubles, begun
from ibexite.untyped import Fields

LINGER = 3.0  # s; how long it is there for whoever makes the bench safe after a run that died
ALONE = 0.3  # s without a client, after which it ends
PATIENCE = 10.0  # s; a reply that is not taken whole by then is the last one
BRIEFLY = 0.05  # s; the same while something goes wrong: the other instruments are to answer meanwhile


@dataclass(slots=True)
class _Client:
    connection: socket.socket
    instrument: _Instrument
    framer: Framer = field(default_factory=Framer)
    is_open: bool = True
    waiting: deque[str] = field(default_factory=deque)  # messages that have arrived
    is_held: bool = False  # by a trouble: what has arrived must wait


@dataclass(slots=True)
class _Instrument:
    stand_in: StandIn
    device: ScpiDevice
    listener: socket.socket
    port: int
    troubles: Troubles


class BenchServer:
    """Serves all instruments of a plan until told to stop."""

    def __init__(self, plan: SimulationPlan) -> None:
        self._selector = selectors.DefaultSelector()
        self._timers: list[tuple[float, int, Callable[[], None]]] = []
        self._order = itertools.count()
        self._stopping = False
        self._clients = self._held = 0
        self._wake, self._waker = socket.socketpair()
        self._selector.register(self._wake, selectors.EVENT_READ, None)
        self._ahead = 0.0  # s that the world has jumped over
        self.instruments = [self._listen(s, d) for s, d in build(plan, lambda: time.monotonic() + self._ahead)]

    def _listen(self, stand_in: StandIn, device: ScpiDevice) -> _Instrument:
        listener = socket.create_server((stand_in.host, stand_in.port))
        instrument = _Instrument(stand_in, device, listener, listener.getsockname()[1], Troubles(stand_in.trouble))
        self._selector.register(listener, selectors.EVENT_READ, instrument)
        return instrument

    def ports(self) -> dict[str, int]:
        """The port of each instrument by its name."""
        return {i.stand_in.name: i.port for i in self.instruments}

    @property
    def is_still(self) -> bool:
        """True if nobody is connected, and nothing that had arrived waits to be carried out."""
        return not self._clients and not self._held

    def advance(self, seconds: float) -> None:
        """Lets the time of the world jump ahead; may be called from another thread."""
        self._ahead += seconds

    def stop(self) -> None:
        """Ends `serve`; may be called from another thread or a signal handler."""
        self._waker.send(b"x")  # first, for `serve` closes it when it ends
        self._stopping = True

    def stop_when_alone(self) -> None:
        """Ends `serve` when there has been no client for a while, at the latest after LINGER: a run that died is made
        safe yet, on connections of its own."""
        deadline = time.monotonic() + LINGER
        alone_since = time.monotonic()
        while time.monotonic() < deadline and time.monotonic() - alone_since < ALONE:
            time.sleep(0.01)
            if self._clients:
                alone_since = time.monotonic()
        self.stop()

    def serve(self) -> None:
        """Answers until `stop`."""
        try:
            while not self._stopping:
                pause = None if not self._timers else max(0.0, self._timers[0][0] - time.monotonic())
                for key, _ in self._selector.select(pause):
                    if isinstance(key.data, _Instrument):
                        self._accept(key.data)
                    elif isinstance(key.data, _Client):
                        self._receive(key.data)
                while self._timers and self._timers[0][0] <= time.monotonic():
                    heapq.heappop(self._timers)[2]()
        finally:
            for key in list(self._selector.get_map().values()):
                with contextlib.suppress(OSError):
                    key.fileobj.close()  # type: ignore[union-attr]
            self._waker.close()
            self._selector.close()

    def _accept(self, instrument: _Instrument) -> None:
        try:
            connection, _ = instrument.listener.accept()
        except OSError:  # it has gone again, or nobody is let in just now
            return
        connection.settimeout(PATIENCE)
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self._clients += 1
        self._selector.register(connection, selectors.EVENT_READ, _Client(connection, instrument))

    def _receive(self, client: _Client) -> None:
        try:
            data = client.connection.recv(65536)
            client.framer.feed(data)
        except (OSError, TooLong):
            data = b""
        if not data:
            self._drop(client)
            return
        while (line := client.framer.next_message()) is not None:
            client.waiting.append(line.decode("latin-1").rstrip("\r"))
        self._go_on(client)

    def _drop(self, client: _Client) -> None:
        """Forgets a client; what has arrived from it is carried out all the same."""
        if client.is_open:
            client.is_open = False
            self._clients -= 1
            self._selector.unregister(client.connection)
            client.connection.close()

    # --- messages ----------------------------------------------------------------------------------------------------

    def _go_on(self, client: _Client) -> None:
        """Carries out what has arrived, and answers."""
        instrument = client.instrument
        while client.waiting and not client.is_held:
            message = client.waiting.popleft()
            trouble = instrument.troubles.at(message)
            if trouble is not None:
                self._held += 1
                client.is_held = True
                send, close = partial(self._send_briefly, client), partial(self._close, client)
                refuse = partial(self._refuse, instrument)
                self._step(client, begun(trouble, message, instrument.device, send, close, refuse))
                continue
            instrument.device.receive(message)
            if "?" in message and not client.waiting:
                self._answer(client)

    def _step(self, client: _Client, trouble: Iterator[float]) -> None:
        """The next step of a trouble; behind the last one the messages that have waited."""
        pause = next(trouble, None)
        if pause is not None:
            self._after(pause, lambda: self._step(client, trouble))
            return
        self._held -= 1
        client.is_held = False
        self._go_on(client)

    def _answer(self, client: _Client) -> None:
        delay = client.instrument.stand_in.answer_time
        if delay > 0:
            self._after(delay, lambda: self._send_output(client))
        else:
            self._send_output(client)

    def _send_output(self, client: _Client) -> None:
        output = client.instrument.device.take_output()
        if output is not None:
            self._send(client, output.encode("latin-1") + b"\n")

    def _send(self, client: _Client, data: bytes) -> None:
        if client.is_open:
            try:
                client.connection.sendall(data)
            except OSError:
                self._drop(client)

    def _send_briefly(self, client: _Client, data: bytes) -> None:
        if client.is_open:
            client.connection.settimeout(BRIEFLY)
            self._send(client, data)
        if client.is_open:
            client.connection.settimeout(PATIENCE)

    def _close(self, client: _Client, with_reset: bool) -> None:
        client.waiting.clear()
        if client.is_open and with_reset:
            client.connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
        self._drop(client)

    def _refuse(self, instrument: _Instrument, seconds: float) -> None:
        """Lets nobody in for so many seconds."""

        def listen_again() -> None:
            try:
                instrument.listener = socket.create_server((instrument.stand_in.host, instrument.port))
            except OSError:  # links of before are not gone yet
                self._after(0.1, listen_again)
                return
            self._selector.register(instrument.listener, selectors.EVENT_READ, instrument)

        if instrument.listener.fileno() >= 0:
            self._selector.unregister(instrument.listener)
            instrument.listener.close()
            self._after(seconds, listen_again)

    def _after(self, delay: float, deed: Callable[[], None]) -> None:
        heapq.heappush(self._timers, (time.monotonic() + delay, next(self._order), deed))


def main() -> None:
    """Serves the plan on standard input until that is closed."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    order = sys.stdin.readline()
    if not order:
        return  # whoever started it has gone
    try:
        server = BenchServer(SimulationPlan.from_data(json.loads(order)))
    except OSError as error:
        _tell({"error": f"cannot listen: {error.strerror}"})
        return
    if not _tell({"ports": server.ports()}):
        return

    def wait_for_end() -> None:
        for line in sys.stdin:
            message = json.loads(line)
            if "end" in message:  # the bench is safe
                server.stop()
                return
            server.advance(float(message["advance"]))
            _tell({})
        server.stop_when_alone()

    threading.Thread(target=wait_for_end, daemon=True).start()
    server.serve()


def _tell(answer: Fields) -> bool:
    """Answers in one line; false if nobody listens any more. Unbuffered, so that nothing is left to be written at the
    end, where it would be complained about."""
    try:
        os.write(1, json.dumps(answer).encode() + b"\n")
    except OSError:
        return False
    return True


if __name__ == "__main__":
    main()
