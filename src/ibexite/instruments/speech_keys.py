"""Reads from a profile how an instrument writes and reads: in its table `speech` for all of it, and in each setting and
reading that is otherwise."""

from __future__ import annotations

import re

from ibexite import units
from ibexite.errors import UnitError, did_you_mean
from ibexite.instruments.command_keys import check_words
from ibexite.protocols.speech import ALL_DIGITS, NUMBER_FORMS, Speech, Template
from ibexite.toml_reader import TomlTable
from ibexite.units import Dimension

_CHANNELS = 'Write, for example: channels = ["A", "B"], or { 101 = "1!1", 102 = "1!2" }'
_WORDS = ("on", "off", "overload", "invalid")


def speech_of(table: TomlTable, base: Speech, *, is_number: bool = True) -> Speech:
    """What a table says, on top of what holds for all of the instrument.

    Args:
        is_number: it is a number that is written or read; else what is for numbers alone is refused.
    """
    words = {key: words_of(table, key) for key in _WORDS if key in table}
    on, off = ({word.upper() for word in words.get(key, ())} for key in ("on", "off"))
    if on & off:
        table.note("off", "the same word says on", "Nobody could tell whether it is off.")
    changes: dict[str, object] = dict(words)
    if ("on" in changes) != ("off" in changes):
        missing = "off" if "on" in changes else "on"
        table.note(missing, "is missing", "on and off are named together.")
    if "number" in table:
        changes["number"] = _form(table)
    if "digits" in table:
        changes["digits"] = _count(table, "digits", 3, ALL_DIGITS)
    if "decimals" in table:
        changes["decimals"] = _count(table, "decimals", 0, ALL_DIGITS)
    if "width" in table:
        changes["width"] = _count(table, "width", 1, 32)
    if "reply" in table:
        changes["reply"] = template_of(table, "reply")
    if "separator" in table:
        changes["separator"] = table.text("separator")
    made = base.with_(**changes) if changes else base
    if made.channels and "reply" in changes:
        made = made.with_(reply=Template(made.reply.text, made.channel_pattern))
    if not is_number:
        for key in ("number", "digits", "decimals", "width"):
            if key in table and key in changes:
                table.note(key, "is for numbers")
    if made.number == "comma" and made.separator == "," and not {"separator", "number"}.isdisjoint(changes):
        table.note("separator", "a decimal comma and a comma between values are the same", 'Write: separator = ";"')
    return made


def with_channels(table: TomlTable, speech: Speech) -> Speech:
    """The same with what a profile says of the channels of all of the instrument."""
    words = _channels(table) if "channels" in table else {}
    digits = _count(table, "channel_digits", 1, 9) if "channel_digits" in table else 1
    if words and digits > 1:
        table.note("channel_digits", "is for channels that are numbers", "Leave it out, or channels.")
    made = speech.with_(channels=words, channel_digits=digits)
    return made.with_(reply=Template(made.reply.text, made.channel_pattern))


def _channels(table: TomlTable) -> dict[int, str]:
    """Its words for channels: a list for 1, 2, …, or a table by their numbers."""
    if isinstance(table.value("channels"), list):
        words = dict(enumerate(table.texts("channels"), 1))
    else:
        given = table.table("channels")
        words = {}
        for key in given:
            if not re.fullmatch("[0-9]{1,9}", key):
                given.note(key, "is no number of a channel", _CHANNELS)
                continue
            words[int(key)] = given.text(key)
    texts = [word.strip().upper() for word in words.values()]
    if not texts or not all(texts) or len(set(texts)) < len(texts):
        table.note("channels", "not some different words", _CHANNELS)
    return words


def scaled(table: TomlTable, speech: Speech) -> Speech:
    """The same with `factor` and `offset` of one setting or reading: value = number x factor + offset."""
    changes = {key: _bare(table, key) for key in ("factor", "offset") if key in table}
    if changes.get("factor") == 0:
        table.note("factor", "is 0", "Write what one step of the number means.")
    return speech.with_(**changes) if changes else speech


def units_of(table: TomlTable, speech: Speech) -> Speech:
    """The same with the words of the instrument for units: units = { "OHM" = "ohm" }."""
    given = table.table("units")
    words = {}
    for word in given:
        words[word] = given.text(word)
        try:
            units.parse_unit(words[word])
        except UnitError as error:
            given.note(word, error.what, error.remedy)
    return speech.with_(units=words) if words else speech


def words_of(table: TomlTable, key: str, *, may_be_empty: bool = False) -> tuple[str, ...]:
    """One word, or a list of them: the first is sent, all are understood. `may_be_empty`: an empty word is one too."""
    words = tuple(table.texts(key)) if isinstance(table.value(key), list) else (table.text(key),)
    if not words or not (may_be_empty or all(word.strip() for word in words)):
        table.note(key, "there is an empty word")
        return ("?",)
    check_words(table, key, words)
    return words


def template_of(table: TomlTable, key: str) -> Template:
    """What a reply looks like."""
    text = table.text(key)
    try:
        return Template(text)
    except ValueError as error:
        if text:
            table.note(key, str(error), 'Write, for example: reply = "{value} V"')
        return Template("{value}")


def unit_of(table: TomlTable, dimension: Dimension | None, text: str) -> units.Unit:
    """The unit in which the instrument speaks: that of the class (`text`), unless the profile names another one."""
    if dimension is None:
        return units.NO_UNIT
    text = table.text("unit", text)
    if text in ("number", ""):
        return units.NO_UNIT
    try:
        unit = units.parse_unit(text)
    except UnitError as error:
        table.note("unit", error.what, error.remedy)
        return units.NO_UNIT
    if unit.dimension != dimension:
        table.note("unit", f"{text} is {units.describe(unit.dimension)}", f"It is {units.describe(dimension)}.")
    return unit


def _form(table: TomlTable) -> str:
    form = table.text("number")
    if form not in NUMBER_FORMS:
        table.note("number", f"there is no form {form!r}", did_you_mean(form, NUMBER_FORMS))
        return "decimal"
    return form


def _count(table: TomlTable, key: str, least: int, most: int) -> int:
    number = table.integer(key)
    if not least <= number <= most:
        table.note(key, f"not between {least} and {most}")
    return number


def _bare(table: TomlTable, key: str) -> float:
    value = table.value(key)
    try:
        return float(units.parse_quantity(str(value)))
    except UnitError as error:
        table.note(key, error.what, 'Write a bare number, factor = "0.001".')
        return 1.0
