"""The ultrasonic transducer of the FM-2 in a hall, before a microphone: what is sampled while something is played.

Physical models, not tables: two resonances, a weak nonlinearity, the way of the sound, the noise of the hall. The
serial number gives each transducer its own small spread; some numbers are faulty, always alike.
"""

from __future__ import annotations

import math
import random
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from ibexite.simulate.nature import drawn
from ibexite.simulate.played import filtered, lines, played

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array
    from ibexite.simulate.world import Stimuli

FAULTS = {
    "loose": 0.07,  # a loose part rattles above a level
    "reversed": 0.05,  # the wires are swapped
    "cracked": 0.05,  # a crack in the ceramic: damped, and distorted
    "weak": 0.05,  # a bad bond: less sound
}
SHUNT = 100.0  # ohm, from the transducer to ground
DISTANCE, SOUND_SPEED = 0.172, 343.4  # m to the microphone, m/s
MIC = 3.2e-3  # V/Pa, of the microphone with its amplifier
HALL = 0.022  # Pa RMS, the usual noise of the hall: 61 dBSPL
LOUD = 0.09  # Pa RMS, while something is hammered: 73 dBSPL
RATTLE_FROM = 2.4  # V across the transducer


@dataclass(frozen=True, slots=True)
class _Transducer:
    """One transducer, in base SI units. `resonances`: frequency, Q, resistance, pressure at the microphone in a V."""

    parallel_capacitance: float
    resonances: tuple[tuple[float, float, float, float], ...]
    second_order: float  # 1/Pa
    third_order: float  # 1/Pa^2
    sign: float


def fault_of(serial: str) -> str:
    """The fault of a transducer by its serial number, "" for a good one."""
    return drawn(f"transducer {serial}", FAULTS)


def _transducer_of(serial: str) -> _Transducer:
    fault = fault_of(serial)
    spread = random.Random(f"FM-2 transducer {serial}")
    damped = 0.36 if fault == "cracked" else 1.0
    strength = (0.55 if fault == "weak" else 1.0) * spread.gauss(1, 0.03)
    return _Transducer(
        parallel_capacitance=1.92e-9 * spread.gauss(1, 0.01),
        resonances=(
            (40.31e3 * spread.gauss(1, 0.0015), 22.4 * damped * spread.gauss(1, 0.02), 492.0 / damped, 1.9 * strength),
            (53.7e3 * spread.gauss(1, 0.003), 9.6 * damped * spread.gauss(1, 0.03), 1730.0 / damped, 0.62 * strength),
        ),
        second_order=(0.011 if fault == "cracked" else 0.0016) * spread.gauss(1, 0.05),
        third_order=0.9e-4 * spread.gauss(1, 0.1),
        sign=-1.0 if fault == "reversed" else 1.0,
    )


class Fm2Transducer:
    """One transducer. Stimulus: drive. Things that are sampled: drive (V), shunt (V), microphone (V)."""

    terminals: Mapping[str, tuple[str, ...]] = {"tone": ("drive",)}
    things = ("drive", "shunt", "microphone")
    time_constants: dict[str, float] = {}

    def __init__(self, serial: str) -> None:
        self.serial, self.unit, self.fault = serial, _transducer_of(serial), fault_of(serial)
        self._heard: dict[float, int] = {}  # records by their begin, in the order in which they were taken

    @property
    def derived(self) -> Mapping[str, Callable[[Callable[[str], float]], float]]:
        """Nothing that settles."""
        return {}

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """Nothing that settles."""
        return {}

    def record(self, name: str, stimuli: Stimuli, begin: float, step: float, count: int) -> Array | None:
        """What is sampled, in V."""
        if name not in self.things:
            return None
        before = round(0.02 / step)  # what was played just before still rings
        drive = played(stimuli.tone["drive"], begin - before * step, step, count + before)
        f, size = lines(len(drive), step, 0.02)
        noise = np.random.default_rng([self._number_of(begin), len(name)])
        if name == "microphone":
            pressure = self._pressure(drive, step, f, size)[before:]
            found = MIC * (pressure + noise.normal(0, 1, count) * self._hall(begin))
        else:
            impedance = self.impedance(f)
            share = SHUNT / (impedance + SHUNT) if name == "shunt" else impedance / (impedance + SHUNT)
            found = filtered(drive, step, share, size)[before:]
        return found + noise.normal(0, 20e-6, count)

    def _number_of(self, begin: float) -> int:
        return self._heard.setdefault(begin, len(self._heard))

    def _hall(self, begin: float) -> float:
        """How loud the hall is: for some units something is hammered at the first record."""
        is_first = self._number_of(begin) == 0
        return LOUD if is_first and drawn(f"hall {self.serial}", {"loud": 0.2}) else HALL

    def impedance(self, f: Array) -> Array:
        """Ohm at frequencies in Hz, by the equivalent circuit of Butterworth and Van Dyke with two branches."""
        with np.errstate(all="ignore"):
            admittance = 2j * math.pi * f * self.unit.parallel_capacitance
            for resonance, quality, resistance, _ in self.unit.resonances:
                admittance = admittance + _bell(f, resonance, quality) / resistance
            found = 1 / admittance
        return np.where(np.isfinite(found), found, 1e12)

    def _pressure(self, drive: Array, step: float, f: Array, size: int) -> Array:
        """The sound at the microphone in Pa."""
        impedance = self.impedance(f)
        across = impedance / (impedance + SHUNT)
        unit = self.unit
        sound = sum(strength * _bell(f, at, quality) for at, quality, _, strength in unit.resonances)
        late = np.exp(-2j * math.pi * f * DISTANCE / SOUND_SPEED)
        linear = filtered(drive, step, across * sound * late, size)
        pressure = unit.sign * (linear + unit.second_order * linear**2 + unit.third_order * linear**3)
        return pressure + (self._rattle(drive, step, f, across, size) if self.fault == "loose" else 0.0)

    def _rattle(self, drive: Array, step: float, f: Array, across: Array, size: int) -> Array:
        """Clicks of a loose part: now and then while the voltage is beyond a level."""
        voltage = np.abs(filtered(drive, step, across, size))
        chance = random.Random(f"rattle {self.serial}")
        found = np.zeros(len(drive))
        click = np.exp(-np.arange(24) / 5.0) * np.sin(2 * math.pi * 27e3 * step * np.arange(24)) * 0.9
        late, at = round(DISTANCE / SOUND_SPEED / step), 0
        while at < len(drive) - len(click) - late:
            if voltage[at : at + 8].max() > RATTLE_FROM:
                found[at + late : at + late + len(click)] += click * chance.uniform(0.6, 1.0)
                at += round(chance.uniform(0.7e-3, 2.5e-3) / step)
            at += 8
        return found


def _bell(f: Array, resonance: float, quality: float) -> Array:
    """The response of a resonance, 1 at its peak."""
    safe = np.where(f > 0, f, 1e-9)
    found: Array = 1 / (1 + 1j * quality * (safe / resonance - resonance / safe))
    return found
