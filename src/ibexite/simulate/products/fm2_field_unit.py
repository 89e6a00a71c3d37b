"""A gauge FM-2 that came back from the field, on the service bench: sensor lead, antenna lead, mains charger, echo
sensor, transducer, clock, backup cell, link receiver.

Physical models, not tables. The serial number gives each unit its own small spread; some numbers are faulty, always
alike.
"""

from __future__ import annotations

import cmath
import hashlib
import math
import random
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

from ibexite.simulate.nature import drawn

if TYPE_CHECKING:
    from ibexite.simulate.world import Stimuli

FAULTS = {
    "swapped": 0.05,  # two wires of the sensor lead in each other's places
    "loose": 0.05,  # a contact of the sensor lead that comes and goes
    "crushed": 0.05,  # the antenna lead was stepped on
    "bare_charger": 0.05,  # the choke of the charger is bridged: its harmonics are high
    "deaf": 0.05,  # water in the echo sensor
    "drained": 0.05,  # a leak on the board: the backup cell does not last
    "cut": 0.05,  # a wire of the sensor lead is broken
    "short_lead": 0.05,  # the antenna lead is one of another gauge, and too short
}
PINS = 9  # wires of the sensor lead, from J1 to J2
WIRE = 0.0366 * 3.7  # ohm: 0.5 mm^2, 3.7 m
CONTACT = 4.1e-3  # ohm, of a crimped contact
LOOSE_PIN, SWAPPED_PINS, CUT_PIN = 6, (3, 4), 7
SHORT_LEAD = 0.31  # of the right length
LOOSE_SHARE, LOOSE_TIME = 0.31, 0.07  # of so long parts of the time it is open
SOUND = 343.2  # m/s at 20 degC
NOISE_FLOOR = -163.0  # dBm in 1 Hz, of the receiver that looks at the antenna
CARRIER, CARRIER_LEVEL = 868.32e6, 11.3  # Hz, dBm: the radio link of the gauge


@dataclass(frozen=True, slots=True)
class _Parts:
    """The parts of one unit, in base SI units."""

    fault: str
    wires: tuple[float, ...]  # ohm
    diode: float  # V, forward
    termination: float  # ohm
    screen: float  # F, from the screen to ground
    loss: float  # dB of the antenna lead at 1 GHz
    length: float  # m, electrical
    mismatch: float  # reflection of its far end
    efficiency: float  # of the charger
    sensitivity: float  # V/Pa of the echo sensor at its resonance
    resonance: float  # Hz
    capacitance: float  # F, transducer
    clock: float  # relative error
    leak: float  # ohm
    sleep: float  # A


def fault_of(serial: str) -> str:
    """The fault of a unit by its serial number, "" for a good one."""
    return drawn(f"field {serial}", FAULTS)


def _parts_of(serial: str) -> _Parts:
    fault = fault_of(serial)
    spread = random.Random(f"FM-2 field {serial}")
    lead = SHORT_LEAD if fault == "short_lead" else 1.0
    return _Parts(
        fault=fault,
        wires=tuple(WIRE * spread.gauss(1, 0.01) + 2 * CONTACT * spread.gauss(1, 0.2) for _ in range(PINS)),
        diode=0.587 + spread.gauss(0, 0.008),
        termination=120.4 * spread.gauss(1, 0.004),
        screen=4.63e-9 * spread.gauss(1, 0.03),
        loss=lead * 0.71 * spread.gauss(1, 0.02),
        length=lead * 3.05 * spread.gauss(1, 0.002),
        mismatch=0.31 if fault == "crushed" else abs(0.035 * spread.gauss(1, 0.2)),
        efficiency=0.842 * spread.gauss(1, 0.006),
        sensitivity=(1.3e-3 if fault == "deaf" else 9.7e-3) * spread.gauss(1, 0.03),
        resonance=40.2e3 * spread.gauss(1, 0.002),
        capacitance=1.94e-9 * spread.gauss(1, 0.01),
        clock=spread.gauss(0, 6e-6),
        leak=310e3 if fault == "drained" else 41e6,
        sleep=2.7e-6 * spread.gauss(1, 0.04),
    )


