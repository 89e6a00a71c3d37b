"""A simulated signal generator."""

from __future__ import annotations

from ibexite.simulate.instruments.stimulus import Stimulus
from ibexite.simulate.world import World


class SimulatedSignalGenerator(Stimulus):
    """A signal generator: 9 kHz to 3 GHz, -110 dBm to +15 dBm."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.carrier = world, world.stimulus("carrier", terminal)
        self.setting("[SOURce#]:FREQuency[:CW]", "HZ", 9e3, 3e9, lambda: self.carrier.frequency,
                     lambda value: self._apply("frequency", value))  # fmt: skip
        self.setting("[SOURce#]:POWer[:LEVel][:IMMediate][:AMPLitude]", "DBM", -110.0, 15.0,
                     lambda: self.carrier.level, lambda value: self._apply("level", value))  # fmt: skip
        for node in ("AM", "FM"):
            self.kept_switch(f"[SOURce#]:{node}:STATe", node)
        self.kept("[SOURce#]:AM[:DEPTh]", "PCT", 0.0, 100.0, "depth", 0.0)
        self.kept("[SOURce#]:FM[:DEViation]", "HZ", 0.0, 500e3, "deviation", 0.0)
        self.kept("[SOURce#]:AM:INTernal:FREQuency", "HZ", 10.0, 50e3, "rate", 1e3)
        self.switch("OUTPut#[:STATe]", lambda: self.carrier.is_on, lambda value: self._apply("is_on", value))
        self.reset()

    def reset(self) -> None:
        self.carrier.frequency, self.carrier.level, self.carrier.is_on = 1e6, -110.0, False
        self.world.changed()

    def _apply(self, key: str, value: float) -> None:
        setattr(self.carrier, key, value)
        self.world.changed()
