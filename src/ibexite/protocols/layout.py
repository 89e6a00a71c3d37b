"""How an instrument answers what has several parts: a table row by row, connections entry by entry. A profile says what
a row looks like; with that replies are read, and stand-ins write them.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from ibexite import units
from ibexite.errors import UnitError
from ibexite.frozen import frozen
from ibexite.protocols.scpi import INFINITY
from ibexite.protocols.speech import NUMBER_FORMS, Speech

_PIECE = re.compile(r"\{(\w+)(?::([^{}]+))?\}|([^{}]+|[{}])")
NUMBER, YES_NO, TEXT = "number", "yes_no", "text"
Cell = float | bool | str | None  # None: the instrument has no value for it


class Gap(NamedTuple):
    """A part of a row that changes: its name, and what it is: text, yes_no, number, or the symbol of a unit."""

    name: str
    kind: str

    @property
    def is_number(self) -> bool:
        """Whether it is a number, of whatever unit."""
        return self.kind not in (TEXT, YES_NO)


class Row:
    """What a row looks like: text as it stands with gaps in it, {name} for a text, {name:number}, {name:mV} for a
    number in that unit, {name:yes_no}.

    >>> Row("{counter}, {delay:us}").read("crc, 12.5", Speech())
    {'counter': 'crc', 'delay': 12.5}
    """

    def __init__(self, text: str) -> None:
        """Raises ValueError: gaps of one name, of a kind that there is not, or with nothing between them."""
        self.text = text
        self._pieces = _PIECE.findall(text)
        self.gaps = tuple(Gap(name, kind or TEXT) for name, kind, _ in self._pieces if name)
        names = [gap.name for gap in self.gaps]
        if len(set(names)) < len(names):
            raise ValueError(f"{{{max(names, key=names.count)}}} stands in it twice")
        for gap in self.gaps:
            if gap.is_number and gap.kind != NUMBER:
                try:
                    units.parse_unit(gap.kind)
                except UnitError as error:
                    raise ValueError(f"{{{gap.name}:{gap.kind}}}: {error.what}") from None
        for (first, _, _), (second, _, _) in zip(self._pieces, self._pieces[1:], strict=False):
            if first and second:
                raise ValueError(f"there is nothing between {{{first}}} and {{{second}}}")
        behind = [text for _, _, text in self._pieces[1:]] + [""]
        pattern = "".join(
            _up_to(following) if name else re.escape(text)
            for (name, _, text), following in zip(self._pieces, behind, strict=True)
        )
        self._pattern = re.compile(pattern, re.IGNORECASE | re.DOTALL)

    def read(self, text: str, speech: Speech) -> dict[str, Cell] | None:
        """The parts of a row by their names, numbers in their units; None: it does not look so."""
        found = self._pattern.fullmatch(text)
        if found is None:
            return None
        try:
            return {
                gap.name: _read(gap, part.strip(), speech) for gap, part in zip(self.gaps, found.groups(), strict=True)
            }
        except ValueError:
            return None

    def written(self, cells: Mapping[str, Cell], speech: Speech) -> str:
        """A row of these parts."""
        kinds = {gap.name: gap for gap in self.gaps}
        return "".join(
            _written(kinds[name], cells.get(name), speech) if name else text for name, _, text in self._pieces
        )


def _up_to(following: str) -> str:
    """A group for a gap: unless it is in quotes it does not hold what stands behind it, so that a row with a part more
    is another row."""
    return rf'("[^"]*"|(?:(?!{re.escape(following)}).)*)' if following else "(.*)"


def _read(gap: Gap, text: str, speech: Speech) -> Cell:
    if gap.kind == TEXT:
        return text[1:-1] if len(text) > 1 and text[0] == text[-1] == '"' else text
    if gap.kind == YES_NO:
        return speech.switched(text)
    if text.upper() in {word.upper() for word in (*speech.overload, *speech.invalid)}:
        return None
    number = NUMBER_FORMS[speech.number].read(text)
    return None if abs(number) >= 0.999 * INFINITY else number * speech.factor + speech.offset


def _written(gap: Gap, cell: Cell, speech: Speech) -> str:
    if not gap.is_number:
        return speech.switch_written(bool(cell)) if gap.kind == YES_NO else str(cell if cell is not None else "")
    if cell is None or isinstance(cell, str):
        return speech.invalid[0] if speech.invalid else "9.91E37"
    return speech.written(float(cell))


@frozen
class Layout:
    """How all of it is answered: whether in a definite length block, what stands between two rows, and what the rows of
    each kind look like."""

    is_block: bool
    between: str
    rows: Mapping[str, Row]

    def read(self, text: str, speech: Speech) -> list[tuple[str, dict[str, Cell]]]:
        """The rows of a reply, with their kinds. Raises ValueError: one looks as none of them, or as two."""
        found: list[tuple[str, dict[str, Cell]]] = []
        for part in text.split(self.between):
            if not part.strip():
                continue  # what ends the last row stands behind it too
            meant = {
                kind: cells for kind, row in self.rows.items() if (cells := row.read(part.strip(), speech)) is not None
            }
            if len(meant) != 1:
                known = " or ".join(repr(self.rows[kind].text) for kind in meant or self.rows)
                raise ValueError(f"{part.strip()[:60]!r} {'may be' if meant else 'is not as'} {known}")
            found += meant.items()
        return found

    def written(self, rows: Sequence[tuple[str, Mapping[str, Cell]]], speech: Speech) -> str:
        """A reply of these rows; what the instrument has no row for is left out."""
        return self.between.join(self.rows[kind].written(cells, speech) for kind, cells in rows if kind in self.rows)
