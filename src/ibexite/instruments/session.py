"""A session: one connected instrument, its profile, its link, and what was said on it.

Recovery: when a link breaks or stays silent it is opened anew, the instrument must still be the same one, settings that
nothing has proved since are sent again, and whoever uses it asks back the state that it had (`User`). Then the question
is repeated once, so that a late reply can never be taken for the next one; queries that clear what they read are not
repeated. What was sent without being asked for puts all answers since the last proof in doubt.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Callable, Iterator
from typing import NamedTuple

from ibexite.errors import InstrumentError, LinkError
from ibexite.instruments.link import Data, Link, Reply, StrayError
from ibexite.instruments.profile import Profile
from ibexite.instruments.user import User, What
from ibexite.protocols.scpi import INFINITY, joined, response_value

MAX_ERRORS_READ = 200  # a queue of a sweep in which each point was refused; one that never ends is no queue
IDENTITY = "*IDN?"
MOST_TOLD = 1000  # bytes of a reply that may be long


class Message(NamedTuple):
    """A message made ready: what is told of it (its lines with a line feed between them), and its bytes."""

    what: What
    data: bytes


class Reconnected(LinkError):
    """The link was opened anew and the instrument is as it was; set-ups of readings are to be sent again, and asked."""


class Session:
    """Talks to one instrument for whoever uses it just now; what is said is told to that user."""

    def __init__(self, name: str, profile: Profile, link: Link, user: User) -> None:
        self.name, self.profile, self.link = name, profile, link
        self.user, self.users = user, [user]
        self.end = profile.terminator.encode("latin-1")
        self.identity = ""
        self.is_known = False  # it is the one that the bench file means: before, nothing is sent to it but the question
        self.selected = ""  # the scan list that was selected last
        self.configured: dict[str, str] = {}  # what was configured for each channel
        self.when_forgotten: list[Callable[[], None]] = []  # told when the set-ups of readings were lost
        self.recoveries: list[str] = []
        self.unproven: list[tuple[str, bool]] = []  # commands since the last answer, and whether they may be repeated
        self.has_left_behind = False  # commands on a link that was given up: they may be carried out yet
        self._has_recovered = False  # since the errors were read last

    def add(self, user: User) -> None:
        """One more uses it."""
        if user not in self.users:
            self.users.append(user)

    def remove(self, user: User) -> None:
        """One uses it no more."""
        self.users = [other for other in self.users if other is not user]
        if self.users and self.user is user:
            self.user = self.users[0]

    def doubt(self, what: str) -> None:
        """It is in doubt which answers belong to which questions, for all that use it."""
        for user in self.users:
            user.doubts.setdefault(self.name, f"{self.name} {what}")

    # --- exchanges ---------------------------------------------------------------------------------------------------

    def message(self, *texts: str) -> Message:
        """A message made ready: what is told of it (its lines with a line feed between them), and its bytes."""
        return Message((self.name, ">", "\n".join(texts)), b"".join(map(self._encoded, texts)))

    def _tell(self, direction: str, text: str) -> None:
        self.user.said.append((self.name, direction, text))
        self.user.said_at.append(self.user.now())

    def _tell_message(self, message: Message) -> None:
        self.user.said.append(message.what)
        self.user.said_at.append(self.user.now())

    def _encoded(self, text: str) -> bytes:
        return text.encode("latin-1") + self.end

    def send(self, text: str, *, may_repeat: bool = True) -> None:
        """Sends commands that have no reply.

        Args:
            may_repeat: carried out twice they mean the same (settings), so that they can be sent again.
        """
        user = self.user
        user.said.append((self.name, ">", text))
        user.said_at.append(user.now())
        self.unproven.append((text, may_repeat))
        try:
            self.link.send(text.encode("latin-1") + self.end)
        except LinkError as error:
            self._recover(error)  # which sends it again

    def ask(self, message: Message) -> None:
        """Sends a query; `answer` takes its reply. One open query at a time. Raises Reconnected."""
        user = self.user  # written out as in `exchange_once`
        user.said.append(message.what)
        user.said_at.append(user.now())
        try:
            self.link.ask(message.data)
        except LinkError as error:
            raise self._reconnected(error) from None

    def answer(self, message: Message) -> str:
        """The reply to the query that `ask` has sent. Raises Reconnected."""
        try:
            line = self.link.receive().decode("latin-1")
        except LinkError as error:
            raise self._reconnected(_naming(error, message)) from None
        if self.unproven:
            self.unproven.clear()
        user = self.user
        user.said.append((self.name, "<", line))
        user.said_at.append(user.now())
        return line

    def answer_with_block(self, message: Message) -> Data:
        """As `answer`, for a reply that is a definite length block: its content. Of that the length is told: what it
        says is in the records as a curve."""
        try:
            content = self.link.receive(Reply.BLOCK)
        except LinkError as error:
            raise self._reconnected(_naming(error, message)) from None
        self.unproven.clear()
        self._tell("<", f"#{len(str(len(content)))}{len(content)}…")
        return content

    def exchange_once(self, message: Message) -> str:
        """Asks and answers. Raises Reconnected: it is to be asked again, from its set-up on."""
        # What else are methods of their own is written out here: the loop over points comes by several times at each.
        user = self.user
        said, at = user.said, user.said_at
        said.append(message.what)
        at.append(user.now())
        try:
            line = self.link.exchange(message.data).decode("latin-1")
        except LinkError as error:
            raise self._reconnected(_naming(error, message)) from None
        if self.unproven:
            self.unproven.clear()
        said.append((self.name, "<", line))
        at.append(user.now())
        return line

    def exchange_as_it_is(self, message: Message) -> str:
        """Asks and answers; a broken link is not mended. Raises LinkError."""
        self._tell_message(message)
        return self._answered(self.link.exchange(message.data).decode("latin-1"))

    def query(self, text: str, *, may_repeat: bool = True) -> str:
        """Asks and answers, from a text; once more after a broken link unless the query clears what it reads."""
        message = self.message(text)
        try:
            return self.exchange_once(message)
        except Reconnected as error:
            if not may_repeat:
                raise LinkError(error.what, where=error.where, remedy=error.remedy) from None
        try:
            return self.exchange_as_it_is(message)
        except LinkError as error:
            raise _naming(error, message) from None

    def query_whole(self, text: str) -> Data:
        """The whole reply to a query, blocks and all. It is not repeated. Of a long one the length is told."""
        self.settle_link()
        message = self.message(text)
        self._tell_message(message)
        try:
            data = self.link.exchange(message.data, Reply.MESSAGE)
        except LinkError as error:
            error = _naming(error, message)
            self._recover(error)
            raise error from None
        shown = bytes(data).decode("latin-1")
        self._answered(shown if len(shown) <= MOST_TOLD else f"{shown[:MOST_TOLD]}… ({len(data)} bytes)")
        return data

    @contextlib.contextmanager
    def allowing(self, seconds: float) -> Iterator[None]:
        """Within it a reply may take so long."""
        usual = self.link.timeout
        self.link.allow(seconds)
        try:
            yield
        finally:
            self.link.allow(usual)

    def _answered(self, line: str) -> str:
        if self.unproven:
            self.unproven.clear()  # commands are carried out in order: what came before the query is done
        self._tell("<", line)
        return line

    def _reconnected(self, error: LinkError) -> Reconnected:
        """Mends the link, and says that whoever asked is to ask again, from its set-up on."""
        self._recover(error)
        return Reconnected(error.what, where=error.where, remedy=error.remedy)

    # --- recovery ----------------------------------------------------------------------------------------------------

    def _recover(self, error: LinkError) -> None:
        """Opens the link anew and brings the instrument to where it was; raises what hinders it."""
        self.recoveries.append(error.what)
        self._has_recovered = True
        if isinstance(error, StrayError):
            self.doubt(error.what)
        self.has_left_behind |= bool(self.unproven or self.name in self.user.doubts)
        self._tell("!", f"{error.what}; connecting anew")
        unproven, self.unproven = self.unproven, []
        self.link.reopen()
        self.forget()
        self._identify_again()
        for text, may_repeat in unproven:
            if not may_repeat:
                raise InstrumentError(
                    f"nobody knows whether {text!r} was carried out: {error.what}",
                    where=error.where,
                    remedy="It is not sent twice. Look at the instrument, and run again.",
                )
            self._tell(">", text)
            self.unproven.append((text, True))
            self.link.send(self._encoded(text))
        for user in self.users:
            user.after_recovery(self)

    def _identify_again(self) -> None:
        if not self.identity:
            return
        message = self.message(IDENTITY)
        self._tell_message(message)
        reply = self.link.ask_known(message.data, self.identity.encode("latin-1"))
        found = self._answered(reply.decode("latin-1")).strip()
        if found != self.identity:
            raise InstrumentError(
                f"another instrument answers after the link was opened anew: {found[:80]!r}",
                where=f"{self.name} at {self.link.address}",
                remedy=f"It was {self.identity!r}. Check address and cabling.",
            )

    def look_for_strays(self, seconds: float = 0.0) -> None:
        """Whether anything comes, within so many seconds, that nobody asked for; then the link is opened anew."""
        try:
            self.link.look(seconds)
        except LinkError as error:
            self._recover(error)

    def settle_link(self) -> None:
        """After an interruption: makes sure that no reply is still on its way."""
        if self.link.is_waiting:
            self.link.reopen()
            self.forget()
            self._tell("!", "connected anew after an interruption")
            self._identify_again()

    def give_up_state(self) -> None:
        """It is being made safe: from here on nothing that was set before is sent again or asked back."""
        self.has_left_behind |= bool(self.link.is_waiting and self.unproven)
        self.unproven.clear()

    def link_send(self, text: str) -> None:
        """Sends commands while the bench is made safe: a broken link is not mended here, the next role comes first."""
        self._tell(">", text)
        self.link.send(self._encoded(text))

    def link_ask_settings(self, settings: list[str], channel: int) -> list[float]:
        """The values of settings, as `link_send`. In the same message (where it takes several questions in one) it is
        asked who it is: that answer is known, so the others are no late replies to something else.

        Raises:
            InstrumentError: they may be.
        """
        texts = [self.question(setting, channel) for setting in settings] + [IDENTITY] * bool(self.identity)
        is_one = self.profile.is_compound
        replies = []
        for text in [joined(texts)] if is_one else texts:
            reply = self.exchange_as_it_is(self.message(text))
            replies += reply.split(";", len(texts) - 1) if is_one else [reply]
        if len(replies) != len(texts) or (self.identity and replies[-1].strip() != self.identity):
            self.link.is_waiting = True  # the next try opens it anew
            raise InstrumentError(f"its replies belong to other questions: {replies[-1][:60]!r}", where=self.name)
        return [self.held(setting, channel, reply) for setting, reply in zip(settings, replies, strict=False)]

    # --- what every instrument can do --------------------------------------------------------------------------------

    def identify(self, expected: str) -> None:
        """Asks *IDN? and compares it with a pattern ("" takes any).

        Raises:
            InstrumentError: another instrument answers at this address.
        """
        self.identity = self.query(IDENTITY).strip()
        self.is_known = not expected or re.match(expected, self.identity) is not None
        if not self.is_known:
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
        with self.allowing(self.profile.waits.starting):
            for command in self.profile.start:
                self.send(command)
            if self.profile.complete_query:
                self.check_complete(self.query(self.profile.complete_query))
        self.selected, self.configured = "", {}

    def check_complete(self, reply: str) -> None:
        """Whether the reply to the complete_query says that all settings were carried out: it must be 1.

        Raises:
            InstrumentError: anything else.
        """
        try:
            if response_value(reply) == 1:
                return
        except ValueError:
            pass
        raise InstrumentError(
            f"answered {reply!r} when asked whether its settings were carried out",
            where=self.name,
            remedy=f"1 says so. Check complete_query of profile {self.profile.name}.",
        )

    def forget(self) -> None:
        """Something happened of which nobody knows what it changed: set-ups of readings are sent anew."""
        self.selected, self.configured = "", {}
        for tell in self.when_forgotten:
            tell()

    def errors_after(self, entry: str) -> list[str]:
        """Empties the error queue, of which the first entry was asked; the entries, oldest first.

        Query errors (-4xx) are left out after a recovery: repeating the question has caused them.
        """
        entries: list[str] = []
        entry = entry.strip()
        while not re.match(r"[+-]?0+(\D|$)", entry) and len(entries) < MAX_ERRORS_READ:
            entries.append(entry)
            entry = self.query(self.profile.error_query, may_repeat=False).strip()
        if self._has_recovered:
            self._has_recovered = False
            return [entry for entry in entries if not re.match(r"-4\d\d\D", entry)]
        return entries

    def says_yes(self, reply: str, key: str) -> bool:
        """Whether a status register (limiting, tripped) is not zero.

        Raises:
            InstrumentError: the reply is no number.
        """
        try:
            value = response_value(reply)
            if abs(value) >= 0.999 * INFINITY:
                raise ValueError
            return value != 0
        except ValueError:
            raise InstrumentError(
                f"answered {reply!r} when its status was asked",
                where=self.name,
                remedy=f"Check {key} of profile {self.profile.name}.",
            ) from None

    def question(self, setting: str, channel: int) -> str:
        """The query for a setting."""
        return self.profile.settings[setting].ask.replace("{channel}", str(channel))

    def ask_setting(self, setting: str, channel: int) -> float:
        """The value that the instrument has now, in base units (1.0 or 0.0 for on/off)."""
        return self.held(setting, channel, self.query(self.question(setting, channel)))

    def is_base(self, setting: str) -> bool:
        """True if the instrument tells a setting in base units."""
        unit = self.profile.settings[setting].unit
        return unit.factor == 1 and not unit.offset

    def held(self, setting: str, channel: int, reply: str) -> float:
        """The value that a reply to the query of a setting tells, in base units (1.0 or 0.0 for on/off).

        Raises:
            InstrumentError: it is no number, and neither on nor off.
        """
        try:
            return self.profile.settings[setting].told(reply.strip())
        except ValueError:
            raise InstrumentError(
                f"answered {reply.strip()!r} to {self.question(setting, channel)}",
                where=self.name,
                remedy=f"Check {setting}.ask of profile {self.profile.name}.",
            ) from None


def _naming(error: LinkError, message: Message) -> LinkError:
    """The same error with the question that it came upon."""
    if isinstance(error, StrayError):
        return error
    asked = message.what[2].rpartition("\n")[2]
    return LinkError(f"{error.what} after {asked!r}", where=error.where, remedy=error.remedy)
