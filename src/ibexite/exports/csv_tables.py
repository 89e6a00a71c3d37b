"""A run as CSV files: its results, single values, and one file for each table. Numbers are unrounded base units."""

from __future__ import annotations

import csv
import io
import itertools
import json
import math
import re
from collections.abc import Iterable

from ibexite.records.grids import Grid
from ibexite.records.stored_run import RunRecord, TestRecord
from ibexite.values import Compound

RESULT_COLUMNS = (
    "label",
    "verdict",
    "value",
    "low",
    "high",
    "margin",
    "unit",
    "judged",
    "failed",
    "bad",
    "criterion",
    "reason",
)


def files_of(run: RunRecord) -> dict[str, str]:
    """The texts of the files by their names without suffix: results, values, TEST or TEST_N for each table of loops,
    TEST_NAME for a value that is a table or connections; with __2 and so on behind a name that is taken."""
    files = {"results": _results(run), "values": _values(run)}
    for test in run.tests:
        tables = [grid for grid in test.grids if grid.axes]
        for number, grid in enumerate(tables, 1):
            name = re.sub(r"[^A-Za-z0-9_-]", "_", test.row["name"]) + (f"_{number}" if len(tables) > 1 else "")
            files[free_name(name, files)] = _table(grid)
        for name, kind, text in test.single_words():
            if isinstance(kind, Compound):
                name = re.sub(r"[^A-Za-z0-9_-]", "_", f"{test.row['name']}_{name}")
                files[free_name(name, files)] = _written(kind.form.unrounded(text))
    return files


def _written(rows: Iterable[Iterable[object]]) -> str:
    out = io.StringIO()
    csv.writer(out).writerows(rows)
    return out.getvalue()


def free_name(name: str, taken: Iterable[str]) -> str:
    """A name that no file has yet, also where small and capital letters are the same: tests may be called `results`,
    or like a table of another test.

    >>> free_name("Results", ["results", "values"])
    'Results__2'
    """
    known = {other.lower() for other in taken}
    names = (f"{name}__{number}" if number > 1 else name for number in itertools.count(1))
    return next(free for free in names if free.lower() not in known)


def _results(run: RunRecord) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["run", "serial", "test", *RESULT_COLUMNS, "at"])
    for test in run.tests:
        for result in test.results:
            cells = ["" if result[c] is None else result[c] for c in RESULT_COLUMNS]
            writer.writerow([run.row["id"], run.row["serial"], test.row["name"], *cells, json.dumps(result["at"])])
    return out.getvalue()


def _values(run: RunRecord) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(["test", "name", "value", "unit"])
    for test, grid in _single_values(run):
        column = grid.columns[0]
        writer.writerow([test.row["name"], column["name"], _cell(grid.values(column["name"])[0]), column["unit"]])
    return out.getvalue()


def _single_values(run: RunRecord) -> list[tuple[TestRecord, Grid]]:
    return [(test, grid) for test in run.tests for grid in test.grids if not grid.axes]


def _table(grid: Grid) -> str:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([f"{c['name']} [{c['unit']}]" if c["unit"] else c["name"] for c in grid.columns])
    columns = [grid.values(c["name"]) for c in grid.columns]
    writer.writerows([_cell(value) for value in row] for row in zip(*columns, strict=True))
    return out.getvalue()


def _cell(value: float | str) -> str:
    """A number as short as it can be without loss; a hole is an empty cell."""
    if isinstance(value, str):
        return value
    return "" if math.isnan(value) else repr(value)
