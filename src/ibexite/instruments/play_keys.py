"""Reads from a profile how samples are given to an instrument that plays them."""

from __future__ import annotations

from ibexite.classes import InstrumentClass
from ibexite.errors import did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.curve_keys import NUMBERS, ORDERS
from ibexite.toml_reader import TomlTable

BLOCK = "{block}"
MOST = 16_000_000  # bytes of a block: what the links take in one message


@frozen
class PlayCommands:
    """How samples are loaded: the command, in which {block} is their place (IEEE 488.2, 8.7.9); the numbers in it
    (order and type as NumPy names them); the number that stands for the highest peak; how many its memory takes."""

    load: str
    numbers: str
    scale: float
    most: int

    @property
    def bytes_each(self) -> int:
        """Of a sample."""
        return int(self.numbers[-1])


def play_of(table: TomlTable, instrument_class: InstrumentClass) -> PlayCommands | None:
    """What the table [play] of a profile says; None where there is none. Raises MistakeError."""
    if "play" not in table:
        return None
    play = table.table("play")
    if not instrument_class.plays:
        play.fail("", f"a {instrument_class.name} plays no samples", "A function_generator does.")
    load, kind, order = play.text("load"), play.text("numbers", "float32"), play.text("bytes", "big")
    if load.count(BLOCK) != 1:
        play.note("load", "no place for the samples", 'Write, for example: load = "TRAC:DATA WAVE,{block}"')
    if kind not in NUMBERS:
        play.fail("numbers", f"there is no {kind!r}", did_you_mean(kind, NUMBERS))
    if order not in ORDERS:
        play.fail("bytes", f"there is no order {order!r}", "Write big (most significant byte first) or little.")
    scale, most = float(play.integer("scale", 1)), play.integer("most")
    if scale <= 0:
        play.note("scale", "is not above 0", "It is the number that stands for the highest peak.")
    bytes_each = int(NUMBERS[kind][-1])
    if not 1 <= most * bytes_each <= MOST:
        play.note("most", "is no number of samples that goes into one message", f"At most {MOST // bytes_each:,}.")
    play.finish()
    return PlayCommands(load, ORDERS[order] + NUMBERS[kind], scale, most)
