"""Instrument profiles: which commands do what the class promises. TOML, to be read, copied and mended.

Shipped profiles use commands of SCPI-1999 and IEEE 488.2 only.
"""

from __future__ import annotations

import hashlib
import re
from pathlib import Path

from ibexite import units
from ibexite.classes import InstrumentClass, classes_around, instrument_classes
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.command_keys import CHANNEL, command_of, commands_of, ending_of, question_of
from ibexite.instruments.feature_keys import reading_of, setting_of
from ibexite.instruments.play_keys import PlayCommands, play_of
from ibexite.instruments.readings import ReadingCommands
from ibexite.instruments.settings import SettingCommands
from ibexite.instruments.speech_keys import speech_of, template_of, units_of, with_channels, words_of
from ibexite.instruments.status import Status, Synchrony, status_of, synchrony_of
from ibexite.instruments.stream_keys import StreamCommands, stream_of
from ibexite.instruments.times import REPEAT_PAUSE, TIMEOUT, Waits, timeout_of, waits_of
from ibexite.plain_file import is_file
from ibexite.protocols.checksums import RULES
from ibexite.protocols.speech import Speech, Template
from ibexite.toml_reader import TomlTable, each, raise_all, read_laid_over

SHIPPED = Path(__file__).with_name("profiles")
ERRORS_READ = ("setting", "line", "test", "never")
LIMITING_READ = ("reading", "test")
ERROR_STORES = ("queue", "register")
_NO_ERROR = re.compile(r"[+-]?0+(\D|$)")  # SCPI-1999 volume 2, 21.8.1: 0,"No error"


MOST_PACE = 2.0  # s
IDN = "*IDN?"  # IEEE 488.2, 10.14


@frozen
class Identity:
    """How it is asked who it is; query is "" where it cannot be asked."""

    query: str = "*IDN?"
    reply: Template = Template("{value}")

    def of(self, reply: str) -> str:
        """Who it says it is: what is constant in the reply. Raises ValueError: it does not look so."""
        found = self.reply.found(reply, ".*?")
        if found is None:
            raise ValueError(reply)
        return str(found["value"]).strip()


@frozen
class ErrorStore:
    """Its error queue, or a register that holds one error; query is "" where it has neither."""

    query: str
    none: tuple[str, ...]  # replies that say there is none; none: as SCPI writes it
    is_queue: bool
    read: str  # when it is asked: one of ERRORS_READ

    def is_none(self, entry: str) -> bool:
        """Whether an entry says that there is no error."""
        if self.none:
            return entry.strip().upper() in (text.upper() for text in self.none)
        return _NO_ERROR.match(entry) is not None


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
    errors: ErrorStore
    complete: Synchrony  # how it is known that all settings were carried out
    limiting: Status | None  # None when it cannot tell
    tripped: tuple[Status, ...]  # each says yes while a protection has switched it off
    timeout: float  # s, of a reply
    settling: float  # s until a changed setting is true
    answer_time: float  # s that a reading takes, for the preview; 0 where nobody knows
    terminator: str
    reply_terminator: str
    path: Path
    sha256: str
    waits: Waits
    is_compound: bool  # several queries may be joined in one message (IEEE 488.2)
    help: str = ""
    identity: Identity = Identity()
    acknowledge: tuple[str, ...] = ()  # what it answers to each command that is no query; none: nothing
    checksum: str = ""  # the name of a rule of ibexite.protocols.checksums
    local: tuple[str, ...] = ()  # sent at the end: its front panel may be used again
    speech: Speech = Speech()
    files: tuple[Path, ...] = ()  # what it was read from, itself first
    limiting_read: str = "reading"  # when it is asked: with each reading line, or once a test
    safe_actions: tuple[str, ...] = ()  # commands that are sent first when all is made safe
    pace: float = 0.0  # s between two messages
    greeting: str = ""  # with which that ends what it says by itself when a socket or a program is connected
    play: PlayCommands | None = None  # how samples are given to it; None where it plays none
    stream: StreamCommands | None = None  # how it gives samples while it takes them; None where it does not

    @property
    def has_safe_state(self) -> bool:
        """Whether there is something to switch off or to stop."""
        return bool(self.safe or self.safe_actions)


