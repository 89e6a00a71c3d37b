"""A session: one connected instrument, its profile, its link, and what was said on it.

Recovery: when a link breaks or stays silent it is opened anew once and the exchange repeated, so that a late reply can
never be taken for the next one; queries that clear what they read are not repeated. The second failure is an error.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import NamedTuple

from ibexite.errors import InstrumentError, LinkError
from ibexite.instruments.link import SocketLink
from ibexite.instruments.profile import Profile

MAX_ERRORS_READ = 25


class Message(NamedTuple):
    """A message made ready: what is told of it in the traffic, and its bytes."""

    told: tuple[str, ...]
    data: bytes


class Session:
    """Talks to one instrument. `traffic` receives a line of text for everything sent and received."""

    def __init__(self, name: str, profile: Profile, link: SocketLink, traffic: list[str]) -> None:
        self.name, self.profile, self.link = name, profile, link
        self.traffic = traffic
        self.end = profile.terminator.encode("latin-1")
        self.identity = ""
        self.selected = ""  # the scan list that was selected last
        self.configured: dict[str, str] = {}  # what was configured for each channel
        self.generation = 0  # counts how often the set-ups of readings were lost
        self.recoveries: list[str] = []
        self._has_recovered = False  # since the errors were read last
        self.is_unproven = False  # a setting was sent and nothing was answered since
        self._sent_mark, self._got_mark = f"{name}> ", f"{name}< "

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def message(self, *texts: str) -> Message:
        """A message made ready: what is told of it, and its bytes."""
        return Message(tuple(self._sent_mark + text for text in texts), b"".join(map(self._encoded, texts)))

    def _encoded(self, text: str) -> bytes:
        return text.encode("latin-1") + self.end

    def send(self, text: str) -> None:
        """Sends commands that have no reply."""
        self.traffic.append(self._sent_mark + text)
        self.is_unproven = True
        data = text.encode("latin-1") + self.end
        try:
            self.link.send_bytes(data)
        except OSError as error:
            self._recover(self.link.broken(error))
            self.link.send(data)

    def ask(self, message: Message) -> None:
        """Sends a query; `answer` takes its reply. One open query at a time."""
        self.traffic.extend(message.told)
        link = self.link
        link.is_waiting = True
        try:
            link.send_bytes(message.data)
        except OSError as error:
            self._recover(link.broken(error))
            link.is_waiting = True
            link.send(message.data)

    def answer(self, message: Message, *, may_repeat: bool = True) -> str:
        """The reply to the query that `ask` has sent."""
        try:
            line = self.link.receive().decode("latin-1")
        except LinkError as error:
            line = self._repeated(message, error, may_repeat)
        self.is_unproven = False  # commands are carried out in order: what came before the query is done
        self.traffic.append(self._got_mark + line)
        return line

    def exchange(self, message: Message, *, may_repeat: bool = True) -> str:
        """Asks and answers."""
        self.traffic.extend(message.told)
        try:
            line = self.link.exchange(message.data).decode("latin-1")
        except LinkError as error:
            line = self._repeated(message, error, may_repeat)
        self.is_unproven = False
        self.traffic.append(self._got_mark + line)
        return line

    def query(self, text: str, *, may_repeat: bool = True) -> str:
        """Asks and answers, from a text."""
        return self.exchange(self.message(text), may_repeat=may_repeat)

    def _repeated(self, message: Message, error: LinkError, may_repeat: bool) -> str:
        if not may_repeat:
            raise error
        self._recover(error)
        self.traffic.extend(message.told)
        return self.link.exchange(message.data).decode("latin-1")

    def _recover(self, error: LinkError) -> None:
        self.recoveries.append(error.what)
        self._has_recovered = True
        self.traffic.append(f"{self.name}! {error.what}; connecting anew")
        self.link.reopen()

    def settle_link(self) -> None:
        """After an interruption: makes sure that no reply is still on its way."""
        if self.link.is_waiting:
            self.link.reopen()
            self.traffic.append(f"{self.name}! connected anew after an interruption")

    # --- what every instrument can do --------------------------------------------------------------------------------

    def identify(self, expected: str) -> None:
        """Asks *IDN? and compares it with a pattern ("" takes any).

        Raises:
            InstrumentError: another instrument answers at this address.
        """
        self.identity = self.query("*IDN?").strip()
        if expected and not re.match(expected, self.identity):
            raise InstrumentError(
                f"another instrument answers: {self.identity!r}",
                where=f"{self.name} at {self.link.address}",
                remedy=f"The bench file expects identity {expected!r}. Check address and cabling.",
            )

    @property
    def is_simulated(self) -> bool:
        """True if the instrument says so in its identity."""
        return "SIMULATED" in self.identity

    def start(self) -> None:
        """Brings it into its known state, outputs off, error queue empty."""
        for command in self.profile.start:
            self.send(command)
        if self.profile.complete_query:
            self.query(self.profile.complete_query)
        self.selected, self.configured = "", {}

    def forget(self) -> None:
        """Something was sent of which nobody knows what it changed: set-ups of readings are sent anew."""
        self.selected, self.configured = "", {}
        self.generation += 1

    def answer_errors(self) -> list[str]:
        """Empties the error queue, whose query was asked; the entries, oldest first.

        Query errors (-4xx) are left out after a recovery: repeating the question has caused them.
        """
        entries: list[str] = []
        entry = self.answer(self.message(self.profile.error_query), may_repeat=False).strip()
        while not re.match(r"[+-]?0+(\D|$)", entry) and len(entries) < MAX_ERRORS_READ:
            entries.append(entry)
            entry = self.query(self.profile.error_query, may_repeat=False).strip()
        if self._has_recovered:
            self._has_recovered = False
            return [entry for entry in entries if not re.match(r"-4\d\d\D", entry)]
        return entries

    def answer_limiting(self) -> bool:
        """True if it limited since last asked; its query was asked. Clears what it reads."""
        reply = self.answer(self.message(self.profile.limiting_query), may_repeat=False).strip()
        try:
            return int(reply) != 0
        except ValueError:
            raise InstrumentError(
                f"answered {reply!r} when asked whether it limits",
                where=self.name,
                remedy=f"Check limiting_query of profile {self.profile.name}.",
            ) from None

    def encoder(self, setting: str, channel: int) -> Callable[[float], str]:
        """The function that makes the command of a setting from a value in base units (True/False for on/off)."""
        commands = self.profile.settings[setting]
        before, _, after = commands.write.replace("{channel}", str(channel)).partition("{value}")
        if commands.feature.dimension is None:
            on, off = before + "ON" + after, before + "OFF" + after
            return lambda value: on if value else off
        factor, offset = float(commands.unit.factor), float(commands.unit.offset)
        if factor == 1 and not offset:
            return lambda value: f"{before}{value:.9g}{after}"
        return lambda value: f"{before}{(value - offset) / factor:.9g}{after}"

    def question(self, setting: str, channel: int) -> str:
        """The query for a setting."""
        return self.profile.settings[setting].ask.replace("{channel}", str(channel))

    def ask_setting(self, setting: str, channel: int) -> float:
        """The value that the instrument has now, in base units (1.0 or 0.0 for on/off)."""
        text = self.question(setting, channel)
        reply = self.query(text).strip()
        words = {"ON": 1.0, "OFF": 0.0}
        unit = self.profile.settings[setting].unit
        try:
            if reply.upper() in words:
                return words[reply.upper()]
            return float(reply) * float(unit.factor) + float(unit.offset)
        except ValueError:
            raise InstrumentError(
                f"answered {reply!r} to {text}",
                where=self.name,
                remedy=f"Check {setting}.ask of profile {self.profile.name}.",
            ) from None
