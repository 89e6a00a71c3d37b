"""Reads the signals of a bench file."""

from __future__ import annotations

from collections.abc import Collection
from pathlib import Path
from typing import NamedTuple

from ibexite import units
from ibexite.bench.calibration_entries import calibration_of
from ibexite.bench.channel_keys import channel_of
from ibexite.bench.conversion_keys import chain_of
from ibexite.bench.conversions import Chain
from ibexite.bench.dependent_keys import correction_of, thermocouple_of
from ibexite.bench.entries import InstrumentEntry, RoleEntry, SignalEntry
from ibexite.errors import MistakeError, did_you_mean
from ibexite.instruments.accuracy import Accuracy, accuracy_of
from ibexite.instruments.profile import Profile
from ibexite.instruments.readings import Given, ReadingCommands, argument_from
from ibexite.toml_reader import TomlTable
from ibexite.units import Dimension

MOST_SETTLING = 3600.0  # s
MOST_DELAY = 1.0  # s


class Around(NamedTuple):
    """What signals stand on: roles, instruments, the folder of the bench file, and the names of all signals."""

    roles: dict[str, RoleEntry]
    instruments: dict[str, InstrumentEntry]
    folder: Path
    names: Collection[str]


def refuse_circles(table: TomlTable, signals: dict[str, SignalEntry]) -> None:
    """A cold junction is told by a signal in degC that needs no other one: itself least of all."""
    entries = table.table("signals")
    for name, signal in signals.items():
        other = signals.get(signal.junction.signal) if signal.junction is not None else None
        if other is None:
            continue
        entry = entries.table(name)
        if other is signal:
            entry.note("thermocouple", "its cold junction is itself", "Name the signal of the terminal block.")
        elif other.junction is not None:
            entry.note("thermocouple", f"{other.name} is a thermocouple with a cold junction of its own")
        elif other.dimension != units.CELSIUS or other.is_yes_no:
            entry.note("thermocouple", f"{other.name} is {units.describe(other.dimension)}", "It takes one in degC.")


def signal_entry(table: TomlTable, name: str, around: Around) -> SignalEntry:
    """One signal. Raises MistakeError: all that is wrong with it."""
    roles, instruments, folder, names = around
    role_name, _, reading_name = table.text("read").partition(".")
    if role_name not in roles:
        table.fail("read", f"there is no role {role_name!r}", did_you_mean(role_name, roles))
    profile = instruments[roles[role_name].instrument].profile
    reading = profile.readings.get(reading_name)
    if reading is None:
        table.fail(
            "read",
            f"profile {profile.name} has no reading {reading_name!r}",
            "Write it as role.reading. " + did_you_mean(reading_name, profile.readings),
        )
    if reading.feature.is_switch:
        return _digital(table, name, roles[role_name], profile, reading)
    if reading.feature.name == profile.instrument_class.records:
        return _record(table, name, roles[role_name], profile, reading, folder)
    if not reading.feature.is_single or reading.feature.dimension is None:
        what = "whole curves" if reading.feature.axes else reading.feature.unit.replace("_", "/")
        table.fail(
            "read", f"{reading_name} gives {what}", "A signal is one number, or yes or no; read this by its role."
        )
    setup = table.table("with")
    channel = channel_of(setup, profile, roles[role_name].channel)
    arguments = _arguments(setup, reading)
    setup.finish()
    assert reading.feature.dimension is not None
    chain, dimension = chain_of(table, reading.feature.dimension, folder)
    junction = None
    if "thermocouple" in table:
        chain, dimension, junction = thermocouple_of(table, chain, dimension, names)
    correction = correction_of(table, dimension, folder, roles, instruments) if "correction" in table else None
    signal = SignalEntry(
        name,
        role_name,
        reading_name,
        channel,
        arguments,
        chain,
        dimension,
        table.extent("believe", dimension),
        table.quantity("yes_above", dimension) if "yes_above" in table else None,
        _accuracy(table, dimension, reading, arguments, is_as_read=not chain.steps and not junction and not correction),
        junction,
        correction,
        calibration_of(table),
        _settling(table),
        abs(table.quantity("damage", dimension)) if "damage" in table else None,
        tuple(folder / name for name in ([table.text("table")] if "table" in table else []))
        + ((folder / correction.file,) if correction is not None else ()),
    )
    if signal.accuracy is not None and signal.accuracy.of_range and not isinstance(arguments.get("range"), float):
        table.note("accuracy", "is of the range, and no range is named", 'Write: with = { range = "10 V" }')
    table.finish()
    return signal


def _record(
    table: TomlTable, name: str, role: RoleEntry, profile: Profile, reading: ReadingCommands, folder: Path
) -> SignalEntry:
    """A signal that is captured while something is played."""
    setup = table.table("with")
    channel = channel_of(setup, profile, role.channel)
    arguments = _arguments(setup, reading)
    setup.finish()
    assert reading.feature.dimension is not None
    chain, dimension = chain_of(table, reading.feature.dimension, folder)
    if not chain.is_linear:
        table.note("", "records are converted by a factor and an offset only", f"This one has: {chain.text}.")
    found = SignalEntry(
        name, role.name, reading.feature.name, channel, arguments, chain, dimension, None,
        calibration=calibration_of(table), is_record=True, delay=_delay(table),
    )  # fmt: skip
    table.finish()
    return found


def _delay(table: TomlTable) -> float:
    seconds = table.quantity("delay", units.SECOND, 0.0)
    if not 0 <= seconds <= MOST_DELAY:
        table.note("delay", f"not between 0 s and {MOST_DELAY:g} s", "So much later it comes than it was played.")
    return seconds


def _digital(table: TomlTable, name: str, role: RoleEntry, profile: Profile, reading: ReadingCommands) -> SignalEntry:
    """A signal that is yes or no: a button, a lamp, a level."""
    setup = table.table("with")
    channel = channel_of(setup, profile, role.channel)
    found = SignalEntry(
        name, role.name, reading.feature.name, channel, _arguments(setup, reading), Chain(()),
        units.PLAIN, None, settling=_settling(table), is_digital=True, is_inverted=table.flag("inverted", False),
    )  # fmt: skip
    setup.finish()
    table.finish()
    return found


def _accuracy(
    table: TomlTable, dimension: Dimension, reading: ReadingCommands, arguments: dict[str, Given], *, is_as_read: bool
) -> Accuracy | None:
    """What the bench file says; without that, of a signal that is a reading and nothing more, what its profile says."""
    if "accuracy" in table:
        return accuracy_of(table, "accuracy", dimension)
    of_reading = reading.accuracy if is_as_read else None
    if of_reading is not None and of_reading.of_range and not isinstance(arguments.get("range"), float):
        return None
    return of_reading


def _settling(table: TomlTable) -> float:
    seconds = table.quantity("settling", units.SECOND, 0.0)
    if not 0 <= seconds <= MOST_SETTLING:
        table.note("settling", f"not between 0 s and {MOST_SETTLING:g} s", "So long is waited before it is read.")
    return seconds


def _arguments(setup: TomlTable, reading: ReadingCommands) -> dict[str, Given]:
    found: dict[str, Given] = {}
    for key, text in reading.arguments.items():
        if key not in setup:
            if key in reading.needed():
                setup.note(key, "is missing", f"{reading.feature.name} needs it.")
            continue
        value = setup.value(key)
        if isinstance(value, bool):
            value = "on" if value else "off"
        if isinstance(value, int | float):
            value = str(value)
        try:
            found[key] = argument_from(text.argument, value if isinstance(value, str) else "", "")
        except MistakeError as error:
            setup.note(key, error.what, error.remedy)
    return found
