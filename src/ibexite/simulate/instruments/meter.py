"""A simulated multimeter with a scanner."""

from __future__ import annotations

import math
import random

from ibexite.protocols import scpi
from ibexite.protocols.scpi import Command, ScpiError
from ibexite.simulate.device import one_parameter, response_number
from ibexite.simulate.instruments.stimulus import Stimulus
from ibexite.simulate.world import World

AUTORANGE = ("AUTO", "DEF", "DEFAULT")


class SimulatedMeter(Stimulus):
    """A multimeter with a scanner; each channel is wired to a quantity of the product and has its own range."""

    RANGES = (0.1, 1.0, 10.0, 100.0, 300.0)
    NOISE = 2.2e-6  # RMS, as a share of the range

    def __init__(self, identity: str, name: str, world: World, channels: dict[int, str]) -> None:
        super().__init__(identity, name)
        self.world, self.channels = world, channels
        self.ranges: dict[int, float] = {}
        self.integration: dict[int, float] = {}  # in periods of the mains
        self.numbers["auto_zero"] = 1.0
        self.scan: list[int] = []
        self.on("CONFigure[:SCALar]:VOLTage[:DC]", self._configure)
        self.on("ROUTe:SCAN[:LIST]", self._set_scan, lambda c, n: f"(@{','.join(map(str, self.scan))})")
        self.on("READ", query=lambda c, n: self._read())
        self.on("MEASure[:SCALar]:VOLTage[:DC]", query=self._measure)
        for function in ("RESistance", "FRESistance", "FREQuency", "TEMPerature"):
            self.on(f"CONFigure[:SCALar]:{function}", self._configure_autoranging)
        for function in ("VOLTage:AC", "CURRent[:DC]", "CURRent:AC"):
            self.on(f"CONFigure[:SCALar]:{function}", self._configure)
        for function in ("VOLTage:DC", "CURRent:DC", "RESistance", "FRESistance"):
            self.on(f"[SENSe]:{function}:NPLCycles", self._set_integration)
        self.kept("TRIGger:DELay", "S", 0.0, 3600.0, "trigger_delay", 0.0)
        self.on("CALibration:ZERO:AUTO", self._set_auto_zero, lambda c, n: str(int(self.numbers["auto_zero"])))

    def reset(self) -> None:
        self.ranges, self.integration, self.scan = {}, {}, []
        self.numbers |= {"auto_zero": 1.0, "trigger_delay": 0.0}

    def _configure(self, command: Command, suffix: int) -> None:
        *wanted, channels = command.parameters or ("",)
        size = scpi.number(wanted[0], "V", 0, self.RANGES[-1]) if wanted and wanted[0].upper() not in AUTORANGE else 0.0
        for channel in self._known(channels):
            self.ranges[channel] = next(r for r in self.RANGES if r >= size) if size else 0.0

    def _set_integration(self, command: Command, suffix: int) -> None:
        if len(command.parameters) != 2:
            raise ScpiError(-109)
        for channel in self._known(command.parameters[1]):
            self.integration[channel] = scpi.number(command.parameters[0], "", 0.02, 100.0)

    def _set_auto_zero(self, command: Command, suffix: int) -> None:
        word = one_parameter(command)
        self.numbers["auto_zero"] = float(word.upper() != "ONCE" and scpi.boolean(word))

    def _configure_autoranging(self, command: Command, suffix: int) -> None:
        for channel in self._known(command.parameters[-1] if command.parameters else ""):
            self.ranges[channel] = math.inf  # each resistance in a range that fits

    def _set_scan(self, command: Command, suffix: int) -> None:
        self.scan = self._known(one_parameter(command))

    def _known(self, text: str) -> list[int]:
        channels = scpi.channel_list(text)
        if any(channel not in self.channels for channel in channels):
            raise ScpiError(-224, text)
        return channels

    def _measure(self, command: Command, suffix: int) -> str:
        self._configure(command, suffix)
        self.scan = scpi.channel_list(command.parameters[-1])
        return self._read()

    def _read(self) -> str:
        if not self.scan:
            raise ScpiError(-230, "no scan list")
        return ",".join(response_number(self._channel(channel)) for channel in self.scan)

    def _channel(self, channel: int) -> float:
        preset = self.presets.take(str(channel))
        if preset is not None:
            return preset
        value = self.world.value(self.channels[channel])
        size = self.ranges.get(channel, 0.0) or next((r for r in self.RANGES if r >= abs(value)), self.RANGES[-1])
        quiet = math.sqrt(self.integration.get(channel, 1.0))
        if size == math.inf:
            return value * (1 + random.gauss(0, 20 * self.NOISE / quiet))
        if abs(value) > 1.2 * size:
            return scpi.INFINITY if value > 0 else -scpi.INFINITY
        return value + random.gauss(0, self.NOISE * size / quiet)
