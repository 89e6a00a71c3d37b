"""One query on one instrument, and what each value of its reply means. Decides which readings are bad."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import partial
from math import nan
from typing import NamedTuple

from ibexite import units
from ibexite.bench.questions import take_doubt
from ibexite.errors import DamageError
from ibexite.holes import Bad
from ibexite.instruments.readings import Given, ReadingCommands
from ibexite.instruments.session import Message, Session
from ibexite.protocols.scpi import INFINITY, NOT_A_NUMBER, joined, response_text, response_value
from ibexite.units import Dimension
from ibexite.untyped import Measured
from ibexite.values import Text
from ibexite.verdicts import BAD_READINGS, OVERLOAD, Reason

MOST = 0.999 * INFINITY  # from here on a number is an overload, or none


@dataclass(slots=True)
class Item:
    """One value of the line."""

    name: str
    session: Session
    commands: ReadingCommands
    channel: int
    arguments: dict[str, Given]
    scale: float
    dimension: Dimension
    believe: tuple[float, float] | None
    convert: Callable[[float], float] | None = None  # of the number that is answered, where that is no plain factor
    damage: Damage | None = None
    after: Dependent | None = None  # what stands on other readings, and is done when all are there
    low: float = field(init=False)
    high: float = field(init=False)
    _is_plain: bool = field(init=False)
    _number: Callable[[str], float] = field(init=False)

    def __post_init__(self) -> None:
        speech, unit = self.commands.speech.of_channel(self.channel), self.commands.unit
        is_number = self.commands.feature.dimension is not None
        self._is_plain = is_number and speech.is_plain
        self._number = response_value if speech.is_plain else lambda text: speech.number_in(text, unit)
        if self.commands.feature.is_switch:
            self._number = lambda text: float(speech.is_on(text))
        widest = 0.999 * INFINITY * abs(self.scale)
        self.low, self.high = self.believe or (-widest, widest)
        if self.damage is not None:  # beyond it `_looked_at` decides
            self.low, self.high = max(self.low, self.damage.low), min(self.high, self.damage.high)

    def value(self, text: str) -> Measured:
        """The value of a reply: a number in base units, 1.0 and 0.0 for yes and no, or a text. Raises BadReading."""
        return self._text(text) if isinstance(self.commands.feature.type, Text) else self._looked_at(text)

    def reader(self) -> Callable[[str], Measured]:
        """The same as `value`, for the loop over points: a good number is taken at once, all else is looked at."""
        if not self._is_plain:
            return self.value
        scale, convert, low, high, otherwise = self.scale, self.convert, self.low, self.high, self._looked_at

        def scaled(text: str) -> Measured:
            try:
                value = float(text) * scale
            except ValueError:
                return otherwise(text)
            # In these bounds it is neither NAN nor INF. Python reads digits with "_" in them, and IEEE 488.2 does not.
            return value if low <= value <= high and "_" not in text else otherwise(text)

        def converted(text: str) -> Measured:
            try:
                number = float(text)
            except ValueError:
                return otherwise(text)
            if -MOST < number < MOST and "_" not in text:  # else it is an overload, or none
                value = convert(number)  # type: ignore[misc]  # it is there
                if low <= value <= high:
                    return value
            return otherwise(text)

        return scaled if convert is None else converted

    def _text(self, text: str) -> str:
        try:
            return response_text(self.commands.speech.of_channel(self.channel).text_in(text))
        except ValueError:
            raise BadReading("not_as_said", text) from None

    def _looked_at(self, text: str) -> float:
        """The value of a reply that is not plainly a good one."""
        try:
            number = self._number(text)
        except ValueError as error:
            more = "" if self.commands.speech.is_plain or not text.strip() else f": {error}"
            raise BadReading("not_a_number" if text.strip() else "empty", text, more) from None
        value = number * self.scale
        if self.convert is not None and abs(number) < 0.999 * INFINITY:
            value = self.convert(number)
        if self.damage is not None and abs(number) < NOT_A_NUMBER:
            self.damage.check(value, is_overload=abs(number) >= MOST)
        if self.low <= value <= self.high:
            return value
        if value != value and abs(number) < MOST:
            raise BadReading("beyond_sensor", text)
        if abs(number) >= NOT_A_NUMBER:
            raise BadReading("not_a_number", text)
        if abs(number) >= 0.999 * INFINITY:
            raise BadReading(OVERLOAD, text)
        shown = units.format_value(value, self.dimension)
        raise BadReading("unbelievable", text, f": {shown}")


class Damage(NamedTuple):
    """The level of a signal beyond which something is damaged, in base units."""

    signal: str
    low: float
    high: float
    dimension: Dimension

    def check(self, value: float, *, is_overload: bool = False) -> None:
        """Raises DamageError: a value is beyond it, or an overload, of which nobody knows how much it is."""
        if is_overload or value > self.high or value < self.low:
            shown = "an overload" if is_overload else units.format_value(value, self.dimension)
            limit = units.format_value(self.high if is_overload or value > self.high else self.low, self.dimension)
            raise DamageError(f"{self.signal} is {shown}, beyond its damage level of {limit}")


class Dependent(NamedTuple):
    """What is made of a reading when others are there as well: a thermocouple of its voltage and the temperature of its
    cold junction. `apply` takes the value and theirs; NaN, with the code of why, where it cannot be told."""

    others: list[Item]
    apply: Callable[..., tuple[float, str]]
    believe: tuple[float, float] | None
    dimension: Dimension
    damage: Damage | None


class BadReading(Exception):
    """A reply that gives no usable value; the code of why, and what more there is to say."""

    def __init__(self, code: str, raw: str, more: str = "") -> None:
        super().__init__(code)
        self.reason, self.raw = Reason(code, BAD_READINGS[code] + more), raw


class Query:
    """One query on one instrument and the items that its reply holds."""

    has_reply_to_itself = False  # nothing else is asked in its message

    def __init__(self, session: Session, items: list[Item], places: list[int]) -> None:
        self.session, self.items, self.places = session, items, places
        commands, first = items[0].commands, items[0]
        ask = self._filled(commands.query, first)
        channels = ",".join(commands.speech.channel_written(item.channel) for item in items)
        select = commands.select.replace("{channels}", channels)
        self._select = self._filled(select, first)
        self._text = ask
        self._carried: list[Callable[[str], None]] = []  # who takes the answers to other questions in the same message
        self._usual: list[str] = []  # answers that need not be heard
        self._ask, self._select_and_ask = session.message(ask), session.message(self._select, ask)
        # What is told of a reply that does not come.
        self._in_full = self._select_and_ask if self._select else self._ask
        self._is_single, self._place = len(items) == 1, places[0]
        self._value, self._exchange, self._answer = first.reader(), session.exchange_once, session.answer
        if commands.lines is not None:
            self.has_reply_to_itself = True
            self._exchange = partial(session.exchange_once, reply=commands.lines)
            self._answer = partial(session.answer, reply=commands.lines)
        self._readers = [(place, item.reader()) for place, item in zip(places, items, strict=True)]

    def carry(self, question: str, hear: Callable[[str], None], usual: str) -> None:
        """Asks another question in the same message; `hear` takes its answer, in which there is no semicolon, unless
        it is as usual."""
        self._text = joined([self._text, question])
        self._carried.append(hear)
        self._usual.append(usual)
        message = self.session.message
        self._ask, self._select_and_ask = message(self._text), message(self._select, self._text)
        self._in_full = self._select_and_ask if self._select else self._ask

    def _own(self, reply: str) -> str:
        """What of a reply answers the query itself; the other answers are heard."""
        own, *others = reply.rsplit(";", len(self._carried))
        if others == self._usual:  # as it is nearly always
            return own
        if len(others) != len(self._carried):
            asked = len(self._carried) + 1
            take_doubt(self.session, f"gave {len(others) + 1} answers to {asked} questions: {reply[:60]!r}")
        for hear, answer in zip(self._carried, others, strict=False):
            hear(answer)
        return own

    @staticmethod
    def _filled(text: str, item: Item) -> str:
        found = item.commands.filled(text, item.arguments, item.channel)
        assert found is not None  # what a query needs is looked at when it is vetted
        return found

    def _message(self) -> Message:
        """The query, with the selection of its channels if others were selected last."""
        if self._select and self.session.selected != self._select:
            self.session.selected = self._select
            return self._select_and_ask
        return self._ask

    def send(self) -> None:
        """Asks; `take` takes the reply."""
        self.session.ask(self._message() if self._select else self._ask)

    def take(self, values: list[Measured]) -> list[Bad]:
        """Puts the values of the reply into their places; what is bad in it."""
        reply = self._answer(self._in_full)
        if self._carried:
            reply = self._own(reply)
        if self._is_single:
            try:
                values[self._place] = self._value(reply)
            except BadReading as error:
                values[self._place] = nan
                return [Bad(self.items[0].name, error.reason, error.raw)]
            return []
        texts = self.items[0].commands.speech.split(reply)
        if len(texts) != len(self.items):
            reason = Reason("count", f"{len(texts)} values instead of {len(self.items)}")
            if not reply.strip():
                reason = Reason("empty", BAD_READINGS["empty"])
            return [Bad(item.name, reason, reply) for item in self.items]
        bad = []
        for i, (place, read) in enumerate(self._readers):
            try:
                values[place] = read(texts[i])
            except BadReading as error:
                values[place] = nan
                bad.append(Bad(self.items[i].name, error.reason, error.raw))
        return bad

    def value(self) -> Measured:
        """Asks for the only item of this query and waits for its value, in base units. Raises BadReading."""
        message = self._message() if self._select else self._ask
        if self._carried:
            return self._value(self._own(self._exchange(message)))
        return self._value(self._exchange(message))

    def configure(self) -> None:
        """Sends the set-ups of its channels that are not the last ones sent."""
        for item in self.items:
            texts = item.commands.commands(item.arguments, item.channel)
            whole = "\n".join(texts)
            if texts and self.session.configured.get(str(item.channel)) != whole:
                for text in texts:
                    self.session.send(text)
                self.session.configured[str(item.channel)] = whole
                self.session.selected = ""
