"""A proxy in front of a simulated instrument that spoils single messages: what an unreliable link or an instrument that
lies does to a run. Each fault is a function of the message and the link; it is done once, at a drawn place."""

from __future__ import annotations

import contextlib
import socket
import struct
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass
class Exchange:
    """One line from the run on its way to the instrument. `ask` carries a line out and returns the reply, "" for none."""

    line: str
    ask: Callable[[str], str]
    send: Callable[[bytes], None]  # to the run
    close: Callable[[bool], None]  # the link to the run; True: with a reset
    refuse: Callable[[float], None]  # new links, for so many seconds

    @property
    def is_query(self) -> bool:
        """True if a reply is due."""
        return "?" in self.line


Fault = Callable[[Exchange], None]


def plainly(x: Exchange) -> None:
    """No fault: the line is carried out and answered."""
    reply = x.ask(x.line)
    if reply:
        x.send(reply.encode() + b"\n")


def _reply(make: Callable[[str], bytes | None]) -> Fault:
    def fault(x: Exchange) -> None:
        data = make(x.ask(x.line))
        if data is not None:
            x.send(data)

    return fault


def _slowly(pause: float) -> Fault:
    def fault(x: Exchange) -> None:
        for byte in x.ask(x.line).encode() + b"\n":
            x.send(bytes([byte]))
            time.sleep(pause)

    return fault


def _after(pause: float) -> Fault:
    def fault(x: Exchange) -> None:
        reply = x.ask(x.line)
        time.sleep(pause)
        x.send(reply.encode() + b"\n")

    return fault


def _twice(pause: float) -> Fault:
    def fault(x: Exchange) -> None:
        reply = x.ask(x.line).encode() + b"\n"
        x.send(reply)
        time.sleep(pause)
        x.send(reply)

    return fault


def _closing(*, before: bool, after_part: int = -1, reset: bool = False) -> Fault:
    def fault(x: Exchange) -> None:
        reply = b"" if before else x.ask(x.line).encode() + b"\n"
        if after_part >= 0:
            x.send(reply[:after_part])
        elif not before:
            x.send(reply)
        x.close(reset)

    return fault


def _instead(*lines: str, then: bool = True) -> Fault:
    """Something happens in the instrument by itself, before the line (or in its place)."""

    def fault(x: Exchange) -> None:
        for line in lines:
            x.ask(line)
        if then:
            plainly(x)

    return fault


def _refusing(seconds: float) -> Fault:
    def fault(x: Exchange) -> None:
        x.refuse(seconds)
        x.close(True)

    return fault


def _stalled(pause: float) -> Fault:
    """It takes its time before it carries the line out, and whatever came behind it."""

    def fault(x: Exchange) -> None:
        time.sleep(pause)
        plainly(x)

    return fault


def _restarted(x: Exchange) -> None:
    x.ask("*RST")
    x.close(False)


def _chatter(x: Exchange) -> None:
    x.send(b"+1.0000000E+00\n")
    plainly(x)


def _late_chatter(x: Exchange) -> None:
    plainly(x)
    time.sleep(0.03)
    x.send(b"READY\n")


def _swallow(x: Exchange) -> None:
    """A setting is lost, a query stays without an answer."""


def _swallow_and_close(x: Exchange) -> None:
    x.close(False)


def _tell_ok(x: Exchange) -> None:
    """A setting is ignored, but whoever asks behind it in the same line gets an answer."""


