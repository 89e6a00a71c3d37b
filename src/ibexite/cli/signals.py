"""Signals during a run: the first one ends it in an orderly way, later ones wait until the bench is safe."""

from __future__ import annotations

import os
import select
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from ibexite.errors import StopRun

_NAMES = {"SIGINT": "Ctrl-C", "SIGTERM": "a request to terminate", "SIGHUP": "the terminal was closed"}


def _handled() -> list[signal.Signals]:
    """The signals that end a run. One that was ignored when the program was started (nohup, a shell that put it into
    the background) stays ignored: a soak must not die when somebody logs out."""
    found = [getattr(signal, name) for name in _NAMES if hasattr(signal, name)]
    return [number for number in found if signal.getsignal(number) is not signal.SIG_IGN]


@contextmanager
def stopping_signals() -> Iterator[None]:
    """Within it, a signal raises StopRun where the run is at that moment."""

    def stop(number: int, _: FrameType | None) -> None:
        hold_off_signals()
        raise StopRun(f"stopped by {_NAMES[signal.Signals(number).name]}")

    before = {number: signal.signal(number, stop) for number in _handled()}
    try:
        yield
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def hold_off_signals() -> None:
    """From now on a signal is only answered with a line."""

    def say(number: int, _: FrameType | None) -> None:
        # By hand, and only where nobody has to be waited for: a reader who has gone must not disturb the clean-up.
        try:
            if select.select([], [2], [], 0)[1]:
                os.write(2, b"making the bench safe; please wait\n")
        except (OSError, ValueError):
            pass

    for number in _handled():
        signal.signal(number, say)
