"""Tables in files: CSV (comma or semicolon) and workbooks. All cells come as texts, each row with its number."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass
from pathlib import Path

from ibexite.errors import MistakeError
from ibexite.plain_file import read_plain

MAX_BYTES = 50_000_000
WORKBOOK = ".xlsx"


@dataclass(frozen=True, slots=True)
class Row:
    """One row: its number in the file, and its cells by column."""

    number: int
    cells: dict[str, str]


@dataclass(frozen=True, slots=True)
class Sheet:
    """A table that was read."""

    path: str
    columns: list[str]
    rows: list[Row]


def read_sheet(path: Path, *, what: str) -> Sheet:
    """Reads a CSV file or the first sheet of a workbook. Empty rows and rows that begin with # are left out.

    Raises:
        MistakeError: missing, too large, not a table, two columns of one name, or a row with more cells than columns.
    """
    name = str(path)
    try:
        data = read_plain(path, what=what, most=MAX_BYTES)
        lines = _workbook_rows(path, data) if path.suffix == WORKBOOK else _csv_rows(data)
    except UnicodeDecodeError:
        raise MistakeError("this is not UTF-8 text", where=name, remedy=f"Save the {what} as CSV in UTF-8.") from None
    except csv.Error as error:
        raise MistakeError(f"not a table: {error}", where=name, remedy="It is CSV, or a workbook (.xlsx).") from None
    filled = [(number, cells) for number, cells in lines if any(cells) and not cells[0].startswith("#")]
    if not filled:
        raise MistakeError("the table is empty", where=name, remedy="Its first row names the columns.")
    columns = [cell.strip() for cell in filled[0][1]]
    while columns and not columns[-1]:
        columns.pop()
    for column in columns:
        if columns.count(column) > 1:
            raise MistakeError(f"two columns are called {column!r}", where=name, remedy="Give each its own name.")
    rows = []
    for number, cells in filled[1:]:
        if any(cells[len(columns) :]):
            raise MistakeError(
                "more cells than columns",
                where=f"{name}: row {number}",
                remedy="Name the column, or put a text in quotes.",
            )
        padded = [*cells, *[""] * len(columns)]
        rows.append(Row(number, {column: cell.strip() for column, cell in zip(columns, padded, strict=False)}))
    return Sheet(name, columns, rows)


def _csv_rows(data: bytes) -> list[tuple[int, list[str]]]:
    text = data.decode("utf-8-sig")
    first = next((line for line in text.splitlines() if line.strip() and not line.startswith("#")), "")
    delimiter = ";" if first.count(";") > first.count(",") else "\t" if first.count("\t") > first.count(",") else ","
    reader = csv.reader(io.StringIO(text), delimiter=delimiter, strict=True)
    return [(reader.line_num, cells) for cells in reader]


def _workbook_rows(path: Path, data: bytes) -> list[tuple[int, list[str]]]:
    import openpyxl  # half a second: only for workbooks

    try:
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=True)
        sheet = book.worksheets[0]
        rows = [[_cell_text(value) for value in row] for row in sheet.iter_rows(values_only=True)]
        book.close()
    except Exception:  # openpyxl raises of all kinds for what is no workbook
        raise MistakeError("this is not a workbook", where=str(path), remedy="Save it as .xlsx or as CSV.") from None
    return list(enumerate(rows, 1))


def _cell_text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)
