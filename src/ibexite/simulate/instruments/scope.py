"""A simulated oscilloscope."""

from __future__ import annotations

import math
import random
import struct
from collections.abc import Callable

from ibexite.protocols import scpi
from ibexite.protocols.framing import definite_block
from ibexite.protocols.scpi import Command, ScpiError
from ibexite.simulate.device import one_parameter, response_number
from ibexite.simulate.instruments.stimulus import Stimulus
from ibexite.simulate.screen import WIDTH, screen
from ibexite.simulate.world import World


class SimulatedScope(Stimulus):
    """An oscilloscope that measures waves: each channel is wired to two quantities, x_amplitude in V and x_phase in rad
    against channel 1. Eight bits: its noise is a share of the full scale."""

    NOISE = 0.8e-3
    POINTS = 2_000  # of a record

    def __init__(self, identity: str, name: str, world: World, channels: dict[int, str]) -> None:
        super().__init__(identity, name)
        self.world, self.channels = world, channels
        self.full_scale, self.record_time, self.is_binary = 10.0, 1e-3, False
        self.setting("[SENSe#]:VOLTage[:DC]:RANGe[:UPPer]", "V", 0.01, 100.0, lambda: self.full_scale,
                     lambda value: setattr(self, "full_scale", value))  # fmt: skip
        self.on("MEASure[:SCALar]:VOLTage:AMPLitude", query=lambda c, n: self._each(c, self._amplitude))
        self.on("MEASure[:SCALar]:VOLTage:RMS", query=lambda c, n: self._each(c, self._rms))
        self.on("MEASure[:SCALar]:FREQuency", query=lambda c, n: self._each(c, self._frequency))
        self.on("MEASure[:SCALar]:PHASe", query=lambda c, n: self._each(c, self._phase))
        self.setting("[SENSe#]:SWEep:TIME", "s", 1e-6, 10.0, lambda: self.record_time,
                     lambda value: setattr(self, "record_time", value))  # fmt: skip
        self.on("[SENSe#]:SWEep:POINts", query=lambda c, n: str(self.POINTS))
        self.on("[SENSe#]:SWEep:TINTerval", query=lambda c, n: response_number(self.record_time / self.POINTS))
        self.on("[SENSe#]:SWEep:OFFSet:TIME", query=lambda c, n: response_number(0.0))
        self.choice("INPut:COUPling", ("AC", "DC"), "coupling")
        self.kept("TRIGger:LEVel", "V", -100.0, 100.0, "trigger_level", 0.0)
        self.choice("TRIGger:SLOPe", ("POSitive", "NEGative"), "trigger_slope")
        self.on("MEASure[:SCALar]:VOLTage:DC", query=lambda c, n: self._each(c, lambda channel: 0.0))
        self.on("MEASure[:SCALar]:RISE:TIME", query=lambda c, n: self._each(c, self._rise_time))
        self.on("FORMat[:DATA]", self._set_format)
        self.on("READ:ARRay:VOLTage", query=lambda c, n: self._record(c))
        self.on("HCOPy:SDUMp:DATA", query=lambda c, n: definite_block(screen(self._trace())).decode("latin-1"))
        self.on("TRIGger[:IMMediate]", lambda c, n: None)

    def reset(self) -> None:
        self.full_scale, self.record_time, self.is_binary = 10.0, 1e-3, False

    def _set_format(self, command: Command, suffix: int) -> None:
        form = command.parameters[0].upper()
        if not form.startswith(("ASC", "REAL")):
            raise ScpiError(-224, form)
        self.is_binary = form.startswith("REAL")

    def _record(self, command: Command) -> str:
        """One record of a channel: numbers with commas, or a definite length block of single precision."""
        (channel,) = scpi.channel_list(one_parameter(command))
        if channel not in self.channels:
            raise ScpiError(-224, str(channel))
        values = [self._sample(channel, i * self.record_time / self.POINTS) for i in range(self.POINTS)]
        if not self.is_binary:
            return ",".join(map(response_number, values))
        return definite_block(struct.pack(f">{len(values)}f", *values)).decode("latin-1")

    def _trace(self) -> list[float]:
        """What the screen shows of its first channel, as shares of the full scale."""
        if not self.channels:
            return []
        channel, step = min(self.channels), self.record_time / WIDTH
        return [self._sample(channel, i * step) / self.full_scale for i in range(WIDTH)]

    def _sample(self, channel: int, time: float) -> float:
        size = self.world.value(f"{self.channels[channel]}_amplitude")
        phase = self.world.value(f"{self.channels[channel]}_phase")
        value = size * math.sin(2 * math.pi * self._tone() * time + phase)
        value += random.gauss(0, self.NOISE * self.full_scale / 4)
        return value if abs(value) <= self.full_scale else math.copysign(scpi.INFINITY, value)

    def _each(self, command: Command, measure: Callable[[int], float]) -> str:
        values = []
        for channel in scpi.channel_list(one_parameter(command)):
            if channel not in self.channels:
                raise ScpiError(-224, str(channel))
            preset = self.presets.take(str(channel))
            values.append(response_number(measure(channel) if preset is None else preset))
        return ",".join(values)

    def _amplitude(self, channel: int) -> float:
        value = self.world.value(f"{self.channels[channel]}_amplitude")
        if value > self.full_scale:
            return scpi.INFINITY
        return abs(value + random.gauss(0, self.NOISE * self.full_scale / 4))

    def _rms(self, channel: int) -> float:
        return self._amplitude(channel) / math.sqrt(2)

    def _frequency(self, channel: int) -> float:
        frequency = self._tone()
        return frequency * (1 + random.gauss(0, 1e-6)) if frequency else scpi.NOT_A_NUMBER

    def _tone(self) -> float:
        """The frequency that is applied in Hz, 0 for none."""
        tones = self.world.stimuli.tone.values()
        return next((tone.frequency for tone in tones if tone.is_on and tone.amplitude > 0), 0.0)

    def _rise_time(self, channel: int) -> float:
        """From 10 % to 90 % of a sine: asin(0.8)/pi of its period."""
        frequency = self._frequency(channel)
        return 2 * math.asin(0.8) / (2 * math.pi * frequency) if frequency else scpi.NOT_A_NUMBER

    def _phase(self, channel: int) -> float:
        """In degrees. The smaller the wave on the screen, the less certain its phase."""
        size = self.world.value(f"{self.channels[channel]}_amplitude")
        if size < 2 * self.NOISE * self.full_scale:
            return scpi.NOT_A_NUMBER
        noise = random.gauss(0, self.NOISE * self.full_scale / 4 / size)
        angle = self.world.value(f"{self.channels[channel]}_phase") + noise
        return math.degrees(math.remainder(angle, 2 * math.pi))
