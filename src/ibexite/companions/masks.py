"""Reads masks: tables with a row for each point of a line.

    piece, log freq [kHz], low [dB], high [dB], data
    rise,  38,             -9,       1,         whole
    rise,  40.2,           -1,       1,
    skirt, 44,             ,         -3,        part
    skirt, 60,             ,         -14,

`piece` (may be left out where there is one) keeps lines apart that do not go on into each other. Each line goes through
its own points: an empty cell is no point of it. Two rows of one place are a step. With `log` before a heading lines are
straight on a logarithmic scale of it. `data` says whether what is judged must have been measured from end to end of the
piece (`whole`, which is meant where nothing is said) or may lie in a `part` of it.
"""

from __future__ import annotations

import math
from pathlib import Path
from typing import NamedTuple

from ibexite import units
from ibexite.column_file import heading_of
from ibexite.companions.sheet import Row, Sheet, decimal_text, read_sheet
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.holes import is_equal
from ibexite.mask import Line, Mask, Piece
from ibexite.units import Unit

PIECE, DATA, REMARK, LOW, HIGH = "piece", "data", "remark", "low", "high"
WHOLE, PART = "whole", "part"
_EXAMPLE = "Write, for example: log freq [kHz],low [dB],high [dB]"
_LOG = "log "


class _Column(NamedTuple):
    """A column of numbers: its heading as it stands, its name, its unit, and whether its scale is logarithmic."""

    heading: str
    name: str
    unit: Unit
    is_log: bool


def read_mask(path: Path, name: str) -> Mask:
    """Reads a mask (CSV or workbook).

    Raises:
        MistakeError: it is none; lines that cross, an axis that does not rise, units that do not belong together, a
            piece that demands nothing; with the row.
    """
    sheet = read_sheet(path, what="mask")
    axis, limits = _columns(sheet)
    pieces = tuple(_piece(sheet, rows, axis, limits) for rows in _rows_of_pieces(sheet))
    one = next(iter(limits.values()))
    mask = Mask(
        name, sheet.path, sheet.sha256, axis.name, axis.unit.dimension,
        one.unit.dimension, one.unit.symbol or None, axis.unit.symbol or None, axis.is_log, one.is_log, pieces,
    )  # fmt: skip
    _refuse_crossing(mask)
    return mask


def _columns(sheet: Sheet) -> tuple[_Column, dict[str, _Column]]:
    numbers = [_column(h, sheet) for h in sheet.columns if h not in (PIECE, DATA, REMARK)]
    limits = {column.name: column for column in numbers if column.name in (LOW, HIGH)}
    axes = [column for column in numbers if column.name not in limits]
    if not limits or not axes:
        what = "an axis" if limits else "a line, low or high"
        raise MistakeError(f"there is no column of {what}", where=sheet.path, remedy=_EXAMPLE)
    if len(axes) > 1:
        names = (PIECE, DATA, REMARK, LOW, HIGH)
        raise MistakeError(
            f"two columns might be the axis: {axes[0].name}, {axes[1].name}", where=sheet.path,
            remedy=did_you_mean(axes[1].name, names) or did_you_mean(axes[0].name, names) or _EXAMPLE,
        )  # fmt: skip
    both = list(limits.values())
    for one in both[1:]:
        if one.unit.dimension != both[0].unit.dimension:
            raise MistakeError(
                f"{one.heading!r} is {units.describe(one.unit.dimension)}, {both[0].heading!r} is "
                f"{units.describe(both[0].unit.dimension)}", where=sheet.path, remedy="Both lines limit one value.",
            )  # fmt: skip
        if one.is_log != both[0].is_log:
            raise MistakeError(
                "one line is straight on a logarithmic scale and the other is not", where=sheet.path,
                remedy=f"Write {_LOG.strip()!r} before both headings or before none.",
            )  # fmt: skip
    for one in numbers:
        if one.is_log and one.unit.dimension.kind != "linear":
            raise MistakeError(
                f"{one.heading!r}: a logarithmic scale of {units.describe(one.unit.dimension)}", where=sheet.path,
                remedy=f"Leave {_LOG.strip()!r} out.",
            )  # fmt: skip
    return axes[0], limits


def _column(heading: str, sheet: Sheet) -> _Column:
    is_log = heading.startswith(_LOG)
    name, unit = heading_of(heading.removeprefix(_LOG), sheet.path, _EXAMPLE)
    return _Column(heading, name, unit, is_log)


def _rows_of_pieces(sheet: Sheet) -> list[list[Row]]:
    """The rows of each piece, which stand together."""
    found: dict[str, list[Row]] = {}
    last = None
    for row in sheet.rows:
        name = row.cells.get(PIECE, "")
        if name != last and name in found:
            raise MistakeError(
                f"the piece {name!r} begins a second time", where=f"{sheet.path}: row {row.number}",
                remedy="Its rows stand together; call another piece otherwise.",
            )  # fmt: skip
        found.setdefault(name, []).append(row)
        last = name
    if not found:
        raise MistakeError("there are no points", where=sheet.path, remedy="Write a row for each below the headings.")
    return list(found.values())


