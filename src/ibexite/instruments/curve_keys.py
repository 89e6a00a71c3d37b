"""Reads from a profile how a whole curve is answered: its form, what scales it, where its points lie."""

from __future__ import annotations

from ibexite import units
from ibexite.classes import Feature
from ibexite.errors import UnitError, did_you_mean
from ibexite.instruments.answers import SPACINGS, AxisCommands, CurveCommands, Spacing, Told
from ibexite.instruments.command_keys import CHANNEL, check_command, question_of
from ibexite.instruments.speech_keys import speech_of, words_of
from ibexite.protocols.speech import Speech, Template
from ibexite.toml_reader import TomlTable
from ibexite.units import Dimension, Unit
from ibexite.values import Connections, Picture, Table

NUMBERS = {"int8": "i1", "uint8": "u1", "int16": "i2", "uint16": "u2", "int32": "i4", "float32": "f4", "float64": "f8"}
ORDERS = {"big": ">", "little": "<"}
_OF_TEXT = ("reply", "number", "separator", "overload", "invalid")
_PLAIN = Template("{value}")


def curve_commands(table: TomlTable, feature: Feature, base: Speech) -> CurveCommands | None:
    """What a profile says of a reading that gives a curve; None for one that gives a single value.

    Args:
        base: how the instrument writes and answers, where nothing else is said.
    """
    if not feature.axes:
        for key in ("form", "numbers", "bytes", "axes"):
            if key in table and not (key == "form" and isinstance(feature.type, Table | Connections | Picture)):
                table.fail(key, "is for curves", f"{feature.name} is one value.")
        return None
    form = table.text("form", "list")
    if form not in ("list", "block"):
        table.fail("form", f"there is no form {form!r}", "Write list (numbers with commas) or block (IEEE 488.2).")
    numbers = ""
    if form == "block":
        kind, order = table.text("numbers", "float32"), table.text("bytes", "big")
        if kind not in NUMBERS:
            table.fail("numbers", f"there is no {kind!r}", did_you_mean(kind, NUMBERS))
        if order not in ORDERS:
            table.fail("bytes", f"there is no order {order!r}", "Write big (most significant byte first) or little.")
        numbers = ORDERS[order] + NUMBERS[kind]
        for key in _OF_TEXT:
            if key in table:
                table.note(key, "is for lists", "A block holds bytes, of which `numbers` tells what they are.")
    known = table.tables("axes")
    if set(known) != set(feature.axes):
        table.fail("axes", f"{feature.name} is over {', '.join(feature.axes)}", "Say of each how its points are known.")
    axes = tuple(_axis(known[name], name, dimension, base) for name, dimension in feature.axes.items())
    if len(axes) > 1 and any(axis.start for axis in axes):
        table.fail("axes", "start and step are for one axis", "Name a query for the points of each.")
    bare = base.with_(reply=_PLAIN)  # these have no unit
    factor, offset = (
        number_or_query(table, key, units.NO_UNIT, bare, default) for key, default in (("factor", "1"), ("offset", "0"))
    )
    return CurveCommands(numbers, axes, factor, offset, feature.type.is_complex)


def _axis(table: TomlTable, name: str, dimension: Dimension, base: Speech) -> AxisCommands:
    try:
        unit = units.parse_unit(table.text("unit", units.symbol_of(dimension)))
    except UnitError as error:
        table.fail("unit", error.what, error.remedy)
    if unit.dimension != dimension:
        table.fail("unit", f"is {units.describe(unit.dimension)}", f"{name} is {units.describe(dimension)}.")
    if "points" in table:
        query, speech = _query(table, "points", base)
        made = AxisCommands(name, unit, points=Told(query, 0.0, unit, speech))
    else:
        start = number_or_query(table, "start", unit, base)
        if "stop" in table:
            made = AxisCommands(
                name, unit, start, stop=number_or_query(table, "stop", unit, base), spacing=_spacing(table, base)
            )
        else:
            made = AxisCommands(name, unit, start, number_or_query(table, "step", unit, base))
    table.finish()
    return made


def number_or_query(table: TomlTable, key: str, unit: Unit, base: Speech, default: str = "") -> Told:
    """A number that always holds, or a query: a text with a question mark in it, or a table that says so."""
    if key in table and isinstance(table.value(key), dict):
        query, speech = _query(table, key, base)
        return Told(query, 0.0, unit, speech)
    text = table.text(key, default) if default else table.text(key)
    if "?" in text:
        check_command(table, key, text, CHANNEL, is_question=True)
        return Told(text, 0.0, unit, base)
    try:
        quantity = units.parse_quantity(text)
        if quantity.dimension != unit.dimension:
            raise UnitError(f"{text} is {units.describe(quantity.dimension)}")
    except UnitError as error:
        table.fail(key, error.what, f'Write a number with its unit, or a query: {key} = {{ query = "{text}" }}.')
    return Told("", float(quantity), unit)


def _spacing(table: TomlTable, base: Speech) -> Spacing | None:
    if "spacing" not in table:
        return None
    query, speech = _query(table, "spacing", base.with_(words=SPACINGS))
    return Spacing(query, speech)


def _query(table: TomlTable, key: str, base: Speech) -> tuple[str, Speech]:
    """A query and how it is answered: its text, or a table with more to say."""
    if not isinstance(table.value(key), dict):
        return question_of(table, key, CHANNEL), base
    entry = table.table(key)
    query, speech = question_of(entry, "query", CHANNEL), speech_of(entry, base)
    if "words" in entry:
        given = entry.table("words")
        for word in given:
            if word not in speech.words:
                given.note(word, "there is no such word", did_you_mean(word, speech.words))
        speech = speech.with_(words={**speech.words, **{word: words_of(given, word) for word in given}})
    if not query:
        entry.note("query", "is empty")
    entry.finish()
    return query, speech
