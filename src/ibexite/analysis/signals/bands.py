"""Levels in octaves and parts of octaves.

Source: IEC 61260-1:2014, 5.2 to 5.5: base 10, G = 10^0.3; midbands G^(x/b) kHz for an odd b, G^((2x+1)/(2b)) kHz for an
even one; edges half a band away.
"""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.spectra import amplitude_spectrum

G = 10**0.3
REFERENCE = 1000.0  # Hz


def midbands(low: float, high: float, per_octave: int) -> Array:
    """The exact middles in Hz of the bands that lie wholly between two frequencies, rising, shape (k,).

    >>> midbands(80.0, 1500.0, 3).round(2).tolist()
    [100.0, 125.89, 158.49, 199.53, 251.19, 316.23, 398.11, 501.19, 630.96, 794.33, 1000.0, 1258.93]
    """
    shift = 0.0 if per_octave % 2 else 0.5
    first = math.ceil(math.log(low / REFERENCE) / math.log(G) * per_octave + 0.5 - shift - 1e-9)
    last = math.floor(math.log(high / REFERENCE) / math.log(G) * per_octave - 0.5 - shift + 1e-9)
    x = np.arange(first, last + 1)
    found: Array = REFERENCE * G ** ((x + shift) / per_octave)
    return found


def edges(middles: Array, per_octave: int) -> tuple[Array, Array]:
    """The lower and upper edges in Hz of bands, shapes of the middles.

    >>> [edge.round(2).tolist() for edge in edges(np.array([1000.0]), 1)]
    [[707.95], [1412.54]]
    """
    half = G ** (1 / (2 * per_octave))
    return middles / half, middles * half


def band_values(y: Array, rate: float, *, per_octave: int, low: float, high: float) -> tuple[Array, Array]:
    """RMS values in bands: their exact middles in Hz and the values in the unit of y, shapes (k,).

    The bands are ideal ones of the spectrum of the whole; a line on an edge is shared by the width that it stands for.
    A band that is narrower than the distance of the lines has no value (NaN).

    Args:
        y: in any unit, shape (n,); its mean is taken off.
        rate: in Hz.
        per_octave: 1, 3, 6, 12 or 24 are usual.
        low, high: in Hz; bands that lie wholly between them.

    Raises:
        ValueError: no band lies there, or one goes beyond half the rate.

    >>> t = np.arange(48_000) / 48e3
    >>> f, values = band_values(np.sin(2 * np.pi * 1e3 * t), 48e3, per_octave=1, low=300.0, high=3e3)
    >>> f.round(1).tolist(), (values * np.sqrt(2)).round(6).tolist()
    ([501.2, 1000.0, 1995.3], [0.0, 1.0, 0.0])
    """
    middles = midbands(low, high, per_octave)
    if not len(middles):
        raise ValueError(f"no band of a {per_octave}th of an octave lies between {low:g} and {high:g} Hz")
    lower, upper = edges(middles, per_octave)
    if upper[-1] > rate / 2 * (1 + 1e-9):
        raise ValueError(f"the band at {middles[-1]:.4g} Hz goes beyond half the rate, {rate / 2:g} Hz")
    found = amplitude_spectrum(y - y.mean(), rate, shape="rectangle")
    step = rate / len(y)
    below = np.concatenate([[0.0], np.cumsum(found.values**2)])  # power up to half a line above each one

    def up_to(frequency: Array) -> Array:
        place = np.clip(frequency / step + 0.5, 0, len(found.values))
        whole = np.minimum(place.astype(int), len(found.values) - 1)
        power: Array = below[whole] + (place - whole) * found.values[whole] ** 2
        return power

    power = up_to(upper) - up_to(lower)
    return middles, np.where(upper - lower < step, math.nan, np.sqrt(np.maximum(power, 0)))
