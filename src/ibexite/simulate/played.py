"""What is played by a simulated generator, at the times at which something records it."""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.fast_fourier import padded
from ibexite.simulate.world import Tone

_NEAR = 1e-6  # of a sample: as good as on it


def played(tone: Tone, begin: float, step: float, count: int) -> Array:
    """The voltage of a terminal in V at evenly spaced times, shape (count,): samples of an arbitrary wave once from its
    start on, with nothing beyond half their rate; without one a sine, as it is set. 0 while it is off.

    Args:
        begin, step: in s, on the clock of the world.
    """
    found = np.zeros(count)
    if tone.samples is None:
        if tone.is_on:
            t = begin + step * np.arange(count)
            found += tone.offset + tone.amplitude * np.sin(2 * math.pi * tone.frequency * t)
        return found
    if tone.started is None:
        return found
    wave = np.asarray(tone.samples) * tone.amplitude
    first = (tone.started - begin) / step  # where its first sample lies, in samples of the record
    if abs(step / tone.interval - 1) > 1e-9:
        times = begin + step * np.arange(count) - tone.started
        between: Array = np.interp(times, tone.interval * np.arange(len(wave)), wave, left=0.0, right=0.0)
        return between
    if abs(first - round(first)) > _NEAR:
        wave = _shifted(wave, first - math.floor(first))
    at = math.floor(first + _NEAR)
    low, high = max(at, 0), min(at + len(wave), count)
    if low < high:
        found[low:high] = wave[low - at : high - at]
    return found


def _shifted(wave: Array, part: float) -> Array:
    """A wave that comes a part of a sample later, and is as much longer as that rings."""
    size = padded(len(wave) + 256)
    spectrum = np.fft.rfft(wave, size) * np.exp(-2j * math.pi * np.fft.rfftfreq(size) * part)
    return np.fft.irfft(spectrum, size)[: len(wave) + 128]


def filtered(wave: Array, step: float, response: Array, size: int) -> Array:
    """A wave after a filter whose response is given on the size // 2 + 1 lines of a transform of that size."""
    found: Array = np.fft.irfft(np.fft.rfft(wave, size) * response, size)[: len(wave)]
    return found


def lines(count: int, step: float, ringing: float) -> tuple[Array, int]:
    """The frequencies in Hz of a transform that is longer than a wave by the time in s for which a filter rings, and
    its size."""
    size = padded(count + math.ceil(ringing / step))
    return np.fft.rfftfreq(size, step), size
