"""The operator at the terminal."""

from __future__ import annotations

import getpass
import math
import os
import re
import select
import sys
from typing import Any

import click

from ibexite import units
from ibexite.engine.services import Live, Question
from ibexite.errors import NoAnswerError, UnitError

LIVE_INTERVAL = 0.3  # s between two looks at a value that is being adjusted


class TerminalOperator:
    """Asks in the terminal, and asks again until the answer fits."""

    trial_reason = ""

    def __init__(self, name: str) -> None:
        self.name = name

    def ask(self, question: Question) -> Any:
        """The answer, checked."""
        click.echo(f"\n  {question.text}")
        if question.picture:
            click.echo(f"  picture: {question.picture}")
        for number, choice in enumerate(question.choices, 1):
            click.echo(f"  {number}  {choice}")
        while True:
            click.echo(f"  {_prompt(question)} ", nl=False)
            line = _read_line()
            if not line:
                raise NoAnswerError(
                    "the terminal was closed at a question", remedy="Run it in a terminal that stays open."
                )
            answer, problem = parse_answer(question, line.decode("utf-8", "replace").strip())
            if not problem:
                return answer
            click.echo(f"  {problem}")

    def adjust(self, question: Question, live: Live) -> str:
        """Shows the live value until Enter is pressed while it lies within its limits."""
        click.echo(f"\n  {question.text}\n  Press Enter when it is adjusted.")
        said = ""
        while True:
            said, is_inside = live()
            mark = "within its limits" if is_inside else "not yet"
            click.echo(f"\r  {said:<16} {mark:<20}", nl=False)
            if _has_line(LIVE_INTERVAL):
                if not _read_line():
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


def _has_line(seconds: float) -> bool:
    """Whether a line is there within so many seconds."""
    if sys.platform == "win32":
        import msvcrt
        import time

        time.sleep(seconds)
        return bool(msvcrt.kbhit())
    return bool(select.select([sys.stdin], [], [], seconds)[0])


def _read_line() -> bytes:
    """A line from the terminal, b"" when it was closed.

    Waits in short turns: a signal that comes in the moment before a blocking read would be heard only after it.
    """
    if sys.platform == "win32":
        return sys.stdin.readline().encode()
    while not _has_line(0.2):
        pass
    return os.read(sys.stdin.fileno(), 4096)


def login_name() -> str:
    """The name of whoever is logged in, "" if the system does not know."""
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return ""
