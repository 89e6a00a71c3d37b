"""Reads the settings and readings of a profile."""

from __future__ import annotations

from ibexite import units
from ibexite.classes import Argument, Feature, InstrumentClass
from ibexite.classes.class_files import argument_of
from ibexite.errors import UnitError, did_you_mean
from ibexite.instruments.accuracy import Accuracy, accuracy_of
from ibexite.instruments.command_keys import CHANNEL, check_command, check_words, command_of, question_of
from ibexite.instruments.curve_keys import curve_commands
from ibexite.instruments.link import Lines
from ibexite.instruments.parts_keys import layout_of
from ibexite.instruments.readings import ArgumentText, ReadingCommands
from ibexite.instruments.settings import SettingCommands, When
from ibexite.instruments.speech_keys import scaled, speech_of, unit_of, words_of
from ibexite.instruments.times import timeout_of
from ibexite.protocols.speech import ALL_DIGITS, Speech
from ibexite.toml_reader import TomlTable
from ibexite.values import Compound

MOST_LINES = 10_000
RANGES = 'Write: ranges = [{ when = { voltage = ["0 V", "8 V"] }, range = ["0 A", "3 A"] }]'


def setting_of(table: TomlTable, instrument_class: InstrumentClass, name: str, base: Speech) -> SettingCommands:
    """One setting. Raises MistakeError: all that is wrong with it."""
    feature = _feature(table, instrument_class.settings, instrument_class, name, "setting")
    unit = unit_of(table, feature.dimension, feature.unit)
    speech = speech_of(table, base, is_number=feature.dimension is not None)
    extent, ranges = None, tuple[When, ...]()
    if feature.dimension is not None:
        speech = scaled(table, speech)
        extent = table.extent("range", feature.dimension)
        ranges = _ranges(table, instrument_class, feature)
    if feature.choices:
        speech = speech.with_(words=_choices(table, feature))
        _check_distinct(table, feature, speech)
    elif "words" in table:
        table.fail("words", "is for choices", f"{name} is {feature.told}.")
    after = tuple(table.texts("after", []))
    for other in after:
        if other not in instrument_class.settings or other == name:
            table.note("after", f"there is no other setting {other!r}", did_you_mean(other, instrument_class.settings))
    write = command_of(table, "write", ("value", "channel"))
    setting = SettingCommands(
        feature, write, question_of(table, "ask", CHANNEL, ""), extent, unit, speech,
        _resolution(table, feature), table.flag("told", True), after, ranges,
    )  # fmt: skip
    if "ask" not in table:
        table.note("ask", "is missing", 'It takes the query that asks it back; ask = "" where there is none.')
    if "write" in table and setting.write.count("{value}") != 1:
        table.note("write", "does not say where the value goes, once", "Put {value} into the command.")
    if speech.number == "hex" and (extent is None or extent[0] < 0):
        table.note("range", "a hexadecimal number is not below zero", 'Write, as range = ["0 V", "10 V"].')
    table.finish()
    return setting


def _feature(
    table: TomlTable, features: dict[str, Feature], instrument_class: InstrumentClass, name: str, kind: str
) -> Feature:
    if name not in features:
        remedy = did_you_mean(name, features)
        table.fail("", f"a {instrument_class.name} has no {kind} {name!r}", remedy)
    return features[name]


def _choices(table: TomlTable, feature: Feature) -> dict[str, tuple[str, ...]]:
    given = table.table("words")
    words = {}
    for choice in given:
        if choice not in feature.choices:
            given.note(choice, f"{feature.name} has no such choice", did_you_mean(choice, feature.choices))
        words[choice] = words_of(given, choice)
    return words


def _check_distinct(table: TomlTable, feature: Feature, speech: Speech) -> None:
    """Notes a word that stands for two choices: nobody could tell which of them is set."""
    seen: dict[str, str] = {}
    for choice in feature.choices:
        for word in speech.words.get(choice, (choice,)):
            other = seen.setdefault(word.strip().upper(), choice)
            if other != choice:
                table.note("words", f"{word!r} stands for {other} and for {choice}", "Each has words of its own.")


def _ranges(table: TomlTable, instrument_class: InstrumentClass, feature: Feature) -> tuple[When, ...]:
    """Ranges that hold while another setting is so: ranges = [{ when = { voltage = ["0 V", "8 V"] }, range = … }]."""
    assert feature.dimension is not None
    found = []
    for entry in table.list_of_tables("ranges"):
        when, extent = entry.table("when", needed=True), entry.extent("range", feature.dimension)
        others = list(when)
        if len(others) != 1 or extent is None:
            entry.note("when", "not one other setting, and a range", RANGES)
            continue
        other = instrument_class.settings.get(others[0])
        if other is None or other.name == feature.name:
            when.note(
                others[0], "there is no other setting of this name", did_you_mean(others[0], instrument_class.settings)
            )
            continue
        if other.dimension is not None:
            found.append(When(other.name, when.extent(other.name, other.dimension), (), *extent))
            continue
        words = words_of(when, other.name)
        for word in words:
            if word not in other.choices:
                when.note(other.name, f"there is no choice {word!r}", did_you_mean(word, other.choices))
        found.append(When(other.name, None, words, *extent))
    return tuple(found)


