"""What the analysis of one play costs, as a share of the time for which was played; and functions that stand on a
Fourier transform beside the bare chain of NumPy and SciPy calls on the same data.

`python benchmarks/waveforms.py`: medians of runs by turns.
"""

from __future__ import annotations

import statistics
import time
from collections.abc import Callable

import numpy as np
import scipy.fft
import scipy.signal

from ibexite.analysis import waves
from ibexite.analysis.curve import SampledCurve, Sampling
from ibexite.analysis.signals import sine_fit, stimuli
from ibexite.stimulus import Chirp, Level, Marker, Noise, Silence, Stepped, Stimulus

RATE, ROUNDS = 192e3, 9
PARTS = (
    Marker("marker", False, 9e3, 64e3, 10e-3, Level(2.0)), Noise("warm", False, 4e3, 70e3, 0.3, Level(0.2)),
    Silence("silence", False, 0.1), Stepped("stepped", True, tuple(np.geomspace(64e3, 9e3, 60)), 12, 12e-3, Level(2.0)),
    Silence("rest", False, 0.02), Chirp("chirp", True, 9e3, 64e3, 0.3, Level(1.0)), Silence("rest", False, 0.05),
)  # fmt: skip
PING = Stimulus("ping", "as long as it may be", RATE, PARTS)


def channel(samples: np.ndarray, seed: int) -> SampledCurve:
    """A record of three that were taken together."""
    noise = np.random.default_rng(seed).normal(0, 1e-3, len(samples) + 9600)
    return SampledCurve(Sampling("time", 0.0, 1 / RATE), noise + np.pad(samples, (0, 9600)))


def taken(call: Callable[[], object]) -> float:
    """Seconds of one call."""
    began = time.perf_counter()
    call()
    return time.perf_counter() - began


def four_curves() -> None:
    """Response, distortion, impedance and loose parts of three channels, to the numbers that are judged."""
    samples = stimuli.samples(PING)
    mic, volts, amperes = (channel(samples, seed) for seed in range(3))
    steps, chirp = PING.only("stepped"), PING.only("chirp")

    def analyse() -> None:
        waves.response(mic, "time", steps)
        waves.thd_of_part(mic, "time", steps)
        waves.response_between(volts, "time", amperes, steps)
        waves.residual(mic, "time", steps, field="bursts")
        waves.polarity(mic, "time", steps)
        waves.response(mic, "time", chirp)
        waves.level_of_voltage(mic, "time", PING.only("silence"))

    found: dict[str, list[float]] = {"the first of a process": [], "each further one": []}
    for _ in range(ROUNDS):
        sine_fit._prepared.cache_clear()
        for shares in found.values():
            shares.append(taken(analyse) / PING.seconds)
    print(f"analysis of a play of {PING.seconds:.2f} s with three channels, as a share of that time (at most 0.15)")
    for name, shares in found.items():
        print(f"  {name}: {statistics.median(shares):.3f}")


def beside_bare_calls() -> None:
    """Each pair: ours, and the bare calls that compute the same."""
    y = np.random.default_rng(1).normal(size=288_000)
    wave = SampledCurve(Sampling("time", 0.0, 1 / RATE), y)
    hann = np.hanning(len(y) + 1)[:-1]

    def bare_spectrum() -> object:
        return np.abs(np.fft.rfft(y * hann)) * (2**0.5 / hann.sum())

    def bare_density() -> object:
        size, total = 1920, 0.0
        window = np.hanning(size + 1)[:-1]
        for begin in range(0, len(y) - size + 1, size // 2):
            piece = y[begin : begin + size]
            total = total + np.abs(np.fft.rfft((piece - piece.mean()) * window)) ** 2
        return total

    late = 0.5 * np.roll(y, 300) + 0.01 * np.random.default_rng(2).normal(size=len(y))
    later = SampledCurve(Sampling("time", 0.0, 1 / RATE), late)

    def bare_delay() -> object:  # to a whole sample; ours goes on to a small part of one
        size = scipy.fft.next_fast_len(2 * len(y), real=True)
        spectrum = np.fft.rfft(late - late.mean(), size) * np.fft.rfft(y - y.mean(), size).conj()
        return np.argmax(np.abs(np.fft.irfft(spectrum, size)))

    def bare_noise() -> object:
        f2 = np.fft.rfftfreq(len(y), 1 / RATE) ** 2
        middle = np.sqrt((f2 + 107.7**2) * (f2 + 737.9**2))
        weight = 1.2589 * 12194**2 * f2**2 / ((f2 + 20.6**2) * middle * (f2 + 12194**2))
        return np.sqrt(2 * np.sum((np.abs(np.fft.rfft(y - y.mean())) * weight) ** 2)) / len(y)

    pairs = {
        "spectrum": (lambda: waves.spectrum(wave, "time"), bare_spectrum),
        "density": (lambda: waves.density(wave, "time", 100.0), bare_density),
        "envelope": (lambda: waves.envelope(wave, "time"), lambda: np.abs(scipy.signal.hilbert(y))),
        "zoom": (
            lambda: waves.zoom(wave, "time", 1e3, 2e3, 1.0),
            lambda: np.abs(scipy.signal.zoom_fft(y * hann, [1e3, 2e3], m=1001, fs=RATE)),
        ),
        "delay": (lambda: waves.delay(later, "time", wave), bare_delay),
        "noise": (lambda: waves.noise(wave, "time", a=True), bare_noise),
    }
    for name, (ours, bare) in pairs.items():
        ours(), bare()
        ratios = sorted(taken(ours) / taken(bare) for _ in range(ROUNDS))
        print(f"{name}: {statistics.median(ratios):.2f} times the bare calls (at most 1.5)")


if __name__ == "__main__":
    four_curves()
    beside_bare_calls()
