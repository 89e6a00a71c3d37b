"""The engine on another bench than one of real instruments: one that answers from stored values. Nothing of the engine
knows of it."""

from collections.abc import Callable
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
from ibexite.holes import Bad
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.units import VOLT
from tests.conftest import HEADER
from tests.runs import STARTED, Still, hearing, judged

SWEEP = """test t "T"
    sweep u from 7 V to 11 V step 1 V
        set supply.voltage = u
        read v_in, v_out together
    check v_out within 5 V +/- 0.2 V
    check v_in >= 6 V as "battery"
"""


class Stored:
    """A bench that gives the values which were stored of each name, in their order; it has nothing to set or switch."""

    def __init__(self, file: BenchFile, values: dict[str, list[float]]) -> None:
        self.file, self._values = file, {name: iter(stored) for name, stored in values.items()}
        self.bad: list[Bad] = []
        self.state: dict[Key, float] = {}
        self.is_ramping = self.has_time_limits = self.has_messages = self.has_much_to_tell = False

    def _nothing(self, *given: Any, **how: Any) -> None:
        return None

    connect = take_said = tell = tell_time = listen = rescued_by = protect = settle_links = close = verify = do = raw_send = complete = settled = (
        learn_state
    ) = _nothing
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
