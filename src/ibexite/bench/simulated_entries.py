"""Reads what a bench file says of the stand-in of an instrument, and of what goes wrong with it."""

from __future__ import annotations

import tomllib

from ibexite import units
from ibexite.bench.entries import SimulatedEntry, TroubleEntry
from ibexite.errors import MistakeError
from ibexite.toml_reader import TomlTable

_TROUBLE_FORM = """Write, for example: --trouble 'dmm: query = "READ?", how = "garbage", nth = 3'"""


def simulated_entry(table: TomlTable) -> SimulatedEntry:
    wiring_table = table.table("wiring")
    wiring = {}
    for key in wiring_table:
        if not key.isdigit():
            wiring_table.fail(key, "is not a channel number", 'Write, for example: wiring = { 101 = "rail_3v3" }.')
        wiring[int(key)] = wiring_table.text(key)
    troubles = tuple(_trouble(entry) for entry in table.list_of_tables("trouble"))
    fact = SimulatedEntry(table.text("identity"), wiring, table.quantity("answer_time", units.SECOND, 0.0), troubles)
    table.finish()
    return fact


def _trouble(entry: TomlTable) -> TroubleEntry:
    query, command = entry.text("query", ""), entry.text("command", "")
    if bool(query) == bool(command):
        entry.fail(
            "query", "either query or command says which messages are meant", 'Write, for example: query = "MEAS"'
        )
    pause, longest = _pause(entry)
    nth, times = entry.integer("nth", 1), entry.integer("times", 1)
    for key, number in (("nth", nth), ("times", times)):
        if number < 1:
            entry.fail(key, f"{number} is less than 1", "So it would never come about.")
    found = TroubleEntry(query, entry.text("how"), nth, times, command, pause, entry.text("message", ""), longest)
    entry.finish()
    return found


def _pause(entry: TomlTable) -> tuple[float | None, float | None]:
    """The pause of a trouble: one time, or two between which it is another one each time."""
    if "pause" not in entry:
        return None, None
    is_random = isinstance(entry.value("pause"), list)
    ends = entry.extent("pause", units.SECOND) if is_random else (entry.quantity("pause", units.SECOND),)
    assert ends
    if not all(0 <= end <= 3600 for end in ends):
        entry.fail("pause", "not between 0 s and 1 h")
    return ends[0], ends[1] if len(ends) > 1 else None


def trouble_of(text: str) -> tuple[str, TroubleEntry]:
    """An instrument and a trouble, from a text as `dmm: query = "READ?", how = "late"`. Raises MistakeError."""
    where = f"--trouble {text!r}"
    name, colon, pairs = text.partition(":")
    try:
        data = tomllib.loads(f"trouble = {{ {pairs} }}")["trouble"]
    except tomllib.TOMLDecodeError as error:
        raise MistakeError(str(error), where=where, remedy=_TROUBLE_FORM) from None
    if not colon:
        raise MistakeError("it names no instrument", where=where, remedy=_TROUBLE_FORM)
    return name.strip(), _trouble(TomlTable(data, where, ""))
