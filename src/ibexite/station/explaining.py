"""What a role, a profile or a class offers: settings, readings and actions with units, bounds, help and commands."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from ibexite.bench.entries import RoleEntry
from ibexite.bench.file import BenchFile
from ibexite.classes import Feature, InstrumentClass, classes_around
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen
from ibexite.instruments.profile import SHIPPED, Profile, load_profile
from ibexite.instruments.readings import ReadingCommands
from ibexite.instruments.settings import SettingCommands
from ibexite.protocols.speech import Speech


@frozen
class Line:
    """One setting, reading or action. `commands` says what is sent for what."""

    kind: str
    name: str
    takes: str
    help: str
    commands: tuple[tuple[str, str], ...]

    def has(self, word: str) -> bool:
        """Whether a word stands anywhere in it."""
        texts = (self.kind, self.name, self.takes, self.help, *(text for pair in self.commands for text in pair))
        return any(word.lower() in text.lower() for text in texts)


@frozen
class Explained:
    """All lines of one thing, and what it is."""

    title: str
    lines: tuple[Line, ...]


def explained(name: str, word: str, file: BenchFile | None, folder: Path) -> Explained:
    """A role of the bench, an instrument of it, a profile (its name or file) or a class; with `word` only the lines in
    which it stands.

    Raises:
        MistakeError: there is nothing of this name, or the word stands nowhere.
    """
    if not word and "." in name and not name.endswith(".toml"):
        name, word = name.split(".", 1)  # as sequences have it
    title, lines = _found(name, file, folder)
    chosen = tuple(line for line in lines if line.has(word))
    if not chosen:
        names = [line.name for line in lines]
        raise MistakeError(f"{word!r} stands nowhere in {name}", remedy=did_you_mean(word, names))
    return Explained(title, chosen)


def _found(name: str, file: BenchFile | None, folder: Path) -> tuple[str, list[Line]]:
    if file is not None and name in file.roles:
        role = file.roles[name]
        fact = file.instruments[role.instrument]
        title = f"{name}, a role of {file.name}: channel {role.channel} of {fact.name}, {_about(fact.profile)}"
        return title, list(_of_profile(fact.profile, role))
    if file is not None and name in file.instruments:
        profile = file.instruments[name].profile
        return f"{name}, an instrument of {file.name}: {_about(profile)}", list(_of_profile(profile, None))
    classes = classes_around(folder)
    if name in classes:
        known = classes[name]
        return f"{name}, a class: {known.help}", list(_of_class(known))
    shipped = sorted(path.stem for path in SHIPPED.glob("*.toml"))
    if name in shipped or name.endswith(".toml"):
        profile = load_profile(name, folder)
        return _about(profile), list(_of_profile(profile, None))
    on_bench = [*file.roles, *file.instruments] if file is not None else []
    remedy = did_you_mean(name, [*on_bench, *classes, *shipped])
    raise MistakeError(f"there is no role, profile or class {name!r}", remedy=remedy)


def _about(profile: Profile) -> str:
    kind = profile.instrument_class.name.replace("_", " ")
    told = f" ({profile.help})" if profile.help else ""
    return f"profile {profile.name}{told}, {kind}"


def _of_class(known: InstrumentClass) -> Iterator[Line]:
    for feature in known.settings.values():
        yield Line("setting", feature.name, feature.told, feature.help, ())
    for feature in known.readings.values():
        yield Line("reading", feature.name, _gives(feature), feature.help, ())
    for name, text in known.actions.items():
        yield Line("action", name, "", text, ())
    for name, factors in known.products.items():
        yield Line("ceiling", name, "", f"{factors[0]} times {factors[1]}, for the ceiling of a role", ())


def _gives(feature: Feature) -> str:
    arguments = f" ({', '.join(feature.arguments)})" if feature.arguments else ""
    return feature.told + arguments


def _of_profile(profile: Profile, role: RoleEntry | None) -> Iterator[Line]:
    for name, setting in profile.settings.items():
        yield Line("setting", name, _takes(setting, role), setting.feature.help, _said(setting, role))
    for name, reading in profile.readings.items():
        yield Line("reading", name, _answers(reading), reading.feature.help, _asked(reading, role))
    for name, text in profile.actions.items():
        commands = (("sends", _at(text, role, profile.speech)),)
        yield Line("action", name, "", profile.instrument_class.actions.get(name, ""), commands)


def _at(text: str, role: RoleEntry | None, speech: Speech) -> str:
    return text if role is None else speech.at(text, role.channel)


def _takes(setting: SettingCommands, role: RoleEntry | None) -> str:
    if not setting.is_number:
        return setting.feature.told
    told = setting.feature.unit
    if setting.extent is not None:
        told = " to ".join(setting.said(end) for end in setting.extent)
    if role is not None and setting.feature.name in role.ceiling:
        told += f", ceiling {setting.said(role.ceiling[setting.feature.name])}"
    return told


def _said(setting: SettingCommands, role: RoleEntry | None) -> tuple[tuple[str, str], ...]:
    asks = _at(setting.ask, role, setting.speech) if setting.ask else "it cannot be asked back"
    asked = (("asks", asks),)
    return (("writes", _at(setting.write, role, setting.speech)), *asked)


def _answers(reading: ReadingCommands) -> str:
    needed = reading.needed()
    told = [name if name in needed else f"[{name}]" for name in reading.arguments]
    return reading.feature.told + (f" ({', '.join(told)})" if told else "")


def _asked(reading: ReadingCommands, role: RoleEntry | None) -> tuple[tuple[str, str], ...]:
    texts = [("configures", text) for text in reading.configure]
    texts += [("selects", reading.select)] if reading.select else []
    return (*texts, ("asks", _at(reading.query, role, reading.speech)))
