"""Simulated power supply, electronic load and scanning multimeter, connected to a world."""

from __future__ import annotations

import math
import random
from collections.abc import Callable
from functools import partial

from ibexite.protocols import scpi
from ibexite.protocols.scpi import Command, ScpiError
from ibexite.simulate.device import ScpiDevice, one_parameter, response_number
from ibexite.simulate.nature import ROOM
from ibexite.simulate.world import World

# Bits of the questionable status register (SCPI-1999 volume 1, 20.3.1): the quantity is not what was set.
VOLTAGE_QUESTIONABLE, CURRENT_QUESTIONABLE = 1, 2


class _Stimulus(ScpiDevice):
    """What supply and load share: bounded numeric settings, and a status that says when they limit."""

    latched = 0

    def setting(
        self, notation: str, unit: str, low: float, high: float, get: Callable[[], float], put: Callable[[float], None]
    ) -> None:
        """Adds a numeric setting that can be queried."""

        def write(command: Command, suffix: int) -> None:
            _only_channel(suffix)
            put(scpi.number(one_parameter(command), unit, low, high))

        def query(command: Command, suffix: int) -> str:
            _only_channel(suffix)
            bounds = {"MIN": low, "MAX": high}
            return response_number(bounds[command.parameters[0].upper()[:3]] if command.parameters else get())

        self.on(notation, write, query)

    def switch(self, notation: str, get: Callable[[], bool], put: Callable[[bool], None]) -> None:
        """Adds an on/off setting that can be queried."""

        def write(command: Command, suffix: int) -> None:
            _only_channel(suffix)
            put(scpi.boolean(one_parameter(command)))

        self.on(notation, write, lambda c, n: str(int(get())))

    def measures(self, world: World, terminal: str, *, voltage_noise: float, current_noise: float) -> None:
        """Adds the measurement of voltage and current at its terminals; noise is RMS, in V and A."""
        for node, quantity, noise in (("VOLTage", "voltage", voltage_noise), ("CURRent", "current", current_noise)):
            name = f"{terminal}_{quantity}"

            def query(
                command: Command, suffix: int, name: str = name, noise: float = noise, quantity: str = quantity
            ) -> str:
                preset = self.presets.take(quantity)
                return response_number(world.value(name) + random.gauss(0, noise) if preset is None else preset)

            self.on(f"MEASure#[:SCALar]:{node}[:DC]", query=query)

    def limits(self, condition: Callable[[], int]) -> None:
        """Adds the questionable register: its condition, and its events, which are cleared when read."""

        def take_events(command: Command, suffix: int) -> str:
            events, self.latched = self.latched | condition(), 0
            return str(events)

        self.on("STATus:QUEStionable:CONDition", query=lambda c, n: str(condition()))
        self.on("STATus:QUEStionable[:EVENt]", query=take_events)


class SimulatedSupply(_Stimulus):
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


class SimulatedLoad(_Stimulus):
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


class SimulatedMeter(ScpiDevice):
    """A multimeter with a scanner; each channel is wired to a quantity of the product and has its own range."""

    RANGES = (0.1, 1.0, 10.0, 100.0, 300.0)
    NOISE = 2.2e-6  # RMS, as a share of the range

    def __init__(self, identity: str, name: str, world: World, channels: dict[int, str]) -> None:
        super().__init__(identity, name)
        self.world, self.channels = world, channels
        self.ranges: dict[int, float] = {}
        self.scan: list[int] = []
        self.on("CONFigure[:SCALar]:VOLTage[:DC]", self._configure)
        self.on("ROUTe:SCAN[:LIST]", self._set_scan, lambda c, n: f"(@{','.join(map(str, self.scan))})")
        self.on("READ", query=lambda c, n: self._read())
        self.on("MEASure[:SCALar]:VOLTage[:DC]", query=self._measure)
        self.on("CONFigure[:SCALar]:RESistance", self._configure_resistance)
        self.on("CALibration:ZERO:AUTO", lambda c, n: None)

    def reset(self) -> None:
        self.ranges = {}
        self.scan = []

    def _configure(self, command: Command, suffix: int) -> None:
        *wanted, channels = command.parameters or ("",)
        size = scpi.number(wanted[0], "V", 0, self.RANGES[-1]) if wanted and wanted[0].upper() != "AUTO" else 0.0
        for channel in self._known(channels):
            self.ranges[channel] = next(r for r in self.RANGES if r >= size) if size else 0.0

    def _configure_resistance(self, command: Command, suffix: int) -> None:
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
        if size == math.inf:
            return value * (1 + random.gauss(0, 20 * self.NOISE))
        if abs(value) > 1.2 * size:
            return scpi.INFINITY if value > 0 else -scpi.INFINITY
        return value + random.gauss(0, self.NOISE * size)


