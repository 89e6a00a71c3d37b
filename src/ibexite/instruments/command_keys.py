"""Reads commands and questions of a profile, and looks whether they can be sent as they stand: with no gap that nobody
fills, and with no character that an instrument does not take."""

from __future__ import annotations

import re
from collections.abc import Collection
from typing import Any

from ibexite.errors import did_you_mean
from ibexite.toml_reader import TomlTable

CHANNEL = ("channel",)
_GAP = re.compile(r"\{(\w+)\}")
# What one byte cannot say, and what looks like a space or a hyphen and is none. Control characters come by no accident:
# in a profile they stand as \u0002.
_ODD = re.compile(r"[^\x00-\x7f\xa1-\xac\xae-\xff]")
_ODD_IN_QUESTION = re.compile(r"[^\x00-\x09\x0b\x0c\x0e-\x7f\xa1-\xac\xae-\xff]")  # it is one line


def command_of(
    table: TomlTable, key: str, gaps: Collection[str] = (), default: Any = ..., *, is_question: bool = False
) -> str:
    """The command that stands there; what is wrong with it is noted."""
    text = table.text(key, default)
    if key in table and isinstance(text, str):
        check_command(table, key, text, gaps, is_question=is_question)
    return text


def question_of(table: TomlTable, key: str, gaps: Collection[str] = (), default: Any = ...) -> str:
    """The question that stands there: one line. What is wrong with it is noted."""
    return command_of(table, key, gaps, default, is_question=True)


def commands_of(table: TomlTable, key: str) -> tuple[str, ...]:
    """The list of commands that stands there, none where it is missing."""
    texts = tuple(table.texts(key, []))
    for text in texts:
        check_command(table, key, text, ())
    return texts


def ending_of(table: TomlTable, key: str, default: str) -> str:
    """What ends something: any bytes, one at least."""
    text = table.text(key, default)
    if not text or max(text) > "\xff":
        table.note(key, f"{text!r} ends nothing", 'Write what ends it, as "\\n" or "\\r\\n".')
        return "\n"
    return text


def check_command(table: TomlTable, key: str, text: str, gaps: Collection[str], *, is_question: bool = False) -> None:
    """Notes what is wrong with a command; `gaps` are those that are filled in it, as {channel}."""
    for gap in _GAP.findall(text):
        if gap not in gaps:
            known = [f"{{{name}}}" for name in gaps]
            remedy = did_you_mean(f"{{{gap}}}", known) if known else "Nothing is filled in here."
            table.note(key, f"nothing is known of {{{gap}}}", remedy)
    odd = (_ODD_IN_QUESTION if is_question else _ODD).search(text)
    if odd is not None:
        table.note(key, f"there is {odd[0]!r} in it", "Plain characters are sent. Was it copied from a manual?")
    elif text and not text.strip():
        table.note(key, "is nothing but spaces", 'Write "" where there is none.')


def check_words(table: TomlTable, key: str, words: Collection[str]) -> None:
    """Notes words that cannot be sent."""
    for word in words:
        check_command(table, key, word, (), is_question=True)
