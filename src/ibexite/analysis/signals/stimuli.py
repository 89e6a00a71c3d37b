"""The samples of stimuli. The same stimulus has the same samples, always and everywhere: what is random in it comes
from a generator whose numbers are promised not to change.

Sources: phases of several tones: M. R. Schroeder, Synthesis of low-peak-factor signals, IEEE Trans. Information Theory
16 (1970); logarithmic chirps: A. Novak, P. Lotton, L. Simon, Synchronized swept-sine, J. Audio Eng. Soc. 63 (2015).
"""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.fast_fourier import padded
from ibexite.stimulus import (
    FADE,
    SHORTEST_FADE,
    Burst,
    Chirp,
    Gain,
    Level,
    Marker,
    Noise,
    Part,
    Placed,
    Recorded,
    Silence,
    Stepped,
    Stimulus,
    Tones,
)  # fmt: skip

_SEED = 20_480  # of noise: any number, but always the same
_TRIES = 96  # sets of phases that are compared for several tones


def samples(stimulus: Stimulus, files: Mapping[str, Array] | None = None) -> Array:
    """The samples of a stimulus in V, shape (stimulus.count,).

    Args:
        files: of each file that a part plays the samples of its channel, by its path; shape (n,), 1 is full scale.

    Raises:
        ValueError: a part cannot be played at this rate.
    """
    whole = unshaped(stimulus, files)
    return whole if stimulus.gain is None else shaped(whole, stimulus.rate, stimulus.gain)


def unshaped(stimulus: Stimulus, files: Mapping[str, Array] | None = None) -> Array:
    """The same before it is shaped by a gain: what a flat source would have to give."""
    whole = np.zeros(stimulus.count)
    for placed in stimulus.placed:
        trouble = placed.part.trouble(stimulus.rate)
        if trouble:
            raise ValueError(f"{placed.part.name}: {trouble}")
        whole[placed.begin : placed.begin + placed.count] = of_part(placed, stimulus.rate, files or {})
    return whole


def of_part(placed: Placed, rate: float, files: Mapping[str, Array]) -> Array:
    """The samples of one part in V, shape (count,)."""
    part, count = placed.part, placed.count
    if isinstance(part, Recorded):
        return _leveled(files[part.path][:count], part.level)
    return _MAKERS[type(part)](part, count, rate)


def _silence(part: Silence, count: int, rate: float) -> Array:
    return np.zeros(count)


