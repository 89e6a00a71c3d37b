"""CSV files of columns with units in their headings, "freq [Hz]" or "loss in dB": corrections, tables of sensors."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

from ibexite import units
from ibexite.errors import MistakeError, UnitError
from ibexite.frozen import frozen
from ibexite.plain_file import read_plain
from ibexite.units import Dimension, Unit

MOST_BYTES = 10_000_000
_HEADING = re.compile(r"\s*(\w+)\s*(?:[\[(]\s*(.*?)\s*[\])]|\s+in\s+(\S+))?\s*")


@frozen
class NumberColumn:
    """A column: its name, what it measures, its values in base units."""

    name: str
    dimension: Dimension
    values: tuple[float, ...]


def read_columns(path: Path, *, what: str) -> list[NumberColumn]:
    """The columns of a CSV file.

    Args:
        what: what kind of file was expected, for the messages.

    Raises:
        MistakeError: it cannot be read, a heading has no known unit, a cell is no number; with the line.
    """
    name = str(path)
    data = read_plain(path, what=what, most=MOST_BYTES)
    try:
        text = data.decode("utf-8-sig")
    except UnicodeDecodeError:
        raise MistakeError("this is not UTF-8 text", where=name, remedy=f"A {what} is a CSV file in UTF-8.") from None
    rows = [(n, row) for n, row in enumerate(csv.reader(io.StringIO(text)), 1) if _has_content(row)]
    if len(rows) < 2:
        raise MistakeError("there are no values", where=name, remedy="Write a heading with units, and a row for each.")
    headings = [heading_of(cell, f"{name}:{rows[0][0]}") for cell in rows[0][1]]
    columns: list[list[float]] = [[] for _ in headings]
    for line, row in rows[1:]:
        if len(row) != len(headings):
            raise MistakeError(f"{len(row)} cells under {len(headings)} headings", where=f"{name}:{line}")
        for (_, unit), cell, column in zip(headings, row, columns, strict=True):
            column.append(_number(cell, unit, f"{name}:{line}"))
    return [
        NumberColumn(name, unit.dimension, tuple(column))
        for (name, unit), column in zip(headings, columns, strict=True)
    ]


def _has_content(row: list[str]) -> bool:
    return any(cell.strip() for cell in row) and not row[0].lstrip().startswith("#")


def heading_of(cell: str, where: str, remedy: str = "Write, for example: freq [Hz],loss [dB]") -> tuple[str, Unit]:
    """The name and the unit of a heading. Raises MistakeError: it is none."""
    found = _HEADING.fullmatch(cell)
    if found is None:
        raise MistakeError(f"{cell!r} is no heading", where=where, remedy=remedy)
    symbol = found[2] or found[3] or ""
    try:
        return found[1], units.parse_unit(symbol) if symbol else units.NO_UNIT
    except UnitError as error:
        raise MistakeError(f"{cell!r}: {error.what}", where=where, remedy=error.remedy) from None


def _number(cell: str, unit: Unit, where: str) -> float:
    try:
        number = units.parse_quantity(cell.strip())
    except UnitError as error:
        raise MistakeError(f"{cell!r}: {error.what}", where=where, remedy=error.remedy) from None
    if number.unit.symbol:
        raise MistakeError(f"{cell!r} has a unit of its own", where=where, remedy="Units stand in the headings.")
    return float(unit.to_base(number.value))
