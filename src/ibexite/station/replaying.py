"""Carries out a stored run once more against what instruments, programs and the operator said then: without a bench,
without waiting, exact in values, order and times. Nothing of it is recorded."""

from __future__ import annotations

import contextlib
import datetime
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ibexite import events
from ibexite.bench.bench import Bench
from ibexite.bench.replay_pool import ReplayPool
from ibexite.engine.beginning import files_of, sequence_hash
from ibexite.engine.keeping import FILES
from ibexite.engine.orders import Earlier, Identity, Orders, Outcome, orders_of
from ibexite.engine.replay import Record
from ibexite.engine.run import Run
from ibexite.engine.services import Halts
from ibexite.errors import MistakeError, NeverSaid, RecordsError
from ibexite.plain_file import is_file
from ibexite.records.journal import read_journal
from ibexite.records.kept_journals import journal_of
from ibexite.records.older_journals import into_present_form
from ibexite.records.reply_file import reply_of
from ibexite.records.stored_events import event_of
from ibexite.station.merging import earlier_of
from ibexite.station.opening import Ready, open_to_run
from ibexite.station.project import bench_at, find_project, need_bench, shown_path
from ibexite.station.retest import parameters_for, sequence_of
from ibexite.station.same_events import Comparison
from ibexite.stop import Stop
from ibexite.untyped import Measured
from ibexite.verdicts import Reason, Verdict

if TYPE_CHECKING:
    from ibexite.engine.telling import Reader
    from ibexite.records.lookup import Lookup

SEQUENCE = "sequence"  # among what has changed
NO_TIMES = "its journal has no times of the clock: it was made by an older version, and times are told in part"


@dataclass(frozen=True, slots=True)
class Stopped:
    """Where a replay halted: the line and its text, or in words where it is no line; what it said, and what was said
    then."""

    place: str
    text: str
    why: NeverSaid


@dataclass(slots=True)
class Replayed:
    """What came of a replay. `changes` is what is otherwise now than then: sequence, limits, bench, files."""

    run: str
    serial: str
    changes: tuple[str, ...]
    comparison: Comparison
    then: Verdict | None  # None: that run broke off
    was_halted: bool = False  # where somebody wanted it, so that it is not as it was
    outcome: Outcome | None = None  # None: it halted or was ended
    stopped: Stopped | None = None
    ended: str = ""  # why, where somebody ended it before its time
    notes: list[str] = field(default_factory=list)

    @property
    def is_doubtful(self) -> bool:
        """Nothing has changed and nobody has interfered, and yet the verdict is another one."""
        is_as_then = self.outcome is None or self.then in (None, self.outcome.verdict)
        return not (self.changes or self.was_halted or self.ended or is_as_then)


