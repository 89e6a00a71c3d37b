"""Values of several parts: tables and pictures (connections: connections.py). A run and its records hold each as one
text (JSON) in a fixed form, so that equal values have equal texts; here such texts are made of what programs answer,
and taken apart again.

All `..._text` functions raise ValueError with what is wrong, to stand behind "PROGRAM gave NAME, ".
"""

from __future__ import annotations

import json
import math
from collections.abc import Callable
from decimal import Decimal
from typing import Any, NamedTuple

from ibexite import units
from ibexite.errors import UnitError
from ibexite.frozen import frozen
from ibexite.untyped import Fields

MOST_CELLS = 100_000
_MEDIA = {b"\x89PNG\r\n\x1a\n": "image/png", b"\xff\xd8\xff": "image/jpeg"}


@frozen
class TableColumn:
    """A column of a table: numbers in base units (NaN for a hole) with their unit and the one to show, or texts, or
    yes and no."""

    name: str
    unit: str
    shown: str
    cells: tuple[float | str | bool, ...]

    @property
    def head(self) -> str:
        """Its name with the unit that it is shown in."""
        return f"{self.name} in {self.shown}" if self.shown else self.name

    def said(self, row: int) -> str:
        """One of its cells for people, without unit."""
        cell = self.cells[row]
        if isinstance(cell, str):
            return cell
        if isinstance(cell, bool):
            return "yes" if cell else "no"
        if math.isnan(cell):
            return "-"
        return units.plain_number(units.parse_unit(self.shown).from_base(cell) if self.shown else cell, 6)


def table_text(answer: object) -> str:
    """The text of a table that is given as lists of cells by the heads of its columns, "delay in us" or "counter".

    >>> table_text({"counter": ["crc", "frame"], "delay in us": [3, None]})
    '[["counter","","",["crc","frame"]],["delay","s","us",[3e-06,null]]]'
    """
    if not isinstance(answer, dict) or not answer:
        raise ValueError('not a table: lists of cells by column, {"counter": ["crc"], "delay in us": [3]}')
    columns = [_given_column(head, cells) for head, cells in answer.items()]
    lengths = {len(cells) for *_, cells in columns}
    if len(lengths) > 1:
        raise ValueError(f"a table with columns of different lengths: {', '.join(map(str, sorted(lengths)))}")
    if sum(lengths) * len(columns) > MOST_CELLS:
        raise ValueError(f"a table of more than {MOST_CELLS:,} cells")
    names = [name for name, *_ in columns]
    if len(set(names)) < len(names):
        raise ValueError(f"a table with two columns of one name: {max(names, key=names.count)}")
    return fixed_text(columns)


def _given_column(head: str, cells: object) -> list[Any]:
    name, _, symbol = (part.strip() for part in head.partition(" in "))
    if not isinstance(cells, list) or not name:
        raise ValueError(f"a table whose column {head!r} is no list")
    try:
        unit = units.parse_unit(symbol) if symbol else units.NO_UNIT
    except UnitError as error:
        raise ValueError(f"a table whose column {head!r} has no known unit ({error.what})") from None
    if all(cell is None or (isinstance(cell, int | float) and not isinstance(cell, bool)) for cell in cells):
        return [name, units.base_symbol(unit.dimension), symbol, [_number(cell, unit, head) for cell in cells]]
    kinds = {type(cell) for cell in cells}
    if symbol or kinds not in ({str}, {bool}):
        raise ValueError(f"a table whose column {head!r} has cells of several kinds, or a unit for what is no number")
    return [name, "", "", cells]


def _number(cell: int | float | None, unit: units.Unit, head: str) -> float | None:
    """A cell in the base unit; None for a hole."""
    number = math.nan if cell is None else float(unit.to_base(Decimal(str(cell))))
    if math.isinf(number):
        raise ValueError(f"a table with a number in column {head!r} that is too large")
    return None if math.isnan(number) else number


def table_of(text: str) -> list[TableColumn]:
    """The columns of a table from its text."""
    return [
        TableColumn(name, unit, shown, tuple(math.nan if cell is None else cell for cell in cells))
        for name, unit, shown, cells in json.loads(text)
    ]


