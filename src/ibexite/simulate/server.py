"""The simulated bench as servers on real links: one thread, each instrument at its own address.

Run as a process of its own (`python -m ibexite.simulate.server`): the plan comes in as one line of JSON on standard
input, the addresses go out as one line on standard output, and the process ends when standard input is closed. So it
never outlives the program that started it, and a Ctrl-C meant for the run does not take the instruments away.
"""

from __future__ import annotations

import json
import os
import signal
import sys
import threading
import time
from collections.abc import Callable
from typing import Protocol

from ibexite.simulate.build import build
from ibexite.simulate.conversation import Instrument
from ibexite.simulate.fronts.hislip import HislipFront
from ibexite.simulate.fronts.program import ProgramFront
from ibexite.simulate.fronts.raw_socket import RawSocketFront
from ibexite.simulate.fronts.serial_port import SerialFront
from ibexite.simulate.fronts.usb import UsbFront
from ibexite.simulate.fronts.vxi11 import Vxi11Front
from ibexite.simulate.locks import DeviceLock
from ibexite.simulate.loop import Loop
from ibexite.simulate.plan import SimulationPlan
from ibexite.simulate.troubles import Troubles
from ibexite.untyped import Fields

LINGER = 3.0  # s; how long it is there for whoever makes the bench safe after a run that died
ALONE = 0.3  # s without a client, after which it ends


class Front(Protocol):
    """The way in which one instrument is reached, from when it is made until the loop ends."""

    address: str


FRONTS: dict[str, Callable[[Loop, Instrument], Front]] = {
    "socket": RawSocketFront, "hislip": HislipFront, "vxi11": Vxi11Front, "serial": SerialFront,
    "program": ProgramFront, "usb": UsbFront,
}  # fmt: skip


class BenchServer:
    """Serves all instruments of a plan until told to stop."""

    def __init__(self, plan: SimulationPlan) -> None:
        self._loop = Loop()
        self._ahead = 0.0  # s that the world has jumped over
        made = build(plan, lambda: time.monotonic() + self._ahead)
        self.instruments = [Instrument(s, d, Troubles(s.trouble), DeviceLock(self._loop)) for s, d in made]
        self.addresses: dict[str, str] = {}
        for one in self.instruments:
            front: Front = FRONTS[one.stand_in.link](self._loop, one)
            self.addresses[one.stand_in.name] = front.address

    @property
    def is_still(self) -> bool:
        """True if nobody is connected, and nothing that had arrived waits to be carried out."""
        return not any(one.clients or one.held for one in self.instruments)

    def advance(self, seconds: float) -> None:
        """Lets the time of the world jump ahead; may be called from another thread."""
        self._ahead += seconds

    def stop(self) -> None:
        """Ends `serve`; may be called from another thread or a signal handler."""
        self._loop.stop()

    def stop_when_alone(self) -> None:
        """Ends `serve` when there has been no client for a while, at the latest after LINGER: a run that died is made
        safe yet, on connections of its own."""
        deadline = time.monotonic() + LINGER
        alone_since = time.monotonic()
        while time.monotonic() < deadline and time.monotonic() - max(alone_since, self._loop.heard) < ALONE:
            time.sleep(0.01)
            if any(one.clients for one in self.instruments):
                alone_since = time.monotonic()
        self.stop()

    def serve(self) -> None:
        """Answers until `stop`."""
        self._loop.run()


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
    if not _tell({"addresses": server.addresses}):
        return

    def wait_for_end() -> None:
        for line in sys.stdin:
            message = json.loads(line)
            if "end" in message:  # the bench is safe
                server.stop()
                return
            if "advance" in message:
                server.advance(float(message["advance"]))
            for one in server.instruments if "presets" in message else ():
                one.device.presets.begin_test(message["presets"].get(one.stand_in.name, {}))
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
