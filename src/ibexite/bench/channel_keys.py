"""Reads channels of a bench file: numbers, and for some instruments those alone for which it has words."""

from __future__ import annotations

from ibexite.instruments.profile import Profile
from ibexite.toml_reader import TomlTable

MOST = 10**9


def channel_of(table: TomlTable, profile: Profile, default: int) -> int:
    """The channel that stands there, one that the instrument has."""
    channel = table.integer("channel", default)
    check_channel(table, "channel", profile, channel)
    return channel


def check_channel(table: TomlTable, key: str, profile: Profile, channel: int) -> None:
    """Notes a channel for which the profile has no word."""
    if not 0 <= channel < MOST:
        table.note(key, f"{channel} is no number of a channel", "Write, for example: channel = 101")
    elif not profile.speech.has_channel(channel):
        known = ", ".join(f"{number} ({word})" for number, word in profile.speech.channels.items())
        table.note(key, f"profile {profile.name} has no channel {channel}", f"There is: {known}.")
