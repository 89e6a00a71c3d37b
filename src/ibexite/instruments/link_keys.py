"""What a bench file may say of a link beside its address: `link = { lock = false }`, by kind of link."""

from __future__ import annotations

from collections.abc import Callable

from ibexite.errors import did_you_mean
from ibexite.instruments.address import Address, Hislip, Vxi11
from ibexite.toml_reader import TomlTable
from ibexite.untyped import Fields

Read = Callable[[TomlTable, str], object]


def _flag(default: bool) -> Read:
    return lambda table, key: table.flag(key, default)


def _port(table: TomlTable, key: str) -> object:
    number = table.integer(key, 0)
    if not 0 < number < 65536:
        table.fail(key, f"{number} is no port", "Write a number from 1 to 65535.")
    return number


KEYS: dict[type, dict[str, tuple[str, Read]]] = {  # by type of address: what each key means, and how it is read
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
            table.fail(key, f"a link {address.kind} has no such key", remedy)
        found[key] = known[key][1](table, key)
    return found