def table_has_holes(text: str) -> bool:
    """Whether a cell has no value."""
    return any(cell != cell for column in table_of(text) for cell in column.cells)


def media_of(data: bytes) -> str | None:
    """The kind of a picture, None for what is none."""
    return next((media for begin, media in _MEDIA.items() if data.startswith(begin)), None)


def picture_text(name: str, path: str, sha256: str, data: bytes) -> str:
    """The text of a picture: what it is called, where it is kept, and the hash, kind and size of its bytes."""
    media = media_of(data)
    if media is None:
        raise ValueError(f"{name!r:.60}, which is neither a PNG nor a JPEG file")
    return fixed_text({"name": name, "path": path, "sha256": sha256, "media": media, "size": len(data)})


def picture_of(text: str) -> Fields:
    """What the text of a picture says: name, path, sha256, media, size."""
    found: Fields = json.loads(text)
    return found


def fixed_text(value: object) -> str:
    """The text of a value in the only form that it has."""
    return json.dumps(value, separators=(",", ":"), ensure_ascii=False)


# --- in words --------------------------------------------------------------------------------------------------------


def table_said(text: str) -> str:
    """A table in a few words: how many rows of what."""
    columns = table_of(text)
    return f"{count_said(len(columns[0].cells), 'row')} of {', '.join(column.name for column in columns)}"


def picture_said(text: str) -> str:
    """A picture in a few words: its name and size."""
    picture = picture_of(text)
    return f"{picture['name']} ({picture['size']:,} bytes)"


def count_said(number: int, what: str) -> str:
    """So many of something.

    >>> count_said(2, "net")
    '2 nets'
    """
    return f"{number} {what}" if number == 1 else f"{number} {what}s"


def table_rows(text: str) -> tuple[list[str], list[list[str]]]:
    """The heads of a table and its rows, in words."""
    columns = table_of(text)
    rows = range(len(columns[0].cells))
    return [column.head for column in columns], [[column.said(row) for column in columns] for row in rows]


def table_unrounded(text: str) -> list[list[str]]:
    """A table for other programs: heads with base units, then numbers without loss, nothing for a hole."""
    columns = table_of(text)
    heads = [f"{column.name} [{column.unit}]" if column.unit else column.name for column in columns]
    return [heads, *([_plain(cell) for cell in row] for row in zip(*(c.cells for c in columns), strict=True))]


def _plain(cell: float | str | bool) -> str:
    if isinstance(cell, bool):
        return "yes" if cell else "no"
    return cell if isinstance(cell, str) else "" if math.isnan(cell) else repr(float(cell))


def table_differs(text: str, other: str) -> str:
    """Where a table differs first from another, in words; "" if it does not."""
    columns, wanted = table_of(text), table_of(other)
    if [column.head for column in columns] != [column.head for column in wanted]:
        return f"columns {', '.join(c.head for c in columns)} instead of {', '.join(c.head for c in wanted)}"
    if len(columns[0].cells) != len(wanted[0].cells):
        return f"{count_said(len(columns[0].cells), 'row')} instead of {len(wanted[0].cells)}"
    for row in range(len(columns[0].cells)):
        for column, its in zip(columns, wanted, strict=True):
            if repr(column.cells[row]) != repr(its.cells[row]):
                return f"row {row + 1}: {column.head} is {column.said(row)} instead of {its.said(row)}"
    return ""


# --- each as one form ------------------------------------------------------------------------------------------------


class Form(NamedTuple):
    """What can be done with values of a kind: their text from what a program answers (ValueError if that is no such
    thing); in a few words; all of it in words (heads, and rows) and for other programs; where one differs first from
    another; whether something in it is missing."""

    text: Callable[[object], str]
    said: Callable[[str], str]
    rows: Callable[[str], tuple[list[str], list[list[str]]]]
    unrounded: Callable[[str], list[list[str]]]
    differs: Callable[[str, str], str]
    has_holes: Callable[[str], bool]


TABLE = Form(table_text, table_said, table_rows, table_unrounded, table_differs, table_has_holes)
