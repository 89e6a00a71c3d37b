"""What the quantities of a product were at times that are over."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, NamedTuple, Protocol

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array


class Settling(Protocol):
    """What of a product is asked here; see ibexite.simulate.world.Product."""

    time_constants: dict[str, float]

    @property
    def derived(self) -> Mapping[str, Callable[[Callable[[str], float]], float]]:
        """Quantities that follow from those that settle."""


class Course(NamedTuple):
    """From a time on, in s of the clock, all quantities move from one point to another."""

    since: float
    origin: Mapping[str, float]
    target: Mapping[str, float]


def values_at(
    product: Settling, courses: Sequence[Course], name: str, begin: float, step: float, count: int
) -> Array:  # fmt: skip
    """A quantity at evenly spaced times, shape (count,), in base units; a current with what capacitors take.

    Args:
        courses: how all quantities have moved, the earliest first; before it they stood still.
        begin, step: in s, on the clock of the world.
    """
    import numpy as np  # only where something is recorded

    times = begin + step * np.arange(count)
    if name in product.derived:
        return np.broadcast_to(product.derived[name](lambda one: _moved(product, courses, one, times)), count)  # type: ignore[arg-type, return-value]
    found = _moved(product, courses, name, times)
    charging = getattr(product, "charging", {}).get(name)
    if charging is not None:
        voltage, farads = charging
        found = found + farads * _moved(product, courses, voltage, times, is_rate=True)
    return found


def _moved(
    product: Settling, courses: Sequence[Course], name: str, times: Array, *, is_rate: bool = False
) -> Array:  # fmt: skip
    """A quantity that settles, at some times that rise; or how quickly it changes, per s."""
    import numpy as np

    found = np.full(len(times), 0.0 if is_rate else courses[0].origin[name])
    tau = product.time_constants[name]
    starts = [course.since for course in courses]
    ends = [*np.searchsorted(times, starts[1:]), len(times)]
    low = int(np.searchsorted(times, starts[0]))
    for course, high in zip(courses, ends, strict=True):
        if low < high:
            away = (course.origin[name] - course.target[name]) * np.exp(-(times[low:high] - course.since) / tau)
            found[low:high] = -away / tau if is_rate else course.target[name] + away
        low = max(low, int(high))
    return found