def _resolution(table: TomlTable, feature: Feature) -> float:
    if feature.dimension is None or "resolution" not in table:
        return 0.0
    return table.quantity("resolution", units.difference(feature.dimension))


def reading_of(table: TomlTable, instrument_class: InstrumentClass, name: str, base: Speech) -> ReadingCommands:
    """One reading. Raises MistakeError: all that is wrong with it."""
    feature = _feature(table, instrument_class.readings, instrument_class, name, "reading")
    has_rows = isinstance(feature.type, Compound)
    unit = unit_of(table, feature.dimension, feature.unit)
    speech = speech_of(table, base, is_number=feature.dimension is not None or has_rows)
    if feature.dimension is not None and not feature.axes:
        speech = scaled(table, speech)
    layout = layout_of(table, feature)
    arguments = _arguments(table, feature, base)
    gaps = ("channel", *arguments)
    reading = ReadingCommands(
        feature,
        question_of(table, "query", gaps),
        _configure(table, gaps),
        command_of(table, "select", ("channels", *gaps), ""),
        arguments,
        unit,
        curve_commands(table, feature, base),
        timeout_of(table, "timeout", None),
        table.flag("repeat", True),
        speech,
        layout,
        _lines(table),
        _accuracy(table, feature),
    )
    table.finish()
    return reading


def _accuracy(table: TomlTable, feature: Feature) -> Accuracy | None:
    if "accuracy" not in table:
        return None
    if feature.dimension is None or feature.axes:
        table.note("accuracy", "is of numbers", f"{feature.name} is {feature.type}.")
        return None
    return accuracy_of(table, "accuracy", feature.dimension)


def _lines(table: TomlTable) -> Lines | None:
    """Of how many lines a reply consists, where that is not one."""
    last = table.text("last_line", "")
    count = table.integer("lines") if "lines" in table else 1
    if "lines" in table and (last or not 2 <= count <= MOST_LINES):
        table.note(
            "lines", f"not a whole number from 2 to {MOST_LINES}, alone", "Or write last_line, which ends the reply."
        )
    if table.text("form", "") == "block" and (last or count > 1):
        table.note("form", "is a block, which has its length", "Leave out lines and last_line.")
    return Lines(count, last.encode("latin-1", "replace")) if last or count > 1 else None


def _configure(table: TomlTable, gaps: tuple[str, ...]) -> tuple[str, ...]:
    if "configure" not in table:
        return ()
    texts = (
        tuple(table.texts("configure")) if isinstance(table.value("configure"), list) else (table.text("configure"),)
    )
    for text in texts:
        check_command(table, "configure", text, gaps)
    return tuple(text for text in texts if text)


def _arguments(table: TomlTable, feature: Feature, base: Speech) -> dict[str, ArgumentText]:
    """Those that the profile names, each by its unit (in which it is written), or by a table with more to say."""
    given = table.table("arguments")
    found = {}
    for name in given:
        entry = given.table(name) if isinstance(given.value(name), dict) else None
        known = feature.arguments.get(name)
        if entry is None:
            argument = argument_of(given, name)
        else:
            argument = argument_of(entry, "unit") if "unit" in entry else known or Argument("", None)
        if known is not None and (known.dimension, known.choices) != (argument.dimension, argument.choices):
            given.note(name, f"{feature.name} takes {known.unit or ', '.join(known.choices)} for it")
        default = entry.text("default") if entry is not None and "default" in entry else None
        if default:
            check_words(given, name, [default])
        words = _argument_words(entry, argument) if entry is not None else {}
        speech = base.with_(decimals=None, digits=ALL_DIGITS)
        speech = speech if entry is None else speech_of(entry, speech)
        is_optional = entry.flag("optional", False) if entry is not None else False
        if entry is not None:
            entry.finish()
        found[name] = ArgumentText(argument, _written_in(argument), default, is_optional, words, speech)
        if is_optional and any(f"{{{name}}}" in table.text(key, "") for key in ("query", "select")):
            given.note(name, "is optional, but the query names it", "Give it a default.")
    return found


def _argument_words(entry: TomlTable, argument: Argument) -> dict[str, str]:
    given = entry.table("words")
    known = argument.choices or ("on", "off")
    for word in given:
        if word not in known:
            given.note(word, "there is no such choice", did_you_mean(word, known))
    words = {word: given.text(word) for word in given}
    for word, text in words.items():
        check_words(given, word, [text])
    return words


def _written_in(argument: Argument) -> units.Unit:
    if argument.dimension is None or argument.unit in ("number", ""):
        return units.NO_UNIT
    try:
        return units.parse_unit(argument.unit)
    except UnitError:  # it was noted where it was read
        return units.NO_UNIT
