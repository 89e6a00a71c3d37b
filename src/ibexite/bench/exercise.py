"""Goes through everything that a profile says of an instrument, and tells what does not behave: each setting at both
ends of its range (within the ceilings) and each of its words, asked back; each reading; each action.

Outputs stay off unless that is wanted; then they go on for a moment with every level as near to nothing as it can be.
At the end everything is set back to what it was, outputs off.
"""

from __future__ import annotations

import contextlib
import time
from collections.abc import Callable, Iterator
from math import inf

from ibexite.bench.bench import Bench
from ibexite.bench.entries import RoleEntry
from ibexite.bench.hand import Hand, shown
from ibexite.errors import BenchError, IbexiteError, InstrumentError
from ibexite.frozen import frozen
from ibexite.instruments.readings import Given, ReadingCommands
from ibexite.instruments.session import Session
from ibexite.instruments.settings import SettingCommands, Value

LAST = ("reset", "clear")  # actions behind all others


@frozen
class Outcome:
    """What became of one thing that was tried. `problem` is "" where it behaves; `is_left_out`: it was not tried."""

    kind: str
    name: str
    what: str  # the value that was set, or read
    problem: str
    seconds: float
    is_left_out: bool = False


def exercise(hand: Hand, role_name: str, *, with_outputs: bool = False) -> Iterator[Outcome]:
    """Tries everything of a role, one after the other.

    Raises:
        BenchError: the instrument cannot be reached, or its output is on: then both ends of its range would reach the
            product. MistakeError: there is no such role.
    """
    role = hand.role(role_name)
    session = hand.reach(role.instrument)
    hand.take_told()
    if hand.is_on(role):
        raise BenchError(
            "it is on, and its range would reach the product", where=role_name, remedy="Switch it off first."
        )
    profile = session.profile
    before = _present(session, role)
    for name, commands in profile.settings.items():  # levels first of all: as near to nothing as they can be
        if name in profile.instrument_class.levels:
            _try_to_set(hand, role, commands, _least(role, commands))
    for name, commands in profile.settings.items():
        if name in profile.safe and not with_outputs:
            yield Outcome("setting", name, "", "", 0.0, is_left_out=True)
            continue
        for value in _values(role, commands, profile.safe.get(name)):
            yield _tried_setting(hand, role, commands, value)
        if name in before and name not in profile.safe:
            _try_to_set(
                hand,
                role,
                commands,
                _least(role, commands) if name in profile.instrument_class.levels else before[name],
            )
    for name, reading in profile.readings.items():
        yield _tried_reading(hand, role, name, reading)
    for name in sorted(profile.actions, key=LAST.__contains__):
        yield _tried(hand, "action", name, "", lambda name=name: hand.do(role_name, name))  # type: ignore[misc]
    for name, value in before.items():
        if name not in profile.safe:
            _try_to_set(hand, role, profile.settings[name], value)


def _present(session: Session, role: RoleEntry) -> dict[str, Value]:
    """What the settings are; one whose answer means nothing is told where it is tried."""
    found = {}
    for name in session.profile.settings:
        with contextlib.suppress(InstrumentError):
            if session.can_ask(name):
                found[name] = session.ask_setting(name, role.channel)
    return found


def _values(role: RoleEntry, commands: SettingCommands, safe: bool | None) -> list[Value]:
    """What is set: all words; on and off, the safe one last; both ends of the range, the higher one first."""
    if commands.feature.choices:
        return list(commands.feature.choices)
    if commands.is_switch:
        return [1.0, 0.0] if not safe else [0.0, 1.0]
    low, high = _ends(role, commands)
    return [value for value in (high, low) if abs(value) < inf]


def _ends(role: RoleEntry, commands: SettingCommands) -> tuple[float, float]:
    low, high = commands.extent or (-inf, inf)
    name = commands.feature.name
    return max(low, role.floor.get(name, -inf)), min(high, role.ceiling.get(name, inf))


def _least(role: RoleEntry, commands: SettingCommands) -> Value:
    """The value that does least: 0, or what is nearest to it; of a level the lowest."""
    low, high = _ends(role, commands)
    if commands.feature.type.dimension.kind == "level":
        return low if low > -inf else min(0.0, high)
    return min(max(0.0, low), high)


def _text(commands: SettingCommands, value: Value) -> str:
    """A value as a person types it, with all digits."""
    if isinstance(value, str) or not commands.is_number:
        return shown(commands, value)
    number = commands.unit.from_base(value) if commands.unit.symbol else value
    return f"{number:.15g} {commands.unit.symbol}".strip()


def _try_to_set(hand: Hand, role: RoleEntry, commands: SettingCommands, value: Value) -> None:
    """Sets what the others need; what becomes of it is told where it is tried itself."""
    try:
        hand.set(role.name, commands.feature.name, _text(commands, value))
    except IbexiteError:
        pass
    hand.take_told()


def _tried_setting(hand: Hand, role: RoleEntry, commands: SettingCommands, value: Value) -> Outcome:
    name, text = commands.feature.name, _text(commands, value)
    return _tried(hand, "setting", name, text, lambda: hand.set(role.name, name, text))


def _tried(hand: Hand, kind: str, name: str, what: str, deed: Callable[[], object]) -> Outcome:
    began = time.monotonic()
    problem = ""
    try:
        deed()
    except IbexiteError as error:
        problem = error.what
    seconds = time.monotonic() - began
    with contextlib.suppress(IbexiteError):
        hand.tell_errors()
    reports = [text for text in hand.take_told() if " reports " in text]
    return Outcome(kind, name, what, "; ".join([problem, *reports]).strip("; "), seconds)


def _tried_reading(hand: Hand, role: RoleEntry, name: str, reading: ReadingCommands) -> Outcome:
    found = _set_up(hand, role, name, reading)
    if found is None:
        return Outcome("reading", name, f"needs {', '.join(reading.needed())}", "", 0.0, is_left_out=True)
    values: list[str] = []

    def take() -> None:
        values.append(_read(hand.bench, role, name, reading, found))

    outcome = _tried(hand, "reading", name, "", take)
    return Outcome(outcome.kind, name, values[0] if values else "", outcome.problem, outcome.seconds)


def _set_up(hand: Hand, role: RoleEntry, name: str, reading: ReadingCommands) -> dict[str, Given] | None:
    """How a signal of the bench takes this reading, else nothing but what its profile has of itself."""
    for signal in hand.file.signals.values():
        if signal.role == role.name and signal.reading == name:
            return {**signal.arguments, "channel": float(signal.channel)}
    return None if reading.needed() else {}


def _read(bench: Bench, role: RoleEntry, name: str, reading: ReadingCommands, given: dict[str, Given]) -> str:
    """A reading for people. Raises BenchError: it is bad."""
    bench.bad.clear()
    item = bench.role_item("x", role.name, name, dict(given))
    (value,) = bench.read_line([item], together=False, averaging=1, tries=1)()
    bad = [one.reason.text + (f" (reply {one.raw[:40]!r})" if one.raw else "") for one in bench.bad]
    bench.bad.clear()
    if bad:
        raise BenchError("; ".join(dict.fromkeys(bad)))
    if reading.curve is not None:
        return f"{len(value.values)} points"  # type: ignore[attr-defined]  # a curve
    if isinstance(value, bytes):
        return f"{len(value):,} bytes"
    return reading.feature.type.said(value)
