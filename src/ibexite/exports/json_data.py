"""A run as one JSON file: the run, and of each test its results, values, tables and bad readings. Numbers are unrounded
base units; a hole is null."""

from __future__ import annotations

import orjson

from ibexite.records.grids import Grid
from ibexite.records.stored_run import RunRecord, TestRecord
from ibexite.untyped import Fields

_OPTIONS = orjson.OPT_INDENT_2 | orjson.OPT_APPEND_NEWLINE  # what is no finite number becomes null


def files_of(run: RunRecord) -> dict[str, str]:
    """The text of the only file, by its name without suffix."""
    data = {"run": run.row, "parts": list(map(_part, run.parts)), "attached": run.files}
    return {"run": orjson.dumps(data, option=_OPTIONS).decode()}


def _part(test: TestRecord) -> Fields:
    singles = [grid for grid in test.grids if not grid.axes]
    return {
        "part": test.row,
        "results": test.results,
        "values": {grid.columns[0]["name"]: _column(grid, 0, is_single=True) for grid in singles},
        "tables": [_table(grid) for grid in test.grids if grid.axes],
        "bad_readings": test.bad_readings,
        "calls": test.calls,
    }


def _table(grid: Grid) -> Fields:
    return {"axes": grid.axes, "columns": [_column(grid, i) for i in range(len(grid.columns))]}


def _column(grid: Grid, at: int, *, is_single: bool = False) -> Fields:
    column = grid.columns[at]
    values = [None if value != value else value for value in grid.values(column["name"])]
    told = {key: column[key] for key in ("name", "origin", "unit", "shown", "kind", "n", "bound")}
    return told | ({"value": values[0]} if is_single else {"values": values})
