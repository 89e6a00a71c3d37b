"""A `play` line made ready: plays samples on one instrument and fetches what others recorded meanwhile.

What always holds: all settings go the way of every set line, with its ceilings; while samples are loaded and behind a
play, whatever became of it, the output is off. A record that does not begin by a trigger begins where the marker of the
stimulus is found in it, or the line is an error; nothing is guessed.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import NamedTuple, Protocol

import numpy as np

from ibexite.analysis.curve import Array, SampledCurve, Sampling
from ibexite.analysis.signals import delays, quality
from ibexite.bench.entries import SignalEntry
from ibexite.bench.interface import Key
from ibexite.bench.items import role_item
from ibexite.bench.playing_times import begins_by_trigger, recorded_samples
from ibexite.bench.query import Item
from ibexite.bench.state import BenchState
from ibexite.classes import ARBITRARY, ARM, PLAYER, START
from ibexite.errors import InstrumentError
from ibexite.holes import BAD, Bad
from ibexite.instruments.play_keys import BLOCK, PlayCommands
from ibexite.instruments.settings import Value
from ibexite.protocols.framing import definite_block
from ibexite.stimulus import Marker, Stimulus
from ibexite.untyped import Measured
from ibexite.verdicts import BAD_READINGS, OVERLOAD, Reason

LIKENESS = 0.3  # of a marker to what was recorded: below that noise is as like
TOLD_OFFSET = 0.1  # the DC part of a record, of the largest deviation from it: beyond that it is told
RIVAL = 0.85  # of its likeness that another place may have


class PlayingBench(Protocol):
    """What of a bench a play line uses besides its state."""

    def set_line(self, settings: list[Key]) -> Callable[..., None]:
        """Makes a set line ready."""

    def read_line(self, items: list[Item], *, together: bool, averaging: int) -> Callable[[], list[Measured]]:
        """Makes a read line ready."""

    def do(self, role_name: str, action: str) -> None:
        """Carries out an action of a role."""


class Captured(NamedTuple):
    """A signal that is captured: the name of its record, and what the bench file says of it."""

    name: str
    signal: SignalEntry


class PlayLine:
    """Plays one stimulus on one role as often as it is called; gives the records in base units, each a curve over time
    from the begin of the stimulus."""

    def __init__(
        self, bench: BenchState, deeds: PlayingBench, role: str, stimulus: Stimulus, samples: Array,
        captured: Sequence[Captured], marker: str, items: Sequence[Item],
    ) -> None:  # fmt: skip
        """`samples` are in V; `marker` is the name of the record in which the marker is looked for; `items` read the
        records, one each."""
        self._bench, self._role, self._stimulus, self._samples = bench, role, stimulus, samples
        self._captured, self._marker = captured, marker
        profile = bench.profile(role)
        if profile.play is None:
            raise InstrumentError(f"profile {profile.name} says not how samples are given to it", where=role)
        self._commands: PlayCommands = profile.play
        self._switch = profile.instrument_class.switch
        self._do, self._output = deeds.do, deeds.set_line([(role, self._switch)])
        self._arrange = deeds.set_line([(role, setting) for setting in PLAYER])
        self._recorders = list(dict.fromkeys(one.signal.role for one in captured))
        self._is_triggered = {name: begins_by_trigger(bench.file.roles, name, role) for name in self._recorders}
        self._prepare = {
            name: deeds.set_line([(name, "interval"), (name, "samples"), (name, "trigger")]) for name in self._recorders
        }
        self._read = deeds.read_line(list(items), together=False, averaging=1) if items else list
        if len(samples) > self._commands.most:
            raise InstrumentError(
                f"{stimulus.name} has {len(samples):,} samples, its memory takes {self._commands.most:,}", where=role,
                remedy="Shorten it, or lower its rate.",
            )  # fmt: skip

    def __call__(self) -> list[Measured]:
        """The records, in the order of the line."""
        was_on = bool(self._bench.state.get((self._role, self._switch), False))
        if was_on:
            self._output(False)
        self._load()
        for name in self._recorders:
            self._prepare[name](1 / self._stimulus.rate, float(self._length(name)), self._trigger_of(name))
        try:
            self._output(True)
            self._bench.user.wait(self._bench.profile(self._role).settling)
            for name in self._recorders:
                self._arm(name)
            self._do(self._role, START)
            self._last()
            known = len(self._bench.bad)
            curves = self._read()
            self._bench.bad[known:] = map(_clipped, self._bench.bad[known:])
        finally:
            self._output(False)
        return self._placed(curves)

    # --- before and meanwhile ----------------------------------------------------------------------------------------

    def _load(self) -> None:
        """Gives the samples to the instrument, as shares of the highest peak, which is its amplitude."""
        peak = float(np.abs(self._samples).max(initial=0.0))
        values: list[Value] = [ARBITRARY, 1 / self._stimulus.rate, False, 0.0, peak]
        self._arrange(*values)
        numbers = self._samples / (peak or 1.0) * self._commands.scale
        kind = np.dtype(self._commands.numbers)
        content = (np.round(numbers) if kind.kind in "iu" else numbers).astype(kind).tobytes()
        entry = self._bench.file.roles[self._role]
        session = self._bench.sessions[entry.instrument]
        text = session.profile.speech.at(self._commands.load, entry.channel)
        block = definite_block(content).decode("latin-1")
        session.send(text.replace(BLOCK, block))
        with session.allowing(session.profile.waits.acting):
            session.wait_until_complete()

    def _length(self, recorder: str) -> int:
        """How many samples are recorded."""
        return recorded_samples(self._stimulus, by_trigger=self._is_triggered[recorder])

    def _trigger_of(self, recorder: str) -> str:
        """What begins its records: of an instrument that plays as well its own playing."""
        if not self._is_triggered[recorder]:
            return "at_once"
        choices = self._bench.profile(recorder).instrument_class.settings["trigger"].choices
        return "playing" if "playing" in choices else "external"

    def _arm(self, recorder: str) -> None:
        """Has a recorder wait for its trigger, and returns when it does: what is asked behind a command is answered
        behind it, and only then the other instrument may be started. That the record is there is not asked."""
        entry = self._bench.file.roles[recorder]
        session = self._bench.sessions[entry.instrument]
        command = session.profile.actions.get(ARM)
        if command is None:
            raise InstrumentError(f"profile {session.profile.name} has no action {ARM!r}", where=recorder)
        session.send(session.profile.speech.at(command, entry.channel), may_repeat=False)
        if session.can_ask("samples"):
            session.ask_setting("samples", entry.channel)

    def _last(self) -> None:
        """Waits until all is played and recorded; whoever wishes to end it is heard."""
        longest = max((self._length(name) for name in self._recorders), default=self._stimulus.count)
        seconds = longest / self._stimulus.rate
        while seconds > 0:
            self._bench.user.heed()
            self._bench.user.wait(min(seconds, 0.1))
            seconds -= 0.1

    # --- what came back ----------------------------------------------------------------------------------------------

    def _placed(self, curves: list[Measured]) -> list[Measured]:
        """The records on the time base of the stimulus, in the units of their signals."""
        self._bench.offsets.clear()
        flawed = [self._flaws(one, curve) for one, curve in zip(self._captured, curves, strict=True)]
        shift = self._begin(curves)
        made: list[Measured] = []
        for one, curve, is_flawed in zip(self._captured, curves, flawed, strict=True):
            sampling = curve.sampling
            if sampling is None or not self._has_its_rate(one, sampling):
                made.append(SampledCurve(Sampling("time", 0.0, 1 / self._stimulus.rate), np.array([BAD])))
                continue
            own = 0.0 if self._is_triggered[one.signal.role] else shift
            values = curve.values * one.signal.chain.scale + one.signal.chain.offset
            begin = Sampling("time", sampling.start - own - one.signal.delay, sampling.step)
            is_bad = is_flawed or self._has_gaps(one, curve.values, sampling.start - own)
            mean, share = quality.offset(values)
            if share > TOLD_OFFSET and not is_bad:
                self._bench.offsets[one.name] = (mean, share)
            made.append(SampledCurve(begin, np.full(len(values), BAD) if is_bad else values))
        return made

    def _has_gaps(self, one: Captured, values: Measured, begin: float) -> bool:
        """Whether samples of a record that begins at such a time of the stimulus, in s, are missing; it is told."""
        played = np.zeros(len(values))
        at = round(-begin * self._stimulus.rate)  # where the first sample of the stimulus lies
        low, high = max(at, 0), min(at + len(self._samples), len(values))
        if low < high:
            played[low:high] = self._samples[low - at : high - at]
        gaps = quality.dropped(values, played)
        if len(gaps):
            first, end = gaps[0] / self._stimulus.rate
            text = f"{BAD_READINGS['dropout']}: it stands still from {first:.4g} s to {end:.4g} s of the record"
            text += f", and {len(gaps) - 1} times more" if len(gaps) > 1 else ""
            self._bench.bad.append(Bad(one.name, Reason("dropout", text), ""))
        return bool(len(gaps))

    def _has_its_rate(self, one: Captured, sampling: Sampling) -> bool:
        if abs(sampling.step * self._stimulus.rate - 1) < 1e-6:
            return True
        found = f"{1 / sampling.step:.6g} Hz, not {self._stimulus.rate:.6g} Hz"
        self._bench.bad.append(Bad(one.name, Reason("rate", f"{BAD_READINGS['rate']}: {found}"), ""))
        return False

    def _flaws(self, one: Captured, curve: Measured) -> bool:
        """Whether a record cannot be judged; why is told."""
        if np.isnan(curve.values).any():
            return True  # told when it was read: overload at some points, or all of it
        found = quality.clipped(curve.values)
        if found.samples:
            where = f"{found.samples} samples from {found.first / self._stimulus.rate:.4g} s of the record on"
            self._bench.bad.append(Bad(one.name, Reason("clipped", f"{BAD_READINGS['clipped']} at {where}"), ""))
        return bool(found.samples)

    def _begin(self, curves: list[Measured]) -> float:
        """When the stimulus begins in the records that no trigger begins, in s of their own time; 0 where there are
        none. Raises InstrumentError: the marker is not found."""
        free = [one for one in self._captured if not self._is_triggered[one.signal.role]]
        if not free:
            return 0.0
        name = next((one.name for one in self._captured if one.name == self._marker), free[0].name)
        curve = next(c for one, c in zip(self._captured, curves, strict=True) if one.name == name)
        placed = next((p for p in self._stimulus.placed if isinstance(p.part, Marker)), None)
        assert placed is not None  # it was looked at when it was vetted
        values = np.nan_to_num(curve.values)
        sought = self._samples[placed.begin : placed.begin + placed.count]
        found = delays.found_in(values, sought, self._stimulus.rate)
        size = abs(found.likeness)
        if not size >= LIKENESS or found.rival > RIVAL * size:
            why = f"the likeness is {size:.0%}" if size < LIKENESS else "two places are as like"
            raise InstrumentError(
                f"the marker of {self._stimulus.name} is not found in {name} ({why})",
                remedy="Look at the record: is something connected, is it loud enough?",
            )  # fmt: skip
        start: float = curve.sampling.start
        return start + found.delay - placed.begin / self._stimulus.rate


def _clipped(bad: Bad) -> Bad:
    """A record that goes beyond the range of its instrument is clipped: that says nothing of the unit."""
    if bad.reason.code != OVERLOAD:
        return bad
    return bad._replace(reason=Reason("clipped", f"{BAD_READINGS['clipped']}: {bad.reason.text}"))


def play_line(
    bench: BenchState, deeds: PlayingBench, role: str, stimulus: Stimulus, samples: Array,
    signals: Sequence[tuple[str, str]], marker: str,
) -> PlayLine:  # fmt: skip
    """Makes a play line ready; `signals` are the names of records, and what is recorded."""
    captured = [Captured(name, bench.file.signals[signal]) for name, signal in signals]
    items = [
        role_item(bench, one.name, s.role, s.reading, {**s.arguments, "channel": float(s.channel)})
        for one, s in ((one, one.signal) for one in captured)
    ]
    return PlayLine(bench, deeds, role, stimulus, samples, captured, marker, items)
