"""Tables of units: one unit a row, results go to a copy of it."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.companions.sheet import WORKBOOK, Sheet, read_sheet
from ibexite.errors import MistakeError, did_you_mean
from ibexite.plain_file import written_whole
from ibexite.units import NO_UNIT, parse_unit
from ibexite.values import Quantity, stored_type

if TYPE_CHECKING:
    from ibexite.records.stored_run import RunRecord

_NOT_PARAMETERS = ("serial", "lot", "position")
_REMARKS = ("remark", "remarks", "comment")  # columns that are kept, and mean nothing to a run


@dataclass(frozen=True, slots=True)
class UnitRow:
    """One unit of a table: its serial number and lot, the parameters of its row, and at which position of the bench it
    is ("" where the bench has one, or it is said elsewhere)."""

    number: int
    serial: str
    lot: str
    parameters: dict[str, str]
    position: str = ""


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
        position = "" if "position" in parameters else row.cells.get("position", "")
        rows.append(UnitRow(row.number, row.cells["serial"], row.cells.get("lot", ""), given, position))
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
        try:
            with written_whole(self.path) as side:
                if self.path.suffix == WORKBOOK:
                    _write_workbook(side, lines)
                else:
                    text = io.StringIO()
                    csv.writer(text).writerows(lines)
                    side.write_text(text.getvalue(), encoding="utf-8", newline="")
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
            if not isinstance(stored_type(result), Quantity) or result["said"]:
                found[name] = str(result["said"])
                continue
            unit = parse_unit(result["shown"] or result["unit"]) if result["shown"] or result["unit"] else NO_UNIT
            value = result["value"]
            found[f"{name} in {unit.symbol}" if unit.symbol else name] = (
                "" if value is None else f"{unit.from_base(value):.15g}"
            )
    return found
