"""Reads until when a calibration holds."""

from __future__ import annotations

from ibexite.bench.entries import Calibration
from ibexite.toml_reader import TomlTable


def calibration_of(table: TomlTable) -> Calibration | None:
    """The calibration of an instrument or a signal; None where none is named."""
    if "calibration" not in table:
        return None
    entry = table.table("calibration")
    found = Calibration(entry.date("due"), entry.text("certificate", ""))
    for key in ("date", "residual", "points"):  # what `instruments calibrate` has written
        if key in entry:
            entry.value(key)
    entry.finish()
    return found
