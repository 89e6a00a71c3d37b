"""Reads the file of a class."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable
from pathlib import Path

from ibexite import units
from ibexite.classes.features import ARM, PLAYER, RECORDER, START, Argument, Feature, InstrumentClass
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.toml_reader import TomlTable, each, raise_all, read_laid_over
from ibexite.units import Dimension
from ibexite.values import NUMBER, TEXT, YES_NO, Quantity, Type, Waveform, declared

COMMON_ACTIONS = {
    "reset": "back into its known state, outputs off (IEEE 488.2 *RST)",
    "clear": "clears its error queue and status (IEEE 488.2 *CLS)",
}
KINDS_OF_READING = ("yes_no", "text", "table", "connections", "picture")
_NAME = re.compile("[a-z][a-z0-9_]*")


def read_class(path: Path, file_of: Callable[[str], Path | None], *, ships: bool = False) -> InstrumentClass:
    """The class in a file; its name is that of the file.

    Args:
        file_of: the file of another class that it extends, None where there is none of that name.
        ships: it belongs to the tool.

    Raises:
        MistakeError: all that is wrong in it.
    """
    table, files = read_laid_over(path, what="class of instruments", file_of=file_of)
    if not _NAME.fullmatch(path.stem):
        table.note("", f"{path.name!r} gives no name", "Call the file by the class: lower_snake_case.toml.")
    mistakes: list[MistakeError] = []
    settings = each(table.tables("settings"), _setting, mistakes)
    readings = each(table.tables("readings"), _reading, mistakes)
    own = table.table("actions")
    actions = {name: own.text(name) for name in own}
    gone = {place.removeprefix("settings.") for place in table.texts("without", [])}
    switch = table.text("switch", "")
    levels, protections = (tuple(name for name in table.texts(key, []) if name not in gone)
                           for key in ("levels", "protections"))  # fmt: skip
    pairs = table.table("products")
    products = {name: tuple(pairs.texts(name)) for name in pairs}
    made = InstrumentClass(
        path.stem, table.text("help"), settings, readings, {**COMMON_ACTIONS, **actions}, switch, levels, {},
        () if ships else tuple((str(file), hashlib.sha256(file.read_bytes()).hexdigest()) for file in files),
        protections, table.flag("plays", False), table.text("records", ""),
    )  # fmt: skip
    _check(table, made, products)
    try:
        table.finish()
    except MistakeError as error:
        mistakes.insert(0, error)
    raise_all(mistakes)
    return made


def _check(table: TomlTable, made: InstrumentClass, products: dict[str, tuple[str, ...]]) -> None:
    """What must fit together within a class; puts its products into it."""
    settings = made.settings
    for kind, names in (("settings", settings), ("readings", made.readings), ("actions", table.table("actions"))):
        for name in names:
            if not _NAME.fullmatch(name):
                table.table(kind).note(name, f"{name!r} is no name", "Write lower_snake_case.")
    if made.switch and (made.switch not in settings or not settings[made.switch].is_switch):
        table.note(
            "switch", f"there is no setting {made.switch!r} that is on or off", did_you_mean(made.switch, settings)
        )
    for key, wanted in (("levels", made.levels), ("protections", made.protections)):
        for name in wanted:
            if name not in settings or settings[name].dimension is None:
                table.note(key, f"there is no setting {name!r} with a unit", did_you_mean(name, settings))
    if made.plays and (not set(PLAYER) <= set(settings) or START not in made.actions):
        table.note("plays", "what plays samples is to have more", f"Its settings: {', '.join(PLAYER)}; {START}.")
    if made.records and (
        made.records not in made.readings or not set(RECORDER) <= set(settings) or ARM not in made.actions
    ):
        table.note("records", "what records is to have more", f"That reading; settings: {', '.join(RECORDER)}; {ARM}.")
    for name, factors in products.items():
        if len(factors) != 2 or any(f not in settings or settings[f].dimension is None for f in factors):
            table.note(
                "products", f"{name}: not two settings with units", 'Write: power = ["voltage", "current_limit"].'
            )
        else:
            made.products[name] = (factors[0], factors[1])


def _setting(table: TomlTable, name: str) -> Feature:
    unit, kind, choices = table.text("unit", ""), table.text("kind", ""), tuple(table.texts("choices", []))
    if sum(map(bool, (unit, kind, choices))) != 1:
        table.note("", "one of unit, kind and choices says what it takes", 'Write, for example: unit = "V".')
    if kind and kind != "on_off":
        table.note("kind", f"there is no kind {kind!r} of setting", 'Write kind = "on_off", unit = … or choices = …')
    if len(set(choices)) != len(choices) or any(not _NAME.fullmatch(choice) for choice in choices):
        table.note("choices", "not some different words", 'Write, for example: choices = ["ac", "dc"].')
    type_: Type = TEXT if choices else YES_NO if kind else Quantity((), _dimension(table, "unit", unit))
    feature = Feature(
        name, unit or kind or "choice", type_, table.text("help"), {}, choices, {}, table.flag("awaited", False)
    )
    table.finish()
    return feature


def _reading(table: TomlTable, name: str) -> Feature:
    unit, kind = table.text("unit", ""), table.text("kind", "")
    if bool(unit) == bool(kind):
        table.note("", "either unit or kind says what it gives", 'Write, for example: unit = "V".')
    if kind and kind not in KINDS_OF_READING:
        table.note("kind", f"there is no kind {kind!r} of reading", did_you_mean(kind, KINDS_OF_READING))
        kind = ""
    over, is_complex = table.table("over"), table.flag("complex", False)
    axes = {axis: _dimension(over, axis, over.text(axis)) for axis in over}
    if kind and (axes or is_complex):
        table.note("over" if axes else "complex", "is for numbers", f"A {kind} has neither axes nor parts.")
    given = table.table("arguments")
    arguments = {key: argument_of(given, key) for key in given}
    feature = Feature(
        name, unit or kind, _type(table, unit, kind, tuple(axes), is_complex), table.text("help"), axes, (), arguments
    )
    table.finish()
    return feature


def _type(table: TomlTable, unit: str, kind: str, axes: tuple[str, ...], is_complex: bool) -> Type:
    if kind:
        return declared(kind)
    dimension = _dimension(table, "unit", unit)
    if is_complex:
        return Quantity(axes, dimension, None, True)
    return (Waveform if axes == Waveform.AXES else Quantity)(axes, dimension)


def argument_of(table: TomlTable, key: str) -> Argument:
    """An argument of a reading: a unit, number, on_off, or a list of choices."""
    value = table.value(key)
    if isinstance(value, list):
        return Argument("", None, tuple(table.texts(key)))
    text = table.text(key)
    return Argument(text, None) if text == "on_off" else Argument(text, _dimension(table, key, text))


def _dimension(table: TomlTable, key: str, unit: str) -> Dimension:
    if unit in ("number", ""):
        return NUMBER.dimension
    try:
        return units.parse_unit(unit).dimension
    except UnitError as error:
        table.note(key, error.what, error.remedy or 'Write "number" for what has no unit.')
        return NUMBER.dimension
