"""Reads TOML files with one clear message for whatever is wrong: which file, the path to the value, what to write.

Every key must be asked for; `finish` refuses those that nobody asked for, so that a misspelt key is never ignored.
"""

from __future__ import annotations

import datetime
import tomllib
from collections.abc import Iterator
from pathlib import Path
from typing import Any, NoReturn

from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.plain_file import read_plain
from ibexite.units import Amount, Dimension, describe, parse_quantity
from ibexite.untyped import Fields

MAX_BYTES = 1_000_000


def read_toml(path: Path, *, what: str) -> TomlTable:
    """The top table of a file. `what` says what kind of file was expected, for the messages.

    Raises:
        MistakeError: missing, a folder, too large, not UTF-8, not TOML.
    """
    name = str(path)
    data = read_plain(path, what=what, most=MAX_BYTES)
    try:
        text = data.decode("utf-8-sig")
        return TomlTable(tomllib.loads(text), name, "", _Lines(text))
    except UnicodeDecodeError:
        raise MistakeError("this is not UTF-8 text", where=name, remedy=f"A {what} is a TOML file in UTF-8.") from None
    except tomllib.TOMLDecodeError as error:
        raise MistakeError(f"not valid TOML: {error}", where=name, remedy="Mend it there.") from None
    except RecursionError:
        raise MistakeError("nested too deeply", where=name, remedy=f"A {what} has a few levels only.") from None


class _Lines:
    """Finds the line of a key in the text of a TOML file; 0 where it cannot be said."""

    def __init__(self, text: str) -> None:
        self._lines = text.splitlines()

    def line_of(self, path: str) -> int:
        """The line of a key by its path, a.b.c; of the nearest table around it where the key is not there."""
        parts = path.split(".") if path else []
        header, best = "", 0
        for number, line in enumerate(self._lines, 1):
            bare = line.split("#")[0].strip()
            if bare.startswith("["):
                header = bare.strip("[] ").replace('"', "").replace(" ", "")
                if header and (path == header or path.startswith(header + ".")):
                    best = number
                continue
            key = bare.partition("=")[0].strip().replace('"', "").replace(" ", "")
            whole = f"{header}.{key}" if header else key
            if key and "=" in bare and (path == whole or path.startswith(whole + ".")):
                best = number
                if path == whole:
                    break
        return best if parts else 0


class TomlTable:
    """One table of a file, with the path to it."""

    def __init__(self, data: Fields, file: str, path: str, lines: _Lines | None = None) -> None:
        self._data, self.file, self.path = data, file, path
        self._lines = lines
        self._asked: set[str] = set()

    def __contains__(self, key: str) -> bool:
        return key in self._data

    def __iter__(self) -> Iterator[str]:
        return iter(self._data)

    def where(self, key: str = "") -> str:
        """File and path to a key, for a message."""
        path = ".".join(part for part in (self.path, key) if part)
        line = self._lines.line_of(path) if self._lines is not None else 0
        file = f"{self.file}:{line}" if line else self.file
        return f"{file}: {path}" if path else file

    def fail(self, key: str, what: str, remedy: str = "") -> NoReturn:
        """Raises MistakeError about a key of this table."""
        raise MistakeError(what, where=self.where(key), remedy=remedy)

    def _get(self, key: str, kind: type | tuple[type, ...], wanted: str, default: Any) -> Any:
        self._asked.add(key)
        if key not in self._data:
            if default is not _NONE:
                return default
            self.fail(key, "is missing", f"It takes {wanted}.")
        value = self._data[key]
        if not isinstance(value, kind) or (isinstance(value, bool) and kind not in (bool, object)):
            self.fail(key, f"{value!r} does not fit", f"It takes {wanted}.")
        return value

    def value(self, key: str) -> Any:
        """Whatever stands there."""
        return self._get(key, object, "a value", _NONE)

    def text(self, key: str, default: Any = ...) -> str:
        """A text."""
        value: str = self._get(key, str, "a text in quotes", _default(default))
        return value

    def integer(self, key: str, default: Any = ...) -> int:
        """A whole number."""
        value: int = self._get(key, int, "a whole number", _default(default))
        return value

    def flag(self, key: str, default: bool) -> bool:
        """true or false."""
        value: bool = self._get(key, bool, "true or false", default)
        return value

    def date(self, key: str) -> datetime.date:
        """A date without quotes."""
        value: datetime.date = self._get(key, datetime.date, "a date such as 2027-05-01", _NONE)
        return value

    def texts(self, key: str, default: Any = ...) -> list[str]:
        """A list of texts."""
        values = self._get(key, list, "a list of texts", _default(default))
        if not all(isinstance(value, str) for value in values):
            self.fail(key, "not all of these are texts", 'It takes a list such as ["load", "supply"].')
        return list(values)

    def quantity(self, key: str, dimension: Dimension, default: Any = ...) -> float:
        """A quantity such as "12 V", in base units."""
        text = self._get(key, str, 'a number with its unit in quotes, as "12 V"', _default(default))
        return float(self._parse(key, text, dimension)) if isinstance(text, str) else text

    def extent(self, key: str, dimension: Dimension) -> tuple[float, float] | None:
        """Two quantities, the lower one first; None when the key is missing."""
        values = self._get(key, list, 'two quantities, as ["0 V", "20 V"]', None)
        if values is None:
            return None
        if len(values) != 2 or not all(isinstance(value, str) for value in values):
            self.fail(key, "not two quantities", 'Write it as ["0 V", "20 V"].')
        low, high = (float(self._parse(key, value, dimension)) for value in values)
        if not low < high:
            self.fail(key, "the first is not below the second", "Write the lower end first.")
        return low, high

    def _parse(self, key: str, text: str, dimension: Dimension) -> Amount:
        try:
            quantity = parse_quantity(text)
        except UnitError as error:
            self.fail(key, error.what, error.remedy)
        if quantity.dimension != dimension:
            self.fail(key, f"{text!r} is {describe(quantity.dimension)}", f"It takes {describe(dimension)}.")
        return quantity

    def table(self, key: str, *, needed: bool = False) -> TomlTable:
        """A table within this one; an empty one when it is missing."""
        data = self._get(key, dict, "a table", _NONE if needed else {})
        return TomlTable(data, self.file, ".".join(part for part in (self.path, key) if part), self._lines)

    def tables(self, key: str) -> dict[str, TomlTable]:
        """All tables below a key, by name."""
        outer = self.table(key)
        return {name: outer.table(name, needed=True) for name in outer}

    def list_of_tables(self, key: str) -> list[TomlTable]:
        """The tables of a list, none when it is missing."""
        entries = self._get(key, list, "a list of tables", [])
        if not all(isinstance(entry, dict) for entry in entries):
            self.fail(key, "not all of these are tables", "It takes a list of tables in braces.")
        return [TomlTable(entry, self.file, f"{self.path}.{key}[{i}]", self._lines) for i, entry in enumerate(entries)]

    def finish(self, *also: str) -> None:
        """Refuses keys that were not asked for; `also` names keys that are allowed to be there."""
        unknown = [key for key in self._data if key not in self._asked and key not in also]
        if len(unknown) == 1:
            self.fail(unknown[0], "is not a key that is known here", did_you_mean(unknown[0], self._asked | set(also)))
        if unknown:
            known = self._asked | set(also)
            told = "; ".join(f"{key}: {did_you_mean(key, known)}" for key in unknown)
            self.fail(unknown[0], f"{len(unknown)} keys are not known here: {', '.join(unknown)}", told)


_NONE: Any = object()


def _default(value: Any) -> Any:
    return _NONE if value is ... else value
