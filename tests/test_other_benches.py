"""The engine on other benches than one of real instruments: links that answer from recorded traffic, and a bench that
answers from stored values. Nothing of the engine knows of either."""

from collections.abc import Callable, Iterable, Iterator
from types import SimpleNamespace
from typing import Any

import pytest

from ibexite import events
from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile
from ibexite.bench.interface import BenchLike, Connected, Key
from ibexite.engine.orders import Identity
from ibexite.engine.run import Run
from ibexite.engine.services import Consenting, Services
from ibexite.errors import LinkError
from ibexite.holes import Bad
from ibexite.instruments.link import LinkOptions, Reply
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.units import VOLT
from tests.conftest import HEADER
from tests.laboratory.stub_bench import MemoryLink
from tests.runs import STARTED, Still, carried_out, hearing, judged, lines

SWEEP = """test t "T"
    sweep u from 7 V to 11 V step 1 V
        set supply.voltage = u
        read v_in, v_out together
    check v_out within 5 V +/- 0.2 V
    check v_in >= 6 V as "battery"
"""


class Replay(MemoryLink):
    """A link that says what was recorded, and insists on being asked what was asked then."""

    def __init__(self, options: LinkOptions, told: Iterator[str]) -> None:
        super().__init__("recorded", options)
        self._told, self.is_waiting = told, False

    def send(self, data: bytes) -> None:
        for line in data.decode("latin-1").splitlines():
            recorded = next(self._told, "nothing")
            if recorded != f"{self.name}> {line}":
                raise LinkError(f"is told {line!r}, where the record has {recorded!r}", where=self.name)

    ask = send

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        recorded = next(self._told)
        assert recorded.startswith(f"{self.name}< ")
        return recorded.partition("< ")[2].encode("latin-1")


def replaying(traffic: Iterable[str]) -> Callable[[str, LinkOptions], Replay]:
    """What opens such links."""
    recorded = list(traffic)
    return lambda address, options: Replay(options, (t for t in recorded if t.startswith(options.name)))


def test_a_run_is_repeated_from_its_traffic_alone(perform) -> None:
    first = perform(SWEEP)
    heard: list[events.Event] = []
    program, file = vet(Source("test.ibx", HEADER + SWEEP)), first.file
    again = carried_out(program, file, heard.append, opening=replaying(first.traffic), serial="FC00400")
    assert again.tests == first.outcome.tests == {"t": "pass"} and again.is_safe
    assert [row.v for row in heard if isinstance(row, events.Row)] == [row.v for row in first.of(events.Row)]
    assert lines(said for event in heard for said in getattr(event, "io", ((), ()))[0]) == first.traffic
    other = vet(Source("test.ibx", HEADER + SWEEP.replace("11 V", "12 V")))
    assert carried_out(other, file, opening=replaying(first.traffic), serial="FC00400").tests == {"t": "error"}


class Stored:
    """A bench that gives the values which were stored of each name, in their order; it has nothing to set or switch."""

    def __init__(self, file: BenchFile, values: dict[str, list[float]]) -> None:
        self.file, self._values = file, {name: iter(stored) for name, stored in values.items()}
        self.bad: list[Bad] = []
        self.state: dict[Key, float] = {}
        self.is_ramping = self.has_time_limits = False

    def _nothing(self, *given: Any, **how: Any) -> None:
        return None

    connect = take_said = listen = rescued_by = protect = settle_links = close = verify = do = raw_send = complete = settled = learn_state = _nothing
    standing = connect_routes = disconnect_routes = open_routes = _nothing

    def _none(self, *given: Any) -> list[Any]:
        return []

    make_safe = restore = prove = take_doubts = read_errors = take_limiting = take_closings = _none

    def connected(self) -> dict[str, Connected]:
        return {}

    def set_line(self, settings: list[Key]) -> Callable[..., None]:
        return self._nothing

    def signal_item(self, name: str, *more: Any) -> Any:
        return SimpleNamespace(name=name, dimension=VOLT)  # its name is all that counts

    role_item = signal_item

    def read_line(self, items: list[Any], **how: Any) -> Callable[[], list[float]]:
        return lambda: [next(self._values[item.name]) for item in items]

    def raw_query(self, *given: Any) -> float | str:
        raise AssertionError


@pytest.mark.parametrize(("least", "verdict"), [("11.5 V", "fail"), ("5 V", "pass")])
def test_stored_values_are_judged_again_by_other_limits(perform, least: str, verdict: str) -> None:
    first = perform(SWEEP)
    rows = first.of(events.Row)
    stored = {"v_in": [row.v[0] for row in rows], "v_out": [row.v[1] for row in rows]}
    program = vet(Source("test.ibx", HEADER + SWEEP.replace(">= 6 V", f">= {least}")))
    heard: list[events.Event] = []
    bench: BenchLike = Stored(first.file, stored)
    services = Services(Still(), Consenting())
    run = Run(program, bench, Identity("r", "FC00400", "", "", STARTED), services, hearing(heard.append))
    assert run.carry_out().tests == {"t": verdict}
    assert [j.judged for j in judged(heard)] == [5, 5]


def test_the_bench_of_instruments_is_one_of_them(serve) -> None:
    bench: BenchLike = Bench(serve())
    assert bench.connected() == {} and bench.make_safe() == []
