"""The operator at the terminal."""

from __future__ import annotations

import getpass
import math
import os
import re
import select
import sys
from collections.abc import Callable
from typing import Any

import click

from ibexite import units
from ibexite.engine.services import Live, Question
from ibexite.errors import NoAnswerError, UnitError
from ibexite.stop import Stop
from ibexite.untyped import Measured

TURN = 0.1  # s; how long a line is waited for until it is looked whether the run is to end
LIVE_INTERVAL = 0.3  # s between two looks at a value that is being adjusted
BUTTON_INTERVAL = 0.1  # s between two looks at a button


class TerminalOperator:
    """Asks in the terminal, and asks again until the answer fits."""

    trial_reason = ""

    def __init__(self, name: str, stop: Stop) -> None:
        self.name, self._stop = name, stop

    def ask(self, question: Question) -> Measured:
        """The answer, checked."""
        click.echo(f"\n  {question.text}")
        if question.picture:
            click.echo(f"  picture: {question.picture}")
        for number, choice in enumerate(question.choices, 1):
            click.echo(f"  {number}  {choice}")
        while True:
            click.echo(f"  {_prompt(question)} ", nl=False)
            line = read_line(self._stop)
            if not line:
                raise NoAnswerError(
                    "the terminal was closed at a question", remedy="Run it in a terminal that stays open."
                )
            answer, problem = parse_answer(question, line.decode("utf-8", "replace").strip())
            if not problem:
                return answer
            click.echo(f"  {problem}")

    def press(self, question: Question, pressed: Callable[[], bool]) -> Measured:
        """Enter, or the button of the bench."""
        click.echo(f"\n  {question.text}")
        if question.picture:
            click.echo(f"  picture: {question.picture}")
        click.echo("  Press the button of the bench, or Enter ", nl=False)
        while not pressed():
            self._stop.check()
            if not _has_line(BUTTON_INTERVAL):
                continue
            if not read_line(self._stop):
                raise NoAnswerError("the terminal was closed at a question")
            return "confirmed"
        click.echo()
        return "pressed"

    def adjust(self, question: Question, live: Live) -> str:
        """Shows the live value until Enter is pressed while it lies within its limits."""
        click.echo(f"\n  {question.text}\n  Press Enter when it is adjusted.")
        said = ""
        while True:
            said, is_inside = live()
            mark = "within its limits" if is_inside else "not yet"
            click.echo(f"\r  {said:<16} {mark:<20}", nl=False)
            self._stop.check()
            if _has_line(LIVE_INTERVAL):
                if not read_line(self._stop):
                    raise NoAnswerError("the terminal was closed at a question")
                if is_inside:
                    click.echo()
                    return said
                click.echo("  It is not within its limits yet.")

    def show(self, text: str) -> None:
        """The view shows it."""

    def tone(self, kind: str) -> None:
        """The bell of the terminal, once for good, twice for bad."""
        click.echo("\a" * (1 if kind == "good" else 2), nl=False, err=True)


def _prompt(question: Question) -> str:
    unit = f" in {question.unit.symbol}" if question.unit is not None else ""
    return {
        "confirm": "Press Enter when it is done", "button": "Press Enter", "yes_no": "yes or no?",
        "choice": "which number?", "text": "text:", "number": f"number{unit}:",
    }[question.kind]  # fmt: skip


def parse_answer(question: Question, text: str) -> tuple[Any, str]:
    """The value of an answer, and what is wrong with it ("" if nothing)."""
    if question.kind in ("confirm", "button"):
        return "confirmed", ""
    if question.kind == "yes_no":
        known = {"yes": True, "y": True, "no": False, "n": False}
        return known.get(text.lower(), False), "" if text.lower() in known else "Answer yes or no."
    if question.kind == "choice":
        if text.isdigit() and 0 < int(text) <= len(question.choices):
            return question.choices[int(text) - 1], ""
        return text, "" if text in question.choices else f"Answer a number from 1 to {len(question.choices)}."
    if question.kind == "text":
        fits = bool(text) and (not question.pattern or re.fullmatch(question.pattern, text) is not None)
        return (
            text,
            "" if fits else f"It must match {question.pattern}." if question.pattern else "It must not be empty.",
        )
    return _number(question, text)


def _number(question: Question, text: str) -> tuple[float, str]:
    unit = question.unit or units.NO_UNIT
    try:
        quantity = units.parse_quantity(text)
        if not quantity.unit.symbol and unit.symbol:
            quantity = units.parse_quantity(f"{text} {unit.symbol}")
    except UnitError as error:
        return math.nan, f"{error.what}. {error.remedy}"
    if quantity.dimension != unit.dimension:
        return math.nan, f"That is {units.describe(quantity.dimension)}; it takes {units.describe(unit.dimension)}."
    low, high = question.bounds
    value = float(quantity)
    if not low <= value <= high:
        ends = [units.format_value(end, unit.dimension, shown=unit.symbol or None) for end in (low, high)]
        return value, f"It must lie between {ends[0]} and {ends[1]}."
    return value, ""


_ahead = bytearray()  # read from standard input and not used yet; several lines may come at once


def _has_line(seconds: float) -> bool:
    """Whether a line is there within so many seconds."""
    if b"\n" in _ahead:
        return True
    if sys.platform == "win32":
        import msvcrt
        import time

        time.sleep(seconds)
        return bool(msvcrt.kbhit())
    return bool(select.select([sys.stdin], [], [], seconds)[0])


def read_line(stop: Stop) -> bytes:
    """A line from standard input, b"" when it was closed. Waits in short turns: the run may be stopped meanwhile.

    Raises:
        StopRun: it was.
    """
    if sys.platform == "win32":
        return sys.stdin.readline().encode()
    while b"\n" not in _ahead:
        stop.check()
        if _has_line(TURN):
            data = os.read(sys.stdin.fileno(), 4096)
            _ahead.extend(data)
            if not data:
                break
    line, end, rest = bytes(_ahead).partition(b"\n")
    _ahead[:] = rest
    return line + end


def login_name() -> str:
    """The name of whoever is logged in, "" if the system does not know."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""
