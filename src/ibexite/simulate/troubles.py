"""Troubles on demand: links that break and instruments that lie, so that it can be rehearsed what a sequence makes of
them.

A way is a function of one message that has arrived. It carries out, answers and closes as it likes, and yields the
seconds for which it pauses (infinity: for ever). No sockets and no clock in here; ibexite.simulate.server has both.
"""

from __future__ import annotations

import random
import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from math import inf

from ibexite.protocols.scpi import ScpiError
from ibexite.simulate.device import ERROR_QUEUE_LENGTH, ScpiDevice
from ibexite.simulate.plan import Trouble

ANY = "any"
_NUMBER = re.compile(rb"[+-]?[0-9.]+(E[+-]?[0-9]+)?")
_COMMON = re.compile(r"\*[A-Z]+\??")  # IEEE 488.2: *IDN?, *RST, …


@dataclass(slots=True)
class Exchange:
    """One message on its way to an instrument. `pause` (in s) and `message` are those of the trouble."""

    line: str
    device: ScpiDevice
    pause: float
    message: str
    send: Callable[[bytes], None]
    close: Callable[[bool], None]  # the link; True: with a reset
    refuse: Callable[[float], None]  # new links, for so many seconds

    def carry_out(self, line: str = "") -> bytes | None:
        """Carries out a line, the one that has arrived unless another is given; the reply without its end."""
        self.device.receive(line or self.line)
        reply = self.device.take_output()
        return None if reply is None else reply.encode("latin-1")

    def plainly(self) -> None:
        """As if nothing were wrong."""
        reply = self.carry_out()
        if reply is not None:
            self.send(reply + b"\n")


class Frozen(float):
    """A pause in s in which the link is as dead as if its cable were pulled."""


Way = Callable[[Exchange], Iterator[float]]


def _answering(make: Callable[[bytes], bytes | None]) -> Way:
    """Something else in place of the reply."""

    def way(x: Exchange) -> Iterator[float]:
        data = make(x.carry_out() or b"")
        if data is not None:
            x.send(data)
        yield from ()

    return way


def _closing(*, sends: Callable[[bytes], bytes], is_done: bool = True, reset: bool = False) -> Way:
    """The link is closed after a part of the reply."""

    def way(x: Exchange) -> Iterator[float]:
        reply = x.carry_out() if is_done else None
        x.send(sends(reply + b"\n") if reply is not None else b"")
        x.close(reset)
        yield from ()

    return way


def _late(x: Exchange) -> Iterator[float]:
    reply = x.carry_out()
    yield x.pause
    x.send(b"" if reply is None else reply + b"\n")


def _slow(x: Exchange) -> Iterator[float]:
    for byte in (x.carry_out() or b"") + b"\n":
        x.send(bytes([byte]))
        yield x.pause


def _twice(x: Exchange) -> Iterator[float]:
    reply = (x.carry_out() or b"") + b"\n"
    x.send(reply)
    yield x.pause
    x.send(reply)


def _flood(x: Exchange) -> Iterator[float]:
    for _ in range(320):
        x.send(b"x" * 65_536)
        yield 0.0


def _unasked(x: Exchange) -> Iterator[float]:
    x.send(b"+1.0000000E+00\n")
    x.plainly()
    yield from ()


def _unasked_behind(x: Exchange) -> Iterator[float]:
    x.plainly()
    yield x.pause
    x.send(b"READY\n")


def _lost(x: Exchange) -> Iterator[float]:
    yield from ()


def _stalled(x: Exchange) -> Iterator[float]:
    yield x.pause
    x.plainly()


def _repeated(x: Exchange) -> Iterator[float]:
    x.plainly()
    x.plainly()
    yield from ()


def _restarted(x: Exchange) -> Iterator[float]:
    x.carry_out("*RST")
    x.close(False)
    yield from ()


def _refused(x: Exchange) -> Iterator[float]:
    x.refuse(x.pause)
    x.close(True)
    yield from ()


def _swapped(x: Exchange) -> Iterator[float]:
    x.device.identity = f"Firnline,XX-1,SIMULATED-{x.message or 'other'},0"
    x.close(False)
    yield from ()


