"""The operator at the terminal."""

from __future__ import annotations

import getpass
import os
import select
import sys

import click

from ibexite.errors import SequenceError


class TerminalOperator:
    """Asks in the terminal."""

    trial_reason = ""

    def __init__(self, name: str) -> None:
        self.name = name

    def confirm(self, text: str) -> str:
        """Waits for Enter."""
        click.echo(f"\n  {text}\n  Press Enter when it is done ", nl=False)
        if not _read_line():
            raise SequenceError("the terminal was closed at a question", remedy="Run it in a terminal that stays open.")
        return "confirmed"

    def show(self, text: str) -> None:
        """The view shows it."""


def _read_line() -> bytes:
    """A line from the terminal, b"" when it was closed.

    Waits in short turns: a signal that comes in the moment before a blocking read would be heard only after it.
    """
    if sys.platform == "win32":
        return sys.stdin.readline().encode()
    while not select.select([sys.stdin], [], [], 0.2)[0]:
        pass
    return os.read(sys.stdin.fileno(), 4096)


def login_name() -> str:
    """The name of whoever is logged in, "" if the system does not know."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""
