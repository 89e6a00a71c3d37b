"""The axes of the curves that a stand-in gives, from its own settings: whatever its profile calls them, the features of
classes have one meaning."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass

Setting = Callable[[str], float | str | None]
POINTS = 11  # of each axis of a surface
OF_ONE_AXIS = {"freq": 401, "order": 40, "time": 1000}
MOST = 2_000_000


@dataclass(frozen=True, slots=True)
class AxisOf:
    """Points from start to stop, evenly or by even ratios."""

    start: float
    stop: float
    count: int
    is_log: bool

    @property
    def step(self) -> float:
        """From one point to the next, where they lie evenly."""
        return (self.stop - self.start) / (self.count - 1)

    def points(self) -> list[float]:
        """All of them."""
        last = self.count - 1
        if self.is_log:
            ratio = math.log(self.stop / self.start)
            return [self.start * math.exp(ratio * i / last) for i in range(self.count)]
        return [self.start + self.step * i for i in range(self.count)]

    def in_unit(self, factor: float, offset: float) -> AxisOf:
        """The same in a unit of which one is `factor` base units, with its zero at `offset`."""
        return AxisOf((self.start - offset) / factor, (self.stop - offset) / factor, self.count, self.is_log)

    def told(self, key: str) -> list[float]:
        """Its start, step or stop, or all its points."""
        return self.points() if key == "points" else [float(getattr(self, key))]


def axis_of(name: str, setting: Setting, *, is_only: bool) -> AxisOf:
    """The axis of a name, as the settings of the instrument have it.

    Args:
        setting: the present value of a setting of the instrument; None where it has none of the name.
        is_only: the curve has no other axis.
    """
    count = _count(name, setting, is_only=is_only)
    low, high = setting("lowest"), setting("highest")
    centre, span = setting("centre"), setting("span")
    if isinstance(low, float) and isinstance(high, float):
        start, stop = low, high
    elif isinstance(centre, float) and isinstance(span, float):
        start, stop = centre - span / 2, centre + span / 2
    else:
        start, step = (1.0, 1.0) if name == "order" else (0.0, _time_step(setting, count) if name == "time" else 1.0)
        stop = start + step * (count - 1)
    if not stop > start:  # as after a reset; somewhere the points must lie
        stop = start + count - 1
    is_log = setting("spacing") == "logarithmic" and start > 0
    return AxisOf(start, stop, count, is_log)


def _count(name: str, setting: Setting, *, is_only: bool) -> int:
    for key in ("points", "samples"):
        told = setting(key)
        if isinstance(told, float):
            return min(MOST, max(2, round(told)))
    return OF_ONE_AXIS.get(name, POINTS) if is_only else POINTS


def _time_step(setting: Setting, count: int) -> float:
    interval, duration = setting("interval"), setting("record_time")
    if isinstance(interval, float) and interval > 0:
        return interval
    return duration / count if isinstance(duration, float) and duration > 0 else 1.0