class SimulatedGenerator(_Stimulus):
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
        self.switch("OUTPut#[:STATe]", lambda: self.tone.is_on, lambda value: self._apply("is_on", value))
        self.on("TRIGger[:IMMediate]", lambda c, n: None)
        self.reset()

    def _add(self, notation: str, unit: str, low: float, high: float, key: str) -> None:
        self.setting(notation, unit, low, high, lambda: getattr(self.tone, key), lambda value: self._apply(key, value))

    def reset(self) -> None:
        self.tone.frequency, self.tone.amplitude, self.tone.offset, self.tone.is_on = 1e3, 0.0, 0.0, False
        self.world.changed()

    def _apply(self, key: str, value: float) -> None:
        setattr(self.tone, key, value)
        self.world.changed()


class SimulatedSignalGenerator(_Stimulus):
    """A signal generator: 9 kHz to 3 GHz, -110 dBm to +15 dBm."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.carrier = world, world.stimulus("carrier", terminal)
        self.setting("[SOURce#]:FREQuency[:CW]", "HZ", 9e3, 3e9, lambda: self.carrier.frequency,
                     lambda value: self._apply("frequency", value))  # fmt: skip
        self.setting("[SOURce#]:POWer[:LEVel][:IMMediate][:AMPLitude]", "DBM", -110.0, 15.0,
                     lambda: self.carrier.level, lambda value: self._apply("level", value))  # fmt: skip
        self.switch("OUTPut#[:STATe]", lambda: self.carrier.is_on, lambda value: self._apply("is_on", value))
        self.reset()

    def reset(self) -> None:
        self.carrier.frequency, self.carrier.level, self.carrier.is_on = 1e6, -110.0, False
        self.world.changed()

    def _apply(self, key: str, value: float) -> None:
        setattr(self.carrier, key, value)
        self.world.changed()


class SimulatedChamber(_Stimulus):
    """A temperature chamber: -60 degC to 120 degC."""

    def __init__(self, identity: str, name: str, world: World, terminal: str) -> None:
        super().__init__(identity, name)
        self.world, self.climate, self._air = world, world.stimulus("climate", terminal), f"{terminal}_temperature"
        self.setting("[SOURce#]:TEMPerature:SPOint", "CEL", -60.0, 120.0, lambda: self.climate.temperature - 273.15,
                     lambda value: self._apply("temperature", value + 273.15))  # fmt: skip
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


class SimulatedScope(_Stimulus):
    """An oscilloscope that measures waves: each channel is wired to two quantities, x_amplitude in V and x_phase in rad
    against channel 1. Eight bits: its noise is a share of the full scale."""

    NOISE = 0.8e-3

    def __init__(self, identity: str, name: str, world: World, channels: dict[int, str]) -> None:
        super().__init__(identity, name)
        self.world, self.channels, self.full_scale = world, channels, 10.0
        self.setting("[SENSe#]:VOLTage[:DC]:RANGe[:UPPer]", "V", 0.01, 100.0, lambda: self.full_scale,
                     lambda value: setattr(self, "full_scale", value))  # fmt: skip
        self.on("MEASure[:SCALar]:VOLTage:AMPLitude", query=lambda c, n: self._each(c, self._amplitude))
        self.on("MEASure[:SCALar]:VOLTage:RMS", query=lambda c, n: self._each(c, self._rms))
        self.on("MEASure[:SCALar]:FREQuency", query=lambda c, n: self._each(c, self._frequency))
        self.on("MEASure[:SCALar]:PHASe", query=lambda c, n: self._each(c, self._phase))
        self.on("TRIGger[:IMMediate]", lambda c, n: None)

    def reset(self) -> None:
        self.full_scale = 10.0

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
        tones = self.world.stimuli.tone.values()
        active = [tone.frequency for tone in tones if tone.is_on and tone.amplitude > 0]
        return active[0] * (1 + random.gauss(0, 1e-6)) if active else scpi.NOT_A_NUMBER

    def _phase(self, channel: int) -> float:
        """In degrees. The smaller the wave on the screen, the less certain its phase."""
        size = self.world.value(f"{self.channels[channel]}_amplitude")
        if size < 2 * self.NOISE * self.full_scale:
            return scpi.NOT_A_NUMBER
        noise = random.gauss(0, self.NOISE * self.full_scale / 4 / size)
        angle = self.world.value(f"{self.channels[channel]}_phase") + noise
        return math.degrees(math.remainder(angle, 2 * math.pi))


class SimulatedPowerMeter(_Stimulus):
    """A power meter: its sensor sees the level of a quantity in W, and noise of -70 dBm."""

    def __init__(self, identity: str, name: str, world: World, quantity: str) -> None:
        super().__init__(identity, name)
        self.world, self.quantity, self.frequency = world, quantity, 1e6
        self.setting("[SENSe#]:FREQuency[:CW]", "HZ", 9e3, 6e9, lambda: self.frequency,
                     lambda value: setattr(self, "frequency", value))  # fmt: skip
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


def _only_channel(suffix: int) -> None:
    if suffix != 1:
        raise ScpiError(-113, f"channel {suffix}")
