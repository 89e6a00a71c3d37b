"""How an instrument writes numbers, yes and no, and what stands around them in its replies. Nothing is taken for
granted: a profile says it, for all of an instrument or for one of its settings and readings.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from typing import Any

from ibexite import units
from ibexite.errors import UnitError
from ibexite.frozen import frozen, replaced
from ibexite.protocols.scpi import DECIMAL, INFINITY, NOT_A_NUMBER, response_value
from ibexite.units import Unit

ALL_DIGITS = 15  # with as many every decimal number survives a float (IEEE 754 binary64)
MOST_EXACT = 2**53  # up to here a float holds every whole number
_PIECE = re.compile(r"\{(\w+)\}|(\s+)|([^\s{}]+|[{}])")
_PARTS = ("value", "unit", "any", "channel")
_SPACE = r"\s*"
_LINE_END = r"[^\S\n]*\n\s*"


def _integer(text: str) -> float:
    if not re.fullmatch(r"[+-]?[0-9]{1,30}", text):
        raise ValueError(f"not a whole number: {text[:60]!r}")
    return float(int(text))


def _hexadecimal(text: str) -> float:
    bare = re.fullmatch(r"(?:0[xX]|#[hH])?([0-9A-Fa-f]{1,16})[hH]?", text)
    if bare is None:
        raise ValueError(f"not a hexadecimal number: {text[:60]!r}")
    return float(int(bare[1], 16))


def _with_comma(text: str) -> float:
    if "." in text:  # it would mean thousands, and nobody said so
        raise ValueError(f"not a number with a decimal comma: {text[:60]!r}")
    return response_value(text.replace(",", "."))


@frozen
class NumberForm:
    """How numbers are written: what a reply may hold, how it is read, and how one is made of a number."""

    pattern: str
    read: Callable[[str], float]
    is_whole: bool
    help: str
    has_comma: bool = False


NUMBER_FORMS = {
    "decimal": NumberForm(rf"{DECIMAL}|\#[HQB][0-9A-F]+", response_value, False, "as IEEE 488.2 has it: -1.5, 2E-3"),
    "comma": NumberForm(DECIMAL.replace(r"\.", ","), _with_comma, False, "with a decimal comma: 12, -1,5, 2E-3", True),
    "integer": NumberForm("[+-]?[0-9]+", _integer, True, "a whole number: 12, -15; `factor` says what of"),
    "hex": NumberForm("(?:0x|#H)?[0-9A-F]+H?", _hexadecimal, True, "hexadecimal digits: 0C, 0xFF, #HFF; `factor` too"),
}  # fmt: skip


class Template:
    """What a reply looks like: text as it stands, with {value}, {unit}, {channel} and {any} in it. Where it has spaces
    there may be any, where it has the end of a line there is one; large and small letters are the same.

    >>> Template("VOLT {value} {unit}").filled({"value": "2.4", "unit": "mV"})
    'VOLT 2.4 mV'
    """

    def __init__(self, text: str, channel: str = r"\d+") -> None:
        """`channel` is a regular expression for what stands for a channel. Raises ValueError: it names what there is
        not, or the value not once."""
        self.text = text
        self._channel = channel
        self._pieces = _PIECE.findall(text.strip())
        named = [name for name, _, _ in self._pieces if name]
        for name in named:
            if name not in _PARTS:
                raise ValueError(f"{{{name}}} is none of {', '.join(f'{{{part}}}' for part in _PARTS)}")
        if named.count("value") != 1 or named.count("unit") > 1:
            raise ValueError("{value} stands in it once, {unit} at most once")
        self._compiled: dict[str, re.Pattern[str]] = {}

    @property
    def has_unit(self) -> bool:
        """Whether the reply says in which unit it is."""
        return any(name == "unit" for name, _, _ in self._pieces)

    def pattern(self, value: str) -> str:
        """A regular expression for a whole reply whose value fits another one."""
        parts = {
            "value": f"(?P<value>{value})",
            "unit": r"(?P<unit>[^\s\d]\S*?)",
            "any": ".*?",
            "channel": self._channel,
        }
        return "".join(
            parts[name] if name else (_LINE_END if "\n" in space else _SPACE) if space else re.escape(text)
            for name, space, text in self._pieces
        )

    def found(self, reply: str, value: str) -> re.Match[str] | None:
        """What of a reply is value and unit, if its value fits a regular expression."""
        if value not in self._compiled:
            self._compiled[value] = re.compile(self.pattern(value), re.IGNORECASE | re.DOTALL)
        return self._compiled[value].fullmatch(reply.strip())

    def filled(self, given: Mapping[str, str]) -> str:
        """A reply of this look, of the texts of its parts; what is not given is a 0."""
        return "".join(given.get(name, "0") if name else space or text for name, space, text in self._pieces)


_PLAIN = Template("{value}")
_WITH_UNIT = Template("{value} {unit}")


@frozen
class Speech:
    """How one setting or reading, or all of an instrument, is written and read."""

    on: tuple[str, ...] = ()  # words; the first is sent. None: ON and OFF are sent, and numbers are understood as well
    off: tuple[str, ...] = ()
    number: str = "decimal"  # one of NUMBER_FORMS
    digits: int = ALL_DIGITS  # with which numbers are sent; one with more is rounded, and recorded as it was sent
    decimals: int | None = None  # behind the point, instead
    width: int = 0  # digits of whole numbers, filled up with zeros
    factor: float = 1.0  # value = number x factor + offset, in the unit of the setting or reading
    offset: float = 0.0
    reply: Template = _PLAIN
    overload: tuple[str, ...] = ()  # words that stand for a number in replies
    invalid: tuple[str, ...] = ()
    separator: str = ","  # between the values of a reply that has several
    units: Mapping[str, str] = {}  # its words for units, and ours
    words: Mapping[str, tuple[str, ...]] = {}  # of choices: its words for each, the first is sent
    channels: Mapping[int, str] = {}  # its words for channels; without any they are numbers
    channel_digits: int = 1  # of those numbers, filled up with zeros

    @property
    def is_plain(self) -> bool:
        """True for numbers of IEEE 488.2 with nothing around them."""
        return (
            self.number == "decimal" and self.reply.text == "{value}" and (self.factor, self.offset) == (1.0, 0.0)
            and not self.overload and not self.invalid
        )  # fmt: skip

    @property
    def is_exact(self) -> bool:
        """True if every number is sent as it is, with all of its digits."""
        return self.digits >= ALL_DIGITS and self.decimals is None and self.factor == 1.0 and not self._form.is_whole

    @property
    def has_plain_numbers(self) -> bool:
        """True for numbers that are sent as they are, with `digits`."""
        return self.number == "decimal" and self.decimals is None and (self.factor, self.offset) == (1.0, 0.0)

    @property
    def _form(self) -> NumberForm:
        return NUMBER_FORMS[self.number]

    # --- numbers -----------------------------------------------------------------------------------------------------

    def written(self, number: float) -> str:
        """A number in the unit of the instrument, as it is sent. Raises ValueError: it cannot be written so."""
        scaled = (number - self.offset) / self.factor + 0.0  # + 0.0: never "-0"
        if self._form.is_whole:
            whole = round(scaled)
            if abs(whole) > MOST_EXACT or (whole < 0 and self.number == "hex"):
                raise ValueError(f"{whole} cannot be sent as {self.number}")
            return f"{whole:0{self.width}{'X' if self.number == 'hex' else 'd'}}"
        text = f"{scaled:.{self.digits}g}" if self.decimals is None else f"{scaled:.{self.decimals}f}"
        text = "0" + text[2:] if text.startswith("-0") and not text.strip("-0.") else text
        return text.replace(".", ",") if self.number == "comma" else text

    def number_in(self, reply: str, unit: Unit) -> float:
        """The number of a reply, in the unit of the instrument; INFINITY for an overload and NOT_A_NUMBER for what its
        words call no number.

        Raises:
            ValueError: it is something else.
        """
        word = self._word_in(reply)
        if word is not None and word in _folded(self.overload):
            return -INFINITY if reply.strip().startswith("-") else INFINITY
        if word is not None and word in _folded(self.invalid):
            return NOT_A_NUMBER
        found = self.reply.found(reply, self._form.pattern)
        if found is None:
            raise ValueError(f"{reply[:60]!r} is not as {self.reply.text!r}")
        number = self._form.read(found["value"])
        if abs(number) >= 0.999 * INFINITY:
            return number
        number = number * self.factor + self.offset
        return self._converted(number, found["unit"], unit) if self.reply.has_unit else number

    def split(self, reply: str) -> list[str]:
        """The texts of a reply that has several values."""
        return reply.split() if self.separator == " " else reply.split(self.separator)

    def numbers_in(self, reply: str, unit: Unit) -> list[float]:
        """The numbers of a reply that has several, each as `number_in`. What stands around a value stands around all of
        them; a unit at the end is that of all that have none of their own. Empty for none.

        Raises:
            ValueError: something in it is no such number.
        """
        gap = r"\s" if self.separator == " " else re.escape(self.separator)
        words = "|".join([self._form.pattern, *map(re.escape, (*self.overload, *self.invalid))])
        found = self.reply.found(reply, rf"(?:.*{gap}\s*)?(?:{words})")
        if found is None:
            if not reply.strip() or self.reply.found(reply, "") is not None:
                return []
            raise ValueError(f"{reply[:60]!r} is not as {self.reply.text!r}")
        bare, texts = self.with_(reply=_PLAIN), self.split(found["value"])
        if not self.reply.has_unit:
            return [bare.number_in(text, unit) for text in texts]
        whole = self.with_(reply=_WITH_UNIT)
        return [
            whole.number_in(f"{text} {found['unit']}" if _PLAIN.found(text, words) else text, unit) for text in texts
        ]

    def _converted(self, number: float, told: str, unit: Unit) -> float:
        try:
            own = units.parse_unit(self.units.get(told, told))
        except UnitError:
            raise ValueError(f"{told!r} is no unit that is known") from None
        if own.dimension != unit.dimension:
            raise ValueError(f"{told!r} is {units.describe(own.dimension)}, not {units.describe(unit.dimension)}")
        return unit.from_base(number * float(own.factor) + float(own.offset))

    # --- channels ----------------------------------------------------------------------------------------------------

    def channel_written(self, channel: int) -> str:
        """A channel as it is sent."""
        return self.channels.get(channel) or f"{channel:0{self.channel_digits}d}"

    def at(self, text: str, channel: int) -> str:
        """A command or query for a channel."""
        return text.replace("{channel}", self.channel_written(channel))

    @property
    def channel_pattern(self) -> str:
        """A regular expression for any of its channels."""
        return f"(?:{'|'.join(map(re.escape, self.channels.values()))})" if self.channels else r"\d+"

    def of_channel(self, channel: int) -> Speech:
        """The same for one channel: a reply that names its channel must name this one, or it belongs to another
        question."""
        if "{channel}" not in self.reply.text:
            return self
        word = self.channels.get(channel)
        return self.with_(reply=Template(self.reply.text, f"0*{channel}" if word is None else re.escape(word)))

    def has_channel(self, channel: int) -> bool:
        """Whether there is such a channel, as far as its words say."""
        return not self.channels or channel in self.channels

    def channel_in(self, text: str) -> int:
        """What `channel_written` wrote. Raises ValueError."""
        for channel, word in self.channels.items():
            if word.upper() == text.strip().upper():
                return channel
        if self.channels:
            raise ValueError(f"there is no channel {text!r}")
        return int(text)

    # --- words -------------------------------------------------------------------------------------------------------

    def _word_in(self, reply: str) -> str | None:
        found = self.reply.found(reply, r"\S.*?")
        if found is None:  # it stands alone, without what is around a value
            return reply.strip().upper()
        return str(found["value"]).strip().upper()

    def switch_written(self, is_on: bool) -> str:
        """on or off, as it is sent."""
        words = self.on if is_on else self.off
        return words[0] if words else "ON" if is_on else "OFF"

    def is_on(self, reply: str) -> bool:
        """Whether a reply says on, or yes. Raises ValueError: neither."""
        word = self._word_in(reply)
        for value, words in ((True, self.on or ("ON",)), (False, self.off or ("OFF",))):
            if word in _folded(words):
                return value
        if self.on or self.off or word is None:
            raise ValueError(f"{reply[:60]!r} is neither on nor off")
        number = response_value(word)
        if abs(number) >= 0.999 * INFINITY:
            raise ValueError(reply)
        return number != 0

    def switch_patterns(self, is_on: bool) -> list[str]:
        """Regular expressions for replies that say on, or off, for whoever can do no more than compare."""
        words = self.on if is_on else self.off
        value = "|".join(map(re.escape, words)) if words else r"ON|\+?1" if is_on else r"OFF|[+-]?0"
        return [self.reply.pattern(value)]

    def choice_written(self, choice: str) -> str:
        """A choice as it is sent: its word for it, or the choice in capitals."""
        return self.words[choice][0] if choice in self.words else choice.upper()

    def choice_in(self, reply: str, choices: tuple[str, ...]) -> str:
        """The choice that a reply names. Raises ValueError: none of them."""
        word = self._word_in(reply)
        for choice in choices:
            if word in _folded(self.words.get(choice, (choice,))):
                return choice
        raise ValueError(f"{reply[:60]!r} is none of {', '.join(choices)}")

    def text_in(self, reply: str) -> str:
        """The text of a reply, without what stands around it. Raises ValueError: it does not look so."""
        found = self.reply.found(reply, ".*?")
        if found is None:
            raise ValueError(f"{reply[:60]!r} is not as {self.reply.text!r}")
        return str(found["value"])

    def with_(self, **changes: object) -> Speech:
        """The same with something else."""
        return replaced(self, **changes)

    def read_back(self, text: str) -> float:
        """The number that `written` wrote. Raises ValueError: it is none of this form."""
        return self._form.read(text.strip()) * self.factor + self.offset

    def switched(self, text: str) -> bool:
        """What `switch_written` wrote. Raises ValueError."""
        return self.with_(reply=_PLAIN).is_on(text)

    def chosen(self, text: str, choices: tuple[str, ...]) -> str:
        """What `choice_written` wrote. Raises ValueError."""
        return self.with_(reply=_PLAIN).choice_in(text, choices)

    def as_data(self) -> dict[str, Any]:
        """For JSON; `speech_from` reads it back."""
        data: dict[str, Any] = {name: getattr(self, name) for name in type(self).__match_args__}
        return data | {"reply": self.reply.text}


def _folded(words: tuple[str, ...]) -> list[str]:
    return [word.upper() for word in words]


def speech_from(data: Mapping[str, Any]) -> Speech:
    """What `as_data` made."""
    words = {choice: tuple(some) for choice, some in data["words"].items()}
    channels = {int(channel): word for channel, word in data["channels"].items()}  # JSON has texts for keys
    tuples = {key: tuple(data[key]) for key in ("on", "off", "overload", "invalid")}
    made = Speech(**{**data, **tuples, "words": words, "channels": channels, "reply": _PLAIN})
    return made.with_(reply=Template(data["reply"], made.channel_pattern))


def command_pattern(text: str, parts: Mapping[str, str]) -> re.Pattern[str]:
    """A pattern for commands made of a template such as "SOUR{channel}:VOLT {value}", with a named group for each part.

    Args:
        parts: a regular expression for each part that may stand in it.
    """
    pieces, named = [], set[str]()
    for name, space, literal in _PIECE.findall(text.strip()):
        if name in parts and name not in named:
            pieces.append(f"(?P<{name}>{parts[name]})")
            named.add(name)
        elif name:
            pieces.append(parts.get(name, ".*?"))
        else:
            pieces.append(r"\s+" if space else re.escape(literal))
    return re.compile("".join(pieces), re.IGNORECASE | re.DOTALL)
