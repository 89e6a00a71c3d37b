"""What an instrument streams, taken while lines run.

A thread of its own asks for what has come, more than once each quarter second, and hands it on: a line that takes long,
a program or a question to the operator keeps no sample back. What always holds: each sample has its number, by which it
is known what was lost; an instrument that gives other numbers of samples than its interval makes in that time is an
error, for nobody knows then when they were taken. The thread asks and nothing else: what starts, stops and sets the
instrument is said by whoever runs the lines, in their order.
"""

from __future__ import annotations

import contextlib
import threading
from collections.abc import Callable, Sequence
from time import monotonic
from typing import Any, NamedTuple, Protocol

import numpy as np

from ibexite.bench.entries import SignalEntry
from ibexite.bench.interface import SILENT, Key
from ibexite.bench.state import BenchState
from ibexite.errors import IbexiteError, InstrumentError
from ibexite.instruments.link import Reply
from ibexite.instruments.session import Session
from ibexite.instruments.shared_link import SharedLink
from ibexite.instruments.stream_keys import BY_SAMPLE, StreamCommands
from ibexite.protocols.scpi import INFINITY

# s from one question to the next, or less where the instrument keeps less. Each costs the same, however many samples
# come of it; what has not been asked for is lost with the process, and that is to be no more than a quarter second.
TURN = 0.125
LEAST_WAIT = 0.25  # of a turn, so that one that answers slowly is not asked without end
BY_CLOCK = 1e-3  # by so much of the time the number of samples may differ from what the clock says
STARTING = 0.02  # s; and by so much, or a few samples, for its way of starting and stopping
SAMPLES = 3
GIVEN_UP = 1.0  # s that a run that ends waits for an instrument that does not answer
Write = Callable[[int, Sequence[Any]], None]


class Kept(NamedTuple):
    """How samples of a signal are kept: the type of their numbers, and value = number * scale + offset in base units of
    the signal. A number of the size `beyond`, and 0 of those without a sign, says that the range was exceeded; where
    `beyond` is 0 none does."""

    numbers: str
    scale: float
    offset: float
    beyond: float


class Streamed(NamedTuple):
    """What has come: the samples that are missing, the first and the one behind the last; of each signal how many were
    beyond the range, and the first of them; and what broke it off, "" if nothing did."""

    gaps: list[tuple[int, int]]
    beyond: list[tuple[int, int]]
    failure: str


class SettingBench(Protocol):
    """What of a bench a stream uses besides its state."""

    def set_line(self, settings: list[Key]) -> Callable[..., None]:
        """Makes a set line ready."""


