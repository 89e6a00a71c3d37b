"""Reads how a reading of several parts is answered: a table, connections, a picture."""

from __future__ import annotations

from typing import Any

from ibexite.classes import Feature
from ibexite.connections import ENTRIES, KINDS, NETS, joined
from ibexite.protocols.layout import TEXT, YES_NO, Cell, Layout, Row
from ibexite.toml_reader import TomlTable
from ibexite.units import parse_unit
from ibexite.values import Connections, Picture, Table, Type

TABLE_ROW, ALONE = "row", "alone"
FIRST, SECOND, VALUE = "first", "second", "value"
_ENTRY = 'Write, for example: connection = "{first},{second},{value:ohm}"'


def layout_of(table: TomlTable, feature: Feature) -> Layout | None:
    """What a profile says of a reading of several parts; None for all others."""
    kind = feature.type
    wanted = _wanted(kind)
    for key in ("rows", TABLE_ROW, ALONE, *ENTRIES):
        if key in table and key not in wanted:
            table.note(key, "is for tables" if key == TABLE_ROW else "is for connections" if key != "rows" else
                       "is for tables and connections", f"{feature.name} is {kind}.")  # fmt: skip
    if not isinstance(kind, Table | Connections | Picture):
        return None
    form = table.text("form", "block" if isinstance(kind, Picture) else "list")
    if form not in ("list", "block") or (isinstance(kind, Picture) and form != "block"):
        table.note("form", f"there is no form {form!r} of {kind}", "Write block (IEEE 488.2), or list.")
    between = (
        table.text("rows", "\n" if form == "block" or "lines" in table or "last_line" in table else ";")
        if "rows" in wanted
        else "\n"
    )
    rows = {key: row for key in wanted if key != "rows" and key in table if (row := _row(table, key)) is not None}
    if isinstance(kind, Table) and TABLE_ROW not in table:
        table.note(TABLE_ROW, "is missing", 'Say what a row looks like: row = "{counter},{delay:us}"')
    if isinstance(kind, Connections):
        _check_entries(table, rows)
    return Layout(form == "block", between, rows)


def _wanted(kind: Type) -> tuple[str, ...]:
    if isinstance(kind, Table):
        return ("rows", TABLE_ROW)
    return ("rows", *ENTRIES, ALONE) if isinstance(kind, Connections) else ()


def _row(table: TomlTable, key: str) -> Row | None:
    try:
        row = Row(table.text(key))
    except ValueError as error:
        table.note(key, str(error), "Gaps are {name} for a text, {name:number}, {name:mV}, {name:yes_no}.")
        return None
    if not row.gaps:
        table.note(key, "has no gap", 'Write, for example: row = "{counter},{delay:us}"')
    return row


def _check_entries(table: TomlTable, rows: dict[str, Row]) -> None:
    """Two pins, and a number of the right unit where there is one."""
    if not rows:
        table.note("connection", "is missing", _ENTRY)
    for key, row in rows.items():
        gaps = {gap.name: gap for gap in row.gaps}
        needed = {FIRST} if key == ALONE else {FIRST, SECOND}
        if not needed <= gaps.keys() <= needed | ({VALUE} if key != ALONE else set()):
            table.note(key, f"names {', '.join(gaps)}", "An entry has {first}, {second} and {value:…}; alone {first}.")
            continue
        if any(gaps[name].kind != TEXT for name in needed):
            table.note(key, "has a pin that is no text", _ENTRY)
        if VALUE in gaps:
            symbol, unit = gaps[VALUE].kind, parse_unit(KINDS[ENTRIES[key]].unit)
            if symbol in (TEXT, YES_NO, "number") or parse_unit(symbol).dimension != unit.dimension:
                table.note(key, f"has a value in {symbol!r}", f"Write {{value:{unit.symbol}}}, or m{unit.symbol}.")


def table_answer(layout: Layout, rows: list[dict[str, Cell]]) -> dict[str, list[Cell]]:
    """The cells of a table by the heads of its columns, from its rows."""
    gaps = layout.rows[TABLE_ROW].gaps
    heads = {
        gap.name: gap.name if not gap.is_number or gap.kind == "number" else f"{gap.name} in {gap.kind}" for gap in gaps
    }
    return {head: [row[name] for row in rows] for name, head in heads.items()}


def connections_answer(layout: Layout, entries: list[tuple[str, dict[str, Cell]]]) -> dict[str, list[Any]]:
    """Connections as programs give them, from their entries."""
    found: dict[str, list[Any]] = {}
    alone = [[cells[FIRST]] for key, cells in entries if key == ALONE]
    for key, cells in entries:
        if key == ALONE:
            continue
        value = cells.get(VALUE)
        if value is not None:
            symbol = next(gap.kind for gap in layout.rows[key].gaps if gap.name == VALUE)
            value = float(value) * float(parse_unit(symbol).factor)
        found.setdefault(ENTRIES[key], []).append([cells[FIRST], cells[SECOND], value])
    if alone:
        nets = joined((first, second) for first, second, _ in found.get("resistance", []))
        found[NETS] = [*map(sorted, nets), *alone]
    return found