REPLIES: dict[str, Fault] = {
    "silent": _reply(lambda r: None), "empty": _reply(lambda r: b"\n"), "garbage": _reply(lambda r: b"#!?_\n"),
    "nan": _reply(lambda r: b"NAN\n"), "inf": _reply(lambda r: b"INF\n"), "scpi nan": _reply(lambda r: b"9.91E37\n"),
    "overload": _reply(lambda r: b"+9.9E37\n"), "minus overload": _reply(lambda r: b"-9.9E37\n"), "huge": _reply(lambda r: b"1e400\n"),
    "underscore": _reply(lambda r: b"1_0.5\n"), "hex": _reply(lambda r: b"0x10\n"), "two numbers": _reply(lambda r: r.encode() + b",1\n"),
    "word": _reply(lambda r: b"ERROR\n"), "quoted": _reply(lambda r: b'"' + r.encode() + b'"\n'), "comma": _reply(lambda r: r.replace(".", ",").encode() + b"\n"),
    "no end": _reply(lambda r: r.encode()), "two lines": _reply(lambda r: r.encode() + b"\n" + r.encode() + b"\n"),
    "binary": _reply(lambda r: bytes(range(128, 160)) + b"\n"), "null bytes": _reply(lambda r: b"\0\0" + r.encode() + b"\n"), "spaces": _reply(lambda r: b"  " + r.encode() + b"  \n"),
    "carriage return": _reply(lambda r: r.encode() + b"\r\n"), "long": _reply(lambda r: b"1" * 70_000 + b"\n"), "very long": _reply(lambda r: b"x" * 20_000_000),
    "unit": _reply(lambda r: r.encode() + b" V\n"), "late": _slowly(0.0), "byte by byte": _slowly(0.002), "never ends": _slowly(0.15), "twice at once": _twice(0.0), "twice soon": _twice(0.002),
    "twice later": _twice(0.05), "chatter before": _chatter, "chatter behind": _late_chatter, "closed before": _closing(before=True), "closed behind": _closing(before=False),
    "closed within": _closing(before=False, after_part=3), "reset before": _closing(before=True, reset=True), "reset behind": _closing(before=False, reset=True),
    "restarted": _restarted, "reset by itself": _instead("*RST"), "closed without a word": _swallow_and_close,
    "only spaces": _reply(lambda r: b"   \n"), "exponent only": _reply(lambda r: b"E5\n"), "two signs": _reply(lambda r: b"--5\n"),
    "refused": _refusing(0.25), "refused for long": _refusing(1.0), "of another query": _reply(lambda r: b"1;0\n"), "much later": _after(0.3), "too late by a little": _after(0.13),
}  # fmt: skip
SETTINGS: dict[str, Fault] = {
    "setting lost": _swallow, "setting lost, closed": _swallow_and_close, "setting, then closed": _closing(before=False),
    "output off": _instead("OUTP1 OFF", "INP OFF", then=False), "output off behind": lambda x: (plainly(x), x.ask("OUTP1 OFF"), x.ask("INP OFF"))[0],
    "other voltage": _instead("SOUR1:VOLT 5", "CURR 0.05", then=False), "other voltage behind": lambda x: (plainly(x), x.ask("SOUR1:VOLT 5"), x.ask("CURR 0.05"))[0],
    "reset instead": _instead("*RST", then=False), "reset behind": lambda x: (plainly(x), x.ask("*RST"))[0], "setting and a word": lambda x: (plainly(x), x.send(b"OK\n"))[0],
    "setting twice": lambda x: (plainly(x), plainly(x))[0], "restarted": _restarted, "limit": _instead("SOUR1:CURR 0.01", then=False), "protection": _instead("SOUR1:VOLT:PROT 1"),
    "refused": _refusing(0.25), "late": _stalled(0.13), "much later": _stalled(0.2), "input off": _instead("INP OFF"), "reset link": _closing(before=True, reset=True),
}  # fmt: skip
FAULTS = {**{f"reply: {k}": v for k, v in REPLIES.items()}, **{f"setting: {k}": v for k, v in SETTINGS.items()}}


class Proxy:
    """Listens in front of one instrument. From the `nth` line on that is a query (or a setting) the fault is done `times`
    times. It reconnects to the instrument for each client, and can answer with another identity after the first."""

    def __init__(self, port: int, name: str = "", nth: int = 0, times: int = 1, *, new_identity: bool = False) -> None:
        self._port, self._fault, self._nth, self._times = port, FAULTS.get(name, plainly), nth, times
        self._is_for_queries = name.startswith("reply")
        self._new_identity, self._seen, self._clients = new_identity, 0, 0
        self.done = 0  # how often the fault was done
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port: int = self._listener.getsockname()[1]
        self._lock, self._is_closed = threading.Lock(), False
        self._serving: list[threading.Thread] = []
        threading.Thread(target=self._accept, daemon=True).start()

    def close(self) -> None:
        """Ends it. When it returns no line is on its way to the instrument any more."""
        self._is_closed = True
        self._stop_listening()
        for thread in self._serving:
            thread.join(5)

    def _accept(self) -> None:
        while True:
            try:
                client = self._listener.accept()[0]
            except OSError:
                if self._is_closed:
                    return
                time.sleep(0.01)
                continue
            self._clients += 1
            self._serving.append(threading.Thread(target=self._serve, args=(client, self._clients), daemon=True))
            self._serving[-1].start()

    def _refuse(self, seconds: float) -> None:
        def again() -> None:
            time.sleep(seconds)
            if not self._is_closed:
                self._listener = socket.create_server(("127.0.0.1", self.port))

        self._stop_listening()
        threading.Thread(target=again, daemon=True).start()

    def _stop_listening(self) -> None:
        with contextlib.suppress(OSError):
            self._listener.shutdown(socket.SHUT_RDWR)
        self._listener.close()

    def _serve(self, client: socket.socket, number: int) -> None:
        is_open = [True]

        def close(reset: bool) -> None:
            is_open[0] = False
            if reset:
                client.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
            client.close()

        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", self._port)) as device:
            client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            device.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            replies = device.makefile("rb")

            def ask(line: str) -> str:
                device.sendall(line.encode("latin-1") + b"\n")
                return replies.readline().decode("latin-1").rstrip("\n") if "?" in line else ""

            for raw in client.makefile("rb"):
                x = Exchange(raw.decode("latin-1").strip(), ask, client.sendall, close, self._refuse)
                if x.line == "*IDN?" and self._new_identity and number > 1:
                    client.sendall(b"Firnline,XX-1,SIMULATED-other,0\n")
                elif x.line and self._is_due(x):
                    self._fault(x)
                elif x.line:
                    plainly(x)
                if not is_open[0]:
                    return
        if is_open[0]:
            client.close()

    def _is_due(self, x: Exchange) -> bool:
        if x.is_query != self._is_for_queries or x.line in ("*IDN?", "*RST", "*CLS", "*OPC?"):
            return False
        with self._lock:
            self._seen += 1
            if self._nth <= self._seen < self._nth + self._times:
                self.done += 1
                return True
        return False
