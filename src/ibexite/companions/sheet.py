"""Tables in files: CSV (comma or semicolon) and workbooks. All cells come as texts, each row with its number."""

from __future__ import annotations

import csv
import hashlib
import io
import re
from decimal import Decimal
from pathlib import Path
from typing import Any

from ibexite.errors import MistakeError
from ibexite.frozen import frozen
from ibexite.plain_file import read_plain

MAX_BYTES = 50_000_000
WORKBOOK = ".xlsx"
_WRITTEN = re.compile(r'"[^"]*"|\\.')  # in the format of a cell: what is written as it stands


@frozen
class Row:
    """One row: its number in the file, and its cells by column."""

    number: int
    cells: dict[str, str]


@frozen
class Sheet:
    """A table that was read."""

    path: str
    columns: list[str]
    rows: list[Row]
    sha256: str  # of the very bytes that were read


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
    return Sheet(name, columns, rows, hashlib.sha256(data).hexdigest())


def decimal_text(text: str, where: str) -> str:
    """A number as a text with a decimal point, where it may have a decimal comma.

    Raises:
        MistakeError: the comma may as well be a separator of thousands.
    """
    if re.match(r"[+-]?[1-9][0-9]{0,2},[0-9]{3}(?![0-9])", text):
        raise MistakeError(
            f"{text!r} may be a number of thousands, or one with a decimal comma", where=where,
            remedy="Write it with a decimal point and without separators of thousands.",
        )  # fmt: skip
    return text.replace(",", ".") if text.count(",") == 1 and "." not in text else text


def _csv_rows(data: bytes) -> list[tuple[int, list[str]]]:
    text = data.decode("utf-8-sig")
    first = next((line for line in text.splitlines() if line.strip() and not line.startswith("#")), "")
    delimiter = ";" if first.count(";") > first.count(",") else "\t" if first.count("\t") > first.count(",") else ","
    reader = csv.reader(io.StringIO(text), delimiter=delimiter, strict=True)
    return [(reader.line_num, cells) for cells in reader]


def _workbook_rows(path: Path, data: bytes) -> list[tuple[int, list[str]]]:
    import openpyxl  # half a second: only for workbooks

    def read(*, results: bool) -> list[list[Any]]:
        book = openpyxl.load_workbook(io.BytesIO(data), read_only=True, data_only=results)
        rows = [list(row) for row in book.worksheets[0].iter_rows()]
        book.close()
        return rows

    try:
        rows = written = read(results=False)
        if any(cell.data_type == "f" for row in written for cell in row):
            rows = read(results=True)
    except Exception:  # openpyxl raises of all kinds for what is no workbook
        raise MistakeError("this is not a workbook", where=str(path), remedy="Save it as .xlsx or as CSV.") from None
    for number, (formulas, results) in enumerate(zip(written, rows, strict=True), 1):
        for formula, result in zip(formulas, results, strict=True):
            if formula.data_type == "f" and result.value is None:  # an empty cell would be a limit that is not there
                raise MistakeError(
                    f"the result of the formula {formula.value} is not in the file", where=f"{path}: row {number}",
                    remedy="Open it in a spreadsheet program and save it there, or write the number itself.",
                )  # fmt: skip
    return [(n, [_cell_text(cell.value, cell.number_format) for cell in row]) for n, row in enumerate(rows, 1)]


def _cell_text(value: object, shown_as: str) -> str:
    """The text of a cell as people read it: 0.02 that is shown as 2 % is "2 %", and so is 2 with a % written behind."""
    if value is None:
        return ""
    if isinstance(value, int | float) and not isinstance(value, bool) and "%" in shown_as:
        is_scaled = "%" in _WRITTEN.sub("", shown_as)
        return f"{Decimal(repr(value)) * (100 if is_scaled else 1):f} %"
    if isinstance(value, float) and value.is_integer():
        return str(int(value))
    return str(value)