def bare_profile() -> Profile:
    """That of an instrument of which nothing is known: it can be asked, and nobody knows how it is switched off."""
    nothing = InstrumentClass("instrument", "nothing is known of it", {}, {}, {})
    return Profile(
        "none", nothing, {}, {}, {}, (), {}, ErrorStore("", (), True, "never"), Synchrony(None), None, (), TIMEOUT, 0.0,
        0.0, "\n", "\n", Path(), "", Waits(TIMEOUT, TIMEOUT, TIMEOUT, TIMEOUT, REPEAT_PAUSE), True,
    )  # fmt: skip


def load_profile(name: str, folder: Path) -> Profile:
    """The profile of this name: a file (relative to `folder`) when it ends in .toml, else a shipped one.

    Raises:
        MistakeError: no such profile, or something in it is wrong; all of it is told.
    """
    path = _file_of(name, folder)
    if path is None:
        known = sorted(p.stem for p in SHIPPED.glob("*.toml"))
        raise MistakeError(
            f"there is no profile {name!r}",
            remedy=did_you_mean(name, known) + " A profile of your own is named by its file, my.toml.",
        )
    return _profile(path, name.removesuffix(".toml"), folder)


def _file_of(name: str, folder: Path) -> Path | None:
    if name.endswith(".toml"):
        return folder / name
    path = SHIPPED / f"{name}.toml"
    return path if is_file(path) else None


def _profile(path: Path, name: str, folder: Path) -> Profile:
    table, files = read_laid_over(path, what="profile", file_of=lambda other: _file_of(other, path.parent))
    instrument_class = _class(table, path.parent, folder)
    mistakes: list[MistakeError] = []
    spoken = table.table("speech")
    speech = with_channels(table, units_of(spoken, speech_of(spoken, Speech())))
    spoken.finish()
    settings = each(table.tables("settings"), lambda t, key: setting_of(t, instrument_class, key, speech), mistakes)
    readings = each(table.tables("readings"), lambda t, key: reading_of(t, instrument_class, key, speech), mistakes)
    quirks = table.table("quirks")
    actions = _actions(table.table("actions"), instrument_class, table.text("identity_query", IDN))
    profile = Profile(
        name,
        instrument_class,
        settings,
        readings,
        actions,
        commands_of(table, "start"),
        _safe(table, instrument_class),
        _errors(table),
        synchrony_of(table),
        status_of(table, "limiting", speech) if "limiting" in table else None,
        _tripped(table, speech),
        timeout_of(quirks, "timeout", TIMEOUT),
        quirks.quantity("settling", units.SECOND, 0.0),
        quirks.quantity("answer_time", units.SECOND, 0.0),
        end := ending_of(quirks, "terminator", "\n"),
        ending_of(quirks, "reply_terminator", end),
        path,
        _digest(files, instrument_class),
        waits_of(quirks),
        quirks.flag("compound", True),
        table.text("help", ""),
        Identity(question_of(table, "identity_query", default=IDN), _identity_reply(table)),
        words_of(table, "acknowledge", may_be_empty=True) if "acknowledge" in table else (),
        _checksum(table),
        commands_of(table, "local"),
        speech,
        tuple(files),
        _limiting_read(table),
        _safe_actions(table, actions),
        _pace(quirks),
        ending_of(quirks, "greeting", "") if "greeting" in quirks else "",
        play_of(table, instrument_class),
        stream_of(table, instrument_class, speech),
    )
    quirks.finish()
    try:
        table.finish()
    except MistakeError as error:
        mistakes.insert(0, error)
    raise_all(mistakes)
    return profile


def _class(table: TomlTable, *folders: Path) -> InstrumentClass:
    """The class that is named: one that ships, or one of the project around the profile or the bench file."""
    name = table.text("class")
    if name in instrument_classes():  # no class of one's own is called so
        return instrument_classes()[name]
    offered = [classes_around(folder) for folder in folders]
    known = next((classes for classes in offered if name in classes), None)
    if known is None:
        remedy = did_you_mean(name, offered[0]) + f" One of your own is a file of the project: classes/{name}.toml"
        table.fail("class", f"there is no class {name!r}", remedy)
    return known[name]


