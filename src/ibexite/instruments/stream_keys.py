"""Reads from a profile how an instrument gives its samples while it takes them, block after block."""

from __future__ import annotations

from collections.abc import Collection

from ibexite import units
from ibexite.classes import RECORDER, InstrumentClass
from ibexite.errors import did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.answers import Told
from ibexite.instruments.command_keys import command_of, commands_of, question_of
from ibexite.instruments.curve_keys import NUMBERS, ORDERS, number_or_query
from ibexite.protocols.speech import Speech, Template
from ibexite.toml_reader import TomlTable

CHANNELS = ("channels",)
BY_SAMPLE, BY_CHANNEL = "samples", "channels"


@frozen
class StreamCommands:
    """How it streams. `begin` and `end` start and stop it; `query` asks for a block of what has come of all channels
    since the last one, `first` for the number of the first sample of that block, from 0. `numbers` is their type (order
    and type as NumPy names them); a value is number x factor + offset, in the unit of what it records. In a block the
    samples of all channels stand side by side (`order` is samples), or the channels one behind the other. It takes
    samples no quicker than each `fastest` s, keeps `holds` of each channel until they are asked for, and may take
    `latency` s until it begins, and ends."""

    begin: str
    end: str
    query: str
    first: Told
    numbers: str
    factor: Told
    offset: Told
    order: str
    configure: tuple[str, ...]
    fastest: float
    holds: int
    latency: float = 0.0


def stream_of(table: TomlTable, instrument_class: InstrumentClass, speech: Speech) -> StreamCommands | None:
    """What the table [stream] of a profile says; None where there is none. Raises MistakeError."""
    if "stream" not in table:
        return None
    stream = table.table("stream")
    if not instrument_class.records:
        what = f"a {instrument_class.name} records nothing evenly"
        stream.fail("", what, f"Its class needs records = … and the settings {', '.join(RECORDER)}.")
    kind, order = _one_of(stream, "numbers", NUMBERS, "float32"), _one_of(stream, "bytes", ORDERS, "big")
    bare = speech.with_(reply=Template("{value}"))
    made = StreamCommands(
        command_of(stream, "begin", CHANNELS),
        command_of(stream, "end", CHANNELS),
        question_of(stream, "query", CHANNELS),
        number_or_query(stream, "first", units.NO_UNIT, bare),
        ORDERS[order] + NUMBERS[kind],
        number_or_query(stream, "factor", units.NO_UNIT, bare, "1"),
        number_or_query(stream, "offset", units.NO_UNIT, bare, "0"),
        _one_of(stream, "order", (BY_SAMPLE, BY_CHANNEL), BY_SAMPLE),
        commands_of(stream, "configure"),
        stream.quantity("fastest", units.SECOND, 0.0),
        stream.integer("holds"),
        stream.quantity("latency", units.SECOND, 0.0),
    )
    if not made.first.query:
        stream.note("first", "is no query", "It asks which sample came first: without it nobody knows of gaps.")
    if made.holds < 1:
        stream.note("holds", "is no number of samples", "How many it keeps of each channel until they are asked for.")
    stream.finish()
    return made


def _one_of(table: TomlTable, key: str, known: Collection[str], default: str) -> str:
    text = table.text(key, default)
    if text not in known:
        table.fail(key, f"there is no {text!r}", did_you_mean(text, known) or f"One of {', '.join(known)}.")
    return text
