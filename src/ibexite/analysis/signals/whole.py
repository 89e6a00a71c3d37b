"""What is computed of a whole waveform, or of what lies between two times in it."""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.spectra import quadrature


def peak(y: Array) -> float:
    """The largest size, whatever its sign, in the unit of y; NaN of nothing.

    >>> peak(np.array([1.0, -3.0, 2.0]))
    3.0
    """
    return float(np.abs(y).max()) if len(y) else math.nan


def crest(y: Array) -> float:
    """The peak over the RMS value, a plain ratio; NaN for silence.

    >>> round(crest(np.sin(np.linspace(0, 20 * np.pi, 10_000))), 3)
    1.414
    """
    rms = math.sqrt(float(np.mean(y**2))) if len(y) else 0.0
    return peak(y) / rms if rms else math.nan


def envelope(y: Array) -> Array:
    """The size of the analytic waveform, shape (n,): how strong a tone is at each instant. The mean is left as it is.

    Source: Oppenheim, Schafer, see spectra.quadrature.

    >>> t = np.arange(1000) / 1000
    >>> envelope(2 * np.sin(2 * np.pi * 50 * t))[500].round(2)
    np.float64(2.0)
    """
    found: Array = np.hypot(y, quadrature(y))
    return found


def between(y: Array, rate: float, begin: float, end: float) -> Array:
    """The samples from one time to another in s, both included when they fall on a sample.

    Raises:
        ValueError: no such times, or they lie beyond the waveform.
    """
    first, last = math.ceil(begin * rate - 1e-6), math.floor(end * rate + 1e-6)
    if not 0 <= first <= last < len(y):
        raise ValueError(f"it lasts from 0 to {(len(y) - 1) / rate:g} s; {begin:g} to {end:g} s do not lie in it")
    return y[first : last + 1]


def area(y: Array, rate: float) -> float:
    """The integral over time in the unit of y times s, by the trapezoid rule: of a current the charge, of a power the
    energy; NaN for fewer than two samples.

    >>> area(np.ones(101), 100.0)
    1.0
    """
    return float((y.sum() - (y[0] + y[-1]) / 2) / rate) if len(y) > 1 else math.nan
