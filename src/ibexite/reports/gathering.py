"""Gathers the model of a report from a stored run. The same run gives the same: all dates come from the run."""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path

from ibexite.compound import count_said, picture_of
from ibexite.records.grids import Grid
from ibexite.records.stored_run import RunRecord, TestRecord
from ibexite.records.thinned import thinned
from ibexite.reports.figure_specs import pictures_of
from ibexite.reports.model import DataTable, Photo, Report, ReportFigure, ResultLine, TestPart
from ibexite.units import parse_unit, plain_number, unit_for
from ibexite.untyped import Fields
from ibexite.values import Compound, Picture, Quantity, stored_type
from ibexite.verdicts import to_do
from ibexite.wording import (
    column_text,
    duration_text,
    judged_text,
    limits_told,
    place_text,
    points_told,
    single_text,
    worst_first,
)

MOST_ROWS = 400  # of a table in the report; all are in the store


def gather(run: RunRecord) -> Report:
    """The data of a report from a stored run."""
    row = run.row
    tests = [_test(test, run.attempts_of(test.row["name"])) for test in run.parts]
    failures = [(part.row["title"], result) for part in tests for result in part.results if result.verdict != "pass"]
    broken = [
        (part.row["title"], part.row["reason"])
        for part in tests
        if part.row["verdict"] in ("fail", "error")
        and part.row["reason"] not in ["", *(result.reason for result in part.results)]
    ]
    not_run = [
        (part.row["title"], part.row["reason"]) for part in tests if part.row["verdict"] in ("skipped", "aborted")
    ]
    return Report(
        {**row, "bench": run.bench_text},
        run.verdict_text,
        row["verdict"],
        f"{run.started_text} {row['utc_offset']}".rstrip(),
        duration_text(row["duration"]),
        tests,
        failures,
        broken,
        not_run,
        [r for r in row["trial_reasons"].split("\n") if r],
        to_do(reason["code"] for reason in row["trial"]),
        f"Ibexite {row['software']}",
        run.files,
    )


def _test(whole: TestRecord, attempts: list[str]) -> TestPart:
    test = replace(whole, grids=[thinned(grid, whole.results) for grid in whole.grids])
    results = [_result(result) for result in worst_first(test.results)]
    values = [
        (grid.columns[0]["name"], single_text(grid.columns[0], grid.data[0][0]))
        for grid in test.grids
        if not grid.axes and len(grid.data[0]) == 1
    ]
    figures = [
        ReportFigure(f["title"] or f"{', '.join(f['ys'])} against {f['x']}", pictures)
        for f in (*test.figures, *_figures_of_waits(test))
        if (pictures := pictures_of(test, f))
    ]
    axes = [c for grid in test.grids for c in grid.columns if c["origin"] == "sweep"]
    bad = [(b["name"], place_text(b["at"], axes), b["reason"], b["raw"]) for b in test.bad_readings]
    pairs = zip(whole.grids, test.grids, strict=True)
    tables = [_data_table(*pair) for pair in pairs if pair[0].axes and len(pair[0].data[0])]
    compounds, photos = _parts(test)
    return TestPart(
        {**test.row, "time": duration_text(test.row["duration"])}, results, values, figures, bad, _holes(test),
        [*compounds, *tables], photos, attempts,
    )  # fmt: skip


def _parts(test: TestRecord) -> tuple[list[DataTable], list[Photo]]:
    """The single values of several parts: as tables, and the pictures."""
    tables, photos = [], []
    for name, kind, text in test.single_words():
        match kind:
            case Compound():
                heads, rows = kind.form.rows(text)
                left_out = max(0, len(rows) - MOST_ROWS)
                tables.append(DataTable(f"{name}: {kind.said(text)}", heads, rows[:MOST_ROWS], left_out))
            case Picture():
                told = picture_of(text)
                photos.append(
                    Photo(f"{name}: {kind.said(text)}", told["media"], _bytes_of(told["path"], told["sha256"]))
                )
    return tables, photos


def _bytes_of(path: str, sha256: str) -> bytes:
    """The kept file; none if it is gone, or another by now."""
    try:
        data = Path(path).read_bytes() if path else b""
    except OSError:
        return b""
    return data if hashlib.sha256(data).hexdigest() == sha256 else b""


def _figures_of_waits(test: TestRecord) -> list[Fields]:
    """What was read while waiting and watching is drawn without being asked for."""
    return [
        {"ys": [c["name"] for c in grid.columns if c["origin"] != "sweep"], "x": grid.axes[0], "by": "", "title": ""}
        for grid in test.grids
        if grid.axes in (["waited"], ["watched"]) and len(grid.data[0]) > 1
    ]


def _data_table(grid: Grid, drawn: Grid) -> DataTable:
    """The first rows of a grid, in units that suit what is drawn of it."""
    count = len(grid.data[0])
    shown = [_one_unit(column, values) for column, values in zip(drawn.columns, drawn.data, strict=True)]
    rows = [
        [text(values[i]) for (_, text), values in zip(shown, grid.data, strict=True)]
        for i in range(min(count, MOST_ROWS))
    ]
    names = [name for name, _ in shown]
    title = f"{', '.join(c['name'] for c in grid.columns if c['origin'] != 'sweep')} over {', '.join(grid.axes)}"
    return DataTable(f"{title}: {count_said(count, 'row')}", names, rows, max(0, count - MOST_ROWS))


def _one_unit(column: Fields, values: Sequence[float]) -> tuple[str, Callable[[float], str]]:
    """The head of a column with its unit, and what writes its values in that."""
    kind = stored_type(column)
    if column["labels"] or not isinstance(kind, Quantity):
        return column["name"], lambda value: column_text(value, column)
    unit = parse_unit(kind.shown) if kind.shown else unit_for(*values, dimension=kind.dimension)
    head = f"{column['name']} in {unit.symbol}" if unit.symbol else column["name"]
    return head, lambda value: plain_number(unit.from_base(value), 6)


def _holes(test: TestRecord) -> list[tuple[str, str]]:
    """The columns of readings with holes that are no bad readings: never measured there, or broken off."""
    bad: dict[str, int] = {}
    for reading in test.bad_readings:
        bad[reading["name"]] = bad.get(reading["name"], 0) + 1
    found = []
    for grid in test.grids:
        for column, values in zip(grid.columns, grid.data, strict=True):
            lost = column.get("holes")
            holes = (sum(1 for value in values if value != value) if lost is None else lost) - bad.get(
                column["name"], 0
            )
            if grid.axes and column["origin"] == "read" and holes > 0:
                found.append((column["name"], f"{holes} of {column['length']} points"))
    return found


def _result(result: Fields) -> ResultLine:
    return ResultLine(
        result["label"],
        judged_text(result),
        place_text(result["at"], result["axes"]),
        points_told(result),
        result["verdict"],
        result["reason"],
        "; ".join(filter(None, (*limits_told(result), result["origin"]))),
        result["criterion"],
        [(kind, text) for kind, text in result["differences"]],
    )
