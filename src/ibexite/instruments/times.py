"""Times that a profile may say: how long is waited for an instrument."""

from __future__ import annotations

from typing import Any

from ibexite import units
from ibexite.frozen import frozen
from ibexite.toml_reader import TomlTable

TIMEOUT, REPEAT_PAUSE = 2.0, 0.02  # s, unless a profile says otherwise
SHORTEST, LONGEST, MOST_PAUSE = 1e-3, 3600.0, 10.0  # s


@frozen
class Waits:
    """Time-outs in s of what takes another time than a reply, and the pause before a query is repeated."""

    connecting: float  # until the link is open, each of its steps
    sending: float  # until something is taken of what is sent
    acting: float  # until an action is carried out
    starting: float  # until it is in its known state
    repeating: float  # before a bad reading is asked for again; twice as long each time


def waits_of(quirks: TomlTable) -> Waits:
    """The time-outs that stand in the quirks."""
    timeout = timeout_of(quirks, "timeout", TIMEOUT)
    connecting, sending = timeout_of(quirks, "connect_timeout", timeout), timeout_of(quirks, "send_timeout", timeout)
    acting, starting = timeout_of(quirks, "action_timeout", timeout), timeout_of(quirks, "start_timeout", timeout)
    pause = quirks.quantity("repeat_pause", units.SECOND, REPEAT_PAUSE)
    if not 0 <= pause <= MOST_PAUSE:
        quirks.note("repeat_pause", f"not between 0 s and {MOST_PAUSE:g} s", "It is doubled each time.")
    return Waits(connecting, sending, acting, starting, pause)


def timeout_of(table: TomlTable, key: str, default: float | None) -> Any:
    """A time-out in s."""
    seconds = table.quantity(key, units.SECOND, default)
    if seconds is not None and not SHORTEST <= seconds <= LONGEST:
        table.note(key, f"not between {SHORTEST * 1000:g} ms and {LONGEST:g} s", "So long is waited for an answer.")
    return seconds
