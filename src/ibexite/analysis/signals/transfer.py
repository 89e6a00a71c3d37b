"""Complex responses over frequency: gated in time, their delay, and the phase that their size demands."""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.fast_fourier import padded
from ibexite.analysis.signals.stimuli import fade
from ibexite.holes import NO_SIGN


def gated(frequencies: Array, values: Array, begin: float, end: float) -> Array:
    """A response of which only what comes between two times is left, such as what comes before the first reflection.

    The gate is faded by a tenth of it at each end; what lies closer in frequency than 1 / (end - begin) is no longer
    told apart.

    Args:
        frequencies: in Hz, evenly spaced, rising, shape (m,), m >= 8.
        values: complex, shape (m,).
        begin, end: in s.

    Returns:
        Complex, shape (m,).

    Raises:
        ValueError: the frequencies are not evenly spaced, or the gate is longer than 1 / their distance.

    Source: J. M. Berman, L. R. Fincham, The application of digital techniques to the measurement of loudspeakers,
    J. Audio Eng. Soc. 25 (1977).

    >>> f = np.arange(1000) * 10.0
    >>> echo = 1 + 0.5 * np.exp(-2j * np.pi * f * 0.02)
    >>> np.abs(gated(f, echo, -0.01, 0.01))[100:900].round(2).max()
    np.float64(1.0)
    """
    step = even_step(frequencies)
    if not 0 < end - begin <= 1 / step:
        raise ValueError(
            f"a gate from {begin:g} to {end:g} s is none; with points {step:g} Hz apart it lasts at most {1 / step:g} s"
        )
    count = len(values)
    size = padded(4 * count)
    # Mirrored beyond its ends in the phase of its delay, so that the gate does not bend it there.
    extended, before = _continued(values)
    times = np.fft.ifft(extended, size)
    t = np.arange(size) / (size * step)
    t = np.where(t > 1 / (2 * step), t - 1 / step, t)
    middle = (begin + end) / 2
    away = (t - middle + 1 / (2 * step)) % (1 / step) - 1 / (2 * step)
    half, edge = (end - begin) / 2, (end - begin) / 10
    inside = np.clip((half - np.abs(away)) / edge + 0.5, 0, 1)
    gate = 0.5 - 0.5 * np.cos(math.pi * inside)
    found: Array = np.fft.fft(times * gate)[before : before + count]
    return found


def _continued(values: Array) -> tuple[Array, int]:
    """The values with a mirror of themselves at both ends (each point is turned about the end point), faded out; and
    how many were put before."""
    many = len(values) // 2
    low = 2 * values[0] - values[many:0:-1]
    high = 2 * values[-1] - values[-2 : -many - 2 : -1]
    edge = fade(2 * many, many)
    return np.concatenate([low * edge[:many], values, high * edge[many:]]), many


def even_step(frequencies: Array) -> float:
    """The distance of evenly spaced, rising points. Raises ValueError: they are not, or are fewer than 8."""
    if len(frequencies) < 8:
        raise ValueError(f"it takes 8 points or more, there are {len(frequencies)}")
    steps = np.diff(frequencies)
    if not steps[0] > 0 or np.abs(steps - steps[0]).max() > 1e-6 * steps[0]:
        raise ValueError("its points are not evenly spaced: take the response to a chirp or to noise")
    return float(steps.mean())


def group_delay(frequencies: Array, values: Array) -> Array:
    """The group delay in s, shape (m,): minus the slope of the phase over the angular frequency.

    Args:
        frequencies: in Hz, rising, shape (m,), m >= 3; so close that the phase turns by less than half a turn between
            two of them.
        values: complex, shape (m,); NaN gives NaN beside it.

    Raises:
        ValueError: fewer than three points.

    Source: Oppenheim, Schafer, Discrete-Time Signal Processing, 3rd ed., 5.1.1.

    >>> f = np.linspace(100.0, 200.0, 101)
    >>> group_delay(f, np.exp(-2j * np.pi * f * 0.003)).round(6).max()
    np.float64(0.003)
    """
    if len(values) < 3:
        raise ValueError(f"it takes three points or more, there are {len(values)}")
    turns = np.angle(values[1:] / values[:-1])
    between = -turns / (2 * math.pi * np.diff(frequencies))
    left, right = np.diff(frequencies)[:-1], np.diff(frequencies)[1:]
    inner = (between[:-1] * right + between[1:] * left) / (left + right)  # the slope of the parabola through three
    return np.concatenate([between[:1], inner, between[-1:]])


