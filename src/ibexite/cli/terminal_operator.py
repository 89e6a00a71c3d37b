"""The operator at the terminal."""

from __future__ import annotations

import getpass

import click


class TerminalOperator:
    """Asks in the terminal."""

    trial_reason = ""

    def __init__(self, name: str) -> None:
        self.name = name

    def confirm(self, text: str) -> str:
        """Waits for Enter."""
        click.echo(f"\n  {text}")
        click.prompt("  Press Enter when it is done", default="", show_default=False, prompt_suffix="")
        return "confirmed"

    def show(self, text: str) -> None:
        """The view shows it."""


def login_name() -> str:
    """The name of whoever is logged in, "" if the system does not know."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""