class Stream:
    """The signals of one instrument, sampled side by side. `begin`, then `run`, then `end`, as often as wanted."""

    def __init__(self, bench: BenchState, deeds: SettingBench, signals: Sequence[SignalEntry]) -> None:
        """Raises InstrumentError: its profile does not say how it streams."""
        self._bench, self._signals = bench, signals
        self._role = bench.entries[signals[0].role]
        self._session: Session = bench.sessions[self._role.instrument]
        profile = self._session.profile
        if profile.stream is None:
            raise InstrumentError(f"profile {profile.name} says not how it streams", where=self._role.name)
        self._commands: StreamCommands = profile.stream
        self._unit = profile.readings[signals[0].reading].unit
        named = [profile.speech.channel_written(signal.channel) for signal in signals]
        self._channels = ",".join(named)
        keys = [(self._role.name, "interval")]
        keys += [(self._role.name, "trigger")] if "trigger" in profile.settings else []
        self._set = deeds.set_line(keys)
        self._has_trigger = len(keys) > 1
        self._numbers = np.dtype(self._commands.numbers)
        # Numbers of this size are none; whole ones as large as they can be may have been larger.
        self.beyond = 0.999 * INFINITY if self._numbers.kind == "f" else float(np.iinfo(self._numbers.str[1:]).max)
        self.every = 0.0
        self._began = self._proved = 0.0  # s of the clock: it was told to begin, and it had begun
        self._pump: _Pump | None = None

    def begin(self, every: float) -> list[Kept]:
        """Starts the instrument; how the samples of each signal are kept.

        Raises:
            InstrumentError: it takes no such interval, or another one.
        """
        self._set(*([every, "at_once"] if self._has_trigger else [every]))
        session, commands = self._session, self._commands
        with self._bench.holding([session]):
            for text in commands.configure:
                session.send(text)
            factor, offset = (self._number(told) for told in (commands.factor, commands.offset))
            self._began = self._bench.user.now()
            session.send(self._filled(commands.begin), may_repeat=False)
            try:
                self._prove(every)
                self._proved = self._bench.user.now()
            except BaseException:
                with contextlib.suppress(IbexiteError):
                    self._stop()
                raise
        self.every = every
        unit = self._unit
        scale = factor * float(unit.factor)
        shift = offset * float(unit.factor) + float(unit.offset)
        kind = self._numbers.newbyteorder("=").str[1:]
        return [
            Kept(kind, one.chain.scale * scale, one.chain.scale * shift + one.chain.offset, self.beyond)
            for one in self._signals
        ]

    def _prove(self, every: float) -> None:
        """What is asked behind the command is answered behind it. Raises InstrumentError."""
        session = self._session
        if not session.can_ask("interval"):
            session.wait_until_complete()
            return
        held = session.ask_setting("interval", self._role.channel)
        if not isinstance(held, float) or abs(held - every) > 1e-6 * every:
            raise InstrumentError(
                f"takes a sample every {held:.9g} s, not every {every:.9g} s", where=self._session.name,
                remedy="Record with an interval that it has.",
            )  # fmt: skip

    def _number(self, told: Any) -> float:
        if not told.query:
            return float(told.number)
        text = self._filled(told.query)
        reply = self._session.query(text)
        try:
            return float(told.number_in(reply))
        except ValueError:
            raise InstrumentError(f"answered {reply.strip()[:60]!r} to {text}", where=self._session.name) from None

    def _filled(self, text: str) -> str:
        return text.replace("{channels}", self._channels)

    def run(self, write: Write) -> None:
        """From now on what has come is handed on by another thread: the number of the first sample, and the numbers of
        each signal, arrays of shape (n,)."""
        self._pump = _Pump(self, write)
        self._pump.start()

    @property
    def failure(self) -> str:
        """What has broken it off while it runs, "" if nothing has."""
        return self._pump.failure if self._pump is not None else ""

    def catch_up(self) -> None:
        """Takes what has come just now: for clocks that jump over time."""
        if self._pump is not None:
            self._pump.take()

    def end(self, *, is_hurried: bool = False) -> Streamed:
        """Stops the instrument, and hands on what has come until then. It is given up soon if `is_hurried`."""
        pump = self._pump
        if pump is None:
            with self._bench.pool.carrying_on():
                self._stop()
            return Streamed([], [], "")
        self._pump = None
        try:
            failure = SILENT
            if pump.stop(GIVEN_UP if is_hurried else None):
                failure = self._ended(pump)
            return Streamed(pump.gaps, pump.beyond, failure)
        finally:
            self._session.link = pump.link.whole

    def _ended(self, pump: _Pump) -> str:
        """Stops it and takes what is still there; what was in the way."""
        with self._bench.pool.carrying_on():
            try:
                least, most = self._stop()
                if not pump.failure:
                    pump.take_rest(most)
            except IbexiteError as error:
                return pump.failure or error.what
        return pump.failure or self._by_clock(pump.count * self.every, least, most)

    @property
    def room(self) -> float:
        """By how many s the samples may differ from the time."""
        return STARTING + self._commands.latency + SAMPLES * self.every

    def _stop(self) -> tuple[float, float]:
        """How long it has run at least, and at most, in s."""
        session, now = self._session, self._bench.user.now
        ending = now()
        with self._bench.holding([session]):
            session.send(self._filled(self._commands.end))
            session.wait_until_complete()
        return ending - self._proved, now() - self._began

    def _by_clock(self, recorded: float, least: float, most: float) -> str:
        """What is wrong with so many s of samples where it has run so long."""
        if least * (1 - BY_CLOCK) - self.room <= recorded <= most * (1 + BY_CLOCK) + self.room:
            return ""
        told = f"{least:.4g} s" if recorded < least else f"{most:.4g} s"
        return f"it gave samples of {recorded:.4g} s in {told}: it does not take one every {self.every:.4g} s"


