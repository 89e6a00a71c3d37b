"""Distortion, noise and spurs of tones.

A waveform is split into its mean, the fundamental, its harmonics and what is left (sine_fit.py), so that no window and
no whole number of cycles is needed. Harmonics beyond half the rate are left out; the highest order says how many there
are.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals import sine_fit
from ibexite.analysis.signals.spectra import amplitude_spectrum
from ibexite.analysis.signals.weighting import weight, weighted_rms
from ibexite.holes import BEYOND_RATE

HARMONICS = 10  # up to this order, unless told otherwise
LEAST_SHARE = 0.01  # of the RMS value of all: what is fainter is no fundamental


class Split(NamedTuple):
    """A waveform in its parts: the fundamental in Hz, RMS values of orders 1 to n, what is left of it."""

    frequency: float
    orders: Array
    left: Array


def split(y: Array, rate: float, frequency: float | None = None, *, orders: int = HARMONICS) -> Split:
    """The fundamental and its harmonics, RMS values in the unit of y.

    Args:
        y: in any unit, shape (n,), two cycles or more.
        rate: in Hz.
        frequency: near which the fundamental is looked for, in Hz; None for the strongest tone.
        orders: the highest order.

    Raises:
        ValueError: no such tone is there, fewer than two cycles, or no harmonic lies below half the rate.
    """
    exact = sine_fit.fundamental(y, rate, frequency)
    if not math.isnan(exact):
        alone = sine_fit.fit_harmonics(y, rate, exact, 1)
        exact = exact if abs(alone.phasors[0]) / math.sqrt(2) > LEAST_SHARE * float(y.std()) else math.nan
    if math.isnan(exact):
        where = "" if frequency is None else f" near {frequency:g} Hz"
        raise ValueError(f"there is no tone{where}, or fewer than two cycles of it")
    many = min(orders, math.ceil(rate / 2 / exact) - 1)
    if many < min(orders, 2):
        raise ValueError(f"the second harmonic of {exact:g} Hz lies beyond half the rate, {rate / 2:g} Hz")
    found = sine_fit.fit_harmonics(y, rate, exact, many)
    if many > 1:  # harmonics pulled the frequency a little aside: once more without them
        exact = sine_fit.refined(found.left + _tone(found.phasors[0], exact / rate, len(y)), rate, exact)
        found = sine_fit.fit_harmonics(y, rate, exact, many)
    return Split(exact, np.abs(found.phasors) / math.sqrt(2), found.left)


def harmonics(y: Array, rate: float, frequency: float | None = None, *, orders: int = HARMONICS) -> Array:
    """RMS values of orders 1 to `orders` in the unit of y, shape (orders,); NaN beyond half the rate.

    Args, Raises: as `split`.

    >>> t = np.arange(4800) / 48e3
    >>> wave = np.sin(2 * np.pi * 1e3 * t) + 0.01 * np.sin(2 * np.pi * 3e3 * t)
    >>> (harmonics(wave, 48e3, 1e3, orders=3) * np.sqrt(2)).round(6) + 0.0
    array([1.  , 0.  , 0.01])
    """
    found = split(y, rate, frequency, orders=orders).orders
    return np.concatenate([found, np.full(orders - len(found), BEYOND_RATE)])


def thd(y: Array, rate: float, frequency: float | None = None, *, orders: int = HARMONICS) -> float:
    """Total harmonic distortion: the harmonics of orders 2 to `orders` over the fundamental, a plain ratio.

    Args, Raises: as `split`.

    Source: IEEE Std 1241-2010, 9.2 (ratio to the fundamental); IEC 61000-4-7:2002, 3.3.1 (THD).

    >>> t = np.arange(4800) / 48e3
    >>> wave = np.sin(2 * np.pi * 1e3 * t) + 0.03 * np.sin(2 * np.pi * 2e3 * t) + 0.04 * np.sin(2 * np.pi * 3e3 * t)
    >>> round(thd(wave, 48e3), 6)
    0.05
    """
    found = split(y, rate, frequency, orders=orders).orders
    return math.sqrt(float(np.sum(found[1:] ** 2))) / float(found[0])


def thd_n(
    y: Array, rate: float, frequency: float | None = None, *, low: float = 0.0, high: float = math.inf,
    weighting: str = "z",
) -> float:  # fmt: skip
    """Harmonics and noise: all but the fundamental over the whole, both without the mean, a plain ratio.

    Args:
        y, rate, frequency: as `split`.
        low, high: ends in Hz of the band in which what is left counts.
        weighting: of what is left, a name of weighting.WEIGHTINGS.

    Source: IEC 60268-3:2018, 14.12.5 (total harmonic distortion with noise, referred to the whole).

    >>> t = np.arange(4800) / 48e3
    >>> round(thd_n(np.sin(2 * np.pi * 1e3 * t) + 0.01 * np.sin(2 * np.pi * 7.77e3 * t), 48e3), 5)
    0.01
    """
    alone = split(y, rate, frequency, orders=1)
    rest = weighted_rms(alone.left, rate, weighting=weighting, low=low, high=high)
    return rest / math.hypot(rest, float(alone.orders[0]))


def sinad(y: Array, rate: float, frequency: float | None = None) -> float:
    """Signal over noise and distortion in dB: the fundamental over all else but the mean.

    Args, Raises: as `split`. Source: IEEE Std 1241-2010, 9.1.

    >>> t = np.arange(4800) / 48e3
    >>> round(sinad(np.sin(2 * np.pi * 1e3 * t) + 0.01 * np.sin(2 * np.pi * 7.77e3 * t), 48e3), 2)
    40.0
    """
    alone = split(y, rate, frequency, orders=1)
    return _db(float(alone.orders[0]) / _rms(alone.left))


def snr(y: Array, rate: float, frequency: float | None = None, *, orders: int = HARMONICS) -> float:
    """Signal over noise in dB: the fundamental over what is left without mean and harmonics.

    Args, Raises: as `split`. Source: IEEE Std 1241-2010, 9.1 (SNR).
    """
    found = split(y, rate, frequency, orders=orders)
    return _db(float(found.orders[0]) / _rms(found.left))


def enob(y: Array, rate: float, full_scale: float, frequency: float | None = None) -> float:
    """Effective number of bits of a converter that took the waveform.

    Args:
        full_scale: the largest value that it takes, in the unit of y; its range is twice that.
        y, rate, frequency: as `split`.

    Source: IEEE Std 1241-2010, 9.3: log2 of the range over the noise and distortion times the root of 12.
    """
    alone = split(y, rate, frequency, orders=1)
    return math.log2(2 * full_scale / (_rms(alone.left) * math.sqrt(12)))


def sfdr(y: Array, rate: float, frequency: float | None = None) -> float:
    """Spurious-free dynamic range in dB: the fundamental over the largest tone that is left, harmonics included.

    Args, Raises: as `split`. Source: IEEE Std 1241-2010, 9.4.

    >>> t = np.arange(4800) / 48e3
    >>> wave = np.sin(2 * np.pi * 1e3 * t) + 1e-3 * np.sin(2 * np.pi * 5.5e3 * t) + 3e-4 * np.sin(2 * np.pi * 9e3 * t)
    >>> round(sfdr(wave, 48e3), 2)
    60.0
    """
    alone = split(y, rate, frequency, orders=1)
    spurs = amplitude_spectrum(alone.left, rate, shape="flat_top").values
    return _db(float(alone.orders[0]) / float(spurs[1:].max()))


def dynamic_range(
    y: Array, rate: float, full_scale: float, frequency: float | None = None, *, weighting: str = "a"
) -> float:
    """Dynamic range in dB: the RMS value of a sine of full scale over what a faint tone leaves beside itself.

    Args:
        full_scale: the peak of the largest sine, in the unit of y.
        weighting: of what is left.
        y, rate, frequency: as `split`; the tone is usually 60 dB below full scale.

    Source: IEC 61606-3:2008, 6.2.3.2 (dynamic range: a tone at -60 dB, distortion and noise weighted).
    """
    alone = split(y, rate, frequency, orders=1)
    return _db(full_scale / math.sqrt(2) / weighted_rms(alone.left, rate, weighting=weighting))


def modulation_distortion(y: Array, rate: float, low: float, high: float, *, order: int = 2) -> float:
    """Intermodulation of a strong low and a weak high tone: the sidebands of one order over the high tone.

    Args:
        y: in any unit, shape (n,), with both tones, usually 4 to 1.
        rate: in Hz.
        low, high: the tones in Hz.
        order: 2 for high +/- low, 3 for high +/- 2 low.

    Returns:
        The sum of the two sidebands over the high tone, a plain ratio.

    Raises:
        ValueError: a sideband does not lie between 0 and half the rate, or falls on a tone.

    Source: IEC 60268-3:2018, 14.12.8 (modulation distortion of the nth order).

    >>> t = np.arange(48_000) / 48e3
    >>> carrier = (1 + 0.02 * np.sin(2 * np.pi * 60 * t)) * np.sin(2 * np.pi * 7e3 * t)
    >>> round(modulation_distortion(4 * np.sin(2 * np.pi * 60 * t) + carrier, 48e3, 60.0, 7e3), 4)
    0.02
    """
    away = (order - 1) * low
    found = _several(y, rate, [low, high, high - away, high + away])
    return float((found[2] + found[3]) / found[1])


def difference_distortion(y: Array, rate: float, low: float, high: float, *, order: int = 2) -> float:
    """Intermodulation of two tones of one size: the products of one order over the sum of the tones.

    Args:
        y, rate: as `modulation_distortion`.
        low, high: the tones in Hz.
        order: 2 for high - low, 3 for 2 low - high and 2 high - low.

    Raises:
        ValueError: a product does not lie between 0 and half the rate, or falls on a tone.

    Source: IEC 60268-3:2018, 14.12.10 (difference-frequency distortion).

    >>> t = np.arange(48_000) / 48e3
    >>> two = np.sin(2 * np.pi * 11e3 * t) + np.sin(2 * np.pi * 12e3 * t)
    >>> round(difference_distortion(two + 0.01 * two**2, 48e3, 11e3, 12e3), 4)
    0.005
    """
    products = [high - low] if order == 2 else [2 * low - high, 2 * high - low]
    found = _several(y, rate, [low, high, *products])
    return float(found[2:].sum() / (found[0] + found[1]))


def hum(y: Array, rate: float, mains: float, *, orders: int = HARMONICS) -> float:
    """What the mains leave in a waveform: RMS value of their frequency and its harmonics together, in the unit of y.

    Args:
        y: in any unit, shape (n,), four cycles of the mains or more.
        rate: in Hz.
        mains: their frequency in Hz, as it is known: it is not looked for.
        orders: the highest harmonic.

    Raises:
        ValueError: fewer than four cycles, or the mains lie beyond half the rate.

    >>> t = np.arange(4800) / 4800
    >>> round(hum(np.sin(2 * np.pi * 50 * t) + 0.5 * np.sin(2 * np.pi * 777 * t), 4800.0, 50.0), 4)
    0.7071
    """
    if len(y) / rate * mains < 4:
        raise ValueError(f"{len(y) / rate:g} s hold fewer than four cycles of {mains:g} Hz")
    if mains >= rate / 2:
        raise ValueError(f"{mains:g} Hz lies beyond half the rate of the record, {rate / 2:g} Hz")
    many = max(1, min(orders, math.ceil(rate / 2 / mains) - 1))
    found = sine_fit.fit_harmonics(y, rate, mains, many)
    return math.sqrt(float(np.sum(np.abs(found.phasors) ** 2)) / 2)


def noise_density(y: Array, rate: float, *, weighting: str = "z") -> float:
    """RMS noise in the root of a hertz, in the unit of y over the root of Hz: the weighted noise over the root of the
    noise bandwidth of the weighting."""
    frequencies = np.fft.rfftfreq(len(y), 1 / rate)
    bandwidth = float(np.sum(weight(frequencies[1:], weighting) ** 2)) * rate / len(y)
    return weighted_rms(y, rate, weighting=weighting) / math.sqrt(bandwidth)


def _several(y: Array, rate: float, frequencies: list[float]) -> Array:
    ordered = sorted(frequencies)
    if ordered[0] <= 0 or ordered[-1] >= rate / 2:
        raise ValueError(f"a product at {min(ordered, key=lambda f: 0 < f < rate / 2):g} Hz is out of reach")
    apart = min(b - a for a, b in zip(ordered, ordered[1:], strict=False))
    if apart * len(y) / rate < 1.5:
        raise ValueError("a product falls onto a tone, or the waveform is too short to tell them apart")
    return np.abs(sine_fit.fit(y, rate, np.array(frequencies)).phasors)


def _tone(phasor: complex, turns: float, count: int) -> Array:
    wave: Array = (phasor * np.exp(2j * math.pi * turns * np.arange(count))).imag
    return wave


def _rms(y: Array) -> float:
    return math.sqrt(float(np.mean(y**2)))


def _db(ratio: float) -> float:
    return 20 * math.log10(ratio)
