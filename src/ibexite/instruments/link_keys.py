"""What a bench file may say of a link beside its address: `link = { lock = false }`, by kind of link."""

from __future__ import annotations

from collections.abc import Callable

from ibexite import units
from ibexite.errors import did_you_mean
from ibexite.instruments.address import Address, Hislip, Serial, Usbtmc, Vxi11
from ibexite.instruments.serial_stream import PARITIES
from ibexite.toml_reader import TomlTable
from ibexite.untyped import Fields

Read = Callable[[TomlTable, str], object]


def _flag(default: bool) -> Read:
    return lambda table, key: table.flag(key, default)


def _number(least: int, most: int) -> Read:
    def read(table: TomlTable, key: str) -> object:
        number = table.integer(key, 0)
        if not least <= number <= most:
            table.fail(key, f"{number} is not between {least} and {most}")
        return number

    return read


def _one_of(*words: str) -> Read:
    def read(table: TomlTable, key: str) -> object:
        word = table.text(key)
        if word not in words:
            table.fail(key, f"{word!r} is none of the words for it", did_you_mean(word, words))
        return word

    return read


def _seconds(most: float) -> Read:
    """Times in which nobody can stop a run."""

    def read(table: TomlTable, key: str) -> object:
        seconds = table.quantity(key, units.SECOND)
        if not 0 <= seconds <= most:
            table.fail(key, f"not between 0 s and {most:g} s")
        return seconds

    return read


def _port(table: TomlTable, key: str) -> object:
    number = table.integer(key, 0)
    if not 0 < number < 65536:
        table.fail(key, f"{number} is no port", "Write a number from 1 to 65535.")
    return number


KEYS: dict[type[Address], dict[str, tuple[str, Read]]] = {  # what each means, and how it is read
    Hislip: {
        "lock": ("whether the instrument is locked against other computers (true)", _flag(True)),
        "overlapped": ("whether several messages may be on their way, numbered by the server (false)", _flag(False)),
    },
    Vxi11: {
        "lock": ("whether the instrument is locked against other computers (true)", _flag(True)),
        "port": ("the port of the core channel, where no port mapper can be asked", _port),
        "reads_to_terminator": ("for a device that tells no end: a reply ends at its terminator (false)", _flag(False)),
        "local": ("whether the front panel is given back at the end (false)", _flag(False)),
    },
    Usbtmc: {"local": ("whether the front panel is given back at the end (false)", _flag(False))},
    Serial: {
        "baud": ("bits a second (9600)", _number(50, 4_000_000)),
        "bits": ("data bits (8)", _number(5, 8)),
        "parity": ("none, even, odd, mark or space (none)", _one_of(*PARITIES)),
        "stop_bits": ("1 or 2 (1)", _number(1, 2)),
        "flow": ("none, xon_xoff or rts_cts (none)", _one_of("none", "xon_xoff", "rts_cts")),
        "echo": ("whether it repeats what it is sent (false)", _flag(False)),
        "pace": ("time between two messages (0 s)", _seconds(2.0)),
        "character_pace": ("time behind each character (0 s)", _seconds(0.05)),
    },
}  # fmt: skip


def read_link_keys(table: TomlTable, address: Address) -> Fields:
    """The keys of a link that are written there.

    Raises:
        MistakeError: one that such a link does not have, or a wrong value.
    """
    known = KEYS.get(type(address), {})
    found = {}
    for key in table:
        if key not in known:
            remedy = did_you_mean(key, known) or "Such a link has no keys."
            table.fail(key, f"a link by {address.word} has no such key", remedy)
        found[key] = known[key][1](table, key)
    return found
