"""A simulated function generator."""

from __future__ import annotations

from array import array
from typing import Any

from ibexite.protocols import scpi
from ibexite.simulate.instruments.stimulus import Stimulus
from ibexite.simulate.world import World


class SimulatedGenerator(Stimulus):
    """A function generator of one output: sine up to 25 MHz, 10 V."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.tone = world, world.stimulus("tone", terminal)
        for node, unit, low, high, key in (
            ("FREQuency[:CW]", "HZ", 1e-3, 25e6, "frequency"),
            ("VOLTage[:LEVel][:IMMediate][:AMPLitude]", "V", 0.0, 10.0, "amplitude"),
            ("VOLTage[:LEVel][:IMMediate]:OFFSet", "V", -5.0, 5.0, "offset"),
        ):
            self._add(f"[SOURce#]:{node}", unit, low, high, key)
        shapes = ("SINusoid", "SQUare", "TRIangle", "PULSe", "PRNoise", "DC", "USER")
        self.choice("[SOURce#]:FUNCtion[:SHAPe]", shapes, "wave")
        self.kept("[SOURce#]:PHASe[:ADJust]", "RAD", -6.2832, 6.2832, "phase", 0.0)
        self.kept("[SOURce#]:PULSe:DCYCle", "PCT", 1.0, 99.0, "duty", 50.0)
        self.switch("OUTPut#[:STATe]", lambda: self.tone.is_on, lambda value: self._apply("is_on", value))
        self.setting("[SOURce#]:LIST:DWELl", "S", 8e-9, 1.0, lambda: self.tone.interval, self._dwell)
        self.kept_switch("INITiate:CONTinuous", "continuous")
        self.on("TRIGger[:IMMediate]", lambda c, n: self._start())
        self._loaded: Any = None
        self.reset()

    def receive(self, message: str) -> None:
        """Carries out one program message; one that loads samples holds a block of them (488.2, 8.7.9)."""
        head, mark, block = message.partition("#")
        if not mark or scpi.header_pattern("TRACe[:DATA]").fullmatch(head.split(" ")[0].strip().upper()) is None:
            super().receive(message)
            return
        content = block[1 + int(block[0]) :].encode("latin-1")
        self._loaded = array("f", content)
        self._loaded.byteswap()

    def _dwell(self, seconds: float) -> None:
        self.tone.interval = seconds

    def _start(self) -> None:
        """Plays the samples once, if it is on and set to do so."""
        if self.words["wave"] == "USER" and self.tone.is_on and not self.numbers["continuous"]:
            self.tone.samples, self.tone.started = self._loaded, self.world.clock()

    def _add(self, notation: str, unit: str, low: float, high: float, key: str) -> None:
        self.setting(notation, unit, low, high, lambda: getattr(self.tone, key), lambda value: self._apply(key, value))

    def reset(self) -> None:
        self.tone.frequency, self.tone.amplitude, self.tone.offset, self.tone.is_on = 1e3, 0.0, 0.0, False
        self.tone.samples = self.tone.started = None
        self.world.changed()

    def _apply(self, key: str, value: float) -> None:
        setattr(self.tone, key, value)
        self.world.changed()