class Replay:
    """A stored run, ready to be replayed.

    Args:
        sequence: another one than that of the run.

    Raises:
        MistakeError: its journal or its sequence is not there; it has no such parameters.
        NotReady: there are mistakes in the sequence.
        RecordsError: the journal is damaged.
    """

    def __init__(self, records: Path, lookup: Lookup, run: str, sequence: Path | None = None) -> None:
        self.records, self.run = records, run
        self._record = lookup.run(run)
        path = journal_of(records, run)
        if path is None:
            raise MistakeError(
                "its journal is not there", where=run, remedy="What was said to instruments is kept in it alone."
            )
        self._events = list(_events(path))
        if not self._events or not isinstance(self._events[0], events.RunStarted):
            raise RecordsError("does not begin with the run", where=str(path))
        self._start = self._events[0]
        self.ready = self._opened(sequence)
        self.changes = self._changed()
        self._earlier = self._completed(lookup)
        self._lost: RecordsError | None = None  # what was said and cannot be said again
        self._told = Record(self._events, self.ready.bench, self._said)
        self._services = self._told.services(
            frozenset(self.changes), is_same=SEQUENCE not in self.changes, read=self._recorded
        )
        self._services.records = records
        self._services.kept = {name: records / FILES / path.name for name, path in (self._services.kept or {}).items()}

    def _recorded(self, file: str, name: str, begin: int, end: int) -> Measured:
        """Values of a recording of then."""
        from ibexite.records.stream_file import FOLDER, Recorded

        return Recorded(self.records / FOLDER / file).values(name, begin, end)

    @property
    def stop(self) -> Stop:
        """What ends the replay before its time."""
        return self._services.stop

    def _changed(self) -> tuple[str, ...]:
        """What is otherwise than then. Files are told by their contents: the run may have been started from another
        folder."""
        start, program, bench = self._start, self.ready.program, self.ready.bench
        then = {file["sha256"] for file in start.files}
        changes = [] if start.sequence["sha256"] == sequence_hash(program) else [SEQUENCE]
        changes += [] if start.bench["sha256"] == bench.sha256 else ["bench file"]
        return (*changes, *(file["name"] for file in files_of(program, bench) if file["sha256"] not in then))

    def _opened(self, sequence: Path | None) -> Ready:
        """The sequence on the bench of then, its instruments at their addresses of then."""
        told, text = self._start.bench, self._start.orders.get("text", "")
        folder = find_project(self.records.resolve()).folder  # the run may have been started from it
        given = next((path for path in (Path(told["file"]), folder / told["file"]) if is_file(path)), None)
        if text and sequence is None:  # it was made for a measurement at the desk, and lies nowhere
            return self._measured_again(text, given)
        sequence = sequence or sequence_of(self._record, self.records)
        bench = bench_at(given, told["position"], sequence)
        return open_to_run(sequence, bench, parameters_for(self._record, sequence))

    def _measured_again(self, text: str, given: Path | None) -> Ready:
        from ibexite.bench.file import read_bench
        from ibexite.station.desk import FILE, Desk

        desk = Desk(self.records.resolve().parent)
        place = desk.project.folder / FILE
        bench = bench_at(given, self._start.bench["position"], place)
        return desk.open_text(text, read_bench(shown_path(need_bench(bench, desk.project, place))))

    def _completed(self, lookup: Lookup) -> Earlier | None:
        if not self._start.retest_of:
            return None
        return earlier_of(lookup.run(self._start.retest_of), lookup, self.ready.program, self.ready.bench)

    # --- carrying out ------------------------------------------------------------------------------------------------

    def carry_out(self, readers: Iterable[Reader] = (), halts: Halts | None = None) -> Replayed:
        """Carries it out, once.

        Args:
            readers: are told of each event.

        Raises:
            MistakeError: a line to halt at is not there.
            RecordsError: a long reply is not kept any more.
        """
        program, start = self.ready.program, self._start
        if halts is not None:
            from ibexite.engine.debugger import check_stops

            check_stops(program, halts.stops)
            self._services.halts = halts
        orders = orders_of(start.orders, self.ready.project.variants, self._earlier)
        orders.trial += tuple(Reason("replayed", f"replayed with another {change}") for change in self.changes)
        folders = Path(start.sequence["file"]).parent, Path(program.source.name).parent
        comparison = Comparison(self._events, self.records, self._whole, folders)
        ended = next((event for event in self._events if isinstance(event, events.RunEnded)), None)
        if ended is not None and not self.changes:  # who has approved something since does not matter
            unapproved = [reason.text for reason in ended.trial if reason.code == "unapproved"]
            program.objections = {path: why for path, _, why in (text.partition(": ") for text in unapproved)}
        then = ended.verdict if ended is not None else None
        result = Replayed(self.run, start.serial, self.changes, comparison, then, was_halted=halts is not None)
        if not self._told.has_times:
            result.notes.append(NO_TIMES)
        run = self._made(orders, [comparison, *readers])
        try:
            result.outcome = run.carry_out()
        except NeverSaid as error:
            if self._lost is not None:
                raise self._lost from None
            if run.course.is_aborted:  # somebody ended the replay: what follows then was never said, and need not be
                result.ended = run.course.outcome.reason.text
            else:
                result.stopped = self._stopped(run, error)
        finally:
            if run.runtime.outside is not None:
                run.runtime.outside.close()
        if self._lost is not None:
            raise self._lost from None
        return result

    def _made(self, orders: Orders, readers: list[Reader]) -> Run:
        start = self._start
        identity = Identity(
            start.run, start.serial, start.operator, start.station, datetime.datetime.fromisoformat(start.started),
            sequence_hash(self.ready.program), start.lot, start.retest_of, start.number,
        )  # fmt: skip
        bench = Bench(self._told.file, ReplayPool(self._told.said, self._said))
        first, *others = readers
        return Run(self.ready.program, bench, identity, self._services, first, others, orders)

    def _said(self, text: Any) -> bytes:
        """The bytes of what was said, for whoever says it again."""
        try:
            return self._whole(text)
        except RecordsError as error:
            self._lost = self._lost or error
            raise

    def _whole(self, text: Any) -> bytes:
        """The bytes of what was said."""
        if isinstance(text, str):
            return text.encode("latin-1")
        return reply_of(self.records, self.run, text["begin"], text["length"])

    def _stopped(self, run: Run, error: NeverSaid) -> Stopped:
        place = run.course.line_of(error)
        file, _, line = place.rpartition(":")
        source = next((s for s in self.ready.program.sources if s.name == file), None)
        if source is None:
            block = run.runtime.block
            return Stopped(f"the end of {block}" if block else "the beginning", "", error)
        return Stopped(place, source.line_text(int(line)).strip(), error)


def _events(path: Path) -> Iterator[events.Event]:
    """The events of a journal. Raises RecordsError: one of them lacks something."""
    entries = read_journal(path)
    first = next(entries, None)
    if first is None:
        return
    present = into_present_form(first)
    for entry in (first, *entries):
        try:
            event = event_of(present(entry))
        except (KeyError, TypeError, ValueError, IndexError, AttributeError) as error:
            raise RecordsError(f"an entry is damaged ({error!r:.80})", where=str(path)) from None
        if event is not None:
            yield event


def replayed(
    records: Path, run: str, *, sequence: Path | None = None, readers: Iterable[Reader] = (),
    halts: Halts | None = None,
) -> Replayed:  # fmt: skip
    """A stored run, carried out once more. `run` may be any word that `ibexite show` takes.

    Raises:
        MistakeError, NotReady, RecordsError: see Replay.
    """
    from ibexite.records.gateway import open_lookup

    with contextlib.closing(open_lookup(records)) as lookup:
        return Replay(records, lookup, lookup.find(run), sequence).carry_out(readers, halts)
