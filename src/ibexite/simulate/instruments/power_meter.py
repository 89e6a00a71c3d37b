"""A simulated power meter."""

from __future__ import annotations

import math
import random

from ibexite.simulate.device import response_number
from ibexite.simulate.instruments.stimulus import Stimulus
from ibexite.simulate.world import World


class SimulatedPowerMeter(Stimulus):
    """A power meter: its sensor sees the level of a quantity in W, and noise of -70 dBm."""

    def __init__(self, identity: str, name: str, world: World, quantity: str) -> None:
        super().__init__(identity, name)
        self.world, self.quantity, self.frequency = world, quantity, 1e6
        self.setting("[SENSe#]:FREQuency[:CW]", "HZ", 9e3, 6e9, lambda: self.frequency,
                     lambda value: setattr(self, "frequency", value))  # fmt: skip
        self.kept("[SENSe#]:AVERage:COUNt", "", 1.0, 1024.0, "averaging", 1.0)
        self.on("MEASure#[:SCALar]:POWer[:AC]", query=lambda c, n: self._level())
        self.on("CALibration:ZERO:AUTO", lambda c, n: None)

    def reset(self) -> None:
        self.frequency = 1e6

    def _level(self) -> str:
        preset = self.presets.take("level")
        if preset is not None:
            return response_number(preset)
        power = self.world.value(self.quantity) * (1 + random.gauss(0, 4e-4)) + 1e-10 * abs(random.gauss(0, 1))
        return response_number(10 * math.log10(max(power, 1e-20)) + 30)
