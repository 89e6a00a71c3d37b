"""Reads Touchstone files of one and two ports: S-parameters over frequency.

Source: Touchstone File Format Specification, version 1.1 (EIA/IBIS Open Forum, 2002).
"""

from __future__ import annotations

import cmath
import math
from pathlib import Path

from ibexite.errors import MistakeError
from ibexite.frozen import frozen
from ibexite.plain_file import read_plain

MOST_BYTES = 50_000_000
_HERTZ = {"HZ": 1.0, "KHZ": 1e3, "MHZ": 1e6, "GHZ": 1e9}
PARAMETERS = {".s1p": ("s11",), ".s2p": ("s11", "s21", "s12", "s22")}  # in the order of the file


@frozen
class Network:
    """S-parameters by name, each as long as `frequencies` (in Hz, rising)."""

    frequencies: tuple[float, ...]
    parameters: dict[str, tuple[complex, ...]]


def read_touchstone(path: Path) -> Network:
    """The S-parameters of a .s1p or .s2p file.

    Raises:
        MistakeError: another kind of file, other parameters than S, or something that is no number; with the line.
    """
    name = str(path)
    known = PARAMETERS.get(path.suffix.lower())
    if known is None:
        raise MistakeError("neither .s1p nor .s2p", where=name, remedy="Files of one and two ports are read.")
    text = read_plain(path, what="Touchstone file", most=MOST_BYTES).decode("latin-1")
    scale, form = _HERTZ["GHZ"], "MA"  # what holds where there is no option line
    numbers: list[float] = []
    for line, content in enumerate(text.splitlines(), 1):
        content = content.partition("!")[0].strip()
        if content.startswith("#"):
            scale, form = _options(content, f"{name}:{line}")
        elif content:
            numbers += _numbers(content, f"{name}:{line}")
    width = 1 + 2 * len(known)
    rows = [numbers[i : i + width] for i in range(0, len(numbers) - width + 1, width)]
    frequencies = tuple(row[0] * scale for row in rows)
    # Behind the S-parameters of two ports there may be noise parameters, of which the first frequency is not higher.
    end = next((i for i in range(1, len(rows)) if not frequencies[i] > frequencies[i - 1]), len(rows))
    if not rows:
        raise MistakeError("there are no parameters", where=name)
    columns = {
        key: tuple(_complex(row[1 + 2 * i], row[2 + 2 * i], form) for row in rows[:end]) for i, key in enumerate(known)
    }
    return Network(frequencies[:end], columns)


def _options(content: str, where: str) -> tuple[float, str]:
    """# <unit> <parameter> <form> R <n>, in any order, each with a default."""
    words = content[1:].upper().split()
    scale, form = _HERTZ["GHZ"], "MA"
    for i, word in enumerate(words):
        if word in _HERTZ:
            scale = _HERTZ[word]
        elif word in ("MA", "DB", "RI"):
            form = word
        elif word in ("Y", "Z", "G", "H"):
            raise MistakeError(f"{word}-parameters", where=where, remedy="Files of S-parameters are read.")
        elif word not in ("S", "R") and not (i and words[i - 1] == "R"):
            raise MistakeError(f"{word!r} is no option", where=where, remedy="Write, for example: # GHz S DB R 50")
    return scale, form


def _numbers(content: str, where: str) -> list[float]:
    found = []
    for text in content.split():
        try:
            number = float(text)
        except ValueError:
            number = math.nan
        if not math.isfinite(number) or "_" in text:
            raise MistakeError(f"{text!r} is no number", where=where)
        found.append(number)
    return found


def _complex(a: float, b: float, form: str) -> complex:
    if form == "RI":
        return complex(a, b)
    return cmath.rect(10 ** (a / 20) if form == "DB" else a, math.radians(b))