class _Pump:
    """Asks for what has come, in a thread or when it is told to."""

    def __init__(self, stream: Stream, write: Write) -> None:
        commands, session = stream._commands, stream._session
        self._stream, self._write, self._name = stream, write, session.name
        self._bench = stream._bench
        self._query = session.message(stream._filled(commands.query)).data
        self._first = session.message(stream._filled(commands.first.query)).data
        self._commands, self._numbers, self._width = commands, stream._numbers, len(stream._signals)
        self.link = SharedLink(session.link)
        session.link = self.link
        self.count, self.failure = 0, ""
        self.gaps: list[tuple[int, int]] = []
        self.beyond = [(0, 0)] * self._width
        self._turn = min(TURN, commands.holds * stream.every / 4)
        self._ending = threading.Event()
        self._thread = threading.Thread(target=self._run, name="stream", daemon=True)

    def start(self) -> None:
        self._thread.start()

    def _run(self) -> None:
        most = (1 - LEAST_WAIT) * self._turn
        with self._bench.pool.carrying_on():
            began = monotonic()
            while not self._ending.wait(self._turn - min(monotonic() - began, most)) and not self.failure:
                began = monotonic()
                self.take()

    def stop(self, seconds: float | None) -> bool:
        """Ends the thread; False if it still waits for the instrument after so many s."""
        self._ending.set()
        self._thread.join(seconds)
        return not self._thread.is_alive()

    def take(self) -> None:
        """Takes what has come; what hinders it is kept as the failure."""
        with self.link.turn:
            if self.failure:
                return
            try:
                self._take()
            except IbexiteError as error:
                self.failure = error.what
            except Exception as error:  # nothing may be lost in silence because of a mistake here
                self.failure = f"{type(error).__name__}: {error}"

    def take_rest(self, seconds: float) -> None:
        """Takes all that is still there, behind the end; of an instrument that has run so long. Raises LinkError,
        InstrumentError, RecordsError."""
        while self._take() and self.count * self._stream.every < seconds:
            pass  # one that goes on sampling all the same is not waited for

    def _take(self) -> int:
        """Takes one block, and says how many samples are in it."""
        content = self.link.whole.exchange(self._query, Reply.BLOCK)
        if not content:
            return 0
        first = self._number_of_first()
        numbers = np.frombuffer(content, self._numbers)
        if len(numbers) % self._width:
            raise self._error(f"gave {len(numbers)} numbers for {self._width} signals")
        count = len(numbers) // self._width
        self._look_at(first, count)
        columns = self._columns(numbers)
        self._write(first, columns)
        self._note_beyond(first, columns)
        if first > self.count:
            self.gaps.append((self.count, first))
        self.count = first + count
        return count

    def _note_beyond(self, first: int, columns: list[Any]) -> None:
        """Counts the numbers that say that the range was exceeded."""
        most = self._stream.beyond
        for at, column in enumerate(columns):
            least = -most if column.dtype.kind != "u" else 0
            if column.max() < most and column.min() > least:  # false of what is no number as well
                continue
            with np.errstate(invalid="ignore"):
                numbers = column.astype(float)
                found = np.flatnonzero(~((numbers < most) & (numbers > least)))
            count, where = self.beyond[at]
            self.beyond[at] = (count + len(found), where if count else first + int(found[0]))

    def _columns(self, numbers: Any) -> list[Any]:
        """The numbers of each signal, as this computer has them."""
        is_by_sample = self._commands.order == BY_SAMPLE
        each = numbers.reshape(-1, self._width).T if is_by_sample else numbers.reshape(self._width, -1)
        return [np.ascontiguousarray(one, dtype=self._numbers.newbyteorder("=")) for one in each]

    def _number_of_first(self) -> int:
        reply = self.link.whole.exchange(self._first).decode("latin-1")
        try:
            number = self._commands.first.number_in(reply)
        except ValueError:
            number = -1.0
        if not 0 <= number == int(number):
            raise self._error(f"answered {reply.strip()[:60]!r} when asked which sample was the first of a block")
        return int(number)

    def _look_at(self, first: int, count: int) -> None:
        """Whether a block may have such a place. Raises InstrumentError."""
        elapsed = self._bench.user.stamp() - self._stream._began
        if first < self.count:
            raise self._error(f"gave sample {first:,} twice")
        if (first + count) * self._stream.every > elapsed * (1 + BY_CLOCK) + self._stream.room:
            raise self._error(f"told of sample {first + count - 1:,} after {elapsed:.4g} s")

    def _error(self, what: str) -> InstrumentError:
        return InstrumentError(what, where=self._name)
