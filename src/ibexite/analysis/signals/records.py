"""Records: waveforms that know when they begin, against the stimulus that was played."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array


class Record(NamedTuple):
    """Samples in any unit, shape (n,); their rate in Hz; when the first one is, in s from the begin of the stimulus."""

    values: Array
    rate: float
    start: float = 0.0

    @property
    def end(self) -> float:
        """The time in s at which the last sample ends."""
        return self.start + len(self.values) / self.rate


def window_of(record: Record, begin: float, end: float) -> Record:
    """The samples from a time on and before another, in s from the begin of the stimulus.

    Raises:
        ValueError: the record does not hold all of it, or has a hole there.
    """
    first = math.ceil((begin - record.start) * record.rate - 1e-6)
    last = math.ceil((end - record.start) * record.rate - 1e-6)
    if first < 0 or last > len(record.values):
        raise ValueError(
            f"the record lasts from {record.start:.4g} to {record.end:.4g} s; {begin:.4g} to {end:.4g} s are not in it"
        )
    values = record.values[first:last]
    if not len(values):
        raise ValueError(f"no sample lies between {begin:g} and {end:g} s")
    if np.isnan(values).any():
        raise ValueError(f"samples between {begin:.4g} and {end:.4g} s are missing")
    return Record(values, record.rate, record.start + first / record.rate)