class Fm2FieldUnit:
    """One unit. What instruments set arrives as their settings, by the terminal that they are wired to."""

    terminals: Mapping[str, tuple[str, ...]] = {
        "settings": ("mains", "backup", "horn", "burst", "stage", "part", "lamp")
    }
    time_constants = {"mains_current": 30e-3, "backup_current": 2e-3}
    things = ("lead", "link", "antenna", "radio", "echo", "clock")  # more that instruments are wired to

    def __init__(self, serial: str) -> None:
        self.serial = serial
        self.parts_in = _parts_of(serial)
        self._applied: Mapping[str, Mapping[str, float | str]] = {}

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """The settled values: the currents that are drawn."""
        self._applied = stimuli.settings
        backup = self._set("backup", "voltage") if self._is_on("backup") else 0.0
        sleep = self.parts_in.sleep if backup > 1.6 else 0.0
        return {"mains_current": self._mains()["current"], "backup_current": backup / self.parts_in.leak + sleep}

    def _set(self, terminal: str, setting: str) -> float:
        value = self._applied.get(terminal, {}).get(setting, 0.0)
        return value if isinstance(value, float) else 0.0

    def _is_on(self, terminal: str) -> bool:
        return bool(self._set(terminal, "output"))

    @property
    def derived(self) -> Mapping[str, Callable[[Callable[[str], float]], float]]:
        """What follows at once, in base SI units."""
        return {
            **{f"mains_{name}": partial(self._of_mains, name) for name in MAINS if name != "current"},
            "backup_voltage": lambda value: self._set("backup", "voltage") if self._is_on("backup") else 0.0,
            "clock_frequency": lambda value: 32_768.0 * (1 + self.parts_in.clock),
            "clock_period": lambda value: 1 / (32_768.0 * (1 + self.parts_in.clock)),
            "clock_duty": lambda value: 0.5,
            "part_capacitance": lambda value: self._part()[0],
            "part_dissipation": lambda value: self._part()[1],
            "horn_level": lambda value: abs(self._heard()),
            "horn_frequency": lambda value: self._set("horn", "frequency") if self._is_on("horn") else 0.0,
            "horn_distortion": lambda value: 0.0072 if self._is_on("horn") else 1.0,
            "horn_noise": lambda value: 21e-6,
            "horn_sinad": lambda value: 42.8 if self._is_on("horn") else 0.0,
            "horn_phase": lambda value: cmath.phase(self._heard()) if self._is_on("horn") else 0.0,
            "lid": lambda value: 1.0,
        }

    # --- the charger -------------------------------------------------------------------------------------------------

    def _of_mains(self, name: str, value: Callable[[str], float]) -> float:
        return self._mains()[name]

    def _mains(self) -> dict[str, float]:
        """What the charger takes: a rectifier with a capacitor behind a choke, which smooths its pulses of current."""
        voltage = self._set("mains", "voltage") if self._is_on("mains") else 0.0
        frequency = self._set("mains", "frequency")
        if voltage < 80.0:
            return {"voltage": voltage, "current": 0.0, "power": 0.0, "apparent_power": 0.0, "reactive_power": 0.0,
                    "power_factor": 0.0, "frequency": frequency, "peak_current": 0.0}  # fmt: skip
        power = 9.6 / self.parts_in.efficiency + 0.4 + 1.1e-5 * voltage**2
        currents = self._harmonics(power / (0.985 * voltage), 40)
        current = math.sqrt(sum(i * i for i in currents))
        apparent = voltage * current
        return {
            "voltage": voltage, "current": current, "power": power, "apparent_power": apparent,
            "reactive_power": power * math.tan(math.acos(0.985)), "power_factor": power / apparent,
            "frequency": frequency, "peak_current": sum(currents) * math.sqrt(2),
        }  # fmt: skip

    def _harmonics(self, fundamental: float, count: int) -> list[float]:
        """RMS currents by order: odd ones alone, the higher the smaller; without the choke they hardly fall."""
        fall = 0.032 if self.parts_in.fault == "bare_charger" else 0.135
        return [
            0.0 if order % 2 == 0 else fundamental * (1.0 if order == 1 else 0.86 * math.exp(-fall * (order - 1)))
            for order in range(1, count + 1)
        ]

    # --- transducer and echo -----------------------------------------------------------------------------------------

    def _part(self) -> tuple[float, float]:
        """Capacitance and dissipation of the transducer at the frequency of the bridge, far from its resonance."""
        frequency = self._set("part", "frequency")
        ratio = (frequency / self.parts_in.resonance) ** 2
        motional = 0.058 / (1 - ratio) if abs(1 - ratio) > 0.05 else 1.2
        return self.parts_in.capacitance * (1 + motional), 0.0041 + 1.2e-8 * frequency

    def _heard(self) -> complex:
        """RMS voltage of the echo sensor before a horn that is driven: 0.2 Pa for each volt, at 1 m."""
        if not self._is_on("horn"):
            return 21e-6
        frequency = self._set("horn", "frequency")
        return self._response(frequency) * 0.2 * self._set("horn", "amplitude") + 1e-9

    def _response(self, frequency: float) -> complex:
        """V/Pa: a resonance, and a little of the sound below it."""
        detuning = frequency / self.parts_in.resonance - self.parts_in.resonance / max(frequency, 1.0)
        return self.parts_in.sensitivity * (1 / (1 + 23j * detuning) + 0.02)

    def _echo(self, times: Sequence[float]) -> list[complex]:
        """V over the time since a burst, which a target at the position of the stage throws back."""
        distance = 0.35 + self._set("stage", "position")
        arrival, noise = 2 * distance / SOUND, random.Random()
        pressure = 1.9 / distance**2 if self._is_on("burst") else 0.0
        heard = []
        for t in times:
            late = t - arrival
            envelope = late / 90e-6 * math.exp(1 - late / 90e-6) if late > 0 else 0.0
            wave = math.sin(2 * math.pi * self.parts_in.resonance * late)
            heard.append(complex(self.parts_in.sensitivity * pressure * envelope * wave + noise.gauss(0, 40e-6)))
        return heard

    # --- leads -------------------------------------------------------------------------------------------------------

    def parts(self, name: str, reading: str, time: float) -> object:
        """What has several parts: the connections of the sensor lead; of the link receiver what it tells."""
        if (name, reading) == ("lead", "wires"):
            return self._wires(time)
        if name == "link":
            counters = {"counter": ["crc", "frame", "timeout"], "count": self._counters()}
            told = {"version": "FM2-LR 3.4.1", "serial_number": self.serial, "message": "ready", "counters": counters}
            return told.get(reading)
        return None

    def _counters(self) -> list[int]:
        return [digit % 3 for digit in hashlib.sha256(self.serial.encode()).digest()[:3]]

    def _wires(self, time: float) -> dict[str, Any]:
        parts, measured = self.parts_in, []
        for pin in range(1, PINS + 1):
            far = dict((SWAPPED_PINS, SWAPPED_PINS[::-1])).get(pin, pin) if parts.fault == "swapped" else pin
            is_open = parts.fault == "loose" and pin == LOOSE_PIN and _is_open(self.serial, time)
            is_open = is_open or (parts.fault == "cut" and pin == CUT_PIN)
            resistance = 40e6 if is_open else parts.wires[pin - 1] + random.gauss(0, 4e-4)
            measured.append([f"J1.{pin}", f"J2.{far}", resistance])
        return {
            "resistance": measured,
            "forward_voltage": [["J1.10", "J2.10", parts.diode]],
            "resistor": [["J2.8", "J2.9", parts.termination]],
            "capacitor": [["J1.11", "J1.9", parts.screen]],
        }

    def curve(
        self, name: str, reading: str, axes: Mapping[str, Sequence[float]], stimuli: Stimuli, time: float
    ) -> list[complex] | None:
        """Transmission and reflection of the antenna lead, levels of the radio, harmonics of the charger, echoes."""
        self._applied = stimuli.settings
        points = next(iter(axes.values()))
        match name, reading:
            case "antenna", "s21" | "s12":
                return [self._through(f) for f in points]
            case "antenna", "s11" | "s22":
                return [self._back(f) for f in points]
            case "radio", "trace":
                return [complex(self._radiated(f)) for f in points]
            case "mains", "current_harmonics":
                mains = self._mains()
                first = (
                    self._harmonics(mains["power"] / (0.985 * mains["voltage"]), len(points)) if mains["power"] else []
                )
                return [complex(i) for i in first or [0.0] * len(points)]
            case "mains", "voltage_harmonics":
                return [complex(self._mains()["voltage"] if order == 1 else 0.0) for order in points]
            case "echo", "wave":
                return self._echo(points)
        return None

    def triggers(self, name: str, stimuli: Stimuli) -> bool:
        """The burst triggers what records its echoes."""
        return name == "echo" and bool(stimuli.settings["burst"].get("output"))

    def _travelled(self, frequency: float) -> complex:
        loss = self.parts_in.loss * math.sqrt(frequency / 1e9)
        return 10 ** (-loss / 20) * cmath.exp(-2j * math.pi * frequency * self.parts_in.length / 299_792_458.0)

    def _through(self, frequency: float) -> complex:
        return self._travelled(frequency) * math.sqrt(1 - self.parts_in.mismatch**2)

    def _back(self, frequency: float) -> complex:
        """A small reflection at the near end, and that of the far end, which has gone there and back."""
        return 0.012 + self.parts_in.mismatch * self._travelled(frequency) ** 2

    def _radiated(self, frequency: float) -> float:
        """dBm: the carrier, its second and third harmonic, and noise."""
        width = 60e3
        power = 10 ** ((NOISE_FLOOR + 40 + random.gauss(0, 0.8)) / 10)
        for order, below in ((1, 0.0), (2, 47.0), (3, 55.0)):
            away = (frequency - order * CARRIER) / width
            power += 10 ** ((CARRIER_LEVEL - below) / 10) * math.exp(-min(away * away, 700.0))
        return 10 * math.log10(power)


MAINS = (
    "voltage", "current", "power", "apparent_power", "reactive_power", "power_factor", "frequency", "peak_current",
)  # fmt: skip


def _is_open(serial: str, time: float) -> bool:
    """Whether a loose contact is open just now: always in the same way for one unit."""
    word = f"{serial} {int(time / LOOSE_TIME)}".encode()
    return hashlib.sha256(word).digest()[0] < 256 * LOOSE_SHARE
