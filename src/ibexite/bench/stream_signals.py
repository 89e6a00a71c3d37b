"""Which signals are streamed by an instrument, and which are polled. No NumPy: it is asked when things are vetted."""

from __future__ import annotations

from collections.abc import Sequence

from ibexite.bench.file import BenchFile
from ibexite.errors import SequenceError


def stream_role(file: BenchFile, signals: Sequence[str]) -> str:
    """The role that streams these signals side by side; "" where they are read one by one, and so are polled.

    Raises:
        SequenceError: some are streamed and others are not, or by several instruments; or an instrument records them
            without streaming.
    """
    entries = [file.signals[name] for name in signals]
    streamed = [one for one in entries if one.is_record]
    if not streamed:
        return ""
    others = [one.name for one in entries if not one.is_record]
    if others:
        raise SequenceError(
            f"{streamed[0].name} is streamed, {others[0]} is polled",
            remedy="Record them in two blocks, one within the other: each has its own times.",
        )
    instruments = list(dict.fromkeys(file.roles[one.role].instrument for one in streamed))
    if len(instruments) > 1:
        raise SequenceError(
            f"{' and '.join(instruments)} have a clock each",
            remedy="Record the signals of each in a block of its own, one within the other.",
        )
    profile = file.instruments[instruments[0]].profile
    if profile.stream is None:
        raise SequenceError(
            f"{instruments[0]} gives no samples while it takes them",
            remedy=f"Profile {profile.name} has no table [stream]. Capture them while something is played.",
        )
    return streamed[0].role
