"""A `record` block: signals that are recorded while its lines run, streamed by their instrument or polled between the
lines.

What always holds: the samples lie in a file of the run before anything is computed of them; however the block is left
the recording is ended, and its curves are told. A recording that broke off by itself is an error behind the block.
"""

from __future__ import annotations

import contextlib
import math
from collections.abc import Callable, Sequence
from types import TracebackType
from typing import TYPE_CHECKING, Any

from ibexite import events
from ibexite.bench.interface import SILENT
from ibexite.bench.stream_signals import stream_role
from ibexite.engine.frame_base import OUTSIDE, Turn
from ibexite.engine.frame_lines import BenchLines
from ibexite.engine.services import Kept, Recordings
from ibexite.errors import IbexiteError, InstrumentError, NeverSaid, SequenceError
from ibexite.holes import BAD, Bad
from ibexite.language import nodes
from ibexite.untyped import Fields, Measured
from ibexite.values import Quantity
from ibexite.verdicts import BAD_READINGS, Reason

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve

TIME = "time"
LATE = 2.0  # turns from one poll to the next, from which on one is missing
FIRST_ROOM, MOST_ROOM = 64, 4096  # rows of polls that are kept until they are written


class Recording:
    """A recording of a block, made anew in each turn of the loops around it."""

    def __init__(self, frame: BenchLines, statement: nodes.Record, axes: tuple[str, ...]) -> None:
        self._frame, self._statement, self._axes = frame, statement, axes
        self._signals = [frame.played_by(reading.source) for reading in statement.readings]
        self._names = [frame.prefix + reading.name for reading in statement.readings]
        self._metas = [frame.meta(reading.name) for reading in statement.readings]
        bench = frame.runtime.bench
        self.is_streamed = bool(stream_role(bench.file, self._signals))
        self._source: _Streamed | _Polled = _Streamed(self) if self.is_streamed else _Polled(self)
        self._curves: list[Curve] = []

    def __call__(self, every: float, at: tuple[float | str, ...]) -> Recording:
        """The same, with its interval in s and where the loops are. Raises SequenceError: there is no such interval."""
        if not 0 < every < math.inf:
            raise SequenceError(f"nothing is recorded every {every:g} s", where=self._frame.place(self._statement))
        self.every = every
        self._turn = Turn([self._frame.axis_meta(axis) for axis in self._axes], at) if at else OUTSIDE
        return self

    def curves(self) -> list[Curve]:
        """What was recorded, a curve of each signal."""
        return self._curves

    def __enter__(self) -> None:
        runtime = self.runtime
        if runtime.recordings is None:
            raise SequenceError("nothing keeps recordings here", remedy="Run it so that it is recorded.")
        self.recordings: Recordings = runtime.recordings
        self.number = runtime.next_recording()
        before = self._frame.around([*(axis["name"] for axis in self._turn.outer), TIME])
        self._place: Fields = {"outer": before.outer + self._turn.outer, "at": before.at + self._turn.at}
        self._is_begun = False
        try:
            self._source.begin()
        except BaseException as error:
            if self._is_begun:
                self._tell(*self._source.as_it_is(error))
            raise

    def kept_in(self, channels: Sequence[events.StreamChannel], step: float | None) -> Kept:
        """Begins the file, and tells of it."""
        file, kept = self.recordings.begin(self.number, channels)
        runtime, self._is_begun = self.runtime, True
        runtime.emit(
            events.RecordingStarted(
                runtime.now(), self._frame.block, self._frame.prefix + self._statement.name, self.number, file,
                [{key: meta[key] for key in ("name", "unit", "shown", "kind") if key in meta} for meta in self._metas],
                step, [-entry.delay for entry in self.entries], **self._place, io=runtime.take_traffic(),
            )
        )  # fmt: skip
        return kept

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        problem: BaseException | None = None
        if isinstance(error, NeverSaid):  # a replay that comes to the end of what was recorded
            return
        try:
            ended, flaws = self._source.end(is_hurried=kind is not None)
        except NeverSaid:
            raise
        except BaseException as broken:  # also the wish to end the run: what was recorded is told first
            problem = broken
            ended, flaws = self._source.as_it_is(broken)
        self._tell(ended, flaws)
        if problem is not None and not isinstance(problem, IbexiteError):
            raise problem
        if ended.failure and kind is None:
            raise InstrumentError(f"the recording broke off: {ended.failure}", where=self._statement.name)

    def _tell(self, ended: events.RecordingEnded, flaws: list[list[Bad]]) -> None:
        frame, runtime = self._frame, self.runtime
        runtime.emit(ended)
        kept = self._source.kept
        self._curves = [self._source.curve(name, ended.samples) for name in self._names]
        for name, meta, curve, bad in zip(self._names, self._metas, self._curves, flaws, strict=True):
            for one in bad:
                runtime.bad_reasons.setdefault(one.name, []).append(one.reason)
            sampling = curve.sampling
            runtime.emit(
                events.WholeCurve(
                    runtime.now(), frame.block, name, meta["origin"], meta["unit"], meta["shown"],
                    [frame.axis_meta(TIME)], [] if sampling else [kept.ref(TIME)], kept.ref(name),
                    meta.get("kind", Quantity.stored), (sampling.start, sampling.step) if sampling else None,
                    bad=bad, **self._place,
                )
            )  # fmt: skip
            if not self._turn.at:
                runtime.fresh[frame.block, name] = curve

    def ended(
        self, samples: int, gaps: Sequence[tuple[int, int]] = (), beyond: Sequence[tuple[int, int]] = (),
        failure: str = "",
    ) -> events.RecordingEnded:  # fmt: skip
        """The event of its end."""
        runtime = self.runtime
        io = runtime.take_traffic()
        return events.RecordingEnded(runtime.now(), self._frame.block, self.number, samples, gaps, beyond, failure, io)

    @property
    def runtime(self) -> Any:
        """That of its block."""
        return self._frame.runtime

    @property
    def signals(self) -> list[str]:
        """The signals, as the bench knows them."""
        return self._signals

    @property
    def entries(self) -> list[Any]:
        """What the bench file says of them."""
        return [self.runtime.bench.file.signals[name] for name in self._signals]

    @property
    def names(self) -> list[str]:
        """What their curves are called."""
        return self._names


