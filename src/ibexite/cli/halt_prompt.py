"""The prompt at a halt (`run --step`, `run --break`)."""

from __future__ import annotations

from collections.abc import Callable

import click

from ibexite.cli.terminal_operator import read_line
from ibexite.engine.services import Halt
from ibexite.errors import MistakeError, StopRun
from ibexite.language.program import Program
from ibexite.stop import Stop
from ibexite.untyped import Fields

HELP = "next (n, Enter) · continue (c) · again (a): the line before once more · values (v) · stop (s) · or a formula"


class HaltPrompt:
    """Shows where the run stands and the values so far; asks what to do."""

    def __init__(self, program: Program, stop: Stop) -> None:
        self._program, self._stop = program, stop

    def __call__(self, halt: Halt, evaluate: Callable[[str], str]) -> str:
        """next, continue, again or stop."""
        place = f"{halt.file}:{halt.line}  " if halt.line else ""
        click.echo(click.style(f"  {place}{halt.text}", bold=True))
        while True:
            click.echo("  halt> ", nl=False)
            line = read_line(self._stop)
            if not line:
                raise StopRun("the terminal was closed at a halt")
            text = line.decode("utf-8", "replace").strip() or "next"
            word = {"n": "next", "c": "continue", "a": "again", "s": "stop", "v": "values"}.get(text, text)
            if word in ("next", "continue", "stop") or (word == "again" and halt.is_after):
                return word
            if word == "again":
                click.echo("  The line before cannot be run again; only set, read and let can.")
            elif word == "values":
                self._values(halt.values)
            elif word in ("help", "?"):
                click.echo(f"  {HELP}")
            else:
                try:
                    click.echo(f"  {evaluate(text)}")
                except MistakeError as error:
                    click.echo(f"  {error.what.rstrip('. ')}. {error.remedy}".rstrip() + f"\n  {HELP}")

    def _values(self, values: Fields) -> None:
        bindings = {name: b for names in self._program.names.values() for name, b in names.items()}
        for name, value in sorted(values.items()):
            if name in bindings and isinstance(value, float | int | str | bool):
                kind = bindings[name].type
                text = kind.said(value, 5) if value == value else "-"
                click.echo(f"  {name} = {text}")
            elif hasattr(value, "axes"):
                click.echo(f"  {name}: a curve over {', '.join(value.axes)}")
