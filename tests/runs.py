"""A run within this process: what tests of the engine share."""

import datetime
from collections.abc import Callable, Iterable
from pathlib import Path
from types import SimpleNamespace
from typing import Any, ClassVar

from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.pool import Opening, Pool
from ibexite.bench.replay_pool import ReplayPool
from ibexite.engine.bench_facts import bench_facts
from ibexite.engine.orders import Identity, Orders, Outcome
from ibexite.engine.replay import Record
from ibexite.engine.run import Run
from ibexite.engine.services import Clock, Consenting, Halts, Operator, RealClock, Services
from ibexite.events import Emitted, Event, Judged, Row, TableStarted, TestEnded
from ibexite.instruments.open_link import open_link
from ibexite.language.check import vet
from ibexite.language.facts import vet_against
from ibexite.language.program import Program
from ibexite.language.source import Source
from ibexite.records.journal import read_journal
from ibexite.station.same_events import Comparison
from ibexite.stop import Stop
from ibexite.untyped import Fields

STARTED = datetime.datetime(2026, 11, 23, 9, 0, tzinfo=datetime.UTC)
Hear = Callable[[Event], Any]


class Recorded:
    """A run that has ended: its events, and what its outcome has."""

    def __init__(self, outcome: Outcome, events: list, file: BenchFile) -> None:
        self.outcome, self.events, self.file = outcome, events, file

    def __getattr__(self, name: str) -> Any:
        return getattr(self.outcome, name)

    def of(self, kind: type, **wanted: object) -> list:
        """The events of a kind, those with the given contents; what was judged side by side."""
        found = [event for event in self.events if isinstance(event, kind)]
        return [e for e in (map(flat, found) if kind is Judged else found) if all(getattr(e, k) == v for k, v in wanted.items())]

    def result(self, label: str) -> SimpleNamespace:
        """The result of the check with this label."""
        return self.of(Judged, label=label)[0]

    @property
    def ended(self) -> dict[str, tuple[str, str]]:
        """Verdict and reason of each test, as text."""
        return {e.test: (e.verdict, e.reason.text) for e in self.of(TestEnded)}

    @property
    def verdicts(self) -> dict[str, str]:
        """The verdict of each test."""
        return {e.test: e.verdict for e in self.of(TestEnded)}

    def columns(self, name: str) -> list:
        """All values of a column, in the order of the rows."""
        places = {t.table: [c["name"] for c in t.columns].index(name) for t in self.of(TableStarted) if name in [c["name"] for c in t.columns]}
        return [row.v[places[row.table]] for row in self.of(Row) if row.table in places]

    @property
    def traffic(self) -> list[str]:
        """Everything said on the bench, in order."""
        return lines([said for event in self.events for said in getattr(event, "io", ((), ()))[0]])


class Still:
    """A clock that does not wait."""

    def __init__(self) -> None:
        self._now = 0.0

    def now(self) -> float:
        """Goes on a little at each look."""
        self._now += 1e-4
        return self._now

    stamp = now
    between: ClassVar[list[Callable[[], None]]] = []

    def wait(self, seconds: float, heed: Callable[[], None]) -> None:
        """Over at once."""
        heed()
        self._now += seconds


def hearing(hear: Hear) -> Callable[[Emitted], None]:
    """A reader that is told of the events alone."""
    return lambda emitted: hear(emitted.event) and None


def flat(event: Judged) -> SimpleNamespace:
    """What was judged, side by side; the reason is its text."""
    return SimpleNamespace(t=event.t, **event.row())


def judged(heard: list) -> list[SimpleNamespace]:
    """All that was judged, side by side."""
    return [flat(event) for event in heard if isinstance(event, Judged)]


def lines(said: Iterable[tuple[str, str, str]]) -> list[str]:
    """What was said on links, a line each: "psu> VOLT 7"."""
    return [f"{name}{direction} {line}" for name, direction, text in said if name and isinstance(text, str) for line in text.split("\n")]