class _Streamed:
    """Signals that their instrument streams."""

    kept: Kept

    def __init__(self, recording: Recording) -> None:
        self._recording = recording
        self._stream = recording.runtime.bench.stream(recording.signals)

    def begin(self) -> None:
        recording, runtime = self._recording, self._recording.runtime
        forms = self._stream.begin(recording.every)
        try:
            channels = [
                events.StreamChannel(name, form.numbers, form.scale, form.offset, form.beyond)
                for name, form in zip(recording.names, forms, strict=True)
            ]
            self.kept = recording.kept_in(channels, recording.every)
        except BaseException:
            self._stream.end(is_hurried=True)
            raise
        if recording.recordings.streamed(recording.number) is None:
            self._stream.run(self.kept.write)
            runtime.clock.between.append(self._stream.catch_up)

    def end(self, *, is_hurried: bool) -> tuple[events.RecordingEnded, list[list[Bad]]]:
        recording, between = self._recording, self._recording.runtime.clock.between
        then = recording.recordings.streamed(recording.number)
        if self._stream.catch_up in between:
            between.remove(self._stream.catch_up)
        if then is not None:
            if then.failure != SILENT:
                self._stream.end()
            ended = recording.ended(then.samples, then.gaps, then.beyond, then.failure)
        else:
            found = self._stream.end(is_hurried=is_hurried)
            self.kept.close()
            ended = recording.ended(self.kept.count, found.gaps, found.beyond, found.failure)
        return ended, self._flaws(ended)

    def as_it_is(self, error: BaseException) -> tuple[events.RecordingEnded, list[list[Bad]]]:
        """What there is where it could not be ended."""
        with contextlib.suppress(IbexiteError):
            self.kept.close()
        ended = self._recording.ended(self.kept.count, failure=_said(error))
        return ended, self._flaws(ended)

    def _flaws(self, ended: events.RecordingEnded) -> list[list[Bad]]:
        """What is bad of each curve: samples that are missing, or were beyond the range."""
        every, names = self._recording.every, self._recording.names
        flaws: list[list[Bad]] = [[] for _ in names]
        for mine, name, (count, first) in zip(flaws, names, ended.beyond or [(0, 0)] * len(names), strict=True):
            if count:
                text = f"{BAD_READINGS['overload']}: {count:,} samples from {first * every:.6g} s on"
                mine.append(Bad(name, Reason("overload", text), ""))
            if ended.gaps:
                missing, (begin, end) = sum(end - first for first, end in ended.gaps), ended.gaps[0]
                text = f"{BAD_READINGS['dropout']}: {missing:,} of {ended.samples:,} samples never came, the first "
                text += f"from {begin * every:.6g} s to {end * every:.6g} s"
                mine.append(Bad(name, Reason("dropout", text), ""))
        return flaws

    def curve(self, name: str, samples: int) -> Curve:
        from ibexite.analysis.curve import Sampling, StreamedCurve

        signal = self._recording.entries[self._recording.names.index(name)]
        kept = self.kept
        sampling = Sampling(TIME, -signal.delay, self._recording.every)
        return StreamedCurve(sampling, samples, lambda begin, end: kept.values(name, begin, end))


