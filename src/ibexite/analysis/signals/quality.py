"""What makes a record unfit to be judged: clipped, interrupted, off zero. None of it is mended; it is told."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array

CLIPPED_RUN = 3  # samples one behind another at the same extreme: no wave stays there for so long
SILENT_RUN = 64  # samples one behind another that do not change at all: noise would move them


class Flaws(NamedTuple):
    """clipped: samples at the ends of the range. stuck: samples in runs that do not change. first: the sample at which
    the first of either begins, -1 for none. offset: the mean over the RMS value of the rest, a plain ratio."""

    clipped: int
    stuck: int
    first: int
    offset: float


def flaws(y: Array, *, full_scale: float = math.inf) -> Flaws:
    """Looks over a record.

    Args:
        y: in any unit, shape (n,), as it was sampled. NaN is not looked at.
        full_scale: the largest size that the instrument takes, in the unit of y. Samples that reach 99.9 % of it are
            clipped; others are if three or more, one behind another, stand at the same extreme of the record.

    >>> wave = np.clip(2 * np.sin(np.arange(1000) / 30), -1, 1)
    >>> flaws(wave).clipped > 600, flaws(np.sin(np.arange(1000) / 30)).clipped
    (True, 0)
    """
    good = y[~np.isnan(y)]
    if len(good) < 2:
        return Flaws(0, 0, -1, math.nan)
    same = np.concatenate([[False], y[1:] == y[:-1]])
    low, high = float(good.min()), float(good.max())
    begins, lengths, values = _runs(y, same)
    at_end = (values == low) | (values == high)
    is_clipped = (lengths >= CLIPPED_RUN) & at_end & (low < high) & (np.abs(values) > 0.1 * max(-low, high))
    beyond = np.abs(y) >= 0.999 * full_scale
    is_stuck = (lengths >= SILENT_RUN) & ~is_clipped
    clipped = int(lengths[is_clipped].sum()) if not beyond.any() else int(beyond.sum())
    places = [*begins[is_clipped][:1], *begins[is_stuck][:1], *np.flatnonzero(beyond)[:1]]
    mean, deviation = float(good.mean()), float(good.std())
    offset = mean / deviation if deviation else math.copysign(math.inf, mean) if mean else 0.0
    return Flaws(clipped, int(lengths[is_stuck].sum()), int(min(places, default=-1)), offset)


def _runs(y: Array, same: Array) -> tuple[Array, Array, Array]:
    """Where runs of one value begin, how long they are, and the value; each of shape (k,)."""
    begins = np.flatnonzero(~same)
    lengths = np.diff(np.concatenate([begins, [len(y)]]))
    return begins, lengths, y[begins]
