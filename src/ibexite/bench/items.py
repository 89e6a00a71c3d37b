"""Makes the values of read lines ready: from a signal with its conversion, from a reading of a role."""

from __future__ import annotations

from collections.abc import Callable
from math import inf

from ibexite import units
from ibexite.bench.dependent import HIDDEN, cold_junction, corrected
from ibexite.bench.entries import SignalEntry
from ibexite.bench.query import Damage, Dependent, Item
from ibexite.bench.state import BenchState
from ibexite.errors import InstrumentError
from ibexite.instruments.readings import Given
from ibexite.units import Dimension


def signal_item(bench: BenchState, name: str, signal_name: str) -> Item:
    """One value of a read line, from a signal."""
    signal = bench.file.signals[signal_name]
    session = bench.sessions[bench.file.roles[signal.role].instrument]
    commands = session.profile.readings[signal.reading]
    factor, shift = float(commands.unit.factor), float(commands.unit.offset)
    scale, convert = factor, None
    if signal.chain.is_linear and not signal.chain.offset and not shift and not signal.is_yes_no:
        scale = factor * signal.chain.scale
    elif not signal.is_digital:
        convert = _converting(signal, factor, shift)
    elif signal.is_inverted:
        convert = _opposite
    item = Item(
        name, session, commands, signal.channel, dict(signal.arguments), scale, signal.dimension, signal.believe,
        convert, _damage(signal),
    )  # fmt: skip
    if signal.junction is not None:
        other = signal_item(bench, HIDDEN + name, signal.junction.signal)
        _stands_on(item, Dependent([other], cold_junction(signal.junction), *_bounds(signal)))
    if signal.correction is not None:
        is_level = signal.dimension.kind in ("level", "db")
        apply = corrected(signal.correction, bench, is_level)
        _stands_on(item, Dependent([], apply, *_bounds(signal)))
    return item


def _stands_on(item: Item, after: Dependent) -> None:
    """What is made of an item when others are there; only that must be believable."""
    item.after, item.believe, item.damage = after, None, None
    item.__post_init__()


def role_item(bench: BenchState, name: str, role_name: str, reading: str, arguments: dict[str, Given]) -> Item:
    """One value of a read line, from a reading of a role."""
    role = bench.file.roles[role_name]
    session = bench.sessions[role.instrument]
    commands = session.profile.readings[reading]
    channel = arguments.pop("channel", role.channel)
    if isinstance(channel, str) or channel < 0 or channel % 1:
        raise InstrumentError(f"{channel} is not a channel number", where=role_name)
    if not session.profile.speech.has_channel(int(channel)):
        raise InstrumentError(f"profile {session.profile.name} has no channel {channel:g}", where=role_name)
    dimension = commands.feature.dimension or units.PLAIN
    unit = commands.unit
    return Item(name, session, commands, int(channel), arguments, float(unit.factor), dimension, None, _shifted(unit))


def _damage(signal: SignalEntry) -> Damage | None:
    if signal.damage is None:
        return None
    has_two_signs = signal.dimension.kind == "linear" and signal.dimension != units.KELVIN
    return Damage(signal.name, -signal.damage if has_two_signs else -inf, signal.damage, signal.dimension)


def _bounds(signal: SignalEntry) -> tuple[tuple[float, float] | None, Dimension, Damage | None]:
    return signal.believe, signal.dimension, _damage(signal)


def _opposite(value: float) -> float:
    return 1.0 - value


def _converting(signal: SignalEntry, factor: float, shift: float) -> Callable[[float], float]:
    """The value of a signal from the number that its meter answers, in the meter's unit."""
    convert, threshold = signal.chain.compiled(), signal.threshold
    if not signal.chain.steps:
        # Rounded, so that -40 degC is the float nearest to 233.15 K, as it is in a limit.
        convert = (lambda x: round(x, 12)) if shift else (lambda x: x)
    if threshold is not None:
        return lambda number: float(convert(number * factor + shift) > threshold)
    if factor == 1.0 and not shift:
        return convert
    return lambda number: convert(number * factor + shift)


def _shifted(unit: units.Unit) -> Callable[[float], float] | None:
    """The conversion of a reading in a unit with an offset (degC, dBW)."""
    # Rounded, so that -40 degC is the float nearest to 233.15 K, as it is in a limit.
    return None if not unit.offset else lambda value: round(value * float(unit.factor) + float(unit.offset), 12)
