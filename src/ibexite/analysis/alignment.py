"""How a mask, or any two limits, are best moved onto a curve within a bound: so that the shape is judged apart from the
level, or from a place on the axis.

What is best: that the point with the least margin has the largest one. Of moves that are equally good the smallest.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.holes import EQUAL

MOST_MOVES = 2_000  # moves along the axis that are looked at before the best are refined
REFINED, HALVINGS = 16, 45
BLOCK = 1_000_000  # numbers at once


class Bound(NamedTuple):
    """By how much limits may be moved: up or down by a shift (base units, or dB), or by a factor between 1 - most and
    1 + most."""

    most: float
    is_factor: bool

    @property
    def unmoved(self) -> float:
        """The move that changes nothing."""
        return 1.0 if self.is_factor else 0.0

    def ends(self) -> tuple[float, float]:
        """The least and the greatest move."""
        return self.unmoved - self.most, self.unmoved + self.most

    def applied(self, values: Array, move: float | Array) -> Array:
        """Limits, or places on an axis, as they are moved."""
        moved: Array = values * move if self.is_factor else values + move
        return moved

    def undone(self, values: Array, move: float | Array) -> Array:
        """What lies at a place after the move, before it."""
        unmoved: Array = values / move if self.is_factor else values - move
        return unmoved


def best_shift(below: Array, above: Array, most: float) -> Array:
    """The shift of both limits that leaves the largest least margin.

    Args:
        below: least distance of the values from their lower limits, any shape.
        above: that from their upper limits, same shape.
        most: bound of the shift, >= 0.

    Returns:
        The shift s of the limits, same shape: (below - above) / 2 within the bound. The margins are then below - s and
        above + s.

    >>> float(best_shift(np.array(1.0), np.array(3.0), 5.0)), float(best_shift(np.array(9.0), np.array(1.0), 3.0))
    (-1.0, 3.0)
    """
    found: Array = np.clip((below - above) / 2, -most, most)
    return found


class Values(NamedTuple):
    """What is judged, each shape (n,): the values less and plus their guard."""

    least: Array
    most: Array

    def margins(self, lows: Array, highs: Array) -> Array:
        """The least margin in each row of limits of shape (m, n)."""
        found: Array = np.minimum((self.least - lows).min(axis=-1), (highs - self.most).min(axis=-1))
        return found


def best_factor(values: Values, lows: Array, highs: Array, most: float) -> Array:
    """The factor of both limits, within 1 - most and 1 + most, that leaves the largest least margin.

    Each margin is a straight line over the factor: the least of those that rise and the least of those that fall cross
    where the largest least margin is.

    Args:
        lows, highs: shape (m, n), infinite where there is no limit.

    Returns:
        The factor for each row, shape (m,).

    >>> both = Values(np.array([1.1, 2.0]), np.array([1.1, 2.0]))
    >>> best_factor(both, np.array([[0.9, 1.8]]), np.array([[1.1, 2.2]]), 0.1).round(6)   # (2.0 + 1.1) / (1.1 + 1.8)
    array([1.068966])
    """
    slopes = np.concatenate([-lows, highs], axis=1)
    offsets = np.concatenate([values.least, -values.most])
    is_there = np.isfinite(slopes)
    rising, falling = (np.where(is_there & which, offsets, math.inf) for which in (slopes > 0, slopes < 0))
    slopes = np.where(is_there, slopes, 0.0)
    begin, end = np.full(len(slopes), 1 - most), np.full(len(slopes), 1 + most)
    for _ in range(HALVINGS):
        middle = (begin + end) / 2
        at = slopes * middle[:, None]
        is_below = (rising + at).min(axis=1) < (falling + at).min(axis=1)
        begin, end = np.where(is_below, middle, begin), np.where(is_below, end, middle)
    found: Array = (begin + end) / 2
    return found


class Move(NamedTuple):
    """How limits were moved: up or down by a shift or a factor, and so along the axis."""

    by: float = 0.0
    along: float = 0.0


LimitsAt = Callable[[Array], tuple[Array, Array]]
"""The lower and upper limits of all values where these lie at given places, of shape (m, n), on the unmoved axis;
infinite where there is none of a side."""


def best_move(
    values: Values, places: Array, limits_at: LimitsAt, breaks: Array, by: Bound | None, along: Bound | None
) -> Move:
    """The best move of limits onto a curve.

    Args:
        places: of the values on the axis, shape (n,).
        breaks: places on the unmoved axis where the limits have a corner or a step, shape (k,).
        by, along: the bounds; None where limits may not be moved so.
    """
    if along is None:
        lows, highs = limits_at(places[None, :])
        return Move(_best_level(values, lows[0], highs[0], by), 0.0)

    def at(moves: Array) -> Array:
        """The least margin for each move along the axis, with the best level there."""
        found = []
        step = max(1, BLOCK // max(1, len(places)))
        for begin in range(0, len(moves), step):
            lows, highs = limits_at(along.undone(places[None, :], moves[begin : begin + step, None]))
            found.append(_margins_at_best_level(values, lows, highs, by))
        return np.concatenate(found)

    move = _best_along(at, _moves_to_look_at(places, breaks, along), along)
    lows, highs = limits_at(along.undone(places[None, :], move))
    return Move(_best_level(values, lows[0], highs[0], by), move)


def _moves_to_look_at(places: Array, breaks: Array, along: Bound) -> Array:
    """The moves at which a value comes to lie on a corner, or evenly spaced ones where those are too many; with both
    ends and none. Between them the limits of all values have neither corner nor step."""
    begin, end = along.ends()
    with np.errstate(all="ignore"):
        corners = (places[:, None] / breaks if along.is_factor else places[:, None] - breaks).ravel()
    corners = corners[(corners > begin) & (corners < end)]
    if len(corners) > MOST_MOVES:
        corners = np.linspace(begin, end, MOST_MOVES)
    found: Array = np.unique(np.concatenate([corners, [begin, along.unmoved, end]]))
    return found


def _best_along(at: Callable[[Array], Array], moves: Array, along: Bound) -> float:
    middles = (moves[1:] + moves[:-1]) / 2
    of_moves, of_middles = at(moves), at(middles)
    best_of_each = np.maximum(of_middles, np.maximum(of_moves[1:], of_moves[:-1]))
    promising = np.argsort(-best_of_each, kind="stable")[:REFINED]
    begins, ends = moves[promising], moves[promising + 1]
    share = (math.sqrt(5) - 1) / 2  # golden section: Kiefer, Proc. Amer. Math. Soc. 4 (1953), 502
    for _ in range(HALVINGS):
        inner, outer = ends - share * (ends - begins), begins + share * (ends - begins)
        is_inner = at(inner) >= at(outer)
        begins, ends = np.where(is_inner, begins, inner), np.where(is_inner, outer, ends)
    found = np.concatenate([moves, middles, (begins + ends) / 2])
    margins = at(found)
    best = margins.max()
    good = found[margins >= best - EQUAL * max(1.0, abs(best))]
    return float(good[np.abs(good - along.unmoved).argmin()])


def _margins_at_best_level(values: Values, lows: Array, highs: Array, by: Bound | None) -> Array:
    """The least margin in each row of limits of shape (m, n), with the best level there."""
    if by is None:
        return values.margins(lows, highs)
    if by.is_factor:
        factors = best_factor(values, lows, highs, by.most)
        return values.margins(lows * factors[:, None], highs * factors[:, None])
    below, above = (values.least - lows).min(axis=1), (highs - values.most).min(axis=1)
    shift = best_shift(below, above, by.most)
    found: Array = np.minimum(below - shift, above + shift)
    return found


def _best_level(values: Values, lows: Array, highs: Array, by: Bound | None) -> float:
    """The best move up or down of limits of shape (n,)."""
    if by is None:
        return 0.0
    if by.is_factor:
        return float(best_factor(values, lows[None, :], highs[None, :], by.most)[0])
    return float(best_shift((values.least - lows).min(), (highs - values.most).min(), by.most))