def _digest(files: list[Path], instrument_class: InstrumentClass) -> str:
    """SHA-256 of the profile; where it stands on other files, of all their digests."""
    digests = [hashlib.sha256(file.read_bytes()).hexdigest() for file in files]
    digests += [digest for _, digest in instrument_class.files]
    return digests[0] if len(digests) == 1 else hashlib.sha256(" ".join(digests).encode()).hexdigest()


def _safe(table: TomlTable, instrument_class: InstrumentClass) -> dict[str, bool]:
    safe, settings, switch = table.table("safe"), table.table("settings"), instrument_class.switch
    for key in safe:
        if key not in settings:
            safe.note(key, "is not a setting of this profile", did_you_mean(key, settings))
        elif key in instrument_class.settings and not instrument_class.settings[key].is_switch:
            safe.note(key, "is neither on nor off", "What makes it safe is switched.")
    if switch in settings and switch not in safe:
        table.note(
            "safe", f"nothing says that {switch} is switched off at the end", f"Add [safe] with {switch} = false."
        )
    return {key: safe.flag(key, False) for key in safe}


def _safe_actions(table: TomlTable, actions: dict[str, str]) -> tuple[str, ...]:
    names = table.texts("safe_actions", [])
    for name in names:
        if name not in actions:
            table.note("safe_actions", f"there is no action {name!r} in this profile", did_you_mean(name, actions))
    return tuple(actions[name] for name in names if name in actions)


def _limiting_read(table: TomlTable) -> str:
    when = table.text("limiting_read", LIMITING_READ[0])
    if when not in LIMITING_READ:
        table.note("limiting_read", f"{when!r} is no such time", did_you_mean(when, LIMITING_READ))
    return when


def _errors(table: TomlTable) -> ErrorStore:
    when, store = table.text("errors_read", "test"), table.text("errors", "queue")
    if when not in ERRORS_READ:
        table.note("errors_read", f"{when!r} is no such time", did_you_mean(when, ERRORS_READ))
    if store not in ERROR_STORES:
        table.note("errors", f"{store!r} is neither", "Write queue, or register for one that holds a single error.")
    none = words_of(table, "no_error") if "no_error" in table else ()
    return ErrorStore(question_of(table, "error_query", default=""), none, store == "queue", when)


def _tripped(table: TomlTable, speech: Speech) -> tuple[Status, ...]:
    if "tripped" not in table:
        return ()
    value = table.value("tripped")
    return tuple(
        status for one in (value if isinstance(value, list) else [value])
        if (status := status_of(table, "tripped", speech, one)) is not None
    )  # fmt: skip


def _identity_reply(table: TomlTable) -> Template:
    return template_of(table, "identity_reply") if "identity_reply" in table else Identity().reply


def _checksum(table: TomlTable) -> str:
    name = table.text("checksum", "")
    if name and name not in RULES:
        table.note("checksum", f"there is no rule {name!r}", did_you_mean(name, RULES))
        return ""
    return name


def _pace(quirks: TomlTable) -> float:
    seconds = quirks.quantity("pace", units.SECOND, 0.0)
    if not 0 <= seconds <= MOST_PACE:
        quirks.note("pace", f"not between 0 s and {MOST_PACE:g} s")
    return seconds


def _actions(table: TomlTable, instrument_class: InstrumentClass, identity_query: str) -> dict[str, str]:
    """Those that the profile names; what knows the question of IEEE 488.2 also knows its commands."""
    actions = {"reset": "*RST", "clear": "*CLS"} if identity_query == IDN else {}
    for key in table:
        if key not in instrument_class.actions:
            remedy = did_you_mean(key, instrument_class.actions)
            table.note(key, f"a {instrument_class.name} has no such action", remedy)
        actions[key] = command_of(table, key, CHANNEL)
    return {name: text for name, text in actions.items() if text}