def minimum_phase(frequencies: Array, values: Array) -> Array:
    """The response of the same size whose phase is the least that it can have, complex, shape (m,).

    Beyond its ends the size is taken to go on with the slope, in dB per octave, that it has in the last third of an
    octave there, for three octaves; what it really does there shows in the phase near the ends.

    Args:
        frequencies: in Hz, rising, >= 0, shape (m,), m >= 3 of them above 0. At 0 the phase is 0.
        values: complex or real, shape (m,), without holes and zeros.

    Raises:
        ValueError: fewer than three points, one below 0 Hz, a zero or a hole.

    Source: Oppenheim, Schafer, 3rd ed., 13.5 (phase from the cepstrum of the logarithm of the size).

    >>> f = np.geomspace(10.0, 1e4, 200)
    >>> low_pass = 1 / (1 + 1j * f / 300.0)
    >>> found = minimum_phase(f, np.abs(low_pass))
    >>> bool(np.degrees(np.abs(np.angle(found / low_pass)))[20:-20].max() < 4)
    True
    """
    if len(values) and frequencies[0] == 0:
        rest = minimum_phase(frequencies[1:], values[1:])
        return np.concatenate([np.abs(values[:1]), rest])
    if len(values) < 3:
        raise ValueError(f"it takes three points or more above 0 Hz, there are {len(values)}")
    if frequencies[0] < 0:
        raise ValueError(f"{frequencies[0]:g} Hz is below 0")
    size = np.abs(values)
    if not (size > 0).all():
        raise ValueError("it has holes or zeros, of which there is no logarithm")
    x, y = np.log(frequencies), np.log(size)
    beyond = 3 * math.log(2)
    ends = [x[0] - beyond, *x, x[-1] + beyond]
    heights = [y[0] - beyond * _slope(x, y, first=True), *y, y[-1] + beyond * _slope(x, y, first=False)]
    step = float(min(np.diff(frequencies).min(), frequencies[0])) / 2
    count = 1 << max(12, min(18, math.ceil(math.log2(32 * frequencies[-1] / step))))
    grid = np.linspace(0.0, 16 * frequencies[-1], count // 2 + 1)
    logarithm = np.interp(np.log(np.maximum(grid, math.exp(ends[0]))), ends, heights)
    cepstrum = np.fft.irfft(logarithm, count)
    cepstrum[1 : count // 2] *= 2
    cepstrum[count // 2 + 1 :] = 0
    phase = np.fft.rfft(cepstrum).imag
    found: Array = size * np.exp(1j * np.interp(frequencies, grid, phase))
    return found


def _slope(x: Array, y: Array, *, first: bool) -> float:
    """The slope in the third of an octave at an end, of two points at least."""
    third = math.log(2) / 3
    inside = x <= x[0] + third if first else x >= x[-1] - third
    if inside.sum() < 2:
        inside = np.arange(len(x)) < 2 if first else np.arange(len(x)) >= len(x) - 2
    away = x[inside] - x[inside].mean()
    return float(away @ y[inside] / (away @ away))


def polarity(frequencies: Array, values: Array) -> float:
    """1 if what comes out has the sign of what goes in, -1 if it is turned round, NaN (NO_SIGN) where it cannot be
    told.

    A product turns the phase as much as the slopes of its response demand (minimum_phase), by a delay, and by half a
    turn if its polarity is wrong: the delay that explains the rest best is looked for, with either sign. Unless one
    explains it clearly better than the other, neither is said.

    Args:
        frequencies: in Hz, > 0, shape (m,), m >= 8, in any order, over two octaves at least: in a
            narrow band a delay and a turned sign look alike.
        values: complex, shape (m,), of the response; NaN and 0 are left out. If too few are left, it cannot be told.

    Raises:
        ValueError: too few points, or too narrow a band, whatever the values.

    >>> f = np.geomspace(1e3, 5e3, 60)
    >>> polarity(f, -3 * np.exp(-2j * np.pi * f * 1e-3))
    -1.0
    """
    good = ~np.isnan(values) & (values != 0)
    order = np.argsort(frequencies[good])
    f, h = frequencies[good][order], values[good][order]
    if len(values) < 8 or max(frequencies) < 4 * min(frequencies):
        raise ValueError("it takes eight points or more over two octaves: in a narrow band delay and sign look alike")
    if len(h) < 8 or f[-1] < 4 * f[0]:
        return float(NO_SIGN)
    left = h / minimum_phase(f, h)
    weights = np.gradient(f) * np.abs(h)
    reach, step = 0.5 / float(np.median(np.diff(f))), 1 / (32 * f[-1])
    times = step * np.arange(-math.floor(reach / step), math.floor(reach / step) + 1)
    explained = np.zeros(len(times))
    for frequency, value in zip(f, left * weights / weights.sum(), strict=True):
        explained += (value * np.exp(2j * math.pi * frequency * times)).real
    best, other = float(explained.max()), float(-explained.min())
    if max(best, other) < 0.7 or 0.87 < best / other < 1.15:
        return float(NO_SIGN)
    return 1.0 if best > other else -1.0
