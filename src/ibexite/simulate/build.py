"""Builds the stand-ins of a plan around its product, in the server process."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import replace

from ibexite.simulate.device import Presets, ScpiDevice
from ibexite.simulate.instruments.chamber import SimulatedChamber
from ibexite.simulate.instruments.described import DescribedDevice
from ibexite.simulate.instruments.generator import SimulatedGenerator
from ibexite.simulate.instruments.load import SimulatedLoad
from ibexite.simulate.instruments.meter import SimulatedMeter
from ibexite.simulate.instruments.power_meter import SimulatedPowerMeter
from ibexite.simulate.instruments.scope import SimulatedScope
from ibexite.simulate.instruments.signal_generator import SimulatedSignalGenerator
from ibexite.simulate.instruments.supply import SimulatedSupply
from ibexite.simulate.manual import Manual
from ibexite.simulate.plan import STIMULUS, SimulationPlan, StandIn
from ibexite.simulate.products import NOTHING, make_product
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


def _described(stand_in: StandIn, world: World, manual: Manual) -> ScpiDevice:
    kind = STIMULUS.get(stand_in.kind, "")
    wiring = stand_in.wiring
    if kind and not wiring:
        wiring = {1: f"{stand_in.name}_alone"}
        world.connect(kind, wiring[1])
    return DescribedDevice(stand_in.identity, stand_in.name, world, wiring, manual)


def _device(stand_in: StandIn, world: World) -> ScpiDevice:
    """That of its class, where that understands all which the profile says; else one that goes by the profile."""
    manual = Manual(stand_in.manual) if stand_in.manual is not None else None
    if stand_in.kind not in MAKERS:
        assert manual is not None
        return _described(stand_in, world, manual)
    if manual is not None and (manual.is_special or not understands(_made_up(stand_in), manual.examples())):
        return _described(stand_in, world, manual)
    return MAKERS[stand_in.kind](stand_in, world)


def _made_up(stand_in: StandIn) -> ScpiDevice:
    """An instrument of the class in a world of its own, to look at."""
    alone = replace(stand_in, wiring={1: "unwired"} if stand_in.kind not in STIMULUS else {})
    device = MAKERS[stand_in.kind](alone, World(make_product(NOTHING, ""), lambda: 0.0))
    device.is_trial = True
    return device


def understands(device: ScpiDevice, messages: Iterable[str]) -> bool:
    """Whether a device takes all of these messages. One that comes before another that it needs is no reason."""
    for message in messages:
        device.receive(message)
        device.take_output()
    return all(error.number in (-221, -230) for error in device.errors)


def build(plan: SimulationPlan, clock: Callable[[], float]) -> list[tuple[StandIn, ScpiDevice]]:
    """The devices of a plan, all around one product."""
    world = World(make_product(plan.product, plan.serial, plan.model), clock)
    made = []
    for stand_in in plan.stand_ins:
        device = _device(stand_in, world)
        device.presets = Presets(stand_in.presets)
        made.append((stand_in, device))
    return made
