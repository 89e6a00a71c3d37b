"""What a run is given from files: parameters, rows of a table, a list of tests, prepared readings and answers."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from ibexite.companions.sheet import WORKBOOK, Sheet, read_sheet
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.toml_reader import read_toml
from ibexite.units import NO_UNIT, parse_quantity, parse_unit

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.records.lookup import RunRecord

T = TypeVar("T")
_NOT_PARAMETERS = ("serial", "lot")
_REMARKS = ("remark", "remarks", "comment")  # columns that are kept, and mean nothing to a run


def read_parameters(path: Path) -> dict[str, str]:
    """Parameters from a TOML file (name = "value with unit") or a table with the columns name and value.

    Raises:
        MistakeError: with the place of what is wrong.
    """
    if path.suffix == ".toml":
        table = read_toml(path, what="parameter file")
        return {name: table.text(name) for name in table}
    sheet = read_sheet(path, what="parameter file")
    if not {"name", "value"} <= set(sheet.columns):
        raise MistakeError("the columns name and value are needed", where=sheet.path, remedy="One parameter a row.")
    return _once(sheet, {row.number: (row.cells["name"], row.cells["value"]) for row in sheet.rows})


def parameters_of(run: RunRecord) -> dict[str, str]:
    """The parameters that a stored run had."""
    return {param["name"]: param["value"] for param in run.row["params"]}


def read_selection(path: Path) -> dict[str, bool]:
    """A list of tests, each switched on or off: a table with the columns test and on (yes or no)."""
    sheet = read_sheet(path, what="list of tests")
    if not {"test", "on"} <= set(sheet.columns):
        raise MistakeError("the columns test and on are needed", where=sheet.path, remedy="One test a row, yes or no.")
    chosen = {}
    for row in sheet.rows:
        word = row.cells["on"].lower()
        if word not in ("yes", "no", "on", "off", "x", "", "1", "0", "true", "false"):
            raise MistakeError(
                f"{row.cells['on']!r} is neither yes nor no",
                where=f"{sheet.path}: row {row.number}",
                remedy="Write yes or no.",
            )
        chosen[row.number] = (row.cells["test"], word in ("yes", "on", "x", "1", "true"))
    return _once(sheet, chosen)


def _once(sheet: Sheet, rows: Mapping[int, tuple[str, T]]) -> dict[str, T]:
    """What the rows say of each name. Raises MistakeError: a name stands in two rows, and which of them is meant?"""
    found: dict[str, tuple[int, T]] = {}
    for number, (name, value) in rows.items():
        if name in found:
            raise MistakeError(
                f"{name!r} stands in two rows", where=f"{sheet.path}: rows {found[name][0]} and {number}",
                remedy="Remove one of them.",
            )  # fmt: skip
        found[name] = (number, value)
    return {name: value for name, (_, value) in found.items()}


@dataclass(frozen=True, slots=True)
class UnitRow:
    """One unit of a table: its serial number and lot, and the parameters of its row."""

    number: int
    serial: str
    lot: str
    parameters: dict[str, str]


def read_units(path: Path, parameters: list[str]) -> tuple[Sheet, list[UnitRow]]:
    """A table with one unit a row: the column serial, and columns named as parameters. An empty cell keeps the default.

    Raises:
        MistakeError: a column that is no parameter, or a row without serial number.
    """
    sheet = read_sheet(path, what="table of units")
    if "serial" not in sheet.columns:
        raise MistakeError("the column serial is missing", where=sheet.path, remedy="One unit a row.")
    for column in sheet.columns:
        if column not in (*_NOT_PARAMETERS, *_REMARKS, *parameters):
            raise MistakeError(
                f"there is no parameter {column!r}", where=sheet.path,
                remedy=f"{did_you_mean(column, parameters)} Remarks stand in {' or '.join(_REMARKS)}.".strip(),
            )  # fmt: skip
    rows = []
    for row in sheet.rows:
        if not row.cells["serial"]:
            raise MistakeError(
                "a row without serial number", where=f"{sheet.path}: row {row.number}", remedy="Fill it in."
            )
        given = {key: cell for key, cell in row.cells.items() if key in parameters and cell}
        rows.append(UnitRow(row.number, row.cells["serial"], row.cells.get("lot", ""), given))
    return sheet, rows


class ResultsTable:
    """A copy of a table of units to which the results are appended, written anew after each unit."""

    def __init__(self, path: Path, sheet: Sheet) -> None:
        self.path = path.with_name(f"{path.stem}_results{path.suffix}")
        self._rows: dict[int, dict[str, str]] = {row.number: dict(row.cells) for row in sheet.rows}
        self._columns = list(sheet.columns)

    def add(self, number: int, results: Mapping[str, str]) -> None:
        """The results of one row.

        Raises:
            MistakeError: the copy cannot be written.
        """
        self._columns += [name for name in results if name not in self._columns]
        self._rows[number] |= results
        lines = [self._columns, *([row.get(c, "") for c in self._columns] for row in self._rows.values())]
        side = self.path.with_suffix(".part")
        try:
            if self.path.suffix == WORKBOOK:
                _write_workbook(side, lines)
            else:
                text = io.StringIO()
                csv.writer(text).writerows(lines)
                side.write_text(text.getvalue(), encoding="utf-8", newline="")
            side.replace(self.path)
        except OSError as error:
            raise MistakeError(
                f"cannot be written ({error.strerror})", where=str(self.path), remedy="Is it open in another program?"
            ) from None


def _write_workbook(path: Path, lines: list[list[str]]) -> None:
    import openpyxl

    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    for line in lines:
        sheet.append([_cell(text) for text in line])
    book.save(path)


def _cell(text: str) -> str | float:
    try:
        return float(text)
    except ValueError:
        return text


def results_of(run: RunRecord) -> dict[str, str]:
    """What a table of units gets of a run: id, verdict, and the judged values: numbers with all their digits, in the
    unit that stands in the head of the column."""
    found = {"run": run.row["id"], "verdict": run.verdict_text}
    for test in run.tests:
        found[f"{test.row['name']}"] = test.row["verdict"]
        for result in test.results:
            name = f"{test.row['name']}.{result['label']}"
            if result["kind"] != "quantity" or result["said"]:
                found[name] = str(result["said"])
                continue
            unit = parse_unit(result["shown"] or result["unit"]) if result["shown"] or result["unit"] else NO_UNIT
            value = result["value"]
            found[f"{name} in {unit.symbol}" if unit.symbol else name] = (
                "" if value is None else f"{unit.from_base(value):.15g}"
            )
    return found


@dataclass(frozen=True, slots=True)
class Prepared:
    """Readings and answers for a rehearsal."""

    readings: dict[str, list[float | None]] = field(default_factory=dict)
    answers: dict[str, Any] = field(default_factory=dict)


def read_prepared(path: Path, bench: BenchFile) -> Prepared:
    """Prepared readings and answers from a TOML file.

    [readings] holds for each signal (or "role.reading") one value or a list of them, taken in turn, the last again and
    again; "overload" is one too. [answers] holds for a part of each question its answer.

    Raises:
        MistakeError: with the path to the value that is wrong.
    """
    table = read_toml(path, what="file of readings")
    readings = table.table("readings")
    answers = table.table("answers")
    found: dict[str, list[float | None]] = {}
    for name in readings:
        value = readings.value(name)
        entries = value if isinstance(value, list) else [value]
        found[name] = [_reading(readings.where(name), name, entry, bench) for entry in entries]
    given = {part: answers.value(part) for part in answers}
    table.finish()
    return Prepared(found, {part: _answer(answer) for part, answer in given.items()})


def _reading(where: str, name: str, entry: object, bench: BenchFile) -> float | None:
    if entry == "overload":
        return None
    if isinstance(entry, bool):
        return float(entry)
    try:
        quantity = parse_quantity(str(entry))
    except UnitError as error:
        raise MistakeError(error.what, where=where, remedy=error.remedy) from None
    signal = bench.signals.get(name)
    if signal is not None and signal.threshold is None and quantity.dimension != signal.dimension:
        raise MistakeError(f"{entry!r} has another unit than the signal", where=where, remedy="Write it with its unit.")
    return float(quantity)


def _answer(answer: object) -> Any:
    if isinstance(answer, str):
        try:
            return float(parse_quantity(answer))
        except UnitError:
            return answer
    return float(answer) if isinstance(answer, int) and not isinstance(answer, bool) else answer
