"""The curves that the turns of a loop gave, kept for the lines after it: there a name is all of them at once."""

from __future__ import annotations

from typing import TYPE_CHECKING

from ibexite.engine.tables import Axis
from ibexite.untyped import Measured

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve


class CurveRows:
    """One curve for each turn, over the axes of nested loops. Only made for names that are used after their loop."""

    def __init__(self, name: str, axes: tuple[Axis, ...], own: tuple[str, ...]) -> None:
        """Nothing yet. `own` are the axes of each curve."""
        self.name = name
        self._axes, self._own = axes, own
        self._rows: dict[tuple[int, ...], Curve | None] = {}

    def renew(self) -> None:
        """As if no turn had been made."""
        self._rows = {}

    def __call__(self, place: tuple[int, ...], value: Measured) -> None:
        """Keeps what a turn gave; a hole where its line was not carried out."""
        self._rows[place] = value if hasattr(value, "axes") else None

    def curve(self, place: tuple[int, ...] = ()) -> Curve:
        """All of them as one curve, or those at one place of the outer loops."""
        from ibexite.analysis.stacking import stacked

        depth = len(place)
        mine = {key[depth:]: curve for key, curve in self._rows.items() if key[:depth] == place}
        return stacked({axis.name: axis.values() for axis in self._axes[depth:]}, self._own, mine)
