"""Instrument profiles: which commands do what the class promises. TOML, to be read, copied and mended.

Shipped profiles use commands of SCPI-1999 and IEEE 488.2 only.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

from ibexite import units
from ibexite.classes import Feature, InstrumentClass, instrument_classes
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.answers import CurveCommands, curve_commands
from ibexite.plain_file import is_file
from ibexite.protocols.scpi import INFINITY, response_value
from ibexite.toml_reader import TomlTable, read_toml
from ibexite.units import Dimension, Unit

SHIPPED = Path(__file__).with_name("profiles")
TIMEOUT, REPEAT_PAUSE = 2.0, 0.02  # s, unless a profile says otherwise
SHORTEST, LONGEST, MOST_PAUSE = 1e-3, 3600.0, 10.0  # s
ERRORS_READ = ("setting", "line", "test", "never")
_SWITCH_WORDS = {"ON": 1.0, "OFF": 0.0}
ALL_DIGITS = 15  # with as many every decimal number survives a float (IEEE 754 binary64)


@frozen
class SettingCommands:
    """How a setting is written and asked back; `{value}` and `{channel}` are filled in."""

    feature: Feature
    write: str
    ask: str
    extent: tuple[float, float] | None  # what the instrument takes, in base units
    unit: Unit  # in which the instrument speaks
    digits: int = ALL_DIGITS  # with which a value is sent; one with more is rounded, and recorded as it was sent
    resolution: float = 0.0  # of what it answers, in base units

    @property
    def is_rounded(self) -> bool:
        """True if it is sent with fewer digits than a number may have."""
        return self.feature.dimension is not None and self.digits < ALL_DIGITS

    def sent(self, value: float) -> float:
        """The value that reaches the instrument, in base units: rounded to its digits, in its own unit."""
        factor, offset = float(self.unit.factor), float(self.unit.offset)
        written = float(f"{(value - offset) / factor:.{self.digits}g}")
        return round(written * factor + offset, 12) if offset else written * factor

    def encoder(self, channel: int) -> Callable[[float], str]:
        """The function that makes the command from a value in base units (True/False for on/off).

        Numbers are written with as few digits as read back the same, 15 at most, or as few as the profile asks for.
        """
        before, _, after = self.write.replace("{channel}", str(channel)).partition("{value}")
        if self.feature.dimension is None:
            on, off = before + "ON" + after, before + "OFF" + after
            return lambda value: on if value else off
        factor, offset, digits = float(self.unit.factor), float(self.unit.offset), self.digits
        if factor == 1 and not offset:
            return lambda value: f"{before}{value + 0.0:.{digits}g}{after}"  # + 0.0: never "-0"
        return lambda value: f"{before}{(value - offset) / factor + 0.0:.{digits}g}{after}"

    def told(self, reply: str) -> float:
        """The value that a reply to `ask` tells, in base units (1.0 or 0.0 for on/off). Raises ValueError."""
        is_switch = self.feature.dimension is None
        if is_switch and reply.upper() in _SWITCH_WORDS:
            return _SWITCH_WORDS[reply.upper()]
        number = response_value(reply)
        if abs(number) >= 0.999 * INFINITY:
            raise ValueError(reply)
        if is_switch:
            return float(number != 0)
        factor, offset = float(self.unit.factor), float(self.unit.offset)
        return round(number * factor + offset, 12) if offset else number * factor

    def room(self, value: float) -> float:
        """How far an answer may lie from the value that was set: 0.1 % and a ten-thousandth of the range, at least its
        resolution."""
        span = self.extent[1] - self.extent[0] if self.extent else 0.0
        return max(1e-3 * abs(value) + 1e-4 * span + 1e-9, self.resolution)


@frozen
class ReadingCommands:
    """How a reading is taken. With `select` the instrument is a scanner: one query reads several channels. `curve` says
    how a whole curve is answered; None for one value."""

    feature: Feature
    query: str
    configure: str
    select: str
    arguments: dict[str, Dimension]
    unit: Unit  # in which the instrument answers
    curve: CurveCommands | None = None
    timeout: float | None = None  # s, of its replies; None: that of the instrument
    may_repeat: bool = True  # asked twice it means the same


@frozen
class Waits:
    """Time-outs in s of what takes another time than a reply, and the pause before a query is repeated."""

    connecting: float  # until the link is open, each of its steps
    sending: float  # until something is taken of what is sent
    acting: float  # until an action is carried out
    starting: float  # until it is in its known state
    repeating: float  # before a bad reading is asked for again; twice as long each time


@frozen
class Profile:
    """One kind of instrument."""

    name: str
    instrument_class: InstrumentClass
    settings: dict[str, SettingCommands]
    readings: dict[str, ReadingCommands]
    actions: dict[str, str]  # the command of each
    start: tuple[str, ...]  # sent after connecting: the known state, outputs off
    safe: dict[str, bool]  # settings that make it safe, and their safe value
    error_query: str  # "" when it has no error queue
    errors_read: str  # when that is asked: one of ERRORS_READ
    complete_query: str  # answers when all settings before it were carried out; "" when it has none
    limiting_query: str  # read-and-clear: never repeated; "" when it cannot tell
    tripped_queries: tuple[str, ...]  # each answers 1 while a protection has switched it off
    timeout: float  # s, of a reply
    settling: float  # s until a changed setting is true
    answer_time: float  # s that a reading takes, for the preview; 0 where nobody knows
    terminator: str
    reply_terminator: str
    path: Path
    sha256: str
    waits: Waits
    is_compound: bool  # several queries may be joined in one message (IEEE 488.2)


def bare_profile() -> Profile:
    """That of an instrument of which nothing is known: it can be asked, and nobody knows how it is switched off."""
    nothing = InstrumentClass("instrument", "nothing is known of it", {}, {}, {}, "", ())
    return Profile(
        "none", nothing, {}, {}, {}, (), {}, "", "never", "", "", (), TIMEOUT, 0.0, 0.0, "\n", "\n", Path(), "",
        Waits(TIMEOUT, TIMEOUT, TIMEOUT, TIMEOUT, REPEAT_PAUSE), True,
    )  # fmt: skip


def load_profile(name: str, folder: Path) -> Profile:
    """The profile of this name: a file (relative to `folder`) when it ends in .toml, else a shipped one.

    Raises:
        MistakeError: no such profile, or something in it is wrong.
    """
    if name.endswith(".toml"):
        return _profile(folder / name, name.removesuffix(".toml"))
    path = SHIPPED / f"{name}.toml"
    if not is_file(path):
        known = sorted(p.stem for p in SHIPPED.glob("*.toml"))
        raise MistakeError(
            f"there is no profile {name!r}",
            remedy=did_you_mean(name, known) + " A profile of your own is named by its file, my.toml.",
        )
    return _profile(path, name)


def _profile(path: Path, name: str) -> Profile:
    table = read_toml(path, what="profile")
    class_name = table.text("class")
    table.text("help", "")
    known = instrument_classes()
    if class_name not in known:
        table.fail("class", f"there is no class {class_name!r}", did_you_mean(class_name, known))
    instrument_class = known[class_name]
    settings = {key: _setting(entry, instrument_class, key) for key, entry in table.tables("settings").items()}
    readings = {key: _reading(entry, instrument_class, key) for key, entry in table.tables("readings").items()}
    actions = _actions(table.table("actions"), instrument_class)
    safe = table.table("safe")
    safe_values = {key: safe.flag(key, False) for key in safe}
    for key in safe_values:
        if key not in settings:
            safe.fail(key, "is not a setting of this profile", did_you_mean(key, settings))
    quirks = table.table("quirks")
    profile = Profile(
        name,
        instrument_class,
        settings,
        readings,
        actions,
        tuple(table.texts("start", [])),
        safe_values,
        table.text("error_query", ""),
        _errors_read(table),
        table.text("complete_query", "*OPC?"),
        table.text("limiting_query", ""),
        tuple(table.texts("tripped_queries", [])),
        _timeout(quirks, "timeout", TIMEOUT),
        quirks.quantity("settling", units.SECOND, 0.0),
        quirks.quantity("answer_time", units.SECOND, 0.0),
        end := quirks.text("terminator", "\n"),
        quirks.text("reply_terminator", end),
        path,
        hashlib.sha256(path.read_bytes()).hexdigest(),
        _waits(quirks),
        quirks.flag("compound", True),
    )
    quirks.finish()
    table.finish()
    return profile


def _waits(quirks: TomlTable) -> Waits:
    timeout = _timeout(quirks, "timeout", TIMEOUT)
    connecting, sending = _timeout(quirks, "connect_timeout", timeout), _timeout(quirks, "send_timeout", timeout)
    acting, starting = _timeout(quirks, "action_timeout", timeout), _timeout(quirks, "start_timeout", timeout)
    pause = quirks.quantity("repeat_pause", units.SECOND, REPEAT_PAUSE)
    if not 0 <= pause <= MOST_PAUSE:
        quirks.fail("repeat_pause", f"not between 0 s and {MOST_PAUSE:g} s", "It is doubled each time.")
    return Waits(connecting, sending, acting, starting, pause)


def _timeout(table: TomlTable, key: str, default: float | None) -> Any:
    seconds = table.quantity(key, units.SECOND, default)
    if seconds is not None and not SHORTEST <= seconds <= LONGEST:
        table.fail(key, f"not between {SHORTEST * 1000:g} ms and {LONGEST:g} s", "So long is waited for an answer.")
    return seconds


def _errors_read(table: TomlTable) -> str:
    when = table.text("errors_read", "test")
    if when not in ERRORS_READ:
        table.fail("errors_read", f"{when!r} is no such time", did_you_mean(when, ERRORS_READ))
    return when


def _actions(table: TomlTable, instrument_class: InstrumentClass) -> dict[str, str]:
    actions = {"reset": "*RST", "clear": "*CLS"}
    for key in table:
        if key not in instrument_class.actions:
            table.fail(
                key, f"a {instrument_class.name} has no such action", did_you_mean(key, instrument_class.actions)
            )
        actions[key] = table.text(key)
    return actions


def _unit(table: TomlTable, feature: Feature) -> Unit:
    """The unit in which the instrument speaks: that of the class, unless the profile names another one."""
    if feature.dimension is None:
        return units.NO_UNIT
    text = table.text("unit", feature.unit)
    try:
        unit = units.parse_unit(text)
    except UnitError as error:
        table.fail("unit", error.what, error.remedy)
    if unit.dimension != feature.dimension:
        table.fail("unit", f"{text} is {units.describe(unit.dimension)}", f"It is {units.describe(feature.dimension)}.")
    return unit


def _setting(table: TomlTable, instrument_class: InstrumentClass, key: str) -> SettingCommands:
    feature = instrument_class.settings.get(key)
    if feature is None:
        table.fail(
            "", f"a {instrument_class.name} has no setting {key!r}", did_you_mean(key, instrument_class.settings)
        )
    extent = table.extent("range", feature.dimension) if feature.dimension else None
    digits = table.integer("digits", 15)
    if not 3 <= digits <= 15:
        table.fail("digits", "not between 3 and 15", "Leave it out where the instrument takes any number.")
    resolution = _resolution(table, feature)
    setting = SettingCommands(
        feature, table.text("write"), table.text("ask"), extent, _unit(table, feature), digits, resolution
    )
    table.finish()
    if "{value}" not in setting.write:
        table.fail("write", "does not say where the value goes", "Put {value} into the command.")
    return setting


def _resolution(table: TomlTable, feature: Feature) -> float:
    if feature.dimension is None or "resolution" not in table:
        return 0.0
    return table.quantity("resolution", units.difference(feature.dimension))


def _reading(table: TomlTable, instrument_class: InstrumentClass, key: str) -> ReadingCommands:
    feature = instrument_class.readings.get(key)
    if feature is None:
        table.fail(
            "", f"a {instrument_class.name} has no reading {key!r}", did_you_mean(key, instrument_class.readings)
        )
    arguments = table.table("arguments")
    dimensions = {name: units.parse_unit(arguments.text(name)).dimension for name in arguments}
    unit = _unit(table, feature)
    reading = ReadingCommands(
        feature,
        table.text("query"),
        table.text("configure", ""),
        table.text("select", ""),
        dimensions,
        unit,
        curve_commands(table, feature, unit),
        _timeout(table, "timeout", None),
        table.flag("repeat", True),
    )
    table.finish()
    return reading
