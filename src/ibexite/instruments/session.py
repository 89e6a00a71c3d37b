"""A session: one connected instrument, and what every instrument can be asked: who it is, whether all is carried out,
what went wrong, what it is set to."""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable

from ibexite.errors import IbexiteError, InstrumentError
from ibexite.instruments.exchanges import Exchanges, Message, Reconnected
from ibexite.instruments.settings import Value
from ibexite.instruments.status import Status
from ibexite.protocols.checksums import RULES
from ibexite.protocols.scpi import joined

__all__ = ["Message", "Reconnected", "Session"]
MAX_ERRORS_READ = 200  # a queue of a sweep in which each point was refused; one that never ends is no queue


class Session(Exchanges):
    """One instrument with its profile, for whoever uses it just now."""

    def identify(self, expected: str) -> None:
        """Asks who it is and compares that with a pattern ("" takes any). One that cannot be asked counts as known.

        Raises:
            InstrumentError: another instrument answers at this address.
        """
        asked = self.profile.identity
        if asked.query:
            is_one = self.take_identity(self.query(asked.query))
            self.is_known = is_one and (not expected or re.match(expected, self.identity) is not None)
            expected = expected if is_one else asked.reply.text
        else:
            self.is_known = True
        if not self.is_known:
            raise InstrumentError(
                f"another instrument answers: {self.identity!r}",
                where=f"{self.name} at {self.link.address}",
                remedy=f"The bench file expects identity {expected!r}. Check address and cabling.",
            )

    @property
    def identity_pattern(self) -> str:
        """A regular expression for a reply that says it is this one; "" where it cannot be asked."""
        return (
            self._signed_pattern(self.profile.identity.reply.pattern(re.escape(self.identity))) if self.identity else ""
        )

    def switch_patterns(self, setting: str, channel: int, is_on: bool) -> tuple[list[str], list[str]]:
        """Regular expressions for replies that say a setting is on, or off; and for those that say the other thing."""
        speech = self.profile.settings[setting].speech.of_channel(channel)
        wanted, others = ([self._signed_pattern(p) for p in speech.switch_patterns(v)] for v in (is_on, not is_on))
        return wanted, others

    def _signed_pattern(self, pattern: str) -> str:
        rule = RULES.get(self.profile.checksum)
        return pattern if rule is None else f"(?:{pattern})[0-9A-F]{{{rule.digits}}}"

    def signed(self, text: str) -> str:
        """A command as it goes over the line, without its end: with a checksum where it has one."""
        rule = RULES.get(self.profile.checksum)
        return text if rule is None else text + rule.text(text.encode("latin-1")).decode()

    @property
    def is_simulated(self) -> bool:
        """True if the instrument says so in its identity, or cannot be asked and is known to be a stand-in."""
        return "SIMULATED" in self.identity or (self._is_stand_in and not self.identity)

    def start(self) -> None:
        """Brings it into its known state, outputs off, error queue empty."""
        with self.allowing(self.profile.waits.starting):
            for command in self.profile.start:
                self.send(command)
            self.wait_until_complete()
        self.selected, self.configured = "", {}

    def wait_until_complete(self) -> None:
        """Returns when all commands that were sent are carried out, as its profile says how that is known.

        Raises:
            InstrumentError: it answers something else, or does not say so in time.
        """
        complete = self.profile.complete
        if complete.clearing:
            self.query(complete.clearing, may_repeat=False)
        if complete.command:
            self.send(complete.command)
        if complete.delay:
            self.user.wait(complete.delay)
        if complete.query and not complete.every:
            self.check_complete(self.query(complete.query))
        elif complete.query:
            self._poll_until(self._says_complete)
        elif complete.status_byte:
            self._poll_until(lambda: bool(self.status_byte() & complete.status_byte))
            self.query(complete.clearing, may_repeat=False)

    def _says_complete(self) -> bool:
        complete = self.profile.complete
        reply = self.query(complete.query, may_repeat=not complete.command)
        if not complete.is_answer(reply):
            self.check_complete(reply)
        return complete.is_complete(reply)

    def _poll_until(self, is_complete: Callable[[], bool]) -> None:
        complete = self.profile.complete
        deadline = self.user.now() + complete.timeout
        while True:
            if is_complete():
                return
            if self.user.now() > deadline:
                raise InstrumentError(
                    f"has not carried out its settings after {complete.timeout:g} s", where=self.name,
                    remedy=f"Look at it, or write a longer timeout into complete of profile {self.profile.name}.",
                )  # fmt: skip
            self.user.heed()
            self.user.wait(complete.every)

    def check_complete(self, reply: str) -> None:
        """Whether the reply to the query of `complete` says that all settings were carried out: it must be 1, or as the
        profile says.

        Raises:
            InstrumentError: anything else.
        """
        if self.profile.complete.is_complete(reply):
            return
        raise InstrumentError(
            f"answered {reply!r} when asked whether its settings were carried out",
            where=self.name,
            remedy=f"1 says so, unless another reply is named. Check complete of profile {self.profile.name}.",
        )

    def give_back_panel(self) -> None:
        """Lets people use its front panel again, where its profile says how; nothing depends on it."""
        for command in self.profile.local if self.is_known else ():
            with contextlib.suppress(IbexiteError):
                self.link_send(command)

    def errors_after(self, entry: str) -> list[str]:
        """Empties the error queue, of which the first entry was asked; the entries, oldest first.

        Query errors (-4xx) are left out after a recovery: repeating the question has caused them.
        """
        entries: list[str] = []
        entry, errors = entry.strip(), self.profile.errors
        while not errors.is_none(entry) and len(entries) < MAX_ERRORS_READ:
            entries.append(entry)
            if not errors.is_queue:
                break
            entry = self.query(errors.query, may_repeat=False).strip()
        if self._has_recovered:
            self._has_recovered = False
            return [entry for entry in entries if not re.match(r"-4\d\d\D", entry)]
        return entries

    def says_yes(self, status: Status, reply: str, key: str) -> bool:
        """Whether a reply to a question about its state (limiting, tripped) says yes.

        Raises:
            InstrumentError: it says neither yes nor no.
        """
        try:
            return status.says_yes(reply)
        except ValueError:
            raise InstrumentError(
                f"answered {reply!r} when its status was asked",
                where=self.name,
                remedy=f"Check {key} of profile {self.profile.name}.",
            ) from None

    def question(self, setting: str, channel: int) -> str:
        """The query for a setting."""
        commands = self.profile.settings[setting]
        return commands.speech.at(commands.ask, channel)

    def link_ask_settings(self, settings: list[str], channel: int) -> list[Value]:
        """The values of settings that can be asked, as `link_send`. In the same message (where it takes several
        questions in one) it is asked who it is: that answer is known, so the others are no late replies.

        Raises:
            InstrumentError: they may be.
        """
        texts = [self.question(setting, channel) for setting in settings] + [self.profile.identity.query] * bool(
            self.identity
        )
        is_one = self.profile.is_compound and len(texts) > 1
        replies: list[str] = []
        for text in [joined(texts)] if is_one else texts:
            reply = self.exchange_as_it_is(self.message(text))
            replies += reply.split(";", len(texts) - 1) if is_one else [reply]
        if len(replies) != len(texts) or (self.identity and not self.is_identity(replies[-1])):
            self.link.is_waiting = True  # the next try opens it anew
            raise InstrumentError(f"its replies belong to other questions: {replies[-1][:60]!r}", where=self.name)
        return [self.held(setting, channel, reply) for setting, reply in zip(settings, replies, strict=False)]

    def can_ask(self, setting: str) -> bool:
        """Whether a setting can be asked back."""
        return self.profile.settings[setting].can_be_asked

    def ask_setting(self, setting: str, channel: int) -> Value:
        """The value that the instrument has now, in base units (1.0 or 0.0 for on/off)."""
        return self.held(setting, channel, self.query(self.question(setting, channel)))

    def is_base(self, setting: str) -> bool:
        """True if the instrument tells a setting as a bare number in base units."""
        commands = self.profile.settings[setting]
        return (
            commands.is_number and commands.speech.is_plain and commands.unit.factor == 1 and not commands.unit.offset
        )

    def held(self, setting: str, channel: int, reply: str) -> Value:
        """The value that a reply to the query of a setting tells, in base units (1.0 or 0.0 for on/off).

        Raises:
            InstrumentError: it is no such value.
        """
        try:
            return self.profile.settings[setting].held(reply.strip(), channel)
        except ValueError:
            raise InstrumentError(
                f"answered {reply.strip()!r} to {self.question(setting, channel)}",
                where=self.name,
                remedy=f"Check {setting}.ask of profile {self.profile.name}.",
            ) from None