def vetted(text: str, project: Path | None = None) -> Source:
    """A sequence with what was found in it, also on the bench of a project."""
    source = Source("t.ibx", text)
    program = vet(source)
    if project is not None:
        vet_against(program, bench_facts(read_bench(project / "bench.toml")))
    return source


PLACES = {"psu": 'wiring = { 1 = "battery" }', "eload": 'wiring = { 1 = "output" }', "dmm": 'identity = "Firnline,DM-65S"'}


def troubled(trouble: str, name: str = "dmm") -> Callable[[str], str]:
    """A change of the bench file after which something goes wrong with a stand-in."""
    return lambda text: text.replace(PLACES[name], PLACES[name] + ("\n" if name == "dmm" else ", ") + f"trouble = [{{ {trouble} }}]", 1)


def spoilt(how: str, nth: int, times: int) -> Callable[[str], str]:
    """The same for some readings of the meter."""
    return troubled(f'query = "READ?", how = "{how}", nth = {nth}, times = {times}')


def emitted(event: Event) -> Emitted:
    """An event as readers are told of it."""
    return Emitted("20261123-090000-aaaaaa", 1, event)


def made_run(
    program: Program, file: BenchFile, hear: Hear = lambda event: None, *, views: tuple[Hear, ...] = (),
    clock: Clock | None = None, operator: Operator | None = None, stop: Stop | None = None, halts: Halts | None = None,
    orders: Orders | None = None, serial: str = "R", opening: Opening = open_link,
) -> Run:  # fmt: skip
    """A run whose journal is `hear`, by a clock that does not wait unless one is given."""
    identity = Identity("20261123-090000-aaaaaa", serial, "tester", "desk", STARTED)
    services = Services(clock or Still(), operator or Consenting(), stop or Stop(), halts=halts)
    bench = Bench(file, Pool(opening))
    return Run(program, bench, identity, services, hearing(hear), map(hearing, views), orders)


def carried_out(program: Program, file: BenchFile, hear: Hear = lambda event: None, *, is_repeatable: bool = True, **more: Any) -> Outcome:
    """The outcome of such a run, which is then repeated from what was said in it alone: all is as it was, times as well.

    Args:
        is_repeatable: not where the code that is generated is looked at; nor, by itself, where the journal is lost.
    """
    told: list[Event] = []

    def journal(event: Event) -> None:
        nonlocal is_repeatable
        told.append(event)
        try:
            hear(event)
        except Exception:
            is_repeatable = False
            raise

    outcome = made_run(program, file, journal, **more).carry_out()
    if is_repeatable:
        found = repeated(program, file, told, more.get("serial", "R"), more.get("orders"))
        assert found.is_same, found.first
    return outcome


def repeated(program: Program, file: BenchFile, told: list[Event], serial: str = "R", orders: Orders | None = None) -> Comparison:
    """A run from what was said in another one, compared with that."""
    record, found = Record(told, file, bytes_of), Comparison(told, Path(), bytes_of, ())
    identity = Identity("20261123-090000-aaaaaa", serial, "tester", "desk", STARTED)
    bench = Bench(record.file, ReplayPool(record.said, bytes_of))
    Run(program, bench, identity, record.services(), found, (), orders).carry_out()
    return found


def bytes_of(text: str | bytes | bytearray) -> bytes:
    """What was said, as it went over the link."""
    return text.encode("latin-1") if isinstance(text, str) else bytes(text)


__all__ = [
    "STARTED",
    "Recorded",
    "RealClock",
    "Still",
    "carried_out",
    "emitted",
    "flat",
    "hearing",
    "judged",
    "lines",
    "made_run",
    "spoilt",
    "troubled",
    "vetted",
]


def kept_events(project: Path, run: str = "*") -> list[Fields]:
    """The events of the kept journals of a project, or of that of one run."""
    found = sorted((project / "records" / "journals" / "stored").glob(f"{run}.jsonl.gz"))
    return [event for journal in found for event in read_journal(journal)]
