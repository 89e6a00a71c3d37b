"""A `read` line made ready: which queries it takes, and what each reply means. Decides which readings are bad.

Without `together` the readings are taken one after the other, as written. With it, all instruments are asked before
any is waited for, one open query on each; the channels of one scanner become one scan.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from math import isfinite, nan

from ibexite import units
from ibexite.instruments.profile import ReadingCommands
from ibexite.instruments.session import Message, Session
from ibexite.protocols.scpi import INFINITY, NOT_A_NUMBER
from ibexite.units import Dimension

TRIES = 3  # in all, unless the sequence says otherwise
MOST_SETTLING = 100  # readings
FAULT_OF_UNIT = "overload"  # a fact about the unit; every other reason is a fault of the measurement


@dataclass(frozen=True, slots=True)
class Bad:
    """A reading that may not be used: which, why, and what the instrument said."""

    name: str
    reason: str
    raw: str


@dataclass(slots=True)
class Item:
    """One value of the line."""

    name: str
    session: Session
    commands: ReadingCommands
    channel: int
    arguments: dict[str, float]
    scale: float
    dimension: Dimension
    believe: tuple[float, float] | None
    convert: Callable[[float], float] | None = None  # what is no plain factor: a thermistor, a threshold
    low: float = field(init=False)
    high: float = field(init=False)

    def __post_init__(self) -> None:
        widest = 0.999 * INFINITY * self.scale
        self.low, self.high = self.believe or (-widest, widest)

    def value(self, text: str) -> float:
        """The value of a reply in base units. Raises BadReading."""
        try:
            number = float(text)
        except ValueError:
            raise BadReading("empty reply" if not text.strip() else "not a number", text) from None
        value = number * self.scale
        if self.convert is not None and abs(number) < 0.999 * INFINITY:
            value = self.convert(number)
        if self.low <= value <= self.high:
            return value
        if not isfinite(number) or abs(number) >= NOT_A_NUMBER:
            raise BadReading("not a number", text)
        if abs(number) >= 0.999 * INFINITY:
            raise BadReading(FAULT_OF_UNIT, text)
        shown = units.format_value(value, self.dimension)
        raise BadReading(f"not believable: {shown}", text)


class BadReading(Exception):
    """A reply that gives no usable value."""

    def __init__(self, reason: str, raw: str) -> None:
        super().__init__(reason)
        self.reason, self.raw = reason, raw


class _Query:
    """One query on one instrument and the items that its reply holds."""

    def __init__(self, session: Session, items: list[Item], places: list[int]) -> None:
        self.session, self.items, self.places = session, items, places
        commands, first = items[0].commands, items[0]
        ask = commands.query.replace("{channel}", str(first.channel))
        self._select = commands.select.replace("{channels}", ",".join(str(item.channel) for item in items))
        self._ask, self._select_and_ask = session.message(ask), session.message(self._select, ask)

    def _message(self) -> Message:
        """The query, with the selection of its channels if others were selected last."""
        if self._select and self.session.selected != self._select:
            self.session.selected = self._select
            return self._select_and_ask
        return self._ask

    def send(self) -> None:
        """Asks; `texts` takes the reply."""
        self.session.ask(self._message())

    def texts(self) -> list[str]:
        """The texts of the reply, one an item. Raises BadReading."""
        reply = self.session.answer(self._select_and_ask if self._select else self._ask)
        if len(self.items) == 1:
            return [reply]
        parts = reply.split(",")
        if len(parts) != len(self.items):
            reason = f"{len(parts)} values instead of {len(self.items)}" if reply.strip() else "empty reply"
            raise BadReading(reason, reply)
        return parts

    def value(self) -> float:
        """Asks for the only item of this query and waits for its value, in base units. Raises BadReading."""
        item = self.items[0]
        text = self.session.exchange(self._message())
        if item.convert is not None:
            return item.value(text)
        try:
            value = float(text) * item.scale
        except ValueError:
            return item.value(text)
        return value if item.low <= value <= item.high else item.value(text)

    def configure(self) -> None:
        for item in self.items:
            if not item.commands.configure:
                continue
            text = item.commands.configure.replace("{channel}", str(item.channel))
            for key, value in item.arguments.items():
                text = text.replace("{" + key + "}", f"{value:.9g}")
            if self.session.configured.get(str(item.channel)) != text:
                self.session.send(text)
                self.session.configured[str(item.channel)] = text
                self.session.selected = ""


class ReadLine:
    """Takes the readings of one line. `bad` receives what may not be used; its value is then NaN."""

    def __init__(
        self,
        items: list[Item],
        *,
        together: bool,
        averaging: int,
        bad: list[Bad],
        tries: int = TRIES,
        settled: tuple[float, bool] | None = None,
    ) -> None:
        self.items, self.averaging, self.bad = items, averaging, bad
        self._tries, self._settled = tries, settled
        self._rounds = _rounds(items) if together else [[_Query(i.session, [i], [n])] for n, i in enumerate(items)]
        self._sessions = list({id(item.session): item.session for item in items}.values())
        self._generation = -1

    def __call__(self) -> list[float]:
        """The values in base units, in the order of the line; NaN for a bad one."""
        generation = 0
        for session in self._sessions:
            generation += session.generation
        if generation != self._generation:
            for round_ in self._rounds:
                for query in round_:
                    query.configure()
            self._generation = generation
        if self._settled is not None:
            return self._until_settled(*self._settled)
        return self._once() if self.averaging == 1 else self._mean()

    def _until_settled(self, tolerance: float, is_relative: bool) -> list[float]:
        """Readings until two in a row agree; what does not settle is bad."""
        take = self._once if self.averaging == 1 else self._mean
        before = take()
        for _ in range(MOST_SETTLING):
            now = take()
            apart = [i for i, (a, b) in enumerate(zip(before, now, strict=True))
                     if abs(a - b) > (tolerance * abs(b) if is_relative else tolerance)]  # fmt: skip
            before = now
            if not apart:
                return now
        for i in apart:
            self.bad.append(Bad(self.items[i].name, f"did not settle in {MOST_SETTLING} readings", f"{before[i]:.9g}"))
            before[i] = nan
        return before

    def _mean(self) -> list[float]:
        """The mean of so many readings; bad ones are left out and told, none left is a hole."""
        takes = [self._once() for _ in range(self.averaging)]
        means = []
        for values in zip(*takes, strict=True):
            good = [v for v in values if v == v]
            means.append(sum(good) / len(good) if good else nan)
        return means

    def _once(self) -> list[float]:
        values = [nan] * len(self.items)
        for round_ in self._rounds:
            if len(round_) == 1 and len(round_[0].items) == 1:
                query = round_[0]
                try:
                    values[query.places[0]] = query.value()
                except BadReading as error:
                    self._again(query, values, [Bad(query.items[0].name, error.reason, error.raw)])
                continue
            for query in round_:
                query.send()
            for query in round_:
                bad = self._take(query, values)
                if bad:
                    self._again(query, values, bad)
        return values

    @staticmethod
    def _take(query: _Query, values: list[float]) -> list[Bad]:
        """Takes the reply to a query that was sent; what is bad in it."""
        try:
            texts = query.texts()
        except BadReading as error:
            return [Bad(item.name, error.reason, error.raw) for item in query.items]
        bad = []
        for place, item, text in zip(query.places, query.items, texts, strict=True):
            try:
                values[place] = item.value(text)
            except BadReading as error:
                values[place] = nan
                bad.append(Bad(item.name, error.reason, error.raw))
        return bad

    def _again(self, query: _Query, values: list[float], bad: list[Bad]) -> None:
        """Repeats a query with a bad reply; what stays bad is kept as missing, with its reason."""
        for _ in range(self._tries - 1):
            query.send()
            bad = self._take(query, values)
            if not bad:
                return
        self.bad.extend(bad)


def _rounds(items: list[Item]) -> list[list[_Query]]:
    """One open query an instrument: the first of each, then the second of each, …"""
    groups: dict[tuple[int, object], list[int]] = {}
    for place, item in enumerate(items):
        # Channels of one scanner share a query; every other reading has its own.
        groups.setdefault((id(item.session), item.commands.select or place), []).append(place)
    queries: dict[int, list[_Query]] = {}
    for (session, _), places in groups.items():
        queries.setdefault(session, []).append(_Query(items[places[0]].session, [items[p] for p in places], places))
    longest = max(map(len, queries.values()))
    return [[mine[n] for mine in queries.values() if n < len(mine)] for n in range(longest)]
