"""Limit tables: limits kept apart from the sequence, one row a value, for each product variant and revision."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path

from ibexite import units
from ibexite.companions.sheet import Row, Sheet, decimal_text, read_sheet
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.language.program import LimitRow
from ibexite.values import Quantity, Type

NEEDED = ("test", "name")
COLUMNS = (
    *NEEDED, "variant", "revision", "low", "high", "nominal", "tolerance", "unit", "source", "approved", "remark",
)  # fmt: skip


class LimitSheet:
    """A limit table that was read."""

    def __init__(self, sheet: Sheet) -> None:
        self.path, self.sha256, self._sheet = sheet.path, sheet.sha256, sheet
        self._asked: set[tuple[str, str]] = set()
        for column in sheet.columns:
            if column not in COLUMNS:
                raise MistakeError(
                    f"there is no column {column!r} in a limit table",
                    where=sheet.path,
                    remedy=did_you_mean(column, COLUMNS),
                )
        for column in NEEDED:
            if column not in sheet.columns:
                raise MistakeError(
                    f"the column {column!r} is missing",
                    where=sheet.path,
                    remedy=f"Its columns are: {', '.join(COLUMNS)}.",
                )

    def row(self, test: str, name: str, variant: str, revision: str, kind: Type) -> LimitRow | None:
        """The limits of a value: the row that fits best, where an empty variant or revision fits any."""
        self._asked.add((test, name))
        fitting = [
            (bool(row.cells.get("variant")) + bool(row.cells.get("revision")), row)
            for row in self._sheet.rows
            if row.cells["test"] == test and row.cells["name"] == name
            and row.cells.get("variant", "") in ("", variant) and row.cells.get("revision", "") in ("", revision)
        ]  # fmt: skip
        if not fitting:
            return None
        best = max(rank for rank, _ in fitting)
        rows = [row for rank, row in fitting if rank == best]
        if len(rows) > 1:
            raise MistakeError(
                f"two rows have limits for {test}.{name}",
                where=f"{self.path}: rows {rows[0].number} and {rows[1].number}",
                remedy="Remove one, or tell them apart by variant or revision.",
            )  # fmt: skip
        return self._limits(rows[0], kind)

    def _limits(self, row: Row, kind: Type) -> LimitRow:
        low, high = self._quantity(row, "low", kind), self._quantity(row, "high", kind)
        nominal = self._quantity(row, "nominal", kind)
        tolerance_text = row.cells.get("tolerance", "")
        where = f"{self.path}: row {row.number}"
        if (nominal is None) != (not tolerance_text) or (nominal is not None and (low is not None or high is not None)):
            raise MistakeError(
                "neither limits nor a nominal value with tolerance", where=where,
                remedy="A row has low, high or both; or nominal and tolerance.",
            )  # fmt: skip
        if nominal is not None:
            half = self._tolerance(row, tolerance_text, nominal, kind)
            low, high = nominal - half, nominal + half
        if low is not None and high is not None and low > high:
            raise MistakeError("low is above high", where=where, remedy="Swap them.")
        source, approved = row.cells.get("source", ""), row.cells.get("approved", "")
        told = "; ".join([where, *([source] if source else []), *([f"approved {approved}"] if approved else [])])
        return LimitRow(low, high, bool(source and approved), told)

    def check(self) -> None:
        """Raises MistakeError: a row whose numbers and units are not limits of anything."""
        for row in self._sheet.rows:
            units_of = [units.parse_unit(u).dimension for u in (row.cells.get("unit", ""),) if u]
            try:
                self._limits(row, Quantity((), units_of[0] if units_of else units.PLAIN))
            except UnitError as error:
                raise MistakeError(error.what, where=f"{self.path}: row {row.number}", remedy=error.remedy) from None

    def unused(self) -> list[str]:
        """The rows that no check has asked for: a misspelt name, or a check that is missing."""
        return [
            f"row {row.number} ({row.cells['test']}.{row.cells['name']})"
            for row in self._sheet.rows
            if (row.cells["test"], row.cells["name"]) not in self._asked
        ]

    def _quantity(self, row: Row, column: str, kind: Type) -> Decimal | None:
        text = row.cells.get(column, "")
        if not text:
            return None
        unit = row.cells.get("unit", "")
        return self._parsed(row, column, text, unit, kind.dimension)

    def _parsed(self, row: Row, column: str, text: str, unit: str, dimension: units.Dimension) -> Decimal:
        where = f"{self.path}: row {row.number}, {column}"
        bare = decimal_text(text, where)
        try:
            quantity = units.parse_quantity(bare)
            if not quantity.unit.symbol and unit:
                quantity = units.parse_quantity(f"{bare} {unit}")
        except UnitError as error:
            raise MistakeError(error.what, where=where, remedy=error.remedy) from None
        if quantity.dimension != dimension:
            raise MistakeError(
                f"{text!r}{' ' + unit if unit else ''} is {units.describe(quantity.dimension)}", where=where,
                remedy=f"The value is {units.describe(dimension)}.",
            )  # fmt: skip
        return quantity.value

    def _tolerance(self, row: Row, text: str, nominal: Decimal, kind: Type) -> Decimal:
        unit = row.cells.get("unit", "")
        if text.startswith("-"):
            raise MistakeError(
                "a negative tolerance", where=f"{self.path}: row {row.number}, tolerance",
                remedy="Write how far the value may be away.",
            )  # fmt: skip
        if kind.dimension.is_plain and (text.endswith(("%", "ppm")) or unit in ("%", "ppm")):
            raise MistakeError(
                f"a tolerance of {text!r}, per cent of what?", where=f"{self.path}: row {row.number}, tolerance",
                remedy="The value is a plain number or in % itself. Give low and high.",
            )  # fmt: skip
        if text.endswith(("%", "ppm")):
            if kind.dimension.kind != "linear":
                raise MistakeError(
                    f"{'%' if text.endswith('%') else 'ppm'} of {units.describe(kind.dimension)}",
                    where=f"{self.path}: row {row.number}, tolerance",
                    remedy="Give it in " + units.symbol_of(units.difference(kind.dimension)) + ".",
                )  # fmt: skip
            return abs(nominal * self._parsed(row, "tolerance", text, "", units.PLAIN))
        if kind.dimension == units.CELSIUS:
            unit = "K" if unit == "degC" else unit
            text = text.replace("degC", "K")
        elif kind.dimension.kind == "level":
            unit = "dB"
        return self._parsed(row, "tolerance", text, unit, units.difference(kind.dimension))


def read_limits(path: Path) -> LimitSheet:
    """Reads a limit table (CSV or workbook). Raises MistakeError."""
    sheet = read_sheet(path, what="limit table")
    return LimitSheet(sheet)