class _Polled:
    """Signals that are read one row after the other: at its begin, between lines, during waits, at its end."""

    kept: Kept
    due: float

    def __init__(self, recording: Recording) -> None:
        self._recording, bench = recording, recording.runtime.bench
        items = [bench.signal_item(*pair) for pair in zip(recording.names, recording.signals, strict=True)]
        self._read: Callable[[], list[Measured]] = bench.read_line(items, together=len(items) > 1, averaging=1, tries=1)
        self._is_looking = False

    def begin(self) -> None:
        recording, runtime = self._recording, self._recording.runtime
        channels = [events.StreamChannel(name, "f8") for name in (TIME, *recording.names)]
        self.kept = recording.kept_in(channels, None)
        self._gaps: list[tuple[int, int]] = []
        self._flaws: list[list[Bad]] = [[] for _ in recording.names]
        self._began = self.due = runtime.clock.now()
        self._last: float | None = None
        runtime.watches.append(self)
        try:
            self.look()
        except BaseException:
            runtime.watches.remove(self)
            raise

    def look(self) -> None:
        """Reads a row if it is due."""
        runtime, every = self._recording.runtime, self._recording.every
        now = runtime.clock.now()
        if now < self.due or self._is_looking:
            return
        self.due = max(self.due + every, now)
        self._is_looking = True
        try:
            known = len(runtime.bench.bad)
            values = self._read()
            for one in runtime.bench.bad[known:]:
                self._note(one)
            del runtime.bench.bad[known:]
            at = (now + runtime.clock.now()) / 2 - self._began
        finally:
            self._is_looking = False
        self._write(at, values)

    def _note(self, bad: Bad) -> None:
        mine = self._flaws[self._recording.names.index(bad.name)]
        if len(mine) < MOST_TOLD:
            mine.append(bad)

    def _write(self, at: float, values: Sequence[Measured]) -> None:
        """Keeps a row; where polls were missed before it, a bad value stands for each."""
        import numpy as np

        every, first = self._recording.every, self.kept.count
        missed = 0
        if self._last is not None and at - self._last > LATE * every:
            missed = max(1, math.ceil((at - self._last) / every) - 1)
            self._gaps.append((first, first + missed))
            text = f"{BAD_READINGS['late']}: nothing from {self._last:.4g} s to {at:.4g} s, {missed} polls"
            for name in self._recording.names:
                self._note(Bad(name, Reason("late", text), ""))
        begin = at if self._last is None else self._last
        times = np.append(begin + (at - begin) / (missed + 1) * np.arange(1, missed + 1), at)
        columns = [np.append(np.full(missed, BAD), float(value)) for value in values]
        self.kept.write(first, [times, *columns])
        self._last = at

    def end(self, *, is_hurried: bool) -> tuple[events.RecordingEnded, list[list[Bad]]]:
        recording, runtime = self._recording, self._recording.runtime
        runtime.watches.remove(self)
        failure = ""
        if not is_hurried:
            self.due = 0.0
            try:
                self.look()
            except IbexiteError as error:
                failure = error.what
        self.kept.close()
        return recording.ended(self.kept.count, self._gaps, failure=failure), self._flaws

    def as_it_is(self, error: BaseException) -> tuple[events.RecordingEnded, list[list[Bad]]]:
        """What there is where it could not be ended."""
        with contextlib.suppress(IbexiteError):
            self.kept.close()
        return self._recording.ended(self.kept.count, self._gaps, failure=_said(error)), self._flaws

    def curve(self, name: str, samples: int) -> Curve:
        from ibexite.analysis.curve import ArrayCurve

        return ArrayCurve({TIME: self.kept.values(TIME, 0, samples)}, self.kept.values(name, 0, samples))


def _said(error: BaseException) -> str:
    return str(getattr(error, "what", "") or error or type(error).__name__)


MOST_TOLD = 20  # bad readings of a curve, each with its reason; that there are more is in the curve itself
