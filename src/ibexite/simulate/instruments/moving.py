"""What a stand-in does that takes time to get where it is set to: it is on its way until then."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

WHOLE_WAY = 2.0  # s, from one end of its range to the other
ANY_WAY = 0.5  # s, where it has no range


@dataclass(slots=True)
class Motion:
    """From where, to where, when it began and how long it takes (s)."""

    start: float
    end: float
    began: float
    duration: float

    def at(self, now: float) -> float:
        """Where it is."""
        share = min(1.0, (now - self.began) / self.duration) if self.duration else 1.0
        return self.start + share * (self.end - self.start)

    def is_over(self, now: float) -> bool:
        """Whether it is there."""
        return now >= self.began + self.duration


class Moving:
    """The motions of one instrument, by setting and channel."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._motions: dict[tuple[str, int], Motion] = {}

    def go(self, key: tuple[str, int], end: float, span: float) -> None:
        """It is set to another place; `span` is the width of its range."""
        now = self._clock()
        start = self.place(key, 0.0)
        duration = ANY_WAY if span == float("inf") else WHOLE_WAY * abs(end - start) / span
        self._motions[key] = Motion(start, end, now, duration)

    def place(self, key: tuple[str, int], otherwise: float) -> float:
        """Where it is now; `otherwise` where it has never moved."""
        motion = self._motions.get(key)
        return otherwise if motion is None else motion.at(self._clock())

    def is_moving(self, channel: int | None = None) -> bool:
        """Whether anything is on its way, of one channel or of all."""
        now = self._clock()
        return any(not m.is_over(now) for (_, at), m in self._motions.items() if channel in (None, at))

    def arrive(self) -> None:
        """All are there: whoever asked has been kept waiting until then."""
        for motion in self._motions.values():
            motion.duration = 0.0

    def halt(self) -> dict[tuple[str, int], float]:
        """All stop where they are; where that is."""
        now = self._clock()
        stopped = {key: motion.at(now) for key, motion in self._motions.items() if not motion.is_over(now)}
        for key, place in stopped.items():
            self._motions[key] = Motion(place, place, now, 0.0)
        return stopped
