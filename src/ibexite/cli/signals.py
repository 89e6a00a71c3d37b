"""Signals during a command that runs units. The first one asks the run to end (ibexite.stop); later ones wait until the
bench is safe and the run is recorded; from then on a signal ends the program at once, with the exit code that is due.
So the exit code is that of the verdict at whatever moment the signal comes."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import sys
from collections.abc import Callable
from types import FrameType

from ibexite.cli.lasting import LastingStream
from ibexite.stop import Stop

_NAMES = {"SIGINT": "Ctrl-C", "SIGTERM": "a request to terminate", "SIGHUP": "the terminal was closed"}


class Signals:
    """What a signal does now. Handlers are put in place by the first call and stay until the program ends.

    One that was ignored when the program was started (nohup, a shell that put it into the background) stays ignored: a
    soak must not die when somebody logs out.
    """

    def __init__(self) -> None:
        found = [getattr(signal, name) for name in _NAMES if hasattr(signal, name)]
        self._handled = [number for number in found if signal.getsignal(number) is not signal.SIG_IGN]
        self.was_held_off = False  # somebody wanted the program to end

    def stop_the_run(self, stop: Stop) -> None:
        """From now on a signal asks a run to end; once that is being made safe, it is only answered with a line, and
        remembered."""

        def ask(number: int, _: FrameType | None) -> None:
            LastingStream.waits_for_readers = False
            if not stop.request(f"stopped by {_NAMES[signal.Signals(number).name]}"):
                self.was_held_off = True
                _tell(b"making the bench safe; please wait\n")

        self._handle(ask)

    def end_with(self, code: int) -> None:
        """From now on a signal ends the program with this exit code: what is left to do does not change it."""

        def end(number: int, _: FrameType | None) -> None:
            with contextlib.suppress(Exception):
                sys.stdout.flush()
            _tell(b"interrupted; what was run is recorded\n")
            os._exit(code)

        self._handle(end)

    def _handle(self, handler: Callable[[int, FrameType | None], None]) -> None:
        for number in self._handled:
            signal.signal(number, handler)


def ignore_signals() -> None:
    """For the last moment of a program whose exit code stands."""
    for name in _NAMES:
        if hasattr(signal, name):
            signal.signal(getattr(signal, name), signal.SIG_IGN)


def _tell(line: bytes) -> None:
    """By hand, and only where nobody has to be waited for: a reader who has gone must not disturb the clean-up."""
    try:
        if select.select([], [2], [], 0)[1]:
            os.write(2, line)
    except (OSError, ValueError):
        pass
