"""The manual of an instrument: what it understands, and how it answers, as its profile has it. No world and no time."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from math import inf
from typing import NamedTuple

from ibexite.protocols import scpi
from ibexite.protocols.layout import Layout, Row
from ibexite.protocols.scpi import INFINITY
from ibexite.protocols.speech import NUMBER_FORMS, Speech, command_pattern, speech_from
from ibexite.untyped import Fields

AFTER_RESET = {"points": 201.0}  # of settings, where that is not 0
_WORD = r"\S.*?"
_CHANNELS = r"[\d:,\s]+"


@dataclass(frozen=True, slots=True)
class UnitOf:
    """The unit in which something is said: base value = number x factor + offset."""

    symbol: str
    factor: float
    offset: float

    def to_base(self, number: float) -> float:
        """The base value of a number."""
        return number * self.factor + self.offset

    def from_base(self, value: float) -> float:
        """The number of a base value."""
        return (value - self.offset) / self.factor


@dataclass(frozen=True, slots=True)
class Setting:
    """A setting; `write` and `ask` find its commands."""

    name: str
    kind: str  # number, yes_no or choice
    speech: Speech
    unit: UnitOf
    choices: tuple[str, ...]
    low: float
    high: float
    takes_time: bool = False  # to get there
    is_of_channel: bool = True  # each channel has its own

    @property
    def first(self) -> float | str:
        """What it has behind a reset: off, the first choice, 0 or what is nearest to it; of a sweep all of it."""
        if self.kind == "choice":
            return self.choices[0]
        if self.name == "highest" and self.high < inf:
            return self.high
        wanted = AFTER_RESET.get(self.name, 0.0)
        return 0.0 if self.kind == "yes_no" else min(max(wanted, self.low), self.high)

    def taken(self, text: str) -> float | str:
        """The value of a command. Raises ValueError: it is none, or beyond its range (a Beyond)."""
        if self.kind == "choice":
            return self.speech.chosen(text, self.choices)
        if self.kind == "yes_no":
            return float(self.speech.switched(text))
        value = self.unit.to_base(self.speech.read_back(text))
        room = 1e-9 * max(abs(self.low), abs(self.high), 1e-30) if abs(self.high) < float("inf") else 0.0
        if not self.low - room <= value <= self.high + room:
            raise Beyond(text)
        return value

    def answer(self, value: float | str, channel: int) -> str:
        """The reply that tells a value."""
        if self.kind == "choice":
            text = self.speech.choice_written(str(value))
        elif self.kind == "yes_no":
            text = self.speech.switch_written(bool(value)) if self.speech.on else str(int(bool(value)))
        else:
            text = self.speech.written(self.unit.from_base(float(value)))
        return _filled(self.speech, self.unit, text, channel)

    def examples(self) -> Iterator[str]:
        """Values as they are sent: all words, the ends of the range."""
        if self.kind == "choice":
            yield from map(self.speech.choice_written, self.choices)
        elif self.kind == "yes_no":
            yield from map(self.speech.switch_written, (True, False))
        else:
            ends = [value if abs(value) < inf else 0.0 for value in (self.low, self.high)]
            yield from (self.speech.written(self.unit.from_base(value)) for value in ends)


class Beyond(ValueError):
    """A value that is out of range."""


@dataclass(frozen=True, slots=True)
class Reading:
    """A reading, as it is answered."""

    name: str
    kind: str
    speech: Speech
    unit: UnitOf
    arguments: dict[str, tuple[UnitOf, Speech]]
    curve: Fields | None
    is_scanned: bool
    layout: Layout | None = None
    lines: tuple[int, str] | None = None  # of a reply: how many, or what the last one says

    def answer(self, value: float | str, channel: int) -> str:
        """The reply that tells a value, in base units."""
        if self.kind == "number":
            text = self._number(float(value))
        elif self.kind == "yes_no":
            text = self.speech.switch_written(bool(value)) if self.speech.on else str(int(bool(value)))
        else:
            text = str(value)
        return _filled(self.speech, self.unit, text, channel)

    def _number(self, value: float) -> str:
        speech = self.speech
        if value != value:
            return speech.invalid[0] if speech.invalid else "9.91E37"
        if abs(value) == float("inf"):
            return speech.overload[0] if speech.overload else f"{'-' * (value < 0)}9.9E37"
        return self._written(self.unit.from_base(value))

    def _written(self, number: float) -> str:
        speech = self.speech
        if abs(number) >= 0.999 * INFINITY and speech.overload:
            return speech.overload[0]
        if speech.has_plain_numbers:
            return f"{number:+.7E}"
        if NUMBER_FORMS[speech.number].is_whole and speech.number == "hex":
            number = max(number, speech.offset)
        return speech.with_(digits=8).written(number)

    def listed(self, numbers: list[float], channel: int) -> str:
        """The reply that tells several numbers, in the unit of the instrument."""
        return _filled(self.speech, self.unit, self.speech.separator.join(map(self._written, numbers)), channel)

    def in_lines(self, reply: str, line_end: str) -> str:
        """A reply as so many lines as it has."""
        if self.lines is None:
            return reply
        count, last = self.lines
        whole = f"{reply}\n{last}" if last else reply + "\n" * (count - 1 - reply.count("\n"))
        return whole.replace("\n", line_end)

    def argument(self, name: str, text: str) -> float | None:
        """The value of an argument, in base units; None if it is no number."""
        try:
            unit, speech = self.arguments[name]
            return unit.to_base(speech.read_back(text))
        except ValueError:
            return None


def _filled(speech: Speech, unit: UnitOf, text: str, channel: int) -> str:
    """A reply, with the unit as the instrument writes it."""
    word = next((word for word, ours in speech.units.items() if ours == unit.symbol), unit.symbol)
    return speech.reply.filled({"value": text, "unit": word, "channel": speech.channel_written(channel)})


class CurveFact(NamedTuple):
    """What is asked about a curve: start, step, stop, spacing or points of an axis; of no axis, the answer itself."""

    axis: str
    key: str
    is_only: bool
    unit: UnitOf
    speech: Speech

    def answer(self, numbers: list[float], channel: int) -> str:
        """The reply that tells numbers, in the unit of the instrument."""
        speech = self.speech.with_(digits=12)
        return _filled(speech, self.unit, speech.separator.join(map(speech.written, numbers)), channel)

    def choice(self, choice: str, channel: int) -> str:
        """The reply that tells a choice."""
        return _filled(self.speech, self.unit, self.speech.choice_written(choice), channel)


class Entry(NamedTuple):
    """One thing it understands: what it is about, which part of that, and what it looks like."""

    deed: str  # write, ask, query, configure, select, identity, error, complete, accept, reset, clear, fixed, curve …
    subject: Setting | Reading | CurveFact | str | None
    pattern: re.Pattern[str]


STREAM_DEEDS = ("begin", "end", "query", "first")  # of what streams, by the keys of its profile
QUESTIONS = (
    "stream_query",
    "stream_first",
    "ask",
    "query",
    "curve",
    "identity",
    "errors",
    "complete",
    "cleared",
    "fixed",
)  # deeds with an answer


class Manual:
    """All of it, ready to be looked up."""

    def __init__(self, data: Fields) -> None:
        self.data = data
        self.settings = {entry["name"]: _setting(entry) for entry in data["settings"]}
        self.readings = {entry["name"]: _reading(entry) for entry in data["readings"]}
        self.speech = speech_from(data["speech"])
        self.acknowledge: str | None = data["acknowledge"]
        self.is_compound: bool = data["compound"]
        self._entries = list(self._all())

    def _all(self) -> Iterator[Entry]:
        for entry in self.data["settings"]:
            setting = self.settings[entry["name"]]
            parts = _channels(setting.speech)
            if entry["ask"]:
                yield Entry("ask", setting, command_pattern(entry["ask"], parts))
            yield Entry("write", setting, command_pattern(entry["write"], parts | {"value": _WORD}))
        for entry in self.data["readings"]:
            reading = self.readings[entry["name"]]
            parts = _channels(reading.speech) | dict.fromkeys(entry["arguments"], r"[^,()]*?")
            if any(NUMBER_FORMS[speech.number].has_comma for _, speech in reading.arguments.values()):
                parts |= dict.fromkeys(entry["arguments"], r"[^()]*?")
            yield Entry("query", reading, command_pattern(entry["query"], parts))
            for text in entry["configure"]:
                yield Entry("configure", reading, command_pattern(text, parts))
            if entry["select"]:
                yield Entry("select", reading, command_pattern(entry["select"], parts))
            for text, fact in _curve_facts(entry["curve"]):
                yield Entry("curve", fact, command_pattern(text, _channels(reading.speech)))
        yield from self._about_itself()

    def _about_itself(self) -> Iterator[Entry]:
        data, parts = self.data, _channels(self.speech)
        for deed in ("identity", "errors", "complete"):
            if data[deed]["query"]:
                yield Entry(deed, None, command_pattern(data[deed]["query"], {}))
        if data["complete"]["clearing"]:
            yield Entry("cleared", None, command_pattern(data["complete"]["clearing"], {}))
        if data["complete"]["command"]:
            yield Entry("completes", None, command_pattern(data["complete"]["command"], {}))
        for state in data["states"]:
            yield Entry("fixed", state["no"], command_pattern(state["query"], parts))
        stream = data["stream"]
        if stream is not None:
            for deed in STREAM_DEEDS:
                yield Entry(f"stream_{deed}", None, command_pattern(stream[deed], parts))
            for text in stream["configure"]:
                yield Entry("accepts", None, command_pattern(text, parts))
        for deed in ("resets", "clears", "halts", "triggers", "arms", "accepts"):
            for text in data[deed]:
                yield Entry(deed, None, command_pattern(text, parts))

    @property
    def is_special(self) -> bool:
        """Whether it writes or answers otherwise than SCPI has it."""
        data = self.data
        speeches = [one.speech for one in self.settings.values()] + [one.speech for one in self.readings.values()]
        speeches += [entry.subject.speech for entry in self._entries if isinstance(entry.subject, CurveFact)]
        return bool(
            self.acknowledge is not None or data["checksum"] or self.speech.channels or not data["errors"]["is_scpi"]
            or (data["identity"]["query"], data["identity"]["reply"]) != ("*IDN?", "{value}")
            or any(not s.is_plain or s.separator != "," for s in speeches)
        )  # fmt: skip

    def found(self, command: str) -> list[tuple[Entry, dict[str, str]]]:
        """What a command may mean, with the texts of its parts. Several readings may share a query."""
        matches = [(entry, entry.pattern.fullmatch(command)) for entry in self._entries]
        found = [(entry, self._numbered(entry, match.groupdict())) for entry, match in matches if match is not None]
        # Where one message takes several commands, a value does not reach over the end of one.
        return [(entry, parts) for entry, parts in found if not (self.is_compound and self._is_several(parts))]

    def _numbered(self, entry: Entry, parts: dict[str, str]) -> dict[str, str]:
        """The parts of a command with the numbers of channels in place of its words for them."""
        speech = entry.subject.speech if isinstance(entry.subject, Setting | Reading) else self.speech
        for key in ("channel", "channels"):
            if parts.get(key) and speech.channels:
                parts[key] = ",".join(str(speech.channel_in(word)) for word in parts[key].split(","))
        return parts

    @staticmethod
    def _is_several(parts: dict[str, str]) -> bool:
        return len(scpi.split_outside(parts.get("value") or "", ";")) > 1

    def examples(self) -> Iterator[str]:
        """Messages of all kinds that it understands, for channel 1: with each word, and both ends of each range."""
        data = self.data
        for entry in data["settings"]:
            texts = [entry["write"].replace("{value}", value) for value in self.settings[entry["name"]].examples()]
            yield from self._at_first_channel([*texts, entry["ask"]])
        for entry in data["readings"]:
            texts = [
                *entry["configure"],
                entry["select"],
                entry["query"],
                *(text for text, _ in _curve_facts(entry["curve"])),
            ]
            for name, argument in entry["arguments"].items():
                texts = [text.replace(f"{{{name}}}", argument["default"] or "1") for text in texts]
            yield from self._at_first_channel(texts)
        yield from (data[deed]["query"] for deed in ("identity", "errors", "complete") if data[deed]["query"])
        yield from self._at_first_channel([state["query"] for state in data["states"]])
        yield from self._at_first_channel(
            [text for deed in ("accepts", "resets", "clears", "triggers") for text in data[deed]]
        )
        if data["stream"] is not None:
            yield from self._at_first_channel([data["stream"][deed] for deed in STREAM_DEEDS])

    def _at_first_channel(self, texts: list[str]) -> Iterator[str]:
        first = min(self.speech.channels, default=1)
        word = self.speech.channel_written(first)
        return (text.replace("{channel}", word).replace("{channels}", word) for text in texts if text)


def _channels(speech: Speech) -> dict[str, str]:
    """Patterns for one channel and for several, as they are written."""
    one = speech.channel_pattern
    return {"channel": one, "channels": f"{one}(?:,{one})*" if speech.channels else _CHANNELS}


def _curve_facts(curve: Fields | None) -> Iterator[tuple[str, CurveFact]]:
    """What is asked about a curve."""
    if curve is None:
        return
    is_only = len(curve["axes"]) == 1
    for axis in curve["axes"]:
        for key in ("start", "step", "stop", "spacing", "points"):
            if axis[key]:
                yield axis[key]["query"], CurveFact(axis["name"], key, is_only, _unit(axis["unit"]), _said(axis[key]))
    for key, text in (("factor", "1"), ("offset", "0")):
        if curve[key]:
            yield curve[key]["query"], CurveFact("", text, True, UnitOf("", 1.0, 0.0), _said(curve[key]))


def _said(asked: Fields) -> Speech:
    return speech_from(asked["speech"])


def _unit(data: Fields) -> UnitOf:
    return UnitOf(data["symbol"], data["factor"], data["offset"])


def _setting(data: Fields) -> Setting:
    low, high = (float(data[key]) for key in ("low", "high"))
    return Setting(
        data["name"], data["kind"], speech_from(data["speech"]), _unit(data["unit"]), tuple(data["choices"]), low, high,
        data["awaited"], "{channel}" in data["write"],
    )  # fmt: skip


def _reading(data: Fields) -> Reading:
    arguments = {name: (_unit(one["unit"]), _said(one)) for name, one in data["arguments"].items()}
    speech = speech_from(data["speech"])
    return Reading(
        data["name"], data["kind"], speech, _unit(data["unit"]), arguments, data["curve"], bool(data["select"]),
        _layout(data["layout"]), (data["lines"]["count"], data["lines"]["last"]) if data["lines"] else None,
    )  # fmt: skip


def _layout(data: Fields | None) -> Layout | None:
    if data is None:
        return None
    return Layout(data["is_block"], data["between"], {kind: Row(text) for kind, text in data["rows"].items()})
