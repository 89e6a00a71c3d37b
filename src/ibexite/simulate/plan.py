"""What a simulated bench consists of: plain data, handed to the server process as JSON."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from typing import Any

from ibexite.simulate.device import Presets, ScpiDevice
from ibexite.simulate.instruments import (
    SimulatedChamber,
    SimulatedGenerator,
    SimulatedLoad,
    SimulatedMeter,
    SimulatedPowerMeter,
    SimulatedScope,
    SimulatedSignalGenerator,
    SimulatedSupply,
)
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
    presets: dict[str, list[float]] = field(
        default_factory=dict
    )  # readings prepared by channel or quantity, as raw values


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


def _single(kind: str, device: Callable[[str, str, World, str], ScpiDevice]) -> Maker:
    """An instrument of one channel, wired to a terminal or a quantity; to nothing where it is not wired."""

    def make(stand_in: StandIn, world: World) -> ScpiDevice:
        wired = stand_in.wiring.get(1) or f"{stand_in.name}_alone"
        if kind and wired not in getattr(world.stimuli, kind):
            world.connect(kind, wired)
        return device(stand_in.identity, stand_in.name, world, wired)

    return make


def _many(device: Callable[[str, str, World, dict[int, str]], ScpiDevice]) -> Maker:
    return lambda stand_in, world: device(stand_in.identity, stand_in.name, world, stand_in.wiring)


Maker = Callable[[StandIn, World], ScpiDevice]
STIMULUS = {
    "power_supply": "source", "electronic_load": "sink", "function_generator": "tone", "signal_generator": "carrier",
    "temperature_chamber": "climate",
}  # fmt: skip
KINDS: dict[str, Maker] = {
    "power_supply": _single("source", SimulatedSupply), "electronic_load": _single("sink", SimulatedLoad),
    "function_generator": _single("tone", SimulatedGenerator),
    "signal_generator": _single("carrier", SimulatedSignalGenerator),
    "temperature_chamber": _single("climate", SimulatedChamber), "power_meter": _single("", SimulatedPowerMeter),
    "multimeter": _many(SimulatedMeter), "oscilloscope": _many(SimulatedScope),
}  # fmt: skip


def connectable(product: str, kind: str) -> tuple[str, ...]:
    """What an instrument of a kind can be wired to: terminals for what applies something, else quantities."""
    model = PRODUCTS[product]("")
    if kind in STIMULUS:
        return model.terminals.get(STIMULUS[kind], ())
    names = (*model.time_constants, *model.derived)
    if kind == "oscilloscope":
        return tuple(n.removesuffix("_amplitude") for n in names if n.endswith("_amplitude"))
    return names


def build(plan: SimulationPlan, clock: Callable[[], float]) -> list[tuple[StandIn, ScpiDevice]]:
    """The devices of a plan, all around one product."""
    world = World(PRODUCTS[plan.product](plan.serial), clock)
    made = []
    for stand_in in plan.stand_ins:
        device = KINDS[stand_in.kind](stand_in, world)
        device.presets = Presets(stand_in.presets)
        made.append((stand_in, device))
    return made
