"""What is said to one connected instrument, and how a broken link is mended.

Recovery: when a link breaks or stays silent it is opened anew, the instrument must still be the same one, settings that
nothing has proved since are sent again, and whoever uses it asks back the state that it had (`User`). Then the question
is repeated once, so that a late reply can never be taken for the next one; queries that clear what they read are not
repeated. What was sent without being asked for puts all answers since the last proof in doubt.
"""

from __future__ import annotations

import contextlib
import hashlib
from collections.abc import Callable, Iterator
from typing import NamedTuple, TypeVar

from ibexite.errors import IbexiteError, InstrumentError, LinkError
from ibexite.instruments.link import Data, Lines, Link, Reply, StrayError
from ibexite.instruments.profile import Profile
from ibexite.instruments.user import User

MAX_ERRORS_READ = 200  # a queue of a sweep in which each point was refused; one that never ends is no queue
MOST_TOLD = 1000  # bytes of a reply that is told as a text
# What is told about links; replays of runs know it by this.
CONNECTING_ANEW, NOT_OPENED = "; connecting anew", "not connected: "
INTERRUPTED, STATUS_BYTE = "connected anew after an interruption", "status byte "
Told = TypeVar("Told", str, bytes | bytearray)


def told_command(text: str) -> str:
    """What is told of a command: all of it, but of a long block only its size and hash.

    >>> told_command("TRAC:DATA WAVE,#41100" + 1100 * "x")[:38]
    'TRAC:DATA WAVE,#(1,100 bytes, SHA-256 '
    """
    head, mark, block = text.partition("#")
    if len(text) <= MOST_TOLD or not mark or not block[:1].isdigit():
        return text
    content = block[1 + int(block[0]) :].encode("latin-1")
    return f"{head}#({len(content):,} bytes, SHA-256 {hashlib.sha256(content).hexdigest()[:16]})"


class Message(NamedTuple):
    """A message made ready: what is told of it (its lines with a line feed between them), and its bytes."""

    what: tuple[str, str, str]
    data: bytes

    @property
    def text(self) -> str:
        """Its lines."""
        return self.what[2]


class Reconnected(LinkError):
    """The link was opened anew and the instrument is as it was; set-ups of readings are to be sent again, and asked."""


