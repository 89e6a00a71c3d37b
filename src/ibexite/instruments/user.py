"""Whoever talks on sessions, and what those who share an instrument pass on to one another."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Mapping
from typing import Any, Protocol

What = tuple[str, str, str | bytes | bytearray]
"""What was said: instrument; ">" to it, "<" by it, "!" about its link; the bytes, each as one character (Latin-1), of
long replies as they are. Between them stands, without an instrument, what the clock of the run said."""
CLOCK_SAID: What = ("", "@", "")
MUCH = 2_000  # that was said and is not told yet


class Used(Protocol):
    """A session, as its users know it."""

    users: list[User]


class User:
    """Whoever talks on sessions: what was said, what time it is, whether to go on. With what others that use
    the same instruments pass on."""

    def __init__(
        self,
        *,
        now: Callable[[], float] = time.monotonic,
        heed: Callable[[], None] = lambda: None,
        wait: Callable[[float], None] = time.sleep,
        after_recovery: Callable[[Any], None] = lambda session: None,
    ) -> None:
        """`now` tells the time in s, and `wait` waits in it; `stamp` tells it for what is said. `heed` is called while
        an instrument is waited for; what it raises ends the wait.
        `after_recovery` asks back the state of an instrument whose link was opened anew."""
        self.now = self.stamp = now
        self.heed, self.wait, self.after_recovery = heed, wait, after_recovery
        self.said: list[What] = []
        self.said_at: list[float] = []
        self.doubts: dict[str, str] = {}  # by instrument: why answers since the last proof may belong to others
        self._errors: list[str] = []
        self._limiting: set[str] = set()

    def tell(self, instrument: str, direction: str, text: str | bytes | bytearray) -> None:
        """Something was said just now."""
        self.said.append((instrument, direction, text))
        self.said_at.append(self.stamp())

    def tell_time(self, seconds: float) -> None:
        """The clock of the run said so, between what was said before and what is said next."""
        self.said.append(CLOCK_SAID)
        self.said_at.append(seconds)

    @property
    def has_messages(self) -> bool:
        """Something was said since last asked, other than by the clock."""
        return any(what is not CLOCK_SAID for what in self.said)

    def take_said(self) -> tuple[list[What], list[float]]:
        """What was said since last asked, and when."""
        taken, self.said, self.said_at = (self.said, self.said_at), [], []
        return taken

    def pass_on(
        self, sessions: Mapping[str, Used], *, errors: dict[str, list[str]] | None = None,
        limiting: Iterable[str] = (),
    ) -> None:  # fmt: skip
        """Tells the other users of some sessions what was read from them and is cleared by that."""
        for name, session in sessions.items():
            for other in session.users:
                if other is not self:
                    other._errors += (errors or {}).get(name, [])
                    other._limiting |= {name} & set(limiting)

    def take_errors(self) -> list[str]:
        """Errors that others have read."""
        taken, self._errors = self._errors, []
        return taken

    @property
    def is_told_of_limiting(self) -> bool:
        """Others have read that an instrument limited."""
        return bool(self._limiting)

    def take_limiting(self) -> set[str]:
        """Instruments of which others have read that they limited."""
        taken, self._limiting = self._limiting, set()
        return taken
