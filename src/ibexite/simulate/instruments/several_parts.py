"""What a stand-in answers that has several parts: a table, connections, a picture, as its profile has it."""

from __future__ import annotations

import json
import math
from collections.abc import Sequence
from typing import Any

from ibexite import units
from ibexite.compound import table_of, table_text
from ibexite.connections import ENTRIES, KINDS, NETS, connections_text, joined, wiring_of
from ibexite.protocols.framing import definite_block
from ibexite.protocols.layout import Cell, Layout
from ibexite.protocols.speech import Speech
from ibexite.simulate.screen import screen

Rows = list[tuple[str, dict[str, Cell]]]
ENTRY_OF = {kind: entry for entry, kind in ENTRIES.items()}
UNKNOWN_WIRES = {NETS: [["1", "2"], ["3"]], "resistance": [["1", "2", 0.1]]}  # of a tester that is wired to nothing


def reply_of(kind: str, layout: Layout, speech: Speech, answer: object, *, threshold: float = 0.0) -> str:
    """The reply that tells something of several parts.

    Args:
        answer: it as programs give it; None where nobody knows, then it is made up.
        threshold: ohm; a resistance above it is no connection to a tester. 0: every one is.
    """
    if kind == "picture":
        return definite_block(screen()).decode("latin-1")
    rows = _table(layout, answer) if kind == "table" else _connections(layout, answer, threshold)
    text = layout.written(rows, speech)
    return definite_block(text.encode("latin-1", "replace")).decode("latin-1") if layout.is_block else text


def prepared(text: str) -> object:
    """What was prepared, from JSON; the text itself if it is none."""
    try:
        return json.loads(text)
    except ValueError:
        return text


def _table(layout: Layout, answer: object) -> Rows:
    """The rows of a table; a column that it lacks is empty."""
    (row,) = layout.rows.values()
    if answer is None:
        return [
            (
                "row",
                {gap.name: 0.0 if gap.is_number else False if gap.kind == "yes_no" else gap.name for gap in row.gaps},
            )
        ]
    columns = {column.name: column.cells for column in table_of(table_text(answer))}
    count = max(map(len, columns.values()), default=0)
    return [
        ("row", {gap.name: _in_unit(gap.kind, columns.get(gap.name, ()), i) for gap in row.gaps}) for i in range(count)
    ]


def _in_unit(kind: str, cells: Sequence[Any], i: int) -> Cell:
    if i >= len(cells):
        return None
    cell: Cell = cells[i]
    if not isinstance(cell, float) or isinstance(cell, bool):
        return cell
    if cell != cell:
        return None
    return cell if kind == "number" else units.parse_unit(kind).from_base(cell)


def _connections(layout: Layout, answer: object, threshold: float) -> Rows:
    wiring = wiring_of(connections_text(UNKNOWN_WIRES if answer is None else answer))
    pairs: dict[str, list[tuple[str, str, float]]] = {kind: list(found) for kind, found in wiring.pairs.items()}
    nets: Sequence[Sequence[str]] = wiring.nets
    measured = pairs.get("resistance", [])
    if threshold and any(value > threshold for *_, value in measured):
        pairs["resistance"] = [pair for pair in measured if not pair[2] > threshold]
        nets = _nets_without({pin for net in nets for pin in net}, pairs["resistance"], wiring.nets, measured)
    rows: Rows = []
    for kind, found in pairs.items():
        rows += [(ENTRY_OF[kind], _entry(layout, kind, *pair)) for pair in found]
    known = {pair[:2] for pair in pairs.get("resistance", [])}
    for net in nets:
        if len(net) == 1:
            rows.append(("alone", {"first": net[0]}))
        elif not any(KINDS["resistance"].pair(a, b) in known for a in net for b in net if a != b):
            rows += [("connection", {"first": a, "second": b}) for a, b in zip(net, net[1:], strict=False)]
    return rows


def _nets_without(
    pins: set[str], left: Sequence[tuple[str, str, float]], nets: Sequence[Sequence[str]],
    measured: Sequence[tuple[str, str, float]],
) -> list[list[str]]:  # fmt: skip
    """The nets that are left: by the resistances that still count, and those in which none was measured."""
    touched = {pin for first, second, _ in measured for pin in (first, second)}
    made = [sorted(net) for net in joined((first, second) for first, second, _ in left)]
    made += [list(net) for net in nets if touched.isdisjoint(net)]
    known = {pin for net in made for pin in net}
    return sorted(made + [[pin] for pin in pins - known])


def _entry(layout: Layout, kind: str, first: str, second: str, value: float) -> dict[str, Cell]:
    row = layout.rows.get(ENTRY_OF[kind])
    symbol = next((gap.kind for gap in row.gaps if gap.name == "value"), "") if row is not None else ""
    number = None if math.isnan(value) else units.parse_unit(symbol).from_base(value) if symbol else value
    return {"first": first, "second": second, "value": number}
