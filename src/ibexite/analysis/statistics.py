"""Statistics of the values along an axis: plain functions on arrays. NaN is left out; nothing left gives NaN."""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array


def _good(y: Array) -> Array:
    return y[~np.isnan(y)]


def largest(x: Array, y: Array) -> float:
    """The largest value of y, shape (n,), in the unit of y. x is not used.

    >>> largest(np.arange(3.0), np.array([1.0, np.nan, -4.0]))
    1.0
    """
    good = _good(y)
    return float(good.max()) if len(good) else np.nan


def smallest(x: Array, y: Array) -> float:
    """The smallest value of y, shape (n,), in the unit of y. x is not used."""
    good = _good(y)
    return float(good.min()) if len(good) else np.nan


def span(x: Array, y: Array) -> float:
    """Largest minus smallest value of y, shape (n,), in the unit of a difference of y. x is not used."""
    good = _good(y)
    return float(good.max() - good.min()) if len(good) else np.nan


def mean(x: Array, y: Array) -> float | complex:
    """The arithmetic mean of y, shape (n,), in the unit of y, complex if y is. x is not used."""
    good = _good(y)
    return good.mean().item() if len(good) else np.nan


def mean_angle(x: Array, y: Array) -> float:
    """The mean direction of angles y in rad, shape (n,); see `mean_value`. x is not used.

    >>> round(math.degrees(mean_angle(np.arange(2.0), np.radians([179.0, -179.0]))), 6)
    180.0
    """
    return float(np.real(mean_value(_good(y), "angle")))


def mean_value(y: Array, kind: str) -> float | complex:
    """The mean of values without holes, shape (n,); NaN for none.

    Args:
        kind: "plain" the arithmetic mean; "level" (dB, dBm, dBV) the level of the mean power; "angle" (rad) the
            direction of the mean unit vector, as near to the first value as whole turns allow, NaN where the directions
            cancel one another out.

    Source: K. V. Mardia, P. E. Jupp, Directional Statistics, 2.2 (angles).
    """
    if not len(y):
        return np.nan
    if kind == "level":
        top = y.max()
        return float(top + 10 * np.log10(np.mean(10 ** ((y - top) / 10))))
    if kind == "angle":
        whole = np.exp(1j * y).mean()
        return float(y[0] + math.remainder(np.angle(whole) - y[0], 2 * math.pi)) if abs(whole) > 1e-9 else np.nan
    mean: float | complex = y.mean().item()
    return mean


def mean_power(x: Array, y: Array) -> float:
    """The level of the mean power of levels y in dB, dBm or dBV, shape (n,): 10 lg of the mean of 10^(y/10).

    >>> round(mean_power(np.arange(2.0), np.array([0.0, 10.0])), 3)   # the mean of 1 mW and 10 mW is 5.5 mW
    7.404
    """
    return float(np.real(mean_value(_good(y), "level")))


def deviation(x: Array, y: Array) -> float:
    """The sample standard deviation of y, shape (n,), with n - 1 in the denominator; NaN for less than two values.

    Two passes: the mean is taken off first, so that a large mean does not spoil a small spread.
    Source: JCGM 100:2008 (GUM), 4.2.2.
    """
    good = _good(y)
    return float(np.sqrt(np.sum((good - good.mean()) ** 2) / (len(good) - 1))) if len(good) > 1 else np.nan


def median(x: Array, y: Array) -> float:
    """The median of y, shape (n,), in the unit of y. x is not used."""
    good = _good(y)
    return float(np.median(good)) if len(good) else np.nan


def percentile(x: Array, y: Array, part: float) -> float:
    """The value of y, shape (n,), below which a part from 0 to 1 of the values lies, linear between neighbours in rank,
    in the unit of y. x is not used.

    Source: R. J. Hyndman, Y. Fan, Sample Quantiles in Statistical Packages, The American Statistician 50 (1996), 7.

    >>> percentile(np.arange(5.0), np.array([4.0, 1.0, np.nan, 3.0, 2.0]), 0.5)
    2.5

    Raises:
        ValueError: the part is less than 0 or more than 1.
    """
    if not 0 <= part <= 1:
        raise ValueError(f"a percentile of {100 * part:g} %: it lies between 0 % and 100 %")
    good = np.sort(_good(y))
    if not len(good):
        return np.nan
    place = part * (len(good) - 1)
    below = math.floor(place)
    above = min(below + 1, len(good) - 1)
    return float((1 - place + below) * good[below] + (place - below) * good[above])


def rms(x: Array, y: Array) -> float:
    """The root of the mean square of y, shape (n,), in the unit of y. x is not used."""
    good = _good(y)
    return float(np.sqrt(np.mean(good**2))) if len(good) else np.nan


def count(x: Array, y: Array) -> float:
    """How many values of y, shape (n,), are no holes."""
    return float(len(_good(y)))


def argmax(x: Array, y: Array) -> float:
    """The x, in its unit, of the largest value of y (both of shape (n,)); the first one of several."""
    return np.nan if np.isnan(y).all() else float(x[np.nanargmax(y)])


def argmin(x: Array, y: Array) -> float:
    """The x, in its unit, of the smallest value of y (both of shape (n,)); the first one of several."""
    return np.nan if np.isnan(y).all() else float(x[np.nanargmin(y)])
