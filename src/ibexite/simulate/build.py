"""Builds the stand-ins of a plan around its product, in the server process."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.simulate.device import Presets, ScpiDevice
from ibexite.simulate.instruments.chamber import SimulatedChamber
from ibexite.simulate.instruments.generator import SimulatedGenerator
from ibexite.simulate.instruments.load import SimulatedLoad
from ibexite.simulate.instruments.meter import SimulatedMeter
from ibexite.simulate.instruments.power_meter import SimulatedPowerMeter
from ibexite.simulate.instruments.scope import SimulatedScope
from ibexite.simulate.instruments.signal_generator import SimulatedSignalGenerator
from ibexite.simulate.instruments.supply import SimulatedSupply
from ibexite.simulate.plan import SimulationPlan, StandIn
from ibexite.simulate.products import make_product
from ibexite.simulate.world import World


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
MAKERS: dict[str, Maker] = {
    "power_supply": _single("source", SimulatedSupply), "electronic_load": _single("sink", SimulatedLoad),
    "function_generator": _single("tone", SimulatedGenerator),
    "signal_generator": _single("carrier", SimulatedSignalGenerator),
    "temperature_chamber": _single("climate", SimulatedChamber), "power_meter": _single("", SimulatedPowerMeter),
    "multimeter": _many(SimulatedMeter), "oscilloscope": _many(SimulatedScope),
}  # fmt: skip


def build(plan: SimulationPlan, clock: Callable[[], float]) -> list[tuple[StandIn, ScpiDevice]]:
    """The devices of a plan, all around one product."""
    world = World(make_product(plan.product, plan.serial), clock)
    made = []
    for stand_in in plan.stand_ins:
        device = MAKERS[stand_in.kind](stand_in, world)
        device.presets = Presets(stand_in.presets)
        made.append((stand_in, device))
    return made