def _marker(part: Marker, count: int, rate: float) -> Array:
    """A linear chirp, faded over an eighth of it at each end so that what it is correlated with shows one peak."""
    t = np.arange(count) / rate
    slope = (part.high - part.low) / part.duration
    tone = np.sin(2 * math.pi * (part.low * t + slope * t**2 / 2))
    return amplitude_of(part.level) * tone * fade(count, count // 8)


def _noise(part: Noise, count: int, rate: float) -> Array:
    frequencies = np.fft.rfftfreq(count, 1 / rate)
    lines = (frequencies >= part.low) & (frequencies <= part.high)
    phases = np.random.RandomState(_SEED).uniform(0, 2 * math.pi, len(frequencies))
    noise = np.fft.irfft(np.where(lines, np.exp(1j * phases), 0), count)
    return _leveled(noise, part.level) * fade(count, int(SHORTEST_FADE * count))


def _chirp(part: Chirp, count: int, rate: float) -> Array:
    """sin(2 pi f1 L (e^(t/L) - 1)), f1 being reached at the end of the first fade (Novak 2015, (8))."""
    fading = FADE * part.duration
    t, scale = np.arange(count) / rate - fading, part.time_constant
    tone = np.sin(2 * math.pi * part.first * scale * np.expm1(t / scale))
    return amplitude_of(part.level) * tone * fade(count, int(FADE * count))


def _stepped(part: Stepped, count: int, rate: float) -> Array:
    """Each step has its own phase, zero where it begins, so that one ends where the next begins."""
    t, found = np.arange(count) / rate, np.zeros(count)
    for begin, frequency, cycles in part.steps:
        mine = slice(*(math.ceil(edge * rate - 1e-6) for edge in (begin, begin + cycles / frequency)))
        found[mine] = np.sin(2 * math.pi * frequency * (t[mine] - begin))
    return amplitude_of(part.level) * found


def _tones(part: Tones, count: int, rate: float) -> Array:
    phases = low_phases(part.frequencies, part.shares, part.duration)
    t = np.arange(count) / rate
    whole: Array = np.zeros(count)
    for frequency, share, phase in zip(part.frequencies, part.shares, phases, strict=True):
        whole += share * np.sin(2 * math.pi * frequency * t + phase)
    if part.level.is_peak:
        return _leveled(whole, part.level) * fade(count, int(SHORTEST_FADE * count))
    rms = math.sqrt(sum(share**2 for share in part.shares) / 2)  # of the tones, not of so many samples of them
    return part.level.value / rms * whole * fade(count, int(SHORTEST_FADE * count))


def low_phases(frequencies: tuple[float, ...], shares: tuple[float, ...], duration: float) -> Array:
    """Phases in rad with which tones of these amplitudes have a low peak: those of Schroeder, or the best of some sets
    drawn by lot, always the same ones."""
    power = np.array(shares) ** 2 / sum(share**2 for share in shares)
    schroeder = -2 * math.pi * np.concatenate([[0.0], np.cumsum(np.cumsum(power))[:-1]])
    drawn = np.random.RandomState(_SEED).uniform(0, 2 * math.pi, (_TRIES, len(shares)))
    t = np.linspace(0, min(duration, 64 / min(frequencies)), 2048)
    turns = 2 * math.pi * np.outer(frequencies, t)

    def peak(phases: Array) -> float:
        return float(np.abs(np.array(shares) @ np.sin(turns + phases[:, None])).max())

    return min([schroeder, *drawn], key=peak)


def _burst(part: Burst, count: int, rate: float) -> Array:
    t = np.arange(count) / rate
    within = t - np.floor(t / part.every + 1e-9) * part.every
    inside = (within < part.cycles / part.frequency - 0.5e-6 / rate) & (t < part.times * part.every)
    return amplitude_of(part.level) * np.where(inside, np.sin(2 * math.pi * part.frequency * within), 0.0)


_MAKERS: dict[type[Part], Callable[..., Array]] = {
    Silence: _silence, Marker: _marker, Noise: _noise, Chirp: _chirp, Stepped: _stepped, Tones: _tones, Burst: _burst,
}  # fmt: skip


def amplitude_of(level: Level) -> float:
    """That of a sine."""
    return level.value * (1 if level.is_peak else math.sqrt(2))


def _leveled(values: Array, level: Level | None) -> Array:
    """Values with that RMS value or peak. Silence stays silence."""
    if level is None:
        return values
    is_now = float(np.abs(values).max(initial=0.0)) if level.is_peak else math.sqrt(float(np.mean(values**2)))
    return values * (level.value / is_now) if is_now else values


def fade(count: int, edge: int) -> Array:
    """1 with an edge of so many samples at each end that follows half a period of a cosine; shape (count,)."""
    found = np.ones(count)
    edge = min(edge, count // 2)
    if edge:
        ramp = 0.5 - 0.5 * np.cos(math.pi * (np.arange(edge) + 0.5) / edge)
        found[:edge], found[count - edge :] = ramp, ramp[::-1]
    return found


def shaped(whole: Array, rate: float, gain: Gain) -> Array:
    """A stimulus after a gain over frequency, without delay. Between the points of the gain it is straight over the
    logarithm of the frequency, beyond its ends it stays as it is there."""
    count = padded(2 * len(whole))  # so that what rings beyond the end does not come in at the begin
    factors = gain_at(np.fft.rfftfreq(count, 1 / rate), gain)
    return np.fft.irfft(np.fft.rfft(whole, count) * factors, count)[: len(whole)]


def gain_at(frequencies: Array, gain: Gain) -> Array:
    """The factors of a gain at frequencies in Hz, shape of the frequencies."""
    at = np.log(np.maximum(frequencies, gain.frequencies[0]))
    found: Array = np.interp(at, np.log(gain.frequencies), gain.factors)
    return found


def crest(values: Array) -> float:
    """The peak over the RMS value, of what is not silent at the ends; NaN for silence.

    >>> round(crest(np.sin(np.linspace(0, 20 * np.pi, 10000))), 3)
    1.414
    """
    rms = math.sqrt(float(np.mean(values**2))) if len(values) else 0.0
    return float(np.abs(values).max()) / rms if rms else math.nan
