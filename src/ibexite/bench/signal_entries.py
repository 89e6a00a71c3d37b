"""Reads the signals of a bench file."""

from __future__ import annotations

from ibexite import units
from ibexite.bench.entries import InstrumentEntry, RoleEntry, SignalEntry, Thermistor
from ibexite.errors import MistakeError, did_you_mean
from ibexite.instruments.readings import Given, ReadingCommands, argument_from
from ibexite.toml_reader import TomlTable
from ibexite.units import Dimension


def signal_entry(
    table: TomlTable, name: str, roles: dict[str, RoleEntry], instruments: dict[str, InstrumentEntry]
) -> SignalEntry:
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
    if reading.curve is not None:
        table.fail("read", f"{reading_name} gives whole curves", "A signal is one value; read it by its role.")
    setup = table.table("with")
    channel = setup.integer("channel", roles[role_name].channel)
    arguments = _arguments(setup, reading)
    setup.finish()
    scale, dimension, conversion = _conversion(table, reading.feature.dimension)
    thermistor = _thermistor(table, reading.feature.dimension) if "thermistor" in table else None
    if thermistor is not None:
        dimension, conversion = units.CELSIUS, f"thermistor {units.format_value(thermistor.r25, units.OHM)} at 25 degC"
    threshold = table.quantity("yes_above", dimension) if "yes_above" in table else None
    signal = SignalEntry(
        name,
        role_name,
        reading_name,
        channel,
        arguments,
        scale,
        dimension,
        table.extent("believe", dimension),
        conversion,
        thermistor,
        threshold,
        table.text("accuracy", ""),
    )
    table.finish()
    return signal


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


def _thermistor(table: TomlTable, dimension: Dimension | None) -> Thermistor:
    if dimension != units.OHM:
        table.fail("thermistor", "it turns a resistance into a temperature", "Read it with a reading in ohm.")
    entry = table.table("thermistor")
    thermistor = Thermistor(entry.quantity("r25", units.OHM), entry.quantity("beta", units.KELVIN))
    entry.finish()
    if thermistor.r25 <= 0 or thermistor.beta <= 0:
        table.fail(
            "thermistor", "is not above zero", 'Write, for example: thermistor = { r25 = "10 kohm", beta = "3950 K" }'
        )
    return thermistor


def _conversion(table: TomlTable, dimension: Dimension | None) -> tuple[float, Dimension, str]:
    assert dimension is not None
    if "shunt" not in table:
        return 1.0, dimension, ""
    if dimension != units.VOLT:
        table.fail("shunt", "a shunt turns a voltage into a current, but this reading is " + units.describe(dimension))
    resistance = table.quantity("shunt", units.OHM)
    if resistance <= 0:
        table.fail("shunt", "is not above zero", "Write the resistance of the shunt.")
    return 1 / resistance, units.AMPERE, "shunt " + units.format_value(resistance, units.OHM)
