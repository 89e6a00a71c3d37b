"""The errors of one link in words, the same on every kind."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from ibexite.errors import LinkError
from ibexite.instruments.link import StrayError

_WEB = "A web server answers there: that is not the port of the instrument's remote interface."
_OTHERS = {  # how what speaks another language begins, and what to do about it
    b"http/": _WEB,
    b"<!doctype": _WEB,
    b"<html": _WEB,
    b"hs": 'It speaks HiSLIP: write "TCPIP::192.0.2.10::hislip0::INSTR", a port behind a comma if not 4880.',
    b"ssh-": "A login service answers there: that is not the port of the instrument's remote interface.",
}
STRAY = "sent what nobody had asked for"
_BUSY = "Does it know the command? Is it busy?"


def hint_of(data: bytes) -> str:
    """What to do about a peer that speaks something else, from how it begins; "" if that says nothing."""
    low = data[:12].lower()
    return next((remedy for begin, remedy in _OTHERS.items() if low.startswith(begin)), "")


class Failures:
    """Makes the errors of a link; `timeout` in s. `when_silent` is what to do when nothing comes back."""

    def __init__(self, name: str, address: str, timeout: float) -> None:
        self.where, self.timeout = f"{name} at {address}", timeout
        self.when_silent = _BUSY

    @contextlib.contextmanager
    def opening(self, protocol: str) -> Iterator[None]:
        """Within it the link is being opened: whoever is silent may not speak this protocol at all."""
        self.when_silent = f"Does it speak {protocol}, and at this port?"
        try:
            yield
        finally:
            self.when_silent = _BUSY

    def error(self, what: str, remedy: str = "") -> LinkError:
        """Something went wrong."""
        return LinkError(what, where=self.where, remedy=remedy)

    def stray(self, data: bytes, before: bytes = b"") -> StrayError:
        """Something came that nobody had asked for; `before` is what had come before it."""
        return StrayError(
            f"{STRAY}: {data[:60]!r}",
            where=self.where,
            remedy=hint_of(before or data)
            or "Does anybody else talk to it? Does one of its settings make it talk by itself?",
        )

    def outstanding(self) -> LinkError:
        """A query while the answer to the one before has not been taken."""
        return self.error("the answer to another query may still be on its way")

    def unreachable(self, error: OSError, seconds: float) -> LinkError:
        """No connection could be made, within so many seconds."""
        if isinstance(error, ConnectionRefusedError):
            what, remedy = (
                "nothing listens there (connection refused)",
                "Is the instrument switched on, and is its LAN interface enabled?",
            )
        elif isinstance(error, TimeoutError):
            what, remedy = (
                f"no answer to the connection within {seconds:g} s",
                "Check cable, address and network.",
            )
        else:
            what, remedy = f"cannot connect ({error.strerror or error})", "Check the address in the bench file."
        return self.error(what, remedy)

    def broken(self, error: OSError, begun: bytes = b"") -> LinkError:
        """What the system said while sending or receiving; `begun` had come of a reply by then."""
        if not isinstance(error, TimeoutError | BlockingIOError):
            return self.error(f"the connection broke ({error.strerror or error})")
        after = f" in the middle of a reply: {begun[:60]!r}" if begun else ""
        remedy = hint_of(begun) or self.when_silent
        return self.error(f"silent for {self.timeout:g} s{after}", remedy)

    def ended(self, begun: bytes = b"", why: str = "") -> LinkError:
        """The other side has closed the connection; `begun` had come of a reply by then, `why` it is known why."""
        because = f" ({why})" if why else ""
        if not begun:
            return self.error(f"closed the connection instead of answering{because}")
        return self.error(f"cut off in the middle of a reply: {begun[:60]!r}{because}", hint_of(begun))

    def endless(self) -> LinkError:
        """A reply of more bytes than are taken."""
        return self.error("a reply without end")

    def no_block(self, error: ValueError) -> LinkError:
        """What came is no block."""
        return self.error(f"answered {error}", "Does its profile say how it answers?")
