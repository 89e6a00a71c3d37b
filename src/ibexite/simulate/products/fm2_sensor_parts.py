"""Parts of the FM-2 snow-depth gauge on the analog bench: receive amplifier, band filter, transducer, mast heater.

Physical models, not tables. The serial number gives each set of parts its own small spread; some numbers are faulty,
always alike.
"""

from __future__ import annotations

import cmath
import math
import random
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from ibexite.simulate.nature import ROOM, drawn

if TYPE_CHECKING:
    from ibexite.simulate.world import Stimuli

FAULTS = {
    "detuned": 0.06,  # a wrong capacitor: the band filter sits too high
    "cracked": 0.06,  # a crack in the ceramic: the transducer is damped
    "open_heater": 0.06,  # a broken turn: the heater takes less current
}
SHUNT_TRANSDUCER = 100.0  # ohm, from the transducer to ground
SHUNT_HEATER = 0.04994  # ohm
NTC_R25, NTC_BETA = 10e3, 3950.0  # ohm, K


@dataclass(frozen=True, slots=True)
class _Parts:
    """The parts of one set, in base SI units."""

    gain: float  # dB, of the amplifier in the middle of its band
    saturation: float  # dBm at its output
    inductance: float  # H, band filter
    capacitance: float  # F
    resistance: float  # ohm
    parallel_capacitance: float  # F, transducer
    resonance: float  # Hz
    quality: float
    motional: float  # ohm
    heater: float  # ohm at 20 degC
    thermal: float  # K/W


def fault_of(serial: str) -> str:
    """The fault of a set by its serial number, "" for a good one."""
    return drawn(f"parts {serial}", FAULTS)


def _parts_of(serial: str) -> _Parts:
    fault = fault_of(serial)
    spread = random.Random(f"FM-2 parts {serial}")
    return _Parts(
        gain=23.7 + spread.gauss(0, 0.15),
        saturation=11.4 + spread.gauss(0, 0.2),
        inductance=1.18e-3 * spread.gauss(1, 0.004),
        capacitance=(11.1e-9 if fault == "detuned" else 13.4e-9) * spread.gauss(1, 0.004),
        resistance=67.0 * spread.gauss(1, 0.005),
        parallel_capacitance=1.92e-9 * spread.gauss(1, 0.01),
        resonance=40.31e3 * spread.gauss(1, 0.0015),
        quality=(14.0 if fault == "cracked" else 41.0) * spread.gauss(1, 0.02),
        motional=(1440.0 if fault == "cracked" else 492.0) * spread.gauss(1, 0.02),
        heater=(14.6 if fault == "open_heater" else 9.71) * spread.gauss(1, 0.006),
        thermal=2.83 * spread.gauss(1, 0.02),
    )


class Fm2SensorParts:
    """One set of parts. Stimuli: tone (filter and transducer), rf_input, heater, air."""

    terminals: Mapping[str, tuple[str, ...]] = {
        "tone": ("tone",), "carrier": ("rf_input",), "source": ("heater",), "climate": ("air",),
    }  # fmt: skip
    time_constants = {
        "amplifier_power": 0.6e-3,
        "tone_amplitude": 0.15e-3, "tone_phase": 0.15e-3,
        "filter_amplitude": 0.4e-3, "filter_phase": 0.4e-3,
        "transducer_amplitude": 0.5e-3, "transducer_phase": 0.5e-3,
        "shunt_amplitude": 0.5e-3, "shunt_phase": 0.5e-3,
        "heater_voltage": 1.1e-3, "heater_current": 1.2e-3,
        "air_temperature": 88.0, "mast_temperature": 141.0,
    }  # fmt: skip

    def __init__(self, serial: str) -> None:
        self.parts = _parts_of(serial)

    @property
    def derived(self) -> Mapping[str, Callable[[Callable[[str], float]], float]]:
        """What the meter sees: the voltage across the shunt, the resistance of the thermistor on the mast."""
        return {
            "heater_shunt": lambda value: value("heater_current") * SHUNT_HEATER,
            "mast_ntc": lambda value: NTC_R25 * math.exp(NTC_BETA * (1 / value("mast_temperature") - 1 / 298.15)),
        }

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """The settled values: amplitudes in V, phases in rad, powers in W, temperatures in K."""
        tone = stimuli.tone["tone"]
        drive = tone.amplitude if tone.is_on else 0.0
        output = drive * self.filter_response(tone.frequency)
        impedance = self.transducer_impedance(tone.frequency)
        current = drive / (impedance + SHUNT_TRANSDUCER)
        voltage = current * impedance
        point = {"tone_amplitude": drive, "tone_phase": 0.0}
        for name, phasor in (("filter", output), ("transducer", voltage), ("shunt", current * SHUNT_TRANSDUCER)):
            point |= {f"{name}_amplitude": abs(phasor), f"{name}_phase": cmath.phase(phasor) if phasor else 0.0}
        return {**point, **self._heated(stimuli), "amplifier_power": self._amplified(stimuli)}

    def filter_response(self, frequency: float) -> complex:
        """Output over input of the series resonant circuit with its resistor at the output."""
        parts, omega = self.parts, 2 * math.pi * frequency
        coil = 4.1 + 1j * omega * parts.inductance
        return parts.resistance / (parts.resistance + coil + 1 / (1j * omega * parts.capacitance))

    def transducer_impedance(self, frequency: float) -> complex:
        """Ohm, by the equivalent circuit of Butterworth and Van Dyke."""
        parts, omega = self.parts, 2 * math.pi * frequency
        detuning = frequency / parts.resonance - parts.resonance / frequency
        motional = parts.motional * (1 + 1j * parts.quality * detuning)
        return 1 / (1 / motional + 1j * omega * parts.parallel_capacitance)

    def _amplified(self, stimuli: Stimuli) -> float:
        """W at the output of the amplifier: a band of 0.9 to 24 MHz, and a soft saturation."""
        carrier = stimuli.carrier["rf_input"]
        if not carrier.is_on:
            return 1e-13
        f = carrier.frequency / 1e6
        band = -10 * math.log10((1 + (0.9 / f) ** 2) * (1 + (f / 24.0) ** 2))
        linear = 10 ** ((carrier.level + self.parts.gain + band - 30) / 10)
        most = 10 ** ((self.parts.saturation - 30) / 10)
        return float(linear / (1 + (linear / most) ** 2) ** 0.5)

    def _heated(self, stimuli: Stimuli) -> dict[str, float]:
        """The heater on the mast: its resistance rises with its temperature, which rises with the power it takes."""
        source, climate, parts = stimuli.source["heater"], stimuli.climate["air"], self.parts
        air = climate.temperature if climate.is_on else ROOM
        source.is_limiting = False
        voltage = source.voltage if source.is_on else 0.0
        mast, current = air, 0.0
        for _ in range(30):
            resistance = parts.heater * (1 + 0.0038 * (mast - 293.15))
            current = voltage / resistance
            if current > source.limit:
                source.is_limiting = True
                current = source.limit
            mast = air + parts.thermal * current**2 * resistance
        if source.is_limiting:
            voltage = current * resistance
        return {
            "heater_voltage": voltage, "heater_current": current, "air_temperature": air, "mast_temperature": mast,
        }  # fmt: skip
