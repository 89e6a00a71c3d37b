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


def dropped(y: Array, played: Array) -> Array:
    """Where samples of a record are lost: it moves, stands still, and moves again, while what is played moves.

    Standing still is being the same for 64 samples or more; moving is a deviation of more than 8 of the smallest steps
    of the record, over 64 samples. A silence of the stimulus that comes late (a product that takes its time, without
    any noise) is none: a run that is half as long as one, up to as long.

    Args:
        y: the record, in any unit, shape (n,).
        played: what was played meanwhile, shape (n,), 0 where nothing was.

    Returns:
        the first sample of each such run and behind its last one, shape (k, 2).
    """
    begins, lengths, _ = _runs(y, np.concatenate([[False], y[1:] == y[:-1]]))
    found: list[tuple[int, int]] = []
    steps = np.abs(np.diff(y))
    moving = steps[steps > 0]
    if not len(moving):
        return np.empty((0, 2), dtype=int)
    least = 8 * float(moving.min())
    is_long = lengths >= SILENT_RUN
    rests = _runs(played, np.concatenate([[False], played[1:] == played[:-1]]))[1]
    rests = rests[rests >= SILENT_RUN]
    for first, length in zip(begins[is_long].tolist(), lengths[is_long].tolist(), strict=True):
        end = first + length
        around = y[max(first - SILENT_RUN, 0) : first], y[end : end + SILENT_RUN]
        is_moved = all(len(side) == SILENT_RUN and float(np.std(side)) > least for side in around)
        is_late = bool(((rests >= length * 0.98) & (rests <= length * 2)).any())
        if is_moved and np.ptp(played[first:end]) > 0 and not is_late:
            found.append((first, end))
    return np.array(found, dtype=int).reshape(-1, 2)


def _runs(y: Array, same: Array) -> tuple[Array, Array, Array]:
    """Where runs of one value begin, how long they are, and the value; each of shape (k,)."""
    begins = np.flatnonzero(~same)
    lengths = np.diff(np.concatenate([begins, [len(y)]]))
    return begins, lengths, y[begins]
