"""Runs units: `RunService.start` runs one in a thread of its own and gives a handle on it. Several may run at once in
one process, each on instruments of its own."""

from __future__ import annotations

import contextlib
import datetime
import platform
import re
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from ibexite.engine.orders import Orders
from ibexite.errors import MistakeError, RecordsError
from ibexite.records.side_file import warm_up
from ibexite.station.records_folder import FOUND, SET_ASIDE
from ibexite.stop import Stop
from ibexite.verdicts import Verdict

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.bench.pool import Pool
    from ibexite.engine.orders import Identity, Outcome
    from ibexite.engine.services import Clock, Halts, Operator
    from ibexite.engine.telling import Reader
    from ibexite.engine.timing import Timing
    from ibexite.language.program import Program
    from ibexite.records.store import Store
    from ibexite.station.prepared import Readings
    from ibexite.station.report_helper import ReportHelper
    from ibexite.station.simulated_bench import SimulatedBench

WAITING_TOLD_AFTER = 2.0  # s
TURN = 0.5  # s; how long is waited for the end of a run without looking up


class Notice(NamedTuple):
    """Something that people want to know and that is no event of a run: found or damaged journals, a store that is in
    use. `is_trouble` if somebody should look after it."""

    text: str
    is_trouble: bool = False


@dataclass(frozen=True, slots=True)
class UnitOrders:
    """What is to be run for one unit: a program that was vetted against a bench, and how."""

    program: Program
    bench: BenchFile
    serial: str
    lot: str = ""
    operator: str = ""  # who runs it
    orders: Orders = field(default_factory=Orders)
    is_real_time: bool = False  # on a simulated bench: waits take the time that they take
    readings: Readings = field(default_factory=dict)  # prepared, for a simulated bench
    halts: Halts | None = None
    is_timed: bool = False
    traffic: Path | None = None  # where all that is said to instruments is written
    readings_of_tests: Mapping[str, Readings] = field(default_factory=dict)  # as `readings`

    def check(self) -> None:
        """Raises MistakeError: a serial number that the sequence is not for, a test, tag or line that is not there."""
        check_serial(self.program, self.serial)
        self.orders.selection.check(self.program)
        if self.halts is not None:
            from ibexite.engine.debugger import check_stops

            check_stops(self.program, self.halts.stops)


def check_serial(program: Program, serial: str) -> None:
    """Refuses a serial number that the sequence is not for.

    Raises:
        MistakeError: with the pattern that it must match.
    """
    pattern = program.sequence.serial
    if pattern and not re.fullmatch(pattern, serial):
        raise MistakeError(
            f"{serial!r} is not a serial number of {program.sequence.product}",
            where="--serial",
            remedy=f"It must match {pattern} (see the head of {program.source.name}).",
        )
    if not serial.strip() or re.search(r"[\x00-\x1f/\\]", serial):
        raise MistakeError(
            f"{serial!r} cannot be a serial number",
            where="--serial",
            remedy="It must not be empty, nor contain control characters or slashes.",
        )


class RunHandle:
    """A run that goes on in a thread of its own. It ends by itself or is stopped, and is recorded either way."""

    def __init__(self, work: Callable[[RunHandle], Outcome], stop: Stop) -> None:
        self._work, self._stop = work, stop
        self._outcome: Outcome | None = None
        self._error: BaseException | None = None
        self.timing: Timing | None = None  # what lines and commands cost, where that was asked for
        self._thread = threading.Thread(target=self._carry_out, name="run")
        self._thread.start()

    def _carry_out(self) -> None:
        try:
            self._outcome = self._work(self)
        except BaseException as error:  # raised again where somebody waits
            self._error = error

    def stop(self, reason: str) -> bool:
        """Asks the run to end, from any thread; see ibexite.stop."""
        return self._stop.request(reason)

    @property
    def is_done(self) -> bool:
        """True when the bench is safe and the run is recorded."""
        return not self._thread.is_alive()

    def wait(self) -> Outcome:
        """How the run has ended. A Ctrl-C meanwhile stops it, and it is waited for all the same.

        Raises:
            IbexiteError: it could not begin: no records, no simulated bench.
        """
        while not self.is_done:
            try:
                self._thread.join(TURN)
            except KeyboardInterrupt:
                self.stop("interrupted")
        if self._error is not None:
            raise self._error
        assert self._outcome is not None
        return self._outcome


