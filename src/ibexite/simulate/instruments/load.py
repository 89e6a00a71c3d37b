"""A simulated electronic load."""

from __future__ import annotations

from ibexite.simulate.instruments.stimulus import CURRENT_QUESTIONABLE, Stimulus
from ibexite.simulate.world import World


class SimulatedLoad(Stimulus):
    """An electronic load in constant-current mode: 4.5 A."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.sink = world, world.stimulus("sink", terminal)
        self.over_current = 5.0
        sink = self.sink
        self.setting(
            "[SOURce#]:CURRent[:LEVel][:IMMediate][:AMPLitude]",
            "A",
            0,
            4.5,
            lambda: sink.current,
            lambda value: self._apply("current", value),
        )
        self.setting(
            "[SOURce#]:CURRent:PROTection[:LEVel]",
            "A",
            0,
            5,
            lambda: self.over_current,
            lambda value: setattr(self, "over_current", value),
        )
        self.switch("INPut#[:STATe]", lambda: sink.is_on, lambda value: self._apply("is_on", value))
        self.limits(lambda: CURRENT_QUESTIONABLE if sink.is_starved else 0)
        self.measures(world, terminal, voltage_noise=0.9e-3, current_noise=0.3e-3)
        self.reset()

    def reset(self) -> None:
        self.over_current = 5.0
        self.sink.current, self.sink.is_on = 0.0, False
        self.world.changed()

    def _apply(self, what: str, value: float) -> None:
        setattr(self.sink, what, value)
        self.world.changed()
        if self.sink.is_starved:
            self.latched |= CURRENT_QUESTIONABLE
