"""When the error queue of an instrument is read, as its profile says: after each setting, after each line of a
sequence, once a test, or never. After a setting or a line it is known what caused an entry: the error says so."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any

from ibexite.errors import InstrumentError
from ibexite.instruments.session import Session

AT_ONCE = ("setting", "line")


def look_for_errors(session: Session, after: str) -> None:
    """Reads the queue to its end.

    Args:
        after: what was said before, for the message.

    Raises:
        InstrumentError: there is something in it; all of it is told.
    """
    entries = session.errors_after(session.query(session.profile.errors.query, may_repeat=False))
    if entries:
        raise InstrumentError(
            f"{session.name} reports {', '.join(entries)} after {after!r}",
            remedy=f"Is it a command that it knows, and within its range? See profile {session.profile.name}.",
        )  # fmt: skip


def are_read(session: Session, *when: str) -> bool:
    """Whether its queue is read then."""
    errors = session.profile.errors
    return bool(errors.query) and errors.read in when


def looking(deed: Callable[..., Any], sessions: Iterable[Session], after: str) -> Callable[..., Any]:
    """A deed that carries out a line, and looks for errors of those of its instruments of which they are read at each
    line; the deed itself where there are none."""
    read = [session for session in dict.fromkeys(sessions) if are_read(session, *AT_ONCE)]
    if not read:
        return deed

    def deed_and_look(*given: Any) -> Any:
        result = deed(*given)
        for session in read:
            look_for_errors(session, after)
        return result

    return deed_and_look
