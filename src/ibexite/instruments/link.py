"""What a link is: messages to and from one instrument, with time-outs. There is one module for each kind; open_link.py
finds it by the address. Sessions, bench and guardian know no more of a link than stands here.

What always holds, of every kind (tests/test_link_contract.py):
- `send`, `receive` and `exchange` return within the time-out or raise LinkError; a reply that comes in pieces has one
  time-out more, for all its pieces together. While a reply is waited for, `heed` is called every TURN.
- After `reopen` nothing of an earlier exchange can arrive.
- Before a query and after each reply it is looked whether something waits that nobody asked for (StrayError).
- `is_waiting` is true from a query's sending until its reply was taken; until then no other query is sent, so that a
  late reply is never taken for the next (LinkError: it is to be reopened).
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from enum import Enum
from typing import Protocol

from ibexite.errors import LinkError
from ibexite.frozen import frozen
from ibexite.protocols.framing import Framer
from ibexite.untyped import Fields

TURN = 0.1  # s
Data = bytes | bytearray  # a long block is given as it was received, without a copy


class StrayError(LinkError):
    """Something was sent that nobody had asked for: which answer belongs to which question is in doubt."""


class Reply(Enum):
    """How a reply is framed."""

    LINE = "line"  # up to the terminator
    MESSAGE = "message"  # likewise, but its definite length blocks may hold anything
    BLOCK = "block"  # one such block; what is given is its content


@frozen
class Lines:
    """A reply of several lines: so many, or all up to one that says `last`, which is left out."""

    count: int
    last: bytes = b""

    def of(self, framer: Framer) -> bytes | None:
        """The next such reply, None when more bytes are needed."""
        return framer.next_lines(self.count, self.last)


@frozen
class LinkOptions:
    """How a link is used: its name in messages, the time-out in s of a reply, what ends replies and what ends commands.
    `heed` is called while a reply is waited for; what it raises ends the wait. `keys` are what the bench file says of
    the link, see ibexite.instruments.link_keys. `connecting` and `sending` are time-outs of their own, in s; 0: that of
    a reply."""

    name: str
    timeout: float
    terminator: bytes = b"\n"
    heed: Callable[[], None] = lambda: None
    command_end: bytes = b"\n"
    keys: Fields = {}  # never changed
    connecting: float = 0.0
    sending: float = 0.0
    greeting: bytes = b""  # with which that ends what it says by itself when it is connected; empty: it says nothing

    @property
    def to_connect(self) -> float:
        """How long it may take until the link is open, each of its steps, in s."""
        return self.connecting or self.timeout

    @property
    def to_send(self) -> float:
        """How long nothing may be taken of what is sent, in s."""
        return self.sending or self.timeout


@frozen
class Rescue:
    """What the guardian needs so that it can make an instrument safe when the run has died.

    `handle` is the system's number of the open connection, of which the guardian holds a copy: it sends on that at
    once, and an instrument that takes one client only can be reached. It is None for a link whose protocol numbers its
    messages (HiSLIP, VXI-11): nobody knows which number came last, so nothing is sent on a copy. There the connections
    of the dead run have been closed by the system, and with them its locks; the guardian opens a session of its own, as
    `plan` says, and begins with a device clear.
    """

    plan: Fields
    handle: int | None


def plan_of(address: str, options: LinkOptions) -> Fields:
    """How a link is opened anew by its address, as plain data; `options_of` reads it back."""
    return {
        "kind": "link", "address": address, "name": options.name, "timeout": options.timeout, "keys": options.keys,
        "end": options.command_end.decode("latin-1"), "terminator": options.terminator.decode("latin-1"),
        "connecting": options.connecting, "sending": options.sending, "greeting": options.greeting.decode("latin-1"),
    }  # fmt: skip


def options_of(plan: Fields) -> LinkOptions:
    """The options in a plan."""
    ends = plan["terminator"].encode("latin-1"), plan["end"].encode("latin-1")
    return LinkOptions(
        plan["name"], plan["timeout"], ends[0], command_end=ends[1], keys=plan["keys"], connecting=plan["connecting"],
        sending=plan["sending"], greeting=plan["greeting"].encode("latin-1"),
    )  # fmt: skip


class Link(Protocol):
    """A connection to an instrument."""

    address: str
    is_waiting: bool
    before_reopening: Callable[[], None]
    after_reopening: Callable[[], None]

    @property
    def timeout(self) -> float:
        """How long a reply may take, in s."""

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long; `timeout` says how long that is."""

    def open(self) -> None:
        """Connects. Raises LinkError: nothing answers there, refused, unreachable, too slow."""

    def reopen(self) -> None:
        """Closes and connects anew. Whoever holds a copy of the connection is told before and after."""

    def close(self) -> None:
        """Closes the connection."""

    def rescue(self) -> Rescue:
        """What the guardian needs."""

    def send(self, data: bytes) -> None:
        """Sends all of it. Raises LinkError: the connection broke, or nothing is taken for the time-out."""

    def ask(self, data: bytes) -> None:
        """Sends a query whose reply `receive` takes. Raises as `send`, and StrayError."""

    def receive(self, reply: Reply | Lines = Reply.LINE) -> Data:
        """The next reply. Raises LinkError: silent for the time-out, cut off, flooded, no block where one is expected;
        then it must be reopened."""

    def exchange(self, data: bytes, reply: Reply | Lines = Reply.LINE) -> Data:
        """Sends a query and receives its reply: `ask` and `receive` in one, for the loop over points."""

    def ask_known(self, data: bytes, wanted: bytes) -> Data:
        """The reply to a query whose answer is known, after the link was opened anew. Where replies of before may still
        come they are passed over until the wanted one is there; if it does not come within the time-out the last one is
        given. Raises as `exchange`."""

    def look(self, seconds: float = 0.0) -> None:
        """Raises StrayError if something waits, or comes within so many seconds, that nobody asked for; LinkError if
        the connection was closed."""

    def clear(self) -> None:
        """Device clear: the instrument gives up what it was at, and nothing of an earlier exchange can arrive. Where
        the protocol has none the link is opened anew. Raises LinkError."""

    def trigger(self) -> None:
        """Triggers it, as *TRG does. Raises LinkError."""

    def status_byte(self) -> int:
        """The status byte (IEEE 488.2, 11.2), by a serial poll where the protocol has one. Raises LinkError."""


@contextlib.contextmanager
def connecting(link: Link, options: LinkOptions) -> Iterator[None]:
    """Within it the link is being opened: its steps have the time-out of that."""
    usual = link.timeout
    link.allow(options.to_connect)
    try:
        yield
    finally:
        link.allow(usual)