class Exchanges:
    """Talks to one instrument for whoever uses it just now; what is said is told to that user."""

    def __init__(self, name: str, profile: Profile, link: Link, user: User, *, is_stand_in: bool = False) -> None:
        """is_stand_in: it is simulated, also where it cannot say so because it is not asked who it is."""
        self.name, self.profile, self.link = name, profile, link
        self._is_stand_in = is_stand_in
        self.user, self.users = user, [user]
        self.end = profile.terminator.encode("latin-1")
        self.identity = ""
        self._identity_reply = b""  # in which it was said
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

    def _tell(self, direction: str, text: str | Data) -> None:
        self.user.tell(self.name, direction, text)

    def _tell_message(self, message: Message) -> None:
        self.user.tell(*message.what)

    def _encoded(self, text: str) -> bytes:
        return text.encode("latin-1") + self.end

    def send(self, text: str, *, may_repeat: bool = True) -> None:
        """Sends commands that have no reply.

        Args:
            may_repeat: carried out twice they mean the same (settings), so that they can be sent again.
        """
        user = self.user
        user.said.append((self.name, ">", text if len(text) <= MOST_TOLD else told_command(text)))
        user.said_at.append(user.stamp())
        self.unproven.append((text, may_repeat))
        try:
            self._put(text)
        except LinkError as error:
            self._recover(error)  # which sends it again

    def _put(self, text: str) -> None:
        """Sends commands; where it acknowledges each, one by one, with its answer behind each.

        Raises:
            InstrumentError: it answers something else, so it did not take it.
        """
        if not self.profile.acknowledge:
            self.link.send(text.encode("latin-1") + self.end)
            return
        for command in text.split(self.profile.terminator):
            reply = self.link.exchange(self._encoded(command)).decode("latin-1")
            self._tell("<", reply)
            if reply.strip().upper() not in (word.strip().upper() for word in self.profile.acknowledge):
                self.unproven.clear()
                known = " or ".join(word or "an empty line" for word in self.profile.acknowledge)
                raise InstrumentError(
                    f"answered {reply[:80]!r} to {command!r}", where=self.name,
                    remedy=f"It acknowledges with {known} what it has carried out.",
                )  # fmt: skip
        self.unproven.clear()

    def ask(self, message: Message) -> None:
        """Sends a query; `answer` takes its reply. One open query at a time. Raises Reconnected."""
        user = self.user  # written out as in `exchange_once`
        user.said.append(message.what)
        user.said_at.append(user.stamp())
        try:
            self.link.ask(message.data)
        except LinkError as error:
            raise self._reconnected(error) from None

    def answer(self, message: Message, reply: Reply | Lines = Reply.LINE) -> str:
        """The reply to the query that `ask` has sent. Raises Reconnected."""
        try:
            line = self.link.receive(reply).decode("latin-1")
        except LinkError as error:
            raise self._reconnected(_naming(error, message)) from None
        if self.unproven:
            self.unproven.clear()
        user = self.user
        user.said.append((self.name, "<", line))
        user.said_at.append(user.stamp())
        return line

    def answer_with_block(self, message: Message) -> Data:
        """As `answer`, for a reply that is a definite length block: its content."""
        try:
            content = self.link.receive(Reply.BLOCK)
        except LinkError as error:
            raise self._reconnected(_naming(error, message)) from None
        self.unproven.clear()
        self._tell("<", content)
        return content

    def exchange_once(self, message: Message, reply: Reply | Lines = Reply.LINE) -> str:
        """Asks and answers. Raises Reconnected: it is to be asked again, from its set-up on."""
        # What else are methods of their own is written out here: the loop over points comes by several times at each.
        user = self.user
        said, at = user.said, user.said_at
        said.append(message.what)
        at.append(user.stamp())
        try:
            line = self.link.exchange(message.data, reply).decode("latin-1")
        except LinkError as error:
            raise self._reconnected(_naming(error, message)) from None
        if self.unproven:
            self.unproven.clear()
        said.append((self.name, "<", line))
        at.append(user.stamp())
        return line

    def exchange_as_it_is(self, message: Message) -> str:
        """Asks and answers; a broken link is not mended. Raises LinkError."""
        self._tell_message(message)
        with self._telling_failure():
            reply = self.link.exchange(message.data).decode("latin-1")
        return self._answered(reply)

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

    def query_whole(self, text: str, reply: Reply | Lines = Reply.MESSAGE) -> Data:
        """The whole reply to a query, blocks and all. It is not repeated."""
        self.settle_link()
        message = self.message(text)
        self._tell_message(message)
        try:
            data = self.link.exchange(message.data, reply)
        except LinkError as error:
            error = _naming(error, message)
            self._recover(error)
            raise error from None
        if len(data) <= MOST_TOLD:
            self._answered(bytes(data).decode("latin-1"))
        else:
            self._answered(data)
        return data

    def status_byte(self) -> int:
        """The status byte (IEEE 488.2, 11.2). Raises LinkError."""
        with self._telling_failure():
            status = self.link.status_byte()
        self._tell("!", STATUS_BYTE + str(status))
        return status

    @contextlib.contextmanager
    def allowing(self, seconds: float) -> Iterator[None]:
        """Within it a reply may take so long."""
        usual = self.link.timeout
        self.link.allow(seconds)
        try:
            yield
        finally:
            self.link.allow(usual)

    def _answered(self, reply: Told) -> Told:
        if self.unproven:
            self.unproven.clear()  # commands are carried out in order: what came before the query is done
        self._tell("<", reply)
        return reply

    @contextlib.contextmanager
    def _telling_failure(self, what: str = "") -> Iterator[None]:
        """Within it a link that fails is not mended, but told."""
        try:
            yield
        except LinkError as error:
            self._tell("!", failure_text(error, what))
            raise

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
        self._tell("!", failure_text(error, after=CONNECTING_ANEW))
        unproven, self.unproven = self.unproven, []
        with self._telling_failure(NOT_OPENED):
            self.link.reopen()
        self.forget()
        self._identify_again()
        for text, may_repeat in unproven:
            if not may_repeat:
                raise InstrumentError(
                    f"nobody knows whether {told_command(text)!r} was carried out: {error.what}",
                    where=error.where,
                    remedy="It is not sent twice. Look at the instrument, and run again.",
                )
            self._tell(">", told_command(text))
            self.unproven.append((text, True))
            with self._telling_failure():
                self._put(text)
        for user in self.users:
            user.after_recovery(self)

    def _identify_again(self) -> None:
        if not self.identity:
            return
        message = self.message(self.profile.identity.query)
        self._tell_message(message)
        with self._telling_failure():
            reply = self.link.ask_known(message.data, self._identity_reply)
        found = self._answered(reply.decode("latin-1"))
        if not self.is_identity(found):
            raise InstrumentError(
                f"another instrument answers after the link was opened anew: {found.strip()[:80]!r}",
                where=f"{self.name} at {self.link.address}",
                remedy=f"It was {self.identity!r}. Check address and cabling.",
            )

    def take_identity(self, reply: str) -> bool:
        """From here on it is the one that gave this reply; False if that does not look as its profile says."""
        self._identity_reply = reply.strip().encode("latin-1")
        try:
            self.identity = self.profile.identity.of(reply)
        except ValueError:
            self.identity = reply.strip()
            return False
        return True

    def is_identity(self, reply: str) -> bool:
        """Whether a reply to the question who it is says the same as at the beginning."""
        try:
            return self.profile.identity.of(reply) == self.identity
        except ValueError:
            return False

    def forget(self) -> None:
        """Something happened of which nobody knows what it changed: set-ups of readings are sent anew."""
        self.selected, self.configured = "", {}
        for tell in self.when_forgotten:
            tell()

    def look_for_strays(self, seconds: float = 0.0) -> None:
        """Whether anything comes, within so many seconds, that nobody asked for; then the link is opened anew."""
        try:
            self.link.look(seconds)
        except LinkError as error:
            self._recover(error)

    def settle_link(self) -> None:
        """After an interruption: makes sure that no reply is still on its way."""
        if self.link.is_waiting:
            with self._telling_failure(NOT_OPENED):
                self.link.reopen()
            self.forget()
            self._tell("!", INTERRUPTED)
            self._identify_again()

    def give_up_state(self) -> None:
        """It is being made safe: from here on nothing that was set before is sent again or asked back."""
        self.has_left_behind |= bool(self.link.is_waiting and self.unproven)
        self.unproven.clear()

    def link_send(self, text: str) -> None:
        """Sends commands while the bench is made safe: a broken link is not mended here, the next role comes first."""
        self._tell(">", text)
        with self._telling_failure():
            self._put(text)


def failure_text(error: IbexiteError, before: str = "", after: str = "") -> str:
    """What is told of what failed: what happened, and in a second line what to do, if that is known."""
    return f"{before}{error.what}{after}" + (f"\n{error.remedy}" if error.remedy else "")


def named_after(asked: str) -> str:
    """How an error ends that came upon a question; of several lines the last one is the question."""
    return f" after {asked.rpartition(chr(10))[2]!r}"


def _naming(error: LinkError, message: Message) -> LinkError:
    """The same error with the question that it came upon."""
    if isinstance(error, StrayError):
        return error
    return LinkError(error.what + named_after(message.text), where=error.where, remedy=error.remedy)
