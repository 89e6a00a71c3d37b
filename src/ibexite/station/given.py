"""What commands are given: parameters and the choice of tests from files and stored runs, uncertainties."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from ibexite.companions.sheet import Sheet, read_sheet
from ibexite.errors import MistakeError, UnitError
from ibexite.toml_reader import read_toml
from ibexite.units import Amount, parse_quantity

if TYPE_CHECKING:
    from ibexite.records.runs_to_judge import RunToJudge
    from ibexite.records.stored_run import RunRecord

T = TypeVar("T")


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


def given_parameters(record: RunRecord | RunToJudge) -> dict[str, str]:
    """The parameters that a run was given from outside, variants included."""
    return {p["name"]: p["value"] for p in record.row["params"] if p.get("given", p["by_hand"])}


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


def uncertainty_of(text: str, option: str) -> Amount:
    """An uncertainty from an option. Raises MistakeError: it is no quantity above zero."""
    try:
        found = parse_quantity(text)
    except UnitError as error:
        raise MistakeError(error.what, where=option, remedy=error.remedy) from None
    if not float(found.value) > 0:
        raise MistakeError("an uncertainty is above zero", where=option, remedy='Write, for example: "4 mV"')
    return found