class RunService:
    """Runs units and keeps their records in one folder. With a helper a report of each is begun."""

    def __init__(
        self, records: Path, tell: Callable[[Notice], None] = lambda notice: None, helper: ReportHelper | None = None
    ) -> None:
        self.records, self._tell, self._helper = records, tell, helper

    def start(self, orders: UnitOrders, readers: Iterable[Reader], operator: Operator, stop: Stop) -> RunHandle:
        """Begins to run a unit. Nothing is switched on before store and journal have been opened.

        Args:
            readers: are told of each event after the journal was, in the thread of the run.

        Raises:
            MistakeError: what is ordered is not there.
        """
        orders.check()
        views = tuple(readers)
        return RunHandle(lambda handle: self._run(handle, orders, views, operator, stop), stop)

    def _run(
        self, handle: RunHandle, orders: UnitOrders, readers: tuple[Reader, ...], operator: Operator, stop: Stop
    ) -> Outcome:
        from ibexite.bench.bench import Bench
        from ibexite.bench.guardian import Guardian
        from ibexite.engine.run import Run
        from ibexite.engine.services import Services
        from ibexite.records.gateway import open_store
        from ibexite.records.journal import SUFFIX, Journal, next_number
        from ibexite.records.stream_file import RecordingFiles
        from ibexite.station.differences_file import DifferencesFile
        from ibexite.station.lots import changed_since_begin
        from ibexite.station.project import shown_path
        from ibexite.station.teaching import Taught

        journals = self.records / "journals"
        with contextlib.ExitStack() as stack:
            store = stack.enter_context(contextlib.closing(open_store(self.records)))
            identity = _identity(orders, next_number(journals, store.last_number()))
            # The simulated bench is taken down last, when it has been made safe and the run is recorded.
            simulated = _simulated(orders)
            bench = stack.enter_context(simulated) if simulated is not None else orders.bench
            if orders.program.axes:
                warm_up()  # before anything is switched on, not at the first curve
            journal = stack.enter_context(contextlib.closing(Journal(journals / (identity.run + SUFFIX))))
            handle.timing = _timing(orders)
            guardian = Guardian(journal.handle)
            stop.beat = guardian.beat
            services = Services(
                _clock(simulated, orders),
                operator,
                stop,
                guardian,
                orders.halts,
                handle.timing,
                self.records,
                closings=store.closings() if orders.bench.routes else {},
                recordings=RecordingFiles(self.records, identity.run),
            )
            pool = stack.enter_context(self._pool(orders, identity))
            if simulated is not None:
                readers = (simulated.hear, *readers)
            found = DifferencesFile(self.records, Path(report_name(orders.serial, identity.run)).stem)
            taught = Taught()
            readers = (*readers, found, taught)
            changed = changed_since_begin(store, orders.lot, orders.program, orders.bench)
            own = replace(orders.orders, trial=(*orders.orders.trial, *changed))
            run = Run(orders.program, Bench(bench, pool), identity, services, journal, readers, own)
            outcome = run.carry_out()
            if found.is_written:
                self._tell(Notice(f"  to print: {shown_path(found.path)}"))
            is_stored = self._store(store, journal.path, outcome)
            sequence = Path(orders.program.source.name)
            for told in taught.saved(self.records, outcome.run, sequence, orders.operator) if is_stored else ():
                self._tell(Notice(*told))
            if is_stored and self._helper is not None:
                report = self.records / "reports" / report_name(orders.serial, outcome.run)
                self._helper.begin(self.records, outcome.run, report)
        return outcome

    @contextlib.contextmanager
    def _pool(self, orders: UnitOrders, identity: Identity) -> Iterator[Pool]:
        """The instruments, watched if that was ordered."""
        from ibexite.bench.pool import Pool
        from ibexite.station.watching import watched

        told = f"unit {orders.serial}, run {identity.run}, bench {orders.bench.name}"
        with watched(orders.traffic, told, lambda text: self._tell(Notice(text, is_trouble=True))) as opening:
            yield Pool(opening)

    def _store(self, store: Store, journal: Path, outcome: Outcome) -> bool:
        """Puts the run into the store; if that fails, says so: the journal is kept and the next command tries again. A
        run whose journal is gone as well has not been recorded, and that is no pass."""
        told = Notice(f"  {store.name} is in use by another program; waiting for it", is_trouble=True)
        waiting = threading.Timer(WAITING_TOLD_AFTER, self._tell, [told])
        waiting.start()
        try:
            store.take_in(journal)
        except RecordsError as error:
            self._tell(Notice(str(error), is_trouble=True))
            if not journal.is_file():
                outcome.verdict = Verdict.ERROR if outcome.verdict == Verdict.PASS else outcome.verdict
            return False
        finally:
            waiting.cancel()
        try:
            stored, damaged = store.take_in_left_over()
        except RecordsError as error:
            self._tell(Notice(str(error), is_trouble=True))
            return True
        for run in stored:
            self._tell(Notice("  " + FOUND.format(run=run)))
        for text in damaged:
            self._tell(Notice("  " + SET_ASIDE.format(text=text), is_trouble=True))
        return True


def report_name(serial: str, run: str) -> str:
    """The file name of a report; a serial number may be longer than file names can be."""
    return f"{re.sub(r'[^A-Za-z0-9._-]', '_', serial)[:80]}_{run}.html"


def _identity(orders: UnitOrders, number: int) -> Identity:
    from ibexite.engine.beginning import sequence_hash
    from ibexite.engine.orders import Identity
    from ibexite.records.run_id import new_run_id

    now, earlier = datetime.datetime.now().astimezone(), orders.orders.earlier
    return Identity(
        new_run_id(now), orders.serial, orders.operator, platform.node(), now, sequence_hash(orders.program),
        orders.lot, earlier.run if earlier is not None else "", number,
    )  # fmt: skip


def _simulated(orders: UnitOrders) -> SimulatedBench | None:
    if not orders.orders.is_simulated:
        return None
    from ibexite.station.simulated_bench import SimulatedBench

    return SimulatedBench(orders.bench, orders.serial, dict(orders.readings), orders.readings_of_tests)


def _clock(bench: SimulatedBench | None, orders: UnitOrders) -> Clock:
    from ibexite.engine.services import AheadClock, RealClock

    return AheadClock(bench.advance) if bench is not None and not orders.is_real_time else RealClock()


def _timing(orders: UnitOrders) -> Timing | None:
    if not orders.is_timed:
        return None
    from ibexite.engine.timing import Timing

    return Timing()
