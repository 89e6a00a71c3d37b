"""A simulated temperature chamber."""

from __future__ import annotations

import random

from ibexite.simulate.device import response_number
from ibexite.simulate.instruments.stimulus import Stimulus
from ibexite.simulate.nature import ROOM
from ibexite.simulate.world import World


class SimulatedChamber(Stimulus):
    """A temperature chamber: -60 degC to 120 degC."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.climate, self._air = world, world.stimulus("climate", terminal), f"{terminal}_temperature"
        self.setting("[SOURce#]:TEMPerature:SPOint", "CEL", -60.0, 120.0, lambda: self.climate.temperature - 273.15,
                     lambda value: self._apply("temperature", value + 273.15))  # fmt: skip
        self.kept("[SOURce#]:TEMPerature:SLEW", "K/S", 0.001, 0.2, "rate", 0.2)
        self.switch("OUTPut#[:STATe]", lambda: self.climate.is_on, lambda value: self._apply("is_on", value))
        self.on("MEASure#[:SCALar]:TEMPerature", query=lambda c, n: self._temperature())
        self.reset()

    def reset(self) -> None:
        self.climate.temperature, self.climate.is_on = ROOM, False
        self.world.changed()

    def _apply(self, key: str, value: float) -> None:
        setattr(self.climate, key, value)
        self.world.changed()

    def _temperature(self) -> str:
        preset = self.presets.take("temperature")
        return response_number(
            self.world.value(self._air) - 273.15 + random.gauss(0, 0.02) if preset is None else preset
        )
