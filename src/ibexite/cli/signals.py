"""Signals during a command that runs units. The first one ends the run in an orderly way; later ones wait until the
bench is safe and the run is recorded; from then on a signal ends the program at once, with the exit code that is due.
So the exit code is that of the verdict at whatever moment the signal comes."""

from __future__ import annotations

import contextlib
import os
import select
import signal
import sys
import threading
from collections.abc import Callable
from types import FrameType

from ibexite.errors import StopRun

_NAMES = {"SIGINT": "Ctrl-C", "SIGTERM": "a request to terminate", "SIGHUP": "the terminal was closed"}


MOMENT = 0.002  # s
MOST_DELAYS = 50  # a view that is not read, or a disk that hangs, does not keep anybody from ending the run


class Signals:
    """What a signal does now. Handlers are put in place by the first call and stay until the program ends.

    One that was ignored when the program was started (nohup, a shell that put it into the background) stays ignored: a
    soak must not die when somebody logs out.
    """

    def __init__(self) -> None:
        found = [getattr(signal, name) for name in _NAMES if hasattr(signal, name)]
        self._handled = [number for number in found if signal.getsignal(number) is not signal.SIG_IGN]
        self.was_held_off = False  # somebody wanted the program to end

    def stop_the_run(self) -> None:
        """From now on a signal raises StopRun where the run is at that moment; while it records what was measured, a
        moment later."""
        left = MOST_DELAYS

        def stop(number: int, frame: FrameType | None) -> None:
            nonlocal left
            if left and _is_recording(frame):
                left -= 1
                threading.Timer(MOMENT, _once_more, [number]).start()
                return
            self.hold_off()
            raise StopRun(f"stopped by {_NAMES[signal.Signals(number).name]}")

        self._handle(stop)

    def hold_off(self) -> None:
        """From now on a signal is only answered with a line, and remembered."""

        def say(number: int, _: FrameType | None) -> None:
            self.was_held_off = True
            _tell(b"making the bench safe; please wait\n")

        self._handle(say)

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


def _once_more(number: int) -> None:
    if hasattr(signal, "pthread_kill"):  # it must reach the thread that may be waiting for an instrument
        signal.pthread_kill(threading.main_thread().ident or 0, number)
    else:
        signal.raise_signal(number)


def _is_recording(frame: FrameType | None) -> bool:
    """Whether an event is on its way into the journal: an exception there would lose it."""
    recording = getattr(sys.modules.get("ibexite.engine.run"), "RECORDING", ())
    while frame is not None:
        if frame.f_code in recording:
            return True
        frame = frame.f_back
    return False


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
