"""What many units have in common: centre and spread of a value or a curve over them, those that are like no other, and
the limits that can be proposed from them. Plain functions on arrays of shape (units, points); a value has one point."""

from __future__ import annotations

import math
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array

MAD_TO_SIGMA = 1.4826  # 1 / (the upper quartile of the standard normal distribution)
AT_ONCE = 256  # units, and points, that are looked at together: these fit into the cache
POINTS_AT_ONCE = 32
THREADS = 2
LEAST_TO_COMPARE = 5
OUTLYING = 3.5  # Iglewicz and Hoaglin, How to Detect and Handle Outliers (1993), section 3.5


class Spread(NamedTuple):
    """Of each point, shape (points,): how many units, their mean and sample standard deviation (n - 1; NaN for one)."""

    n: Array
    mean: Array
    deviation: Array


def spread_of(values: Array) -> Spread:
    """Mean and spread over units; NaN is left out.

    Args:
        values: shape (units, points).

    The deviations are summed from the mean, in a second pass: sums of squares lose all digits where the mean is large.
    """
    n, total, square = (np.zeros(values.shape[1]) for _ in range(3))
    for part in _parts(values):
        n += len(part)
        sums = part.sum(axis=0)
        if np.isnan(sums).any():
            n -= np.isnan(part).sum(axis=0)
            sums = np.nansum(part, axis=0)
        total += sums
    with np.errstate(all="ignore"):
        mean = total / n
        for part in _parts(values):
            apart = part - mean
            apart *= apart
            sums = apart.sum(axis=0)
            square += sums if not np.isnan(sums).any() else np.nansum(apart, axis=0)
        deviation = np.sqrt(square / (n - 1))
    return Spread(n, mean, np.where(n > 1, deviation, math.nan))


def robust_spread(values: Array) -> tuple[Array, Array]:
    """Median over units and their median absolute deviation, scaled to a standard deviation; NaN is left out.

    Args:
        values: shape (units, points).

    Source: F. R. Hampel, J. Amer. Statist. Assoc. 69 (1974), 383.
    """
    median, deviation = (np.empty(values.shape[1]) for _ in range(2))

    def find(begin: int) -> None:
        part = slice(begin, begin + POINTS_AT_ONCE)
        rows = np.empty((values[:1, part].size, len(values)))
        for first, some in zip(range(0, len(values), AT_ONCE), _parts(values), strict=True):
            rows[:, first : first + AT_ONCE] = some[:, part].T
        middle_of = np.nanmedian if np.isnan(rows).any() else _middle
        median[part] = middle_of(rows, axis=1)
        rows -= median[part, None]
        deviation[part] = middle_of(np.abs(rows, out=rows), axis=1)

    with ThreadPoolExecutor(THREADS) as pool:  # finding ranks needs no interpreter: both can count at once
        list(pool.map(find, range(0, values.shape[1], POINTS_AT_ONCE)))
    return median, MAD_TO_SIGMA * deviation


def _middle(rows: Array, axis: int) -> Array:
    """The median of rows without NaN, many times as quick as that of NumPy; changes their order."""
    half = rows.shape[axis] // 2
    rows.partition(half, axis=axis)
    upper: Array = rows[:, half]
    return upper.copy() if rows.shape[axis] % 2 else (upper + rows[:, :half].max(axis=1)) / 2


def distances(values: Array) -> Array:
    """How far each unit is from the middle one, in robust standard deviations: for a value the distance itself (the
    modified z), for curves the root mean square over all their points.

    Args:
        values: shape (units, points); NaN is left out.

    Returns:
        Shape (units,). A point at which most units are alike counts only for units that are not: as infinitely far.

    Source: Iglewicz and Hoaglin, as OUTLYING; for curves the L2 distance from the pointwise median.

    >>> distances(np.array([[1.0], [2.0], [3.0], [4.0], [50.0]])).round(2)
    array([ 1.35,  0.67,  0.  ,  0.67, 31.7 ])
    """
    median, sigma = robust_spread(values)
    found: list[Array] = []
    with np.errstate(all="ignore"):
        for part in _parts(values):
            apart = part - median
            apart /= sigma
            if not (sigma > 0).all():
                apart[part == median] = 0.0  # not 0 / 0
            apart *= apart
            means = apart.mean(axis=1)
            if np.isnan(means).any():
                means = np.nansum(apart, axis=1) / (~np.isnan(apart)).sum(axis=1)
            found.append(np.sqrt(means))
    return np.concatenate(found)


def _parts(values: Array) -> Iterator[Array]:
    for begin in range(0, len(values), AT_ONCE):
        yield values[begin : begin + AT_ONCE]


def outlying(values: Array) -> Array:
    """The numbers of the units that are like no other: those whose distance is beyond OUTLYING; of curves the distance
    is judged among those of all units.

    Args:
        values: shape (units, points). Of fewer than LEAST_TO_COMPARE units none is: of three units the one farther out
            would be named in every fourth case by chance.
    """
    if len(values) < LEAST_TO_COMPARE:
        return np.empty(0, dtype=int)
    found = distances(values)
    if values.shape[1] == 1:
        return np.flatnonzero(found > OUTLYING)
    middle, sigma = (float(x[0]) for x in robust_spread(found[:, None]))
    room = OUTLYING * sigma if sigma > 0 else max(OUTLYING - middle, 0.0)
    return np.flatnonzero(~(found <= middle + room))


def aligned_levels(values: Array) -> tuple[Array, Array]:
    """Curves moved up or down onto their common mean, each by the mean distance from it; and by how much.

    Args:
        values: shape (units, points).

    Returns:
        The moved curves, and their moves, shape (units,).
    """
    common = spread_of(values).mean
    moves = np.nanmean(common - values, axis=1)
    return values + moves[:, None], moves


class Proposal(NamedTuple):
    """Limits of each point, shape (points,)."""

    low: Array
    high: Array


def by_sigma(spread: Spread, factor: float) -> Proposal:
    """The mean and so many standard deviations to both sides."""
    return Proposal(spread.mean - factor * spread.deviation, spread.mean + factor * spread.deviation)


def by_tolerance(spread: Spread, amount: Array | float) -> Proposal:
    """The mean and a fixed amount to both sides."""
    return Proposal(spread.mean - amount, spread.mean + amount)


def by_percentile(values: Array, percent: float) -> Proposal:
    """What so many per cent of the units are below of, and as many above; interpolated between neighbours in rank.

    Args:
        values: shape (units, points); percent: above 0 and below 50.
    """
    low, high = np.nanpercentile(values, [percent, 100 - percent], axis=0)
    return Proposal(low, high)


def within(values: Array, low: Array, high: Array) -> Array:
    """Which units lie within limits at all points, shape (units,); one of which a point is missing does not.

    Args:
        values: shape (units, points); low, high: shape (points,), NaN where there is no limit.
    """
    is_limited = ~(np.isnan(low) & np.isnan(high))
    low, high = np.where(np.isnan(low), -np.inf, low), np.where(np.isnan(high), np.inf, high)
    found = [(((part >= low) & (part <= high)) | ~is_limited).all(axis=1) for part in _parts(values)]
    return np.concatenate(found)