def _piece(sheet: Sheet, rows: list[Row], axis: _Column, limits: dict[str, _Column]) -> Piece:
    name = rows[0].cells.get(PIECE, "")
    called = f"the piece {name!r}" if name else "the mask"
    points: dict[str, list[tuple[float, float]]] = {LOW: [], HIGH: []}
    last = -math.inf
    for row in rows:
        x = _number(sheet, row, axis)
        if x is None:
            raise MistakeError(
                f"a point without {axis.name}", where=f"{sheet.path}: row {row.number}", remedy="Fill the cell in."
            )
        if x < last:
            raise MistakeError(
                f"{axis.name} does not rise", where=f"{sheet.path}: row {row.number}",
                remedy="Sort the rows of a piece; what does not go on into each other are pieces of their own.",
            )  # fmt: skip
        given = {side: y for side, column in limits.items() if (y := _number(sheet, row, column)) is not None}
        if not given:
            raise MistakeError(
                "a point of no line", where=f"{sheet.path}: row {row.number}", remedy="Give low, high or both."
            )
        for side, y in given.items():
            line = points[side]
            if len(line) > 1 and line[-1][0] == line[-2][0] == x:
                raise MistakeError(
                    f"a third point of {side} at one place", where=f"{sheet.path}: row {row.number}",
                    remedy="Two make a step.",
                )  # fmt: skip
            line.append((x, y))
        last = x
    for side, line in points.items():
        if line and line[0][0] == line[-1][0]:
            raise MistakeError(
                f"{called} has a single point of {side}", where=f"{sheet.path}: row {rows[0].number}",
                remedy="A line goes through two points or more, at different places.",
            )  # fmt: skip
    return Piece(name, tuple(points[LOW]), tuple(points[HIGH]), _is_whole(sheet, rows))


def _is_whole(sheet: Sheet, rows: list[Row]) -> bool:
    said = {cell: row for row in rows if (cell := row.cells.get(DATA, ""))}
    for cell, row in said.items():
        if cell not in (WHOLE, PART) or len(said) > 1:
            what = f"{DATA} is {cell!r}" if cell not in (WHOLE, PART) else f"{DATA} is {WHOLE} and {PART} in one piece"
            raise MistakeError(
                what, where=f"{sheet.path}: row {row.number}",
                remedy=f"Write {WHOLE} (all of the piece must have been measured) or {PART}, once for a piece.",
            )  # fmt: skip
    return PART not in said


def _number(sheet: Sheet, row: Row, column: _Column) -> float | None:
    text = row.cells[column.heading]
    if not text:
        return None
    where = f"{sheet.path}: row {row.number}, {column.name}"
    try:
        number = units.parse_quantity(decimal_text(text, where))
    except UnitError as error:
        raise MistakeError(f"{text!r}: {error.what}", where=where, remedy=error.remedy) from None
    if number.unit.symbol:
        raise MistakeError(f"{text!r} has a unit of its own", where=where, remedy="Units stand in the headings.")
    value = float(column.unit.to_base(number.value))
    if column.is_log and value <= 0:
        raise MistakeError(f"{text!r} on a logarithmic scale", where=where, remedy="All its values are above zero.")
    return value


def _refuse_crossing(mask: Mask) -> None:
    """Lines are straight between all their points together, so that it is enough to look there, from both sides."""
    lows, highs = ([line for p in mask.pieces if (line := getattr(p, side))] for side in (LOW, HIGH))
    for low in lows:
        for high in highs:
            for x in sorted({x for x, _ in (*low, *high)}):
                for side in (-1, 1):
                    a, b = value_beside(low, x, side, mask), value_beside(high, x, side, mask)
                    if a is not None and b is not None and a > b and not is_equal(a, b):
                        place = units.format_value(x, mask.axis_dimension, shown=mask.axis_shown)
                        raise MistakeError(
                            f"the lower line is above the upper one at {mask.axis} = {place}", where=mask.path,
                            remedy="Nothing could pass there.",
                        )  # fmt: skip


def value_beside(line: Line, x: float, side: int, mask: Mask) -> float | None:
    """The value of a line next to a place, on the side of smaller (-1) or larger x (1); None where it has none there.

    >>> plain = Mask("m", "", "", "x", units.HERTZ, units.VOLT, None, None, False, False, ())
    >>> step = ((0.0, 0.0), (2.0, 4.0), (2.0, 1.0), (3.0, 1.0))
    >>> value_beside(step, 1.0, 1, plain), value_beside(step, 2.0, -1, plain), value_beside(step, 2.0, 1, plain)
    (2.0, 4.0, 1.0)
    >>> value_beside(step, 3.0, 1, plain) is None
    True
    """
    for (x1, y1), (x2, y2) in zip(line, line[1:], strict=False):
        if x1 == x2 or not (x1 <= x < x2 if side > 0 else x1 < x <= x2):
            continue
        if x in (x1, x2):
            return y1 if x == x1 else y2
        share = math.log(x / x1) / math.log(x2 / x1) if mask.is_log_axis else (x - x1) / (x2 - x1)
        return y1 * (y2 / y1) ** share if mask.is_log_value else y1 + (y2 - y1) * share
    return None
