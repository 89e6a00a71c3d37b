"""A run within this process: what tests of the engine share."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Iterable
from types import SimpleNamespace
from typing import Any

from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile
from ibexite.bench.pool import Opening, Pool
from ibexite.engine.orders import Identity, Orders, Outcome
from ibexite.engine.run import Run
from ibexite.engine.services import Clock, Consenting, Halts, Operator, RealClock, Services
from ibexite.events import Emitted, Event, Judged
from ibexite.instruments.open_link import open_link
from ibexite.language.program import Program
from ibexite.stop import Stop

STARTED = datetime.datetime(2026, 11, 23, 9, 0, tzinfo=datetime.UTC)
Hear = Callable[[Event], Any]


class Still:
    """A clock that does not wait."""

    def __init__(self) -> None:
        self._now = 0.0

    def now(self) -> float:
        """Goes on a little at each look."""
        self._now += 1e-4
        return self._now

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
    return [f"{name}{direction} {line}" for name, direction, text in said for line in text.split("\n")]


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


def carried_out(program: Program, file: BenchFile, hear: Hear = lambda event: None, **more: Any) -> Outcome:
    """The outcome of such a run."""
    return made_run(program, file, hear, **more).carry_out()


__all__ = ["STARTED", "RealClock", "Still", "carried_out", "emitted", "flat", "hearing", "judged", "lines", "made_run"]
