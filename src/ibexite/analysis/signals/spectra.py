"""Spectra of waveforms: amplitudes, powers, densities; averaged, zoomed, and the peak between two lines."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.fast_fourier import padded, zoomed
from ibexite.analysis.signals.windows import window


class Spectrum(NamedTuple):
    """Frequencies in Hz, evenly spaced from 0, and values there; both of shape (m,)."""

    frequencies: Array
    values: Array


class Peak(NamedTuple):
    """The largest tone: its frequency in Hz, and its RMS value in the unit of the waveform."""

    frequency: float
    rms: float


def amplitude_spectrum(y: Array, rate: float, *, shape: str = "hann") -> Spectrum:
    """RMS values of the tones in a waveform: a tone on a line shows there as its RMS value.

    Args:
        y: in any unit, shape (n,), n >= 2. The mean is shown at 0 Hz.
        rate: in Hz.
        shape: the window, a name of windows.COSINES.

    Returns:
        Spectrum of n // 2 + 1 lines, in the unit of y.

    Raises:
        ValueError: fewer than two samples, no such window.

    Source: IEEE Std 1057-2017, 4.4 (DFT, one-sided); Harris (1978).

    >>> t = np.arange(1000) / 1000
    >>> round(float(amplitude_spectrum(2 * np.sin(2 * np.pi * 50 * t), 1000.0).values[50]), 6)
    1.414214
    """
    _at_least(y, 2)
    shaped_by = window(shape, len(y))
    lines = np.abs(np.fft.rfft(y * shaped_by.values)) / (len(y) * shaped_by.gain)
    lines[1 : (len(y) + 1) // 2] *= math.sqrt(2)  # the line at half the rate, if there is one, stands for itself
    return Spectrum(np.arange(len(lines)) * (rate / len(y)), lines)


def power_density(
    y: Array, rate: float, *, resolution: float | None = None, overlap: float = 0.5, shape: str = "hann"
) -> Spectrum:
    """Power in a hertz, averaged over pieces of a waveform.

    Args:
        y: in any unit u, shape (n,). The mean of each piece is taken off.
        rate: in Hz.
        resolution: distance of the lines in Hz; None for one piece.
        overlap: share of a piece that the next one has in common with it, from 0 to below 1.
        shape: the window.

    Returns:
        Spectrum in u^2/Hz; its sum times the distance of the lines is the mean square.

    Raises:
        ValueError: the waveform is shorter than one piece, or the overlap is none.

    Source: P. D. Welch, The use of fast Fourier transform for the estimation of power spectra, IEEE Trans. Audio and
    Electroacoustics 15 (1967).

    >>> t = np.arange(100_000) / 1e5
    >>> found = power_density(np.sin(2 * np.pi * 1e3 * t), 1e5, resolution=50.0)
    >>> round(float(found.values.sum() * 50), 4)
    0.5
    """
    pieces, size = pieces_of(y, rate, resolution, overlap)
    shaped_by = window(shape, size)
    total: Array = np.zeros(size // 2 + 1)
    for begin in pieces:
        piece = y[begin : begin + size]
        total += np.abs(np.fft.rfft((piece - piece.mean()) * shaped_by.values)) ** 2
    density = total / (len(pieces) * rate * float(np.sum(shaped_by.values**2)))
    density[1 : (size + 1) // 2] *= 2
    return Spectrum(np.arange(len(density)) * (rate / size), density)


class Spectrogram(NamedTuple):
    """RMS values over time and frequency: the middles of pieces in s, shape (m,); the lines in Hz, shape (n,); the
    values, shape (m, n)."""

    times: Array
    frequencies: Array
    values: Array


def spectrogram(y: Array, rate: float, resolution: float, *, overlap: float = 0.5, shape: str = "hann") -> Spectrogram:
    """How the spectrum of a waveform changes: that of piece after piece.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.
        resolution: distance of the lines in Hz; each piece lasts for its reciprocal value.
        overlap: share of a piece that the next one has in common with it.
        shape: the window.

    Returns:
        Of each piece the same as amplitude_spectrum gives: a tone has its RMS value at its line.

    Raises:
        ValueError: the waveform is shorter than one piece.

    >>> found = spectrogram(np.sin(2 * np.pi * 1e3 * np.arange(2000) / 1e4), 1e4, 100.0)
    >>> found.values.shape, [round(float(v), 3) for v in found.values[:2, 10]], round(float(found.times[0]), 4)
    ((39, 51), [0.707, 0.707], 0.005)
    """
    pieces, size = pieces_of(y, rate, resolution, overlap)
    rows = [amplitude_spectrum(y[begin : begin + size], rate, shape=shape) for begin in pieces]
    middles = (np.array(pieces, dtype=float) + size / 2) / rate
    return Spectrogram(middles, rows[0].frequencies, np.array([row.values for row in rows]))


def pieces_of(y: Array, rate: float, resolution: float | None, overlap: float) -> tuple[range, int]:
    """Where pieces of a waveform begin, and how many samples each has. Raises ValueError as power_density does."""
    if not 0 <= overlap < 1:
        raise ValueError(f"an overlap of {overlap:g} is none: 0 or more, and less than 1")
    size = len(y) if resolution is None else round(rate / resolution)
    _at_least(y, max(size, 2))
    if size < 2:
        raise ValueError(f"a resolution of {resolution:g} Hz is coarser than the rate of {rate:g} Hz allows")
    return range(0, len(y) - size + 1, max(1, round(size * (1 - overlap)))), size


def zoom(y: Array, rate: float, low: float, high: float, step: float, *, shape: str = "hann") -> Spectrum:
    """RMS values in a band, on lines as close as one likes. Closer lines show more of the shape of a peak; what lies
    closer than the window's width over the duration is not told apart.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.
        low, high: ends of the band in Hz.
        step: distance of the lines in Hz.
        shape: the window.

    Raises:
        ValueError: the band does not lie between 0 and half the rate, or has no two lines.

    Source: Rabiner, Schafer, Rader (1969), see fast_fourier.zoomed.
    """
    if not (0 <= low < high <= rate / 2 and 0 < step <= high - low):
        raise ValueError(f"no lines {step:g} Hz apart from {low:g} to {high:g} Hz (half the rate is {rate / 2:g} Hz)")
    _at_least(y, 2)
    shaped_by, count = window(shape, len(y)), math.floor((high - low) / step * (1 + 1e-12)) + 1
    lines = np.abs(zoomed(y * shaped_by.values, rate, low, step, count)) / (len(y) * shaped_by.gain)
    frequencies = low + step * np.arange(count)
    return Spectrum(frequencies, lines * np.where(frequencies > 0, math.sqrt(2), 1.0))


def peak(y: Array, rate: float, *, low: float = 0.0, high: float = math.inf) -> Peak:
    """The largest tone of a waveform in a band, found between the lines of its spectrum.

    The frequency follows from the two largest lines of a Hann window, whose ratio depends on it alone; so does the
    amplitude. NaN where the band has nothing but zeros.

    Args:
        y: in any unit, shape (n,), n >= 8. Its mean is taken off.
        rate: in Hz.
        low, high: ends of the band in Hz.

    Raises:
        ValueError: fewer than 8 samples, or an empty band.

    Source: T. Grandke, Interpolation algorithms for discrete Fourier transforms of weighted signals, IEEE Trans.
    Instrumentation and Measurement 32 (1983).

    >>> t = np.arange(4000) / 1e4
    >>> found = peak(2 * np.sin(2 * np.pi * 1234.56 * t), 1e4)
    >>> round(found.frequency, 2), round(found.rms, 3)
    (1234.56, 1.414)
    """
    _at_least(y, 8)
    found = amplitude_spectrum(y - y.mean(), rate)
    inside = (found.frequencies >= low) & (found.frequencies <= min(high, rate / 2)) & (found.frequencies > 0)
    if not inside.any():
        raise ValueError(f"no line of the spectrum lies between {low:g} and {high:g} Hz")
    lines = np.where(inside, found.values, 0.0)
    k = int(np.argmax(lines))
    if not lines[k] > 0:
        return Peak(math.nan, math.nan)
    around = found.values
    before = around[k - 1] if k > 0 else 0.0
    after = around[k + 1] if k + 1 < len(around) else 0.0
    ratio = max(before, after) / around[k]
    shift = (2 * ratio - 1) / (ratio + 1)
    shift = float(np.clip(shift, 0.0, 0.5)) * (1 if after >= before else -1)
    scallop = np.sinc(shift) / (1 - shift**2)
    return Peak((k + shift) * rate / len(y), float(around[k] / scallop))


def band_power(found: Spectrum, low: float, high: float) -> float:
    """The mean square between two frequencies of a density, in u^2; lines at the ends count in full.

    Raises:
        ValueError: no line lies between them.
    """
    inside = (found.frequencies >= low * (1 - 1e-12)) & (found.frequencies <= high * (1 + 1e-12))
    if not inside.any():
        raise ValueError(f"no line of the spectrum lies between {low:g} and {high:g} Hz")
    return float(found.values[inside].sum() * (found.frequencies[1] - found.frequencies[0]))


def analytic(y: Array) -> Array:
    """The waveform with its quadrature as imaginary part, shape (n,): its size is the envelope.

    Source: A. V. Oppenheim, R. W. Schafer, Discrete-Time Signal Processing, 3rd ed., 12.4.
    """
    return y + 1j * quadrature(y)


def quadrature(y: Array) -> Array:
    """The waveform with each of its lines a quarter turn later, its mean left out, shape (n,).

    Source: as `analytic`; of a real waveform half of the spectrum is enough.
    """
    size = padded(len(y))
    spectrum = np.fft.rfft(y, size) * -1j
    spectrum[0] = 0
    if size % 2 == 0:
        spectrum[-1] = 0  # a line at half the rate has no phase
    found: Array = np.fft.irfft(spectrum, size)[: len(y)]
    return found


def _at_least(y: Array, count: int) -> None:
    if len(y) < count:
        raise ValueError(f"{len(y)} samples are too few, it takes {count}")
