"""A simulated power supply."""

from __future__ import annotations

from functools import partial

from ibexite.protocols.scpi import Command, ScpiError
from ibexite.simulate.instruments.stimulus import VOLTAGE_QUESTIONABLE, Stimulus
from ibexite.simulate.world import World


class SimulatedSupply(Stimulus):
    """A power supply of one output: 36 V, 3.2 A."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.source = world, world.stimulus("source", terminal)
        self._current = f"{terminal}_current"
        self.over_voltage, self.over_current, self.tripped = 40.0, 3.5, ""
        source = self.source
        self.setting(
            "[SOURce#]:VOLTage[:LEVel][:IMMediate][:AMPLitude]",
            "V",
            0,
            36,
            lambda: source.voltage,
            lambda value: self._apply("voltage", value),
        )
        self.setting(
            "[SOURce#]:CURRent[:LEVel][:IMMediate][:AMPLitude]",
            "A",
            0,
            3.2,
            lambda: source.limit,
            lambda value: self._apply("limit", value),
        )
        self.setting(
            "[SOURce#]:VOLTage:PROTection[:LEVel]",
            "V",
            0,
            40,
            lambda: self.over_voltage,
            lambda value: self._protect("over_voltage", value),
        )
        self.setting(
            "[SOURce#]:CURRent:PROTection[:LEVel]",
            "A",
            0,
            3.5,
            lambda: self.over_current,
            lambda value: self._protect("over_current", value),
        )
        for node in ("VOLTage", "CURRent"):
            self.on(f"[SOURce#]:{node}:PROTection:TRIPped", query=partial(self._has_tripped, node))
            self.on(f"[SOURce#]:{node}:PROTection:CLEar", lambda c, n: setattr(self, "tripped", ""))
        self.choice("[SOURce#]:VOLTage:ALC:SOURce", ("INTernal", "EXTernal"), "sense")
        self.kept("[SOURce#]:VOLTage:SLEW", "V/S", 1.0, 1000.0, "slew", 1000.0)
        self.on("OUTPut#:PROTection:CLEar", lambda c, n: setattr(self, "tripped", ""))
        self.switch("OUTPut#[:STATe]", lambda: source.is_on, lambda value: self._apply("is_on", value))
        self.limits(lambda: VOLTAGE_QUESTIONABLE if source.is_limiting else 0)
        self.measures(world, terminal, voltage_noise=0.8e-3, current_noise=0.2e-3)
        self.reset()

    def reset(self) -> None:
        self.over_voltage, self.over_current, self.tripped = 40.0, 3.5, ""
        self.source.voltage, self.source.limit, self.source.is_on = 0.0, 0.1, False
        self.world.changed()

    def _has_tripped(self, node: str, command: Command, suffix: int) -> str:
        return str(int(self.tripped == node))

    def _protect(self, what: str, value: float) -> None:
        setattr(self, what, value)
        self._look_at_protection()

    def _look_at_protection(self) -> None:
        """Trips where the voltage, or the current that flows, is above the level of its protection; then it is off
        until it is cleared and switched on again."""
        if not self.source.is_on:
            return
        is_over = self.world.settled(self._current) > self.over_current
        tripped = "VOLTage" if self.source.voltage > self.over_voltage else "CURRent" if is_over else ""
        if tripped:
            self.tripped, self.source.is_on = tripped, False
            self.world.changed()

    def _apply(self, what: str, value: float) -> None:
        if what == "is_on" and value and self.tripped:
            raise ScpiError(-221, "protection has tripped")
        setattr(self.source, what, value)
        self.world.changed()
        self._look_at_protection()
        if self.source.is_limiting:
            self.latched |= VOLTAGE_QUESTIONABLE
