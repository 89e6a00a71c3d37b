"""What makes a record unfit to be judged (clipped, samples missing), and its DC part. It is told, and never mended."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array

CLIPPED_RUN = 3  # samples one behind another at the same extreme: no wave stays there for so long
SILENT_RUN = 64  # samples one behind another that do not change at all: noise would move them


class Clipped(NamedTuple):
    """How many samples stand at the ends of the range, and the first of them, -1 for none."""

    samples: int
    first: int


def clipped(y: Array) -> Clipped:
    """Where a record is clipped: three samples or more, one behind another, at the same extreme of it.

    Args:
        y: in any unit, shape (n,), as it was sampled. NaN is not looked at.

    >>> wave = np.clip(2 * np.sin(np.arange(1000) / 30), -1, 1)
    >>> clipped(wave).samples > 600, clipped(np.sin(np.arange(1000) / 30))
    (True, Clipped(samples=0, first=-1))
    """
    good = y[~np.isnan(y)]
    if len(good) < 2:
        return Clipped(0, -1)
    begins, lengths, values = _runs(y)
    low, high = float(good.min()), float(good.max())
    at_end = (values == low) | (values == high)
    is_clipped = (lengths >= CLIPPED_RUN) & at_end & (low < high) & (np.abs(values) > 0.1 * max(-low, high))
    return Clipped(int(lengths[is_clipped].sum()), int(min(begins[is_clipped], default=-1)))


def offset(y: Array) -> tuple[float, float]:
    """The mean of a record in its unit, and its share of the largest deviation from it; 0 and 0 of one that stands
    still or has a hole.

    >>> [round(value, 3) for value in offset(0.5 + 2 * np.sin(2 * np.pi * np.arange(1000) / 100))]
    [0.5, 0.25]
    """
    if not len(y) or np.isnan(y).any():
        return 0.0, 0.0
    mean = float(y.mean())
    swing = float(np.abs(y - mean).max())
    return (mean, abs(mean) / swing) if swing > 0 else (0.0, 0.0)


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
    begins, lengths, _ = _runs(y)
    found: list[tuple[int, int]] = []
    steps = np.abs(np.diff(y))
    moving = steps[steps > 0]
    if not len(moving):
        return np.empty((0, 2), dtype=int)
    least = 8 * float(moving.min())
    is_long = lengths >= SILENT_RUN
    rests = _runs(played)[1]
    rests = rests[rests >= SILENT_RUN]
    for first, length in zip(begins[is_long].tolist(), lengths[is_long].tolist(), strict=True):
        end = first + length
        around = y[max(first - SILENT_RUN, 0) : first], y[end : end + SILENT_RUN]
        is_moved = all(len(side) == SILENT_RUN and float(np.std(side)) > least for side in around)
        is_late = bool(((rests >= length * 0.98) & (rests <= length * 2)).any())
        if is_moved and np.ptp(played[first:end]) > 0 and not is_late:
            found.append((first, end))
    return np.array(found, dtype=int).reshape(-1, 2)


def _runs(y: Array) -> tuple[Array, Array, Array]:
    """Where runs of one value begin, how long they are, and the value; each of shape (k,)."""
    begins = np.flatnonzero(np.concatenate([[True], y[1:] != y[:-1]]))
    lengths = np.diff(np.concatenate([begins, [len(y)]]))
    return begins, lengths, y[begins]
