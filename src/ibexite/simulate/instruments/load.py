"""A simulated electronic load."""

from __future__ import annotations

from ibexite.simulate.instruments.stimulus import CURRENT_QUESTIONABLE, Stimulus
from ibexite.simulate.world import World


class SimulatedLoad(Stimulus):
    """An electronic load: 4.5 A, 60 V, 75 W."""

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
        self.choice(
            "[SOURce#]:FUNCtion:MODE", ("CURRent", "VOLTage", "RESistance", "POWer"), "mode", self._mode_changed
        )
        for node, unit, low, high, key in (
            ("VOLTage", "V", 0.0, 60.0, "voltage"), ("RESistance", "OHM", 0.1, 10e3, "resistance"),
            ("POWer", "W", 0.0, 75.0, "power"),
        ):  # fmt: skip
            self._add(f"[SOURce#]:{node}[:LEVel][:IMMediate][:AMPLitude]", unit, low, high, key)
        self.kept("[SOURce#]:CURRent:SLEW", "A/S", 1e-3, 1e6, "slew", 1e6)
        self.kept("[SOURce#]:POWer:PROTection[:LEVel]", "W", 0.0, 80.0, "over_power", 80.0)
        self.on("INPut#:PROTection:CLEar", lambda c, n: None)
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
        sink = self.sink
        sink.current, sink.is_on, sink.mode, sink.resistance, sink.power, sink.voltage = (
            0.0,
            False,
            "current",
            10e3,
            0.0,
            60.0,
        )
        self.world.changed()

    def _add(self, notation: str, unit: str, low: float, high: float, key: str) -> None:
        self.setting(notation, unit, low, high, lambda: getattr(self.sink, key), lambda value: self._apply(key, value))

    def _mode_changed(self, word: str) -> None:
        self.sink.mode = word.lower()
        self.world.changed()

    def _apply(self, what: str, value: float) -> None:
        setattr(self.sink, what, value)
        self.world.changed()
        if self.sink.is_starved:
            self.latched |= CURRENT_QUESTIONABLE