def _before(x: Exchange) -> Iterator[float]:
    x.carry_out(x.message)
    x.plainly()
    yield from ()


def _instead(x: Exchange) -> Iterator[float]:
    x.carry_out(x.message)
    yield from ()


def _behind(x: Exchange) -> Iterator[float]:
    x.plainly()
    x.carry_out(x.message)
    yield from ()


def _half_open(x: Exchange) -> Iterator[float]:
    yield Frozen(x.pause)


def _errors(x: Exchange) -> Iterator[float]:
    for _ in range(ERROR_QUEUE_LENGTH + 1):
        x.device.report(ScpiError(-222, "as it was told to"))
    x.plainly()
    yield from ()


def _different(reply: bytes) -> bytes:
    """Another number, by a tenth, or 0 for 1: the last that there is among several answers in one message."""
    answers = reply.split(b";")
    for place in reversed(range(len(answers))):
        first, comma, rest = answers[place].partition(b",")
        if _NUMBER.fullmatch(first):
            other = f"{1 - int(first)}" if first in (b"0", b"1") else f"{1.1 * float(first) + 0.001:+.7E}"
            answers[place] = other.encode() + comma + rest
            break
    return b";".join(answers) + b"\n"


WAYS: dict[str, tuple[str, Way]] = {  # how: what becomes of a message, in words and in deed
    "silent": ("it is carried out, and not answered", _answering(lambda reply: None)),
    "late": ("the reply comes after `pause`", _late),
    "slow": ("byte by byte, `pause` between them", _slow),
    "empty": ("a line with nothing in it", _answering(lambda reply: b"\n")),
    "blank": ("a line of spaces", _answering(lambda reply: b"   \n")),
    "garbage": ("characters that mean nothing", _answering(lambda reply: b"#!?_" + reply[:3] + b"\n")),
    "overload": ("9.9E37, as the standard writes infinity", _answering(lambda reply: b"+9.9E37\n")),
    "negative overload": ("-9.9E37", _answering(lambda reply: b"-9.9E37\n")),
    "nan": ("9.91E37, as the standard writes what is no number", _answering(lambda reply: b"9.91E37\n")),
    "nan word": ("NAN", _answering(lambda reply: b"NAN\n")),
    "inf word": ("INF", _answering(lambda reply: b"INF\n")),
    "word": ("ERROR", _answering(lambda reply: b"ERROR\n")),
    "huge": ("1e400", _answering(lambda reply: b"1e400\n")),
    "hexadecimal": ("0x10", _answering(lambda reply: b"0x10\n")),
    "underscore": ("1_0.5", _answering(lambda reply: b"1_0.5\n")),
    "exponent": ("E5", _answering(lambda reply: b"E5\n")),
    "signs": ("--5", _answering(lambda reply: b"--5\n")),
    "quoted": ("in quotes", _answering(lambda reply: b'"' + reply + b'"\n')),
    "comma": ("with a decimal comma", _answering(lambda reply: reply.replace(b".", b",") + b"\n")),
    "unit": ("with a unit behind it", _answering(lambda reply: reply + b" V\n")),
    "spaces": ("with spaces around it", _answering(lambda reply: b"  " + reply + b"  \n")),
    "null bytes": ("with null bytes before it", _answering(lambda reply: b"\0\0" + reply + b"\n")),
    "high bytes": ("bytes that are no text", _answering(lambda reply: bytes(range(128, 160)) + b"\n")),
    "carriage return": ("with a carriage return at its end", _answering(lambda reply: reply + b"\r\n")),
    "two values": ("one value more", _answering(lambda reply: reply + b",1\n")),
    "two lines": ("in two lines", _answering(lambda reply: reply + b"\n" + reply + b"\n")),
    "another": ("that of another query", _answering(lambda reply: b"1;0\n")),
    "no end": ("without its end", _answering(lambda reply: reply)),
    "long": ("70,000 digits", _answering(lambda reply: b"1" * 70_000 + b"\n")),
    "flood": ("20 MB without an end", _flood),
    "twice": ("once more after `pause`", _twice),
    "unasked": ("a line that nobody asked for before it", _unasked),
    "unasked behind": ("READY, `pause` after it", _unasked_behind),
    "cut": ("the first half; then the link is closed", _closing(sends=lambda line: line[: len(line) // 2])),
    "close": ("none: the link is closed", _closing(sends=lambda line: b"")),
    "close behind": ("as always; then the link is closed", _closing(sends=lambda line: line)),
    "reset behind": ("as always; then the link is reset", _closing(sends=lambda line: line, reset=True)),
    "lost": ("the message is lost", _lost),
    "drop": ("the message is lost, and the link closed", _closing(sends=lambda line: b"", is_done=False)),
    "reset": ("the message is lost, and the link reset", _closing(sends=lambda line: b"", is_done=False, reset=True)),
    "stalled": ("it is carried out after `pause`, and what follows behind it", _stalled),
    "repeated": ("it is carried out twice", _repeated),
    "restart": ("the message is lost, the instrument as after power-on, the link closed", _restarted),
    "refuse": ("the link is reset, and for `pause` no other can be opened", _refused),
    "swap": ("the link is closed, and another instrument answers from then on", _swapped),
    "before": ("`message` is carried out before it", _before),
    "instead": ("`message` is carried out in its place", _instead),
    "behind": ("`message` is carried out after it", _behind),
    "half-open": ("none, and for `pause` (for ever without one) nothing on this link is acknowledged", _half_open),
    "errors": ("as always, with its error queue full", _errors),
    "different": ("a number that is another one by a tenth, 0 for 1", _answering(_different)),
}  # fmt: skip
NEEDS_MESSAGE = ("before", "instead", "behind")
_PAUSES = {
    "late": 4.0,
    "half-open": inf,
    "refuse": 0.25,
    "stalled": 0.13,
    "slow": 0.002,
    "unasked behind": 0.03,
}  # s, unless one is given


class Troubles:
    """Those of one instrument, and how often each message came."""

    def __init__(self, troubles: Sequence[Trouble] = ()) -> None:
        self._troubles = troubles
        self._seen = [0] * len(troubles)
        self._random = random.Random(len(troubles))  # the same pauses each time
        self.done = 0  # how often something went wrong

    def at(self, message: str, *, is_question: bool) -> Trouble | None:
        """The trouble with a message, if there is one this time."""
        for i, trouble in enumerate(self._troubles):
            if _is_meant(trouble, message, is_question=is_question):
                self._seen[i] += 1
                if trouble.nth <= self._seen[i] < trouble.nth + trouble.times:
                    self.done += 1
                    return trouble
        return None

    def begin(
        self, message: str, device: ScpiDevice, send: Callable[[bytes], None], close: Callable[[bool], None],
        refuse: Callable[[float], None],
    ) -> Iterator[float] | None:  # fmt: skip
        """The trouble with a message, begun; None if there is none this time."""
        if not self._troubles:
            return None
        trouble = self.at(message, is_question=device.is_question(message))
        if trouble is not None and trouble.longest is not None:
            trouble = replace(trouble, pause=self._random.uniform(trouble.pause or 0.0, trouble.longest))
        return None if trouble is None else begun(trouble, message, device, send, close, refuse)


def _is_meant(trouble: Trouble, message: str, *, is_question: bool) -> bool:
    wanted = trouble.query if is_question else trouble.command
    if wanted == ANY:
        return not _COMMON.fullmatch(message)
    return bool(wanted) and wanted in message


def begun(
    trouble: Trouble, line: str, device: ScpiDevice, send: Callable[[bytes], None], close: Callable[[bool], None],
    refuse: Callable[[float], None],
) -> Iterator[float]:  # fmt: skip
    """A trouble with a line; each step is a pause in s."""
    pause = _PAUSES.get(trouble.how, 0.0) if trouble.pause is None else trouble.pause
    return WAYS[trouble.how][1](Exchange(line, device, pause, trouble.message, send, close, refuse))
