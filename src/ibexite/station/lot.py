"""The units that one command runs: one, or each row of a table, and how often; their results in a copy of the table."""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import IbexiteError, MistakeError, UnitError
from ibexite.station.opening import declared_params
from ibexite.station.service import check_serial
from ibexite.station.unit_table import ResultsTable, UnitRow, read_units, results_of

if TYPE_CHECKING:
    from ibexite.engine.orders import Outcome
    from ibexite.language.program import Program


class Lot:
    """Units in their order. With a table, `results` is the copy that their results go to."""

    def __init__(self, units: list[UnitRow], results: ResultsTable | None = None) -> None:
        self.units, self.results = units, results

    def vet(self, opened: Callable[[UnitRow], Program]) -> None:
        """Vets the sequence for all rows of a table before the first unit is run: a mistake in the last one must not
        leave a lot half done.

        Args:
            opened: the program of a row, on the bench at its position; what it raises is raised as `BadRow`.
        """
        programs: dict[tuple[str, tuple[tuple[str, str], ...]], Program] = {}
        for unit in self.units:
            key = (unit.position, tuple(unit.parameters.items()))
            try:
                programs[key] = programs.get(key) or opened(unit)
                check_serial(programs[key], unit.serial)
            except Exception as error:
                raise BadRow(unit) from error

    def in_turn(self, more: Callable[[], bool]) -> Iterator[tuple[int, UnitRow]]:
        """Number and row of each unit, again and again while there is `more`."""
        while more():
            yield from enumerate(self.units)

    def add(self, unit: UnitRow, records: Path, outcome: Outcome) -> str:
        """The results of a unit go to the copy of its table. What is wrong if they cannot be written: they are in the
        records; "" if nothing."""
        from ibexite.records.gateway import open_lookup

        if self.results is None:
            return ""
        try:
            with contextlib.closing(open_lookup(records)) as lookup:
                if lookup.has(outcome.run):
                    self.results.add(unit.number, results_of(lookup.run(outcome.run)))
                else:
                    said = f"{outcome.verdict.upper()} (not stored)"
                    self.results.add(unit.number, {"run": outcome.run, "verdict": said})
        except IbexiteError as error:
            return f"{error}\nThe run is recorded; export it with: ibexite export {outcome.run} --to csv"
        return ""


class BadRow(Exception):
    """A row of a table that cannot be run; why is its cause."""

    def __init__(self, unit: UnitRow) -> None:
        super().__init__(f"row {unit.number}")
        self.unit = unit


def lot_of(sequence: Path, serial: str | None, lot: str, table: Path | None) -> Lot:
    """The unit with a serial number, or those of a table.

    Raises:
        MistakeError: neither is named, or both; the table is not as it must be.
    """
    if (serial is None) == (table is None):
        raise MistakeError(
            "one serial number, or a table of them", where="--serial, --table", remedy="Name one of the two."
        )
    if table is None:
        return Lot([UnitRow(0, serial or "", lot, {})])
    sheet, rows = read_units(table, declared_params(sequence))
    if not rows:
        raise MistakeError("there are no units", where=sheet.path, remedy="One unit a row below the columns.")
    units = [UnitRow(r.number, r.serial, r.lot or lot, r.parameters, r.position) for r in rows]
    return Lot(units, ResultsTable(table, sheet))


class Turns:
    """How often all is run: once (""), so many times, or for a time."""

    def __init__(self, text: str) -> None:
        """Raises MistakeError: neither a number of times nor a time."""
        self._left, self._until = 1.0, 0.0
        if not text:
            return
        from ibexite.units import SECOND, parse_quantity

        try:
            quantity = parse_quantity(text)
        except UnitError as error:
            raise MistakeError(
                error.what, where="--repeat", remedy='Write a number of times, or a time such as "8 h".'
            ) from None
        if quantity.dimension == SECOND and quantity.value > 0:
            self._until = time.monotonic() + float(quantity)
        elif quantity.dimension.is_plain and not quantity.unit.symbol and quantity.value >= 1:
            self._left = float(int(quantity.value))
        else:
            raise MistakeError(
                f"{text!r} is neither a number of times nor a time", where="--repeat", remedy='Write 10 or "8 h".'
            )

    def more(self) -> bool:
        """True if there is another turn; counts it."""
        if self._until:
            return time.monotonic() < self._until
        self._left -= 1
        return self._left >= 0
