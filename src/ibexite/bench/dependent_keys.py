"""Reads conversions that stand on something else at the moment of reading: the cold junction of a thermocouple, the
frequency of a correction."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping
from pathlib import Path

from ibexite import units
from ibexite.bench.conversions import Chain, curved
from ibexite.bench.entries import Correction, InstrumentEntry, Junction, RoleEntry
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.toml_reader import TomlTable
from ibexite.units import Dimension

FORM = 'Write: thermocouple = { type = "K", cold_junction = "t_block" }'


def thermocouple_of(
    table: TomlTable, chain: Chain, dimension: Dimension, signals: Collection[str]
) -> tuple[Chain, Dimension, Junction | None]:
    """The chain with the thermocouple behind it; its cold junction is a temperature, or a signal, which is read with
    it."""
    from ibexite.analysis import thermocouples

    entry = table.table("thermocouple")
    kind, cold = entry.text("type"), entry.text("cold_junction")
    entry.finish()
    if dimension != units.VOLT:
        table.note("thermocouple", "it turns a voltage into a temperature", "Read it with a reading in V.")
    if kind not in thermocouples.TYPES:
        table.note("thermocouple", f"there is no type {kind!r}", did_you_mean(kind, thermocouples.TYPES))
        return chain, units.CELSIUS, None
    if cold in signals:
        return chain, units.CELSIUS, Junction(kind, cold)
    try:
        amount = units.parse_quantity(cold)
    except UnitError:
        told = f"there is no signal {cold!r}, and it is no temperature"
        table.note("thermocouple", told, did_you_mean(cold, signals) or FORM)
        return chain, units.CELSIUS, None
    if amount.dimension != units.CELSIUS:
        table.note("thermocouple", f"{cold!r} is {units.describe(amount.dimension)}", FORM)
        return chain, units.CELSIUS, None
    more = thermocouples.voltage(kind, float(amount))
    if more != more:
        table.note("thermocouple", f"{cold} is beyond the range of type {kind}")
    step = curved(
        f"thermocouple {kind} (ITS-90), cold junction at {cold}", units.CELSIUS,
        lambda v: thermocouples.temperature(kind, v + more), lambda t: thermocouples.voltage(kind, t) - more,
    )  # fmt: skip
    return Chain((*chain.steps, step)), units.CELSIUS, None


def correction_of(
    table: TomlTable, dimension: Dimension, folder: Path, roles: Mapping[str, RoleEntry],
    instruments: Mapping[str, InstrumentEntry],
) -> Correction | None:  # fmt: skip
    """The correction over frequency: correction = { file = "loss.csv", at = "tone.frequency" }; or at = "f", the axis
    of a sweep."""
    entry = table.table("correction")
    name, at = entry.text("file"), entry.text("at")
    role, dot, setting = at.partition(".")
    found = _points(entry, name, dimension, folder)
    entry.finish()
    if not dot and at.isidentifier():
        return Correction(*found, "", at, name) if found is not None else None
    if role not in roles:
        table.note(
            "correction", f"there is no role {role!r}", did_you_mean(role, roles) or 'Write at = "tone.frequency".'
        )
        return None
    settings = instruments[roles[role].instrument].profile.settings
    if setting not in settings or settings[setting].feature.dimension != units.HERTZ:
        known = [key for key, one in settings.items() if one.feature.dimension == units.HERTZ]
        table.note("correction", f"{role} has no frequency {setting!r} that is set", did_you_mean(setting, known))
        return None
    return Correction(*found, role, setting, name) if found is not None else None


def _points(
    entry: TomlTable, name: str, dimension: Dimension, folder: Path
) -> tuple[tuple[float, ...], tuple[float, ...]] | None:
    """Frequencies, and what a value is multiplied by, or a level increased by in dB."""
    from ibexite.column_file import read_columns
    from ibexite.touchstone import PARAMETERS, read_touchstone

    try:
        if Path(name).suffix.lower() in PARAMETERS:
            network = read_touchstone(folder / name)
            sizes = [abs(s) for s in network.parameters.get("s21") or network.parameters["s11"]]
            if not all(size > 0 for size in sizes):
                raise MistakeError("a parameter is 0", where=name)
            return network.frequencies, tuple(_factor(-20 * math.log10(size), dimension) for size in sizes)
        columns = read_columns(folder / name, what="correction")
    except MistakeError as error:
        entry.note("file", f"{error.where}: {error.what}" if error.where else error.what, error.remedy)
        return None
    if len(columns) != 2 or columns[0].dimension != units.HERTZ or columns[1].name not in ("loss", "gain", "factor"):
        entry.note("file", f"{name} has the columns {', '.join(column.name for column in columns)}",
                   "It has a frequency in Hz, and a loss or gain in dB, or a factor: freq [Hz],loss [dB]")  # fmt: skip
        return None
    x, y = columns[0].values, columns[1].values
    if any(b <= a for a, b in zip(x, x[1:], strict=False)):
        entry.note("file", f"{columns[0].name} does not rise from row to row")
        return None
    if columns[1].dimension == units.DECIBEL and columns[1].name in ("loss", "gain"):
        sign = 1.0 if columns[1].name == "loss" else -1.0
        return x, tuple(_factor(sign * value, dimension) for value in y)
    if columns[1].dimension.is_plain and columns[1].name == "factor" and dimension.kind == "linear":
        return x, y
    told = f"{columns[1].name} is {units.describe(columns[1].dimension)}"
    entry.note("file", told, "A loss or gain is in dB; a factor is a bare number, for what is no level.")
    return None


def _factor(decibels: float, dimension: Dimension) -> float:
    """What belongs to so many dB: of a level they are added; else a factor of amplitudes, or of powers."""
    if dimension.kind in ("level", "db"):
        return decibels
    return float(10 ** (decibels / (10 if dimension == units.WATT else 20)))
