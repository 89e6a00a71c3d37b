"""What a stand-in samples on and on, and keeps until it is asked for."""

from __future__ import annotations

import math
from collections.abc import Callable

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.protocols.framing import definite_block
from ibexite.protocols.scpi import INFINITY
from ibexite.untyped import Fields

MOST = 200_000  # samples of a channel in one block


class Streaming:
    """Samples channels evenly from its begin to its end. What was not asked for in time is lost, the oldest first.

    Args:
        told: what the profile says of the stream.
        clock: the time of the world in s.
        record: the samples of a channel: its number, that of the first one and its time, the step, how many.
    """

    def __init__(
        self, told: Fields, clock: Callable[[], float], record: Callable[[int, int, float, float, int], Array]
    ) -> None:
        self._told, self._clock, self._record = told, clock, record
        self._began = self._ended = None  # type: float | None
        self._interval = 1.0
        self._next = self.first = 0  # sample to be given, and the first one of the block that was given last

    def begin(self, interval: float) -> None:
        """From now on it samples."""
        self._began, self._ended, self._interval = self._clock(), None, interval
        self._next = self.first = 0

    def end(self) -> None:
        """It samples no more; what it has can still be asked for."""
        if self._ended is None:
            self._ended = self._clock()

    def block(self, channels: list[int], scale: float) -> str:
        """What has come since the last block, as the reply has it."""
        if self._began is None:
            return definite_block(b"").decode("latin-1")
        until = self._clock() if self._ended is None else self._ended
        there = math.floor((until - self._began) / self._interval)
        self._next = max(self._next, there - self._told["holds"])
        count = min(there - self._next, MOST)
        self.first = self._next
        self._next += count
        begin = self._began + self.first * self._interval
        each = [self._numbers(self._record(one, self.first, begin, self._interval, count), scale) for one in channels]
        numbers = np.stack(each, axis=1 if self._told["order"] == "samples" else 0)
        numbers = numbers.astype(self._told["numbers"])  # stacking has them in the order of this computer
        return definite_block(numbers.tobytes()).decode("latin-1")

    def _numbers(self, values: Array, scale: float) -> Array:
        """Values as the numbers of the instrument; what is beyond its full scale says so."""
        unit = self._told["unit"]
        numbers = ((values - unit["offset"]) / unit["factor"] - self._told["offset"]) / self._told["factor"]
        kind = np.dtype(self._told["numbers"])
        if kind.kind == "f":
            return np.where(np.abs(values) > scale, INFINITY, numbers).astype(kind) if scale else numbers.astype(kind)
        most = np.iinfo(kind.str[1:])
        found: Array = np.clip(np.round(numbers), most.min, most.max).astype(kind)
        return found
