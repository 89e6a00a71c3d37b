"""Protection levels inside the instruments: written before anything is switched on, read back, and written again where
an action (a reset) has taken them away. Whether they are still there is looked at with all that is proved."""

from __future__ import annotations

from collections.abc import Iterable

from ibexite.bench.entries import RoleEntry
from ibexite.bench.interface import Key
from ibexite.bench.state import BenchState
from ibexite.errors import InstrumentError
from ibexite.instruments.settings import Value


def protect(bench: BenchState, roles: Iterable[RoleEntry]) -> None:
    """Writes the protection levels of some roles and reads them back.

    Raises:
        InstrumentError: an instrument did not take a level.
    """
    for role in roles:
        for setting, value in role.protect.items():
            _write(bench, (role.name, setting), value)


def levels(bench: BenchState, instrument: str) -> dict[Key, Value]:
    """The protection levels that the roles of an instrument are believed to have."""
    keys = [(role.name, s) for role in bench.roles() if role.instrument == instrument for s in role.protect]
    return {key: bench.state[key] for key in keys if key in bench.state}


def keep(bench: BenchState, before: dict[Key, Value]) -> None:
    """Writes those levels again that are no longer as they were. Raises InstrumentError."""
    for key, value in before.items():
        if bench.state.get(key) != value:
            _write(bench, key, value)


def _write(bench: BenchState, key: Key, value: Value) -> None:
    role, setting = bench.file.roles[key[0]], key[1]
    session = bench.sessions[role.instrument]
    commands = session.profile.settings[setting]
    session.send(commands.encoder(role.channel)(value))
    held = session.ask_setting(setting, role.channel)
    if not commands.agrees(held, value):
        raise InstrumentError(
            f"{setting} was set to {commands.said(value)} but reads back {commands.said(held)}",
            where=role.name,
            remedy="Check protect in the bench file against the instrument's range.",
        )
    bench.state[key] = value  # so that it is looked at again whenever all is proved
