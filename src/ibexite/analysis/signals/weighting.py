"""Weightings of noise over frequency, and the noise that is left of a waveform with them.

Sources: A and C: IEC 61672-1:2013, Annex E (E.2, E.3), with the exact poles of E.4; Z is 1 everywhere; BS.468:
ITU-R BS.468-4, Annex 1, the network of Fig. 1a as the rational function that it is.
"""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.spectra import amplitude_spectrum


def _poles() -> tuple[float, float, float, float]:
    """f1 to f4 in Hz from the conditions that the standard sets: 1 kHz as reference, half power at 10^1.5 and 10^3.9
    Hz, and the high-pass of A at 10^2.45 Hz (IEC 61672-1, E.4)."""
    reference, low, high, a = 1000.0, 10**1.5, 10**3.9, 10**2.45
    d = math.sqrt(0.5)
    b = (reference**2 + low**2 * high**2 / reference**2 - d * (low**2 + high**2)) / (1 - d)
    c = low**2 * high**2
    root = math.sqrt(b**2 - 4 * c)
    f1, f4 = math.sqrt((-b - root) / 2), math.sqrt((-b + root) / 2)
    return f1, (3 - math.sqrt(5)) / 2 * a, (3 + math.sqrt(5)) / 2 * a, f4


F1, F2, F3, F4 = _poles()


def _c(f: Array) -> Array:
    return (F4**2 * f**2) / ((f**2 + F1**2) * (f**2 + F4**2))


def _a(f: Array) -> Array:
    return (F4**2 * f**4) / ((f**2 + F1**2) * np.sqrt((f**2 + F2**2) * (f**2 + F3**2)) * (f**2 + F4**2))


def _bs468(f: Array) -> Array:
    h1 = -4.737338981378384e-24 * f**6 + 2.043828333606125e-15 * f**4 - 1.363894795463638e-7 * f**2 + 1
    h2 = 1.306612257412824e-19 * f**5 - 2.118150887518656e-11 * f**3 + 5.559488023498642e-4 * f
    return 1.246332637532143e-4 * f / np.sqrt(h1**2 + h2**2)


_CURVES: dict[str, Callable[[Array], Array]] = {
    "a": lambda f: _a(f) / _a(np.array(1000.0)),
    "c": lambda f: _c(f) / _c(np.array(1000.0)),
    "z": lambda f: np.ones_like(f),
    "bs468": lambda f: _bs468(f) / _bs468(np.array(1000.0)),
}
WEIGHTINGS = tuple(_CURVES)


def weight(frequencies: Array, weighting: str) -> Array:
    """The factor of a weighting at frequencies in Hz, 1 at 1 kHz; shape of the frequencies.

    Raises:
        ValueError: no such weighting.

    >>> (20 * np.log10(weight(np.array([100.0, 1000.0, 10000.0]), "a"))).round(1)
    array([-19.1,   0. ,  -2.5])
    """
    if weighting not in _CURVES:
        raise ValueError(f"there is no weighting {weighting!r}, only {', '.join(WEIGHTINGS)}")
    with np.errstate(divide="ignore", invalid="ignore"):
        return _CURVES[weighting](np.asarray(frequencies, dtype=float))


def weighted_rms(y: Array, rate: float, *, weighting: str = "z", low: float = 0.0, high: float = math.inf) -> float:
    """The RMS value of a waveform, without its mean, weighted, and within a band; in the unit of y.

    It is computed of the spectrum of the whole, so that what changes in it counts as it would with a slow meter; the
    quasi-peak meter of BS.468 is not a part of this.

    Args:
        y: in any unit, shape (n,), n >= 2.
        rate: in Hz.
        weighting: a, c, z or bs468.
        low, high: ends of the band in Hz.

    Raises:
        ValueError: no such weighting, too few samples, no line in the band.

    Source: Parseval's theorem; the standards above.

    >>> t = np.arange(48_000) / 48_000
    >>> round(weighted_rms(np.sqrt(2) * np.sin(2 * np.pi * 100 * t), 48_000.0, weighting="a"), 4)
    0.1104
    """
    found = amplitude_spectrum(y - y.mean(), rate, shape="rectangle")
    inside = (found.frequencies >= low) & (found.frequencies <= high)
    if not inside.any():
        raise ValueError(f"no line of the spectrum lies between {low:g} and {high:g} Hz")
    lines = found.values * np.where(inside, weight(found.frequencies, weighting), 0.0)
    return math.sqrt(float(np.sum(lines**2)))
