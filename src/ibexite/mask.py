"""Masks: upper and lower lines through points along one axis, in pieces. What is computed with them is in
analysis/masks.py, how their files are read in companions/masks.py."""

from __future__ import annotations

from ibexite.frozen import frozen
from ibexite.units import Dimension

Line = tuple[tuple[float, float], ...]
"""Points (x, y) in base units, in the order of a rising x. An x that comes twice is a step, where the tighter value
holds."""


@frozen
class Piece:
    """A part of a mask. A line that is empty demands nothing; one may begin or end within the piece.

    `is_whole`: what is judged must have been measured from end to end of it."""

    name: str
    low: Line
    high: Line
    is_whole: bool = True

    @property
    def begin(self) -> float:
        """Where it begins, in base units of the axis."""
        return min(line[0][0] for line in (self.low, self.high) if line)

    @property
    def end(self) -> float:
        """Where it ends."""
        return max(line[-1][0] for line in (self.low, self.high) if line)


@frozen
class Mask:
    """A mask. Beside its pieces nothing is demanded; where several of them overlap the tightest line holds."""

    name: str
    path: str
    sha256: str
    axis: str
    axis_dimension: Dimension
    dimension: Dimension
    shown: str | None  # the unit in which its limits were written
    axis_shown: str | None  # and that of its axis
    is_log_axis: bool  # its lines are straight on a logarithmic axis
    is_log_value: bool  # and on a logarithmic scale of values
    pieces: tuple[Piece, ...]

    def has(self, side: str) -> bool:
        """Whether it has lines of a side, low or high."""
        return any(getattr(piece, side) for piece in self.pieces)
