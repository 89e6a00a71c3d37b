"""What a simulated bench consists of: plain data, handed to the server process as JSON."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass
from typing import Any

from ibexite.simulate.device import ScpiDevice
from ibexite.simulate.instruments import SimulatedLoad, SimulatedMeter, SimulatedSupply
from ibexite.simulate.products import PRODUCTS
from ibexite.simulate.world import World

TROUBLES = ("silent", "late", "empty", "cut", "garbage", "overload", "nan", "close")


@dataclass(frozen=True, slots=True)
class Trouble:
    """A fault on demand: from the `nth` query that contains `query` on, `times` replies go wrong in the way `how`."""

    query: str
    how: str
    nth: int = 1
    times: int = 1


@dataclass(frozen=True, slots=True)
class StandIn:
    """One simulated instrument. `wiring` maps its channels to terminals or quantities of the product."""

    name: str
    kind: str
    identity: str
    host: str
    port: int
    wiring: dict[int, str]
    answer_time: float = 0.0
    trouble: tuple[Trouble, ...] = ()


@dataclass(frozen=True, slots=True)
class SimulationPlan:
    """The product with its serial number, and the instruments around it."""

    product: str
    serial: str
    stand_ins: tuple[StandIn, ...]

    def as_data(self) -> dict[str, Any]:
        """For JSON; `from_data` reads it back."""
        return asdict(self)

    @classmethod
    def from_data(cls, data: dict[str, Any]) -> SimulationPlan:
        """The plan that `as_data` wrote."""
        stand_ins = tuple(
            StandIn(
                **{
                    **s,
                    "wiring": {int(k): v for k, v in s["wiring"].items()},
                    "trouble": tuple(Trouble(**t) for t in s["trouble"]),
                }
            )
            for s in data["stand_ins"]
        )
        return cls(data["product"], data["serial"], stand_ins)


def _supply(stand_in: StandIn, world: World) -> ScpiDevice:
    return SimulatedSupply(stand_in.identity, stand_in.name, world, stand_in.wiring[1])


def _load(stand_in: StandIn, world: World) -> ScpiDevice:
    return SimulatedLoad(stand_in.identity, stand_in.name, world, stand_in.wiring[1])


def _meter(stand_in: StandIn, world: World) -> ScpiDevice:
    return SimulatedMeter(stand_in.identity, stand_in.name, world, stand_in.wiring)


KINDS: dict[str, Callable[[StandIn, World], ScpiDevice]] = {
    "power_supply": _supply, "electronic_load": _load, "multimeter": _meter,
}  # fmt: skip


def connectable(product: str, kind: str) -> tuple[str, ...]:
    """What an instrument of a kind can be wired to: terminals for sources and sinks, else quantities."""
    model = PRODUCTS[product]("")
    terminals = {"power_supply": model.source_terminals, "electronic_load": model.sink_terminals}
    return terminals.get(kind, tuple(model.time_constants))


def build(plan: SimulationPlan, clock: Callable[[], float]) -> list[tuple[StandIn, ScpiDevice]]:
    """The devices of a plan, all around one product."""
    world = World(PRODUCTS[plan.product](plan.serial), clock)
    return [(stand_in, KINDS[stand_in.kind](stand_in, world)) for stand_in in plan.stand_ins]
