"""How a setting is written and asked back."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from decimal import Decimal
from math import inf

from ibexite import units
from ibexite.classes import Feature
from ibexite.frozen import frozen
from ibexite.protocols.scpi import INFINITY
from ibexite.protocols.speech import Speech
from ibexite.units import Unit

Value = float | str
"""A number in base units, 1.0 or 0.0 for on and off, or the word of a choice."""


@frozen
class When:
    """A range that holds while another setting lies within an extent, or is one of some words."""

    other: str
    extent: tuple[float, float] | None
    words: tuple[str, ...]
    low: float
    high: float

    def holds(self, value: Value) -> bool:
        """Whether it holds for a value of the other setting."""
        if isinstance(value, str):
            return value in self.words
        return self.extent is not None and self.extent[0] <= value <= self.extent[1]


@frozen
class SettingCommands:
    """How a setting is written and asked back; `{value}` and `{channel}` are filled in."""

    feature: Feature
    write: str
    ask: str  # "" where it cannot be asked
    extent: tuple[float, float] | None  # what the instrument takes, in base units
    unit: Unit  # in which the instrument speaks
    speech: Speech = Speech()
    resolution: float = 0.0  # of what it answers, in base units
    told: bool = True  # False: nobody may compare what it answers with what was set
    after: tuple[str, ...] = ()  # settings that are sent before it, where both stand in one line
    ranges: tuple[When, ...] = ()  # by another setting; the first that holds

    @property
    def is_switch(self) -> bool:
        """True for what is on or off."""
        return self.feature.is_switch

    @property
    def is_number(self) -> bool:
        """True for a quantity."""
        return self.feature.dimension is not None

    @property
    def can_be_asked(self) -> bool:
        """Whether it can be asked back, and the answer means something."""
        return bool(self.ask) and self.told

    @property
    def is_rounded(self) -> bool:
        """True if it is sent with fewer digits than a number may have."""
        return self.is_number and not self.speech.is_exact

    def sent(self, value: float) -> float:
        """The value that reaches the instrument, in base units: rounded as it is sent, in its own unit. One that cannot
        be written so is given back as it is: the encoder will say so."""
        try:
            written = self.speech.written(self.unit.from_base(value))
            number = self.speech.number_in(self._bare(written), self.unit)
            return float(self.unit.to_base(Decimal(repr(number))))  # so that 700 mN are 0.7 N, and no digit more
        except ValueError:
            return value

    def _bare(self, text: str) -> str:
        return self.speech.reply.filled({"value": text, "unit": self.unit.symbol})

    def _in_base(self, number: float) -> float:
        factor, offset = float(self.unit.factor), float(self.unit.offset)
        return round(number * factor + offset, 12) if offset else number * factor

    def encoder(self, channel: int) -> Callable[[Value], str]:
        """The function that makes the command from a value. Numbers are written with as few digits as read back the
        same, 15 at most, or as the profile asks for. It raises ValueError for what cannot be written so."""
        before, _, after = self.speech.at(self.write, channel).partition("{value}")
        speech = self.speech
        if self.feature.choices:
            words = {choice: before + speech.choice_written(choice) + after for choice in self.feature.choices}
            return lambda value: words[str(value)]
        if self.is_switch:
            on, off = (before + speech.switch_written(value) + after for value in (True, False))
            return lambda value: on if value else off
        factor, offset, digits = float(self.unit.factor), float(self.unit.offset), speech.digits
        if speech.has_plain_numbers and factor == 1 and not offset:  # as `written` would, for the loop over points
            return lambda value: f"{before}{float(value) + 0.0:.{digits}g}{after}"
        return lambda value: before + speech.written((float(value) - offset) / factor) + after

    def held(self, reply: str, channel: int) -> Value:
        """The value that a reply to `ask` tells of a channel. Raises ValueError."""
        speech = self.speech.of_channel(channel)
        if self.feature.choices:
            return speech.choice_in(reply, self.feature.choices)
        if self.is_switch:
            return float(speech.is_on(reply))
        number = speech.number_in(reply, self.unit)
        if abs(number) >= 0.999 * INFINITY:
            raise ValueError(reply)
        return self._in_base(number)

    def room(self, value: float) -> float:
        """How far an answer may lie from the value that was set: 0.1 % and a ten-thousandth of the range, at least its
        resolution."""
        span = self.extent[1] - self.extent[0] if self.extent else 0.0
        return max(1e-3 * abs(value) + 1e-4 * span + 1e-9, self.resolution)

    def agrees(self, held: Value, wanted: Value) -> bool:
        """Whether what it answers is what was set."""
        if isinstance(wanted, str) or isinstance(held, str):
            return held == wanted
        return abs(held - wanted) <= (self.room(wanted) if self.is_number else 0.0)

    def said(self, value: Value, digits: int = 9) -> str:
        """A value for people."""
        if isinstance(value, str):
            return value
        if self.feature.dimension is None:
            return "on" if value else "off"
        return units.format_value(value, self.feature.dimension, digits=digits)

    def bounds(self, state: Mapping[str, Value]) -> tuple[float, float]:
        """What it takes while the other settings of its instrument are as they are told."""
        for when in self.ranges:
            if when.other in state and when.holds(state[when.other]):
                return when.low, when.high
        return self.extent or (-inf, inf)
