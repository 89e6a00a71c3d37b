"""How a reading is taken."""

from __future__ import annotations

import math
from collections.abc import Mapping

from ibexite import units
from ibexite.classes import Argument, Feature
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.accuracy import Accuracy
from ibexite.instruments.answers import CurveCommands
from ibexite.instruments.link import Lines
from ibexite.protocols.layout import Layout
from ibexite.protocols.speech import Speech
from ibexite.units import Unit

Given = float | str
"""What a reading is told: a number in base units, 1.0 or 0.0 for on and off, or the word of a choice."""


def argument_from(argument: Argument, text: str, where: str) -> Given:
    """The value of an argument from a text: "10 V", on, off, or one of its choices. Raises MistakeError."""
    if argument.choices:
        if text not in argument.choices:
            raise MistakeError(f"there is no choice {text!r}", where=where, remedy=did_you_mean(text, argument.choices))
        return text
    if argument.dimension is None:
        if text not in ("on", "off"):
            raise MistakeError(f"{text!r} is neither on nor off", where=where)
        return float(text == "on")
    try:
        quantity = units.parse_quantity(text)
    except UnitError as error:
        raise MistakeError(error.what, where=where, remedy=error.remedy) from None
    if quantity.dimension != argument.dimension:
        raise MistakeError(
            f"{text} is {units.describe(quantity.dimension)}", where=where,
            remedy=f"It is {units.describe(argument.dimension)}.",
        )  # fmt: skip
    return float(quantity)


@frozen
class ArgumentText:
    """How an argument of a reading is written into its commands."""

    argument: Argument
    unit: Unit
    default: str | None  # its text where nothing is given
    is_optional: bool  # where it is not given, the command that names it is left out
    words: Mapping[str, str]  # of on and off, of choices
    speech: Speech = Speech()

    @property
    def is_needed(self) -> bool:
        """Whether it must be given."""
        return self.default is None and not self.is_optional

    def written(self, value: Given) -> str:
        """A value as text. Raises MistakeError: as its numbers are written it would be another one."""
        if isinstance(value, str):
            return self.words.get(value, value.upper())
        if self.argument.unit == "on_off":
            word = "on" if value else "off"
            return self.words.get(word) or self.speech.switch_written(bool(value))
        number = self.unit.from_base(value)
        text = self.speech.written(number)
        if not math.isclose(self.speech.read_back(text), number, rel_tol=1e-9, abs_tol=1e-15):
            raise MistakeError(
                f"{number:.9g} cannot be written as {self.speech.number}", where="an argument of a reading",
                remedy="Say in the profile how it is written, or give another value.",
            )  # fmt: skip
        return text


@frozen
class ReadingCommands:
    """How a reading is taken. With `select` the instrument is a scanner: one query reads several channels. `curve` says
    how a whole curve is answered; None for one value."""

    feature: Feature
    query: str
    configure: tuple[str, ...]  # each is left out where it names an optional argument that was not given
    select: str
    arguments: dict[str, ArgumentText]
    unit: Unit  # in which the instrument answers
    curve: CurveCommands | None = None
    timeout: float | None = None  # s, of its replies; None: that of the instrument
    may_repeat: bool = True  # asked twice it means the same
    speech: Speech = Speech()
    layout: Layout | None = None  # of what has several parts
    lines: Lines | None = None  # where a reply has several
    accuracy: Accuracy | None = None

    def needed(self) -> list[str]:
        """The arguments that must be given: those that its query names, and has no text for otherwise."""
        return [
            name
            for name, text in self.arguments.items()
            if text.is_needed and f"{{{name}}}" in self.query + self.select
        ]

    def commands(self, given: Mapping[str, Given], channel: int) -> list[str]:
        """What sets it up, with everything filled in."""
        made = (self.filled(text, given, channel) for text in self.configure)
        return [text for text in made if text is not None]

    def filled(self, text: str, given: Mapping[str, Given], channel: int) -> str | None:
        """A command or query with everything filled in; None if it names an argument for which there is nothing."""
        for name, written in self.arguments.items():
            place = f"{{{name}}}"
            if place in text:
                value = given.get(name)
                if value is None and written.default is None:
                    return None
                text = text.replace(place, written.default or "" if value is None else written.written(value))
        return self.speech.at(text, channel)
