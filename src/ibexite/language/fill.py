"""Texts with names in braces: `{name}` is replaced by the value with its unit, `{name:V}` by the bare number in V."""

from __future__ import annotations

import re

from ibexite.frozen import frozen

_HOLE = re.compile(r"\{([^{}]*)\}")


@frozen
class Gap:
    """One pair of braces: the name, the unit or "", and where it stands in the text."""

    name: str
    unit: str
    start: int
    end: int


def gaps(text: str) -> list[Gap]:
    """The places to fill in.

    >>> gaps("{serial} at {vin:V} V")[1]
    Gap(name='vin', unit='V', start=12, end=19)
    """
    found = []
    for match in _HOLE.finditer(text):
        name, _, unit = match[1].partition(":")
        found.append(Gap(name.strip(), unit.strip(), match.start(), match.end()))
    return found


def fill(text: str, values: list[str]) -> str:
    """The text with each gap replaced by the value of the same position."""
    remaining = iter(values)
    return _HOLE.sub(lambda match: next(remaining), text)
