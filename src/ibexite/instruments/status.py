"""What an instrument says of its own state: whether it limits, whether a protection tripped, whether all that was set
is carried out."""

from __future__ import annotations

from ibexite import units
from ibexite.frozen import frozen
from ibexite.instruments.command_keys import CHANNEL, check_command, command_of, question_of
from ibexite.instruments.speech_keys import words_of
from ibexite.instruments.times import TIMEOUT, timeout_of
from ibexite.protocols.scpi import INFINITY, response_value
from ibexite.protocols.speech import Speech
from ibexite.toml_reader import TomlTable

OPC = "*OPC?"  # IEEE 488.2, 10.19: answers 1 when all pending operations are finished
MOST_DELAY = 60.0  # s


@frozen
class Status:
    """A question about its state. The reply is a number, of which some bits say yes (all of them where none is named);
    or a word, of which it is known which say yes and which no."""

    query: str
    mask: int = 0
    yes: tuple[str, ...] = ()
    no: tuple[str, ...] = ()
    speech: Speech = Speech()

    def at(self, channel: int) -> str:
        """The query for a channel."""
        return self.speech.at(self.query, channel)

    def says_yes(self, reply: str) -> bool:
        """What a reply says. Raises ValueError: neither yes nor no."""
        word = reply.strip().upper()
        if self.yes:
            if word in (text.upper() for text in self.yes):
                return True
            if word in (text.upper() for text in self.no):
                return False
            raise ValueError(reply)
        value = response_value(word)
        if abs(value) >= 0.999 * INFINITY or (self.mask and value != int(value)):
            raise ValueError(reply)
        return bool(int(value) & self.mask) if self.mask else value != 0

    def answer(self, is_so: bool) -> str:
        """What an instrument answers of which it is so, or not so."""
        words = self.yes if is_so else self.no
        return words[0] if words else str((self.mask or 1) if is_so else 0)


def status_of(
    table: TomlTable, key: str, speech: Speech, value: object = None, gaps: tuple[str, ...] = CHANNEL
) -> Status | None:
    """The question that stands there: a query whose answer is not 0, or a table that says more; None for "". `speech`
    is that of the instrument."""
    value = table.value(key) if value is None else value
    if isinstance(value, str):
        check_command(table, key, value, gaps, is_question=True)
        return Status(value, speech=speech) if value else None
    if not isinstance(value, dict):
        table.note(key, f"{value!r} does not fit", "It takes a query, or a table with more.")
        return None
    entry = table.within(key, value)
    made = _status(entry, speech, gaps)
    entry.finish()
    return made


def _status(entry: TomlTable, speech: Speech, gaps: tuple[str, ...] = CHANNEL) -> Status:
    bits = entry.value("bits") if "bits" in entry else []
    if not isinstance(bits, list) or any(type(bit) is not int or not 0 <= bit < 32 for bit in bits):
        entry.note("bits", "not some numbers of bits", "Write, for example: bits = [0, 3]")
        bits = []
    yes, no = (words_of(entry, key) if key in entry else () for key in ("yes", "no"))
    if bool(yes) != bool(no) or (yes and bits):
        entry.note("yes", "both the words for yes and for no are named, or bits", 'Write: yes = ["CC"], no = ["CV"]')
    if {word.upper() for word in yes} & {word.upper() for word in no}:
        entry.note("no", "the same word says yes", "Nobody could tell which of them it is.")
    return Status(question_of(entry, "query", gaps), sum(1 << bit for bit in set(bits)), yes, no, speech)


@frozen
class Synchrony:
    """How it is known that all settings were carried out: a query that answers when they are (`every` is 0), one that
    is repeated until it says yes, or a time that is waited. `command` is sent before. With `status_byte` that is looked
    at, over the link, until one of these bits is set; the query `clearing` takes them back, before and behind."""

    status: Status | None
    command: str = ""
    every: float = 0.0  # s
    timeout: float = TIMEOUT  # s, of all repetitions
    delay: float = 0.0  # s
    status_byte: int = 0  # a mask
    clearing: str = ""

    @property
    def query(self) -> str:
        """The query, "" where only a time is waited."""
        return self.status.query if self.status is not None else ""

    @property
    def is_asked_once(self) -> bool:
        """True for a query that answers when all is done, so that others can be joined to it."""
        return self.status is not None and not self.every and not self.command

    @property
    def is_waited_for(self) -> bool:
        """True where there is something to wait for, and nothing that others can be joined to."""
        return not self.is_asked_once and (self.status is not None or self.delay > 0 or self.status_byte > 0)

    def is_complete(self, reply: str) -> bool:
        """Whether a reply says so. Only 1, or a word for yes, does."""
        status = self.status
        assert status is not None
        try:
            if status.yes or status.mask:
                return status.says_yes(reply)
            return response_value(reply) == 1
        except ValueError:
            return False

    def is_answer(self, reply: str) -> bool:
        """Whether a reply is one at all: yes or no."""
        assert self.status is not None
        try:
            self.status.says_yes(reply)
        except ValueError:
            return False
        return True


def synchrony_of(table: TomlTable) -> Synchrony:
    """What stands under `complete`: a query, or a table that says more."""
    if "complete" not in table:
        return Synchrony(Status(OPC))
    if isinstance(table.value("complete"), str):
        return Synchrony(status_of(table, "complete", Speech(), gaps=()))
    entry = table.table("complete")
    delay, every = entry.quantity("delay", units.SECOND, 0.0), entry.quantity("every", units.SECOND, 0.0)
    if not (0 <= delay <= MOST_DELAY and 0 <= every <= MOST_DELAY):
        entry.note("delay", f"not between 0 s and {MOST_DELAY:g} s")
    status = _status(entry, Speech(), ()) if "query" in entry else None
    mask, clearing = _status_bits(entry)
    if status is None and not delay and not mask:
        entry.note("query", "is missing", 'Write { query = "*OPC?" }, or { delay = "50 ms" }.')
    if status is not None and mask:
        entry.note("status_byte", "is looked at over the link, and query asks for it", "Leave out one of them.")
    if mask and not every:
        entry.note("every", "is missing", 'The status byte is looked at again and again: every = "20 ms"')
    command, timeout = command_of(entry, "command", default=""), timeout_of(entry, "timeout", TIMEOUT)
    if command and not every:
        entry.note("every", "is missing", 'Behind a command the query is repeated: every = "20 ms"')
    entry.finish()
    return Synchrony(status, command, every, timeout, delay, mask, clearing)


def _status_bits(entry: TomlTable) -> tuple[int, str]:
    """The bits of the status byte that say so, and the query that takes them back."""
    if "status_byte" not in entry:
        return 0, ""
    bits = entry.value("status_byte")
    if not isinstance(bits, list) or not bits or any(type(bit) is not int or not 0 <= bit < 8 for bit in bits):
        entry.note("status_byte", "not some numbers of bits", "Write, for example: status_byte = [5]")
        bits = []
    return sum(1 << bit for bit in set(bits)), question_of(entry, "clearing")
