"""Moves the limits of a check onto what it judges, within the bounds that it allows, and tells by how much; and says
where what is judged does not cover its mask."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite import units
from ibexite.analysis.alignment import Bound, Move, Values, best_move
from ibexite.analysis.curve import Array, ArrayCurve, Curve, joined_axes, never, spread
from ibexite.analysis.masks import limits_at, uncovered
from ibexite.language import nodes
from ibexite.language.program import Program
from ibexite.mask import Mask
from ibexite.untyped import Measured
from ibexite.verdicts import Reason


class Aligning(NamedTuple):
    """By how much the limits of a check may be moved; what they limit, and of a mask its axis, to tell it."""

    by: Bound | None
    along: Bound | None
    dimension: units.Dimension  # of a shift up or down
    shown: str | None
    axis: str = ""
    axis_dimension: units.Dimension = units.PLAIN  # of a shift along
    axis_shown: str | None = None

    def told(self, move: Move) -> str:
        """A move, in words."""
        parts = []
        if self.by is not None:
            parts.append(_moved(self.by, move.by, self.dimension, self.shown))
        if self.along is not None:
            parts.append(_moved(self.along, move.along, self.axis_dimension, self.axis_shown) + f" along {self.axis}")
        return "limits moved by " + " and ".join(parts)


def how_of(statement: nodes.Check, program: Program, mask: Mask | None) -> Aligning:
    """By how much the limits of a check line may be moved."""
    by = along = None
    for aligned in statement.aligned:
        bound = Bound(*program.bounds[aligned])
        by, along = (bound, along) if aligned.along is None else (by, bound)
    kind = program.types[statement.value]
    shift = units.difference(kind.dimension)
    shown = kind.shown if shift == kind.dimension else None
    if mask is None:
        return Aligning(by, along, shift, shown)
    return Aligning(by, along, shift, shown or (mask.shown if shift == mask.dimension else None), mask.axis,
                    units.difference(mask.axis_dimension), mask.axis_shown)  # fmt: skip


def _moved(bound: Bound, move: float, dimension: units.Dimension, shown: str | None) -> str:
    if bound.is_factor:
        size, most = f"{100 * (move - 1):+.4g} %", f"{100 * bound.most:.4g} %"
    else:
        unit = units.unit_for(move, bound.most, dimension=dimension, shown=shown)
        size, most = (f"{units.plain_number(unit.from_base(x), 4)} {unit.symbol}".rstrip() for x in (move, bound.most))
        size = size if move < 0 else f"+{size}"
    return f"{size} (of at most {most})"


class MovedLimits(NamedTuple):
    """Limits as they were moved, over all axes of what is judged; and how, by the place in the axes beside that of the
    mask (nothing but () without one)."""

    low: Curve
    high: Curve
    moves: dict[tuple[Measured, ...], Move]
    place: tuple[int, ...]  # which axes of a judged point are such a place

    def move_at(self, at: tuple[Measured, ...]) -> Move | None:
        """The move of the limits of a point, of which the axis values are given."""
        return self.moves.get(tuple(at[i] for i in self.place))


def moved_limits(
    value: Measured, low: Measured, high: Measured, where: Measured, guard: Measured, mask: Mask | None, how: Aligning
) -> MovedLimits | Reason:
    """The limits of a check, moved onto what it judges: those of a mask for each curve along its axis by itself, all
    others as a whole.

    Returns:
        The limits, or why it cannot be said how they are to be moved.
    """
    axes = joined_axes(value, low, high, where, guard)
    shape = tuple(map(len, axes.values()))
    names = list(axes)
    given = [_spread(x, axes, shape) for x in (value, low, high, where, guard)]
    outer = tuple(i for i, name in enumerate(names) if mask is not None and name != mask.axis)
    lows, highs = (np.array(given[i], dtype=float) for i in (1, 2))
    moves: dict[tuple[Measured, ...], Move] = {}
    for index in np.ndindex(*(shape[i] for i in outer)):
        here: list[int | slice] = [slice(None)] * len(shape)
        for i, place in zip(outer, index, strict=True):
            here[i] = place
        points = axes[mask.axis] if mask is not None else np.arange(math.prod(shape), dtype=float)
        move = _move_of([x[tuple(here)].ravel() for x in given], points, mask, how)
        if isinstance(move, Reason):
            return move
        if move is None:
            continue
        if mask is not None and how.along is not None:
            lows[tuple(here)], highs[tuple(here)] = limits_at(mask, points, how.along.undone(points, move.along))
        if how.by is not None:
            lows[tuple(here)] = how.by.applied(lows[tuple(here)], move.by)
            highs[tuple(here)] = how.by.applied(highs[tuple(here)], move.by)
        moves[tuple(_item(axes[names[i]][p]) for i, p in zip(outer, index, strict=True))] = move
    return MovedLimits(ArrayCurve(axes, lows), ArrayCurve(axes, highs), moves, outer)


def _move_of(given: list[Array], points: Array, mask: Mask | None, how: Aligning) -> Move | Reason | None:
    """The best move for one curve; None where nothing of it can be judged."""
    values, low, high, where, guard = given
    good = ~np.isnan(values) & ~np.isnan(low) & ~np.isnan(high) & (np.nan_to_num(where) != 0)
    if not good.any():
        return None
    has_low, has_high = np.isfinite(low[good]).any(), np.isfinite(high[good]).any()
    if how.by is not None and not (has_low and has_high):
        side = "upper" if has_low else "lower"
        return Reason("mask", f"nothing says how far to move the limits: no {side} one meets the data")
    mine = points[good]
    breaks = _breaks(mask) if mask is not None else np.empty(0)

    def limits(places: Array) -> tuple[Array, Array]:
        if mask is None or how.along is None:
            return low[good][None, :], high[good][None, :]
        return limits_at(mask, mine, places)

    return best_move(Values((values - guard)[good], (values + guard)[good]), mine, limits, breaks, how.by, how.along)


def _breaks(mask: Mask) -> Array:
    return np.unique([x for piece in mask.pieces for line in (piece.low, piece.high) for x, _ in line])


def _spread(x: Measured, axes: dict[str, Array], shape: tuple[int, ...]) -> Array:
    return np.broadcast_to(np.asarray(spread(x, axes), dtype=float), shape)


def _item(value: Measured) -> Measured:
    return value.item() if hasattr(value, "item") else value


def not_covered(mask: Mask, value: Measured) -> Reason | None:
    """Why what is judged does not cover its mask as it must, None where it does: each curve along its axis that was
    measured at all."""
    places = value.axes[mask.axis]
    rows = np.moveaxis(value.values, list(value.axes).index(mask.axis), -1).reshape(-1, len(places))
    for row in rows:
        measured = places[~never(row)]
        found = uncovered(mask, measured) if len(measured) else None
        if found is not None:
            problem, pieces = found
            called = f"piece {pieces[0].name!r} of " if len(pieces) == 1 and pieces[0].name else ""
            ends = (min(piece.begin for piece in pieces), max(piece.end for piece in pieces))
            told = (units.format_value(x, mask.axis_dimension, shown=mask.axis_shown, digits=6) for x in ends)
            text = f"the data {problem} {called}mask {mask.name!r}, {mask.axis} from {' to '.join(told)}"
            return Reason("mask", text)
    return None
