"""The points of curves that a check judges, in blocks: those that were measured, that have limits, and where its
condition holds or nobody knows whether it does."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array, ArrayCurve, joined_axes, never, no_reference, spread
from ibexite.engine.limit_errors import too_wide_a_guard, wrong_way_round
from ibexite.holes import EQUAL, Bound
from ibexite.untyped import Measured

BLOCK = 8_192  # points


class Block(NamedTuple):
    """Some points: their places in the flattened curve, values, limits (the guard is taken off), and where nobody knows
    whether the condition holds. All of shape (n,)."""

    places: Array
    values: Array
    lows: Array
    highs: Array
    undecided: Array

    def margins(self) -> Array:
        """The distance of each value to its nearer limit, negative beyond it; NaN where there is none."""
        margins: Array = np.fmin(
            np.where(np.isnan(self.values), math.nan, self.values - self.lows), self.highs - self.values
        )
        margins[np.abs(margins) <= EQUAL * np.abs(self.values)] = 0.0
        margins[np.isnan(self.values) | np.isnan(self.lows) | np.isnan(self.highs) | self.undecided] = math.nan
        return margins

    @staticmethod
    def good(margins: Array) -> tuple[Array, Array]:
        """Which points can be judged, and which not."""
        return np.flatnonzero(~np.isnan(margins)), np.flatnonzero(np.isnan(margins))


class JudgedPoints:
    """A value, its limits and its condition over all axes of them."""

    def __init__(self, value: Measured, low: Measured, high: Measured, where: Measured, guard: Measured) -> None:
        self._axes = joined_axes(value, low, high, where, guard)
        self._shape = tuple(map(len, self._axes.values()))
        self._guard = self._spread(guard).reshape(-1)
        # Not copied where it can be helped: a limit that is one number takes no room for each point.
        self._flat = [self._spread(x).reshape(-1) for x in (value, low, high, where)]
        self._bounds = self._all_bounds(value)

    def _spread(self, x: Measured) -> Array:
        return np.broadcast_to(np.asarray(spread(x, self._axes), dtype=float), self._shape)

    def _all_bounds(self, value: Measured) -> dict[int, Bound]:
        """The bounds in the value, by the place in what is judged, which may have further axes."""
        known = getattr(value, "bounds", None)
        if not known:
            return {}
        own = ArrayCurve(value.axes, np.arange(value.values.size, dtype=float).reshape(value.values.shape))
        places = self._spread(own).reshape(-1)
        return {i: known[int(place)] for i, place in enumerate(places) if int(place) in known}

    def _unguarded(self) -> Iterator[Block]:
        for begin in range(0, math.prod(self._shape), BLOCK):
            values, lows, highs, where = (x[begin : begin + BLOCK] for x in self._flat)
            unmeasured = np.logical_or.reduce([never(x) for x in (values, lows, highs, where)])
            undecided = np.isnan(where)
            chosen = np.flatnonzero(((where != 0) | undecided) & ~unmeasured)
            yield Block(begin + chosen, values[chosen], lows[chosen], highs[chosen], undecided[chosen])

    def unlimited(self) -> Iterator[int]:
        """The places of points that were measured and are to be judged, and for which there are no limits."""
        for begin in range(0, math.prod(self._shape), BLOCK):
            values, lows, highs, where = (x[begin : begin + BLOCK] for x in self._flat)
            is_meant = ~never(values) & ~never(where) & ((where != 0) | np.isnan(where))
            is_open = never(lows) | never(highs) | no_reference(lows) | no_reference(highs)
            yield from (begin + np.flatnonzero(is_meant & is_open)).tolist()

    def blocks(self) -> Iterator[Block]:
        """The points in their order."""
        for block in self._unguarded():
            guard = self._guard[block.places]
            yield block._replace(lows=block.lows + guard, highs=block.highs - guard)

    def guards_at(self, places: Array) -> Array:
        """The guards of some points."""
        return self._guard[places]

    def guard_at(self, place: int) -> float:
        """By how much the limits of a point stand inside."""
        return float(self._guard[place])

    def limits_vary(self) -> bool:
        """True if the points that can be judged have not all the same limits.

        Raises:
            SequenceError: limits that nothing can meet.
        """
        first: tuple[float, float] | None = None
        varies = False
        for block in self._unguarded():
            beyond = block.lows - block.highs
            if (beyond > 0).any():
                worst = int(np.nanargmax(beyond))
                raise wrong_way_round(float(block.lows[worst]), float(block.highs[worst]))
            guard = self._guard[block.places]
            if (block.lows + guard > block.highs - guard).any():
                raise too_wide_a_guard()
            good, _ = block.good(block.margins())
            if len(good):
                first = first or (float(block.lows[good[0]]), float(block.highs[good[0]]))
                varies |= bool((block.lows[good] != first[0]).any() or (block.highs[good] != first[1]).any())
        return varies

    def bounds_in(self, block: Block) -> Iterator[tuple[int, Bound]]:
        """The points of a block of which only a bound is known, and that can be judged by it."""
        if not self._bounds:
            return
        for i, place in enumerate(block.places.tolist()):
            known = place in self._bounds and not block.undecided[i]
            if known and block.lows[i] == block.lows[i] and block.highs[i] == block.highs[i]:
                yield i, self._bounds[place]

    def place(self, place: int) -> tuple[float | str, ...]:
        """The axis values of a point."""
        at = np.unravel_index(place, self._shape)
        return tuple(_item(axis[p]) for axis, p in zip(self._axes.values(), at, strict=True))

    def extent(self, places: Array) -> tuple[list[Measured], list[Measured]]:
        """The least and the greatest axis value of some points, by axis."""
        at = np.unravel_index(places, self._shape)
        met = [axis[p] for axis, p in zip(self._axes.values(), at, strict=True)]
        return [_item(axis.min()) for axis in met], [_item(axis.max()) for axis in met]


def _item(value: Measured) -> Measured:
    return value.item() if hasattr(value, "item") else value
