"""Gaps in texts, filled in for machines and for people."""

from __future__ import annotations

from ibexite import units
from ibexite.engine.frame_base import FrameBase
from ibexite.errors import SequenceError
from ibexite.language import fill
from ibexite.untyped import Measured
from ibexite.values import TEXT, Type, Words, YesNo


class Gaps(FrameBase):
    """Fills gaps with values of a block."""

    def gap_names(self, text: str) -> list[str]:
        """The names in the gaps of a text."""
        return [gap.name for gap in fill.gaps(text)]

    def bare(self, gap: fill.Gap, value: Measured) -> str:
        """A value for a machine: the bare number in the unit of the gap."""
        if isinstance(value, bool | str):
            return value if isinstance(value, str) else ("1" if value else "0")
        if value != value:
            raise SequenceError(f"{gap.name} has no value to be filled in", remedy="Its reading is bad.")
        number = units.parse_unit(gap.unit).from_base(value) if gap.unit else value
        return f"{number:.15g}"

    def written(self, gap: fill.Gap, value: Measured) -> str:
        """A value for people."""
        kind = self._type_of_gap(gap)
        if isinstance(kind, Words | YesNo):
            return "unknown" if value != value else kind.said(value)
        if gap.unit:
            return units.plain_number(units.parse_unit(gap.unit).from_base(value), 9)
        return units.format_value(value, kind.dimension, shown=kind.shown)

    def _type_of_gap(self, gap: fill.Gap) -> Type:
        if gap.name in self.names:
            return self.names[gap.name].type
        if gap.name in self.scope.types:
            return self.scope.types[gap.name]
        owner, _, part = gap.name.partition(".")
        return self.program.names[owner][part].type if part else TEXT

    def filled(self, text: str, values: tuple[Measured, ...]) -> str:
        """A text for people with its gaps filled in."""
        return fill.fill(text, [self.written(g, v) for g, v in zip(fill.gaps(text), values, strict=True)])
