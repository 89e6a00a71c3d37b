"""Which texts are questions to an instrument whose questions need not have a question mark: those of its profile."""

from __future__ import annotations

from collections.abc import Iterator

from ibexite.instruments.link import Lines, Reply
from ibexite.instruments.profile import Profile
from ibexite.instruments.readings import ReadingCommands
from ibexite.protocols.speech import command_pattern

_ARGUMENT = r"[\w.+-]*"  # one number or word: behind it nothing else can be said in the same text


def own_reply(profile: Profile, text: str) -> Reply | Lines | None:
    """How a text is answered that is a question of the profile and no command of it; None for all others."""
    channel = profile.speech.channel_pattern
    if any(_fits(command, {"channel": channel, "value": ".*?"}, text) for command in _commands(profile)):
        return None
    for question, reading in _questions(profile):
        arguments = {} if reading is None else dict.fromkeys(reading.arguments, _ARGUMENT)
        if question and _fits(question, {"channel": channel} | arguments, text):
            return Reply.MESSAGE if reading is None or reading.lines is None else reading.lines
    return None


def _fits(template: str, parts: dict[str, str], text: str) -> bool:
    return command_pattern(template, parts).fullmatch(text.strip()) is not None


def _questions(profile: Profile) -> Iterator[tuple[str, ReadingCommands | None]]:
    """All that it can be asked, with the reading that is taken by it."""
    for setting in profile.settings.values():
        yield setting.ask, None
    for reading in profile.readings.values():
        yield reading.query, reading
        if reading.curve is not None:
            yield from ((told.query, None) for told in reading.curve.asked())
    yield from ((text, None) for text in (profile.identity.query, profile.errors.query, profile.complete.query))
    states = [*profile.tripped, *([profile.limiting] if profile.limiting is not None else [])]
    yield from ((status.query, None) for status in states)


def _commands(profile: Profile) -> Iterator[str]:
    yield from (setting.write for setting in profile.settings.values())
    for reading in profile.readings.values():
        yield from (*reading.configure, *([reading.select] if reading.select else []))
    yield from (*profile.actions.values(), *profile.start, *profile.safe_actions, *profile.local)
    if profile.complete.command:
        yield profile.complete.command
