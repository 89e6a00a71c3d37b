"""Signals during a run: the first one ends it in an orderly way, later ones wait until the bench is safe."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

import click

from ibexite.errors import StopRun

_NAMES = {"SIGINT": "Ctrl-C", "SIGTERM": "a request to terminate", "SIGHUP": "the terminal was closed"}


def _handled() -> list[signal.Signals]:
    return [getattr(signal, name) for name in _NAMES if hasattr(signal, name)]


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
        click.echo("making the bench safe; please wait", err=True)

    for number in _handled():
        signal.signal(number, say)
