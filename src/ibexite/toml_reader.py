"""Reads TOML files with one clear message for whatever is wrong: which file and line, the path to the value, what to
write. All mistakes of a file are told at once.

Every key must be asked for; `finish` refuses those that nobody asked for, so that a misspelt key is never ignored. A
value that does not fit is noted, and something harmless is given back in its place: nothing may be made of a table
before its `finish`, which raises what was noted.
"""

from __future__ import annotations

import datetime
import hashlib
import json
import math
import tomllib
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from typing import Any, NoReturn, TypeVar

from ibexite.errors import MistakeError, Mistakes, UnitError, did_you_mean
from ibexite.plain_file import read_plain
from ibexite.units import Dimension, describe, parse_quantity
from ibexite.untyped import Fields

MAX_BYTES = 1_000_000


def quoted(text: str) -> str:
    """A text as it is written in TOML.

    >>> quoted('R. "Ray" Tamm')
    '"R. \\\\"Ray\\\\" Tamm"'
    """
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def read_toml(path: Path, *, what: str, most: int = MAX_BYTES) -> TomlTable:
    """The top table of a file. `what` says what kind of file was expected, for the messages.

    Raises:
        MistakeError: missing, a folder, too large, not UTF-8, not TOML.
    """
    name = str(path)
    data = read_plain(path, what=what, most=most)
    try:
        text = data.decode("utf-8-sig")
        return TomlTable(tomllib.loads(text), name, "", _Lines(text), sha256=hashlib.sha256(data).hexdigest())
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

    def __init__(
        self, data: Fields, file: str, path: str, lines: _Lines | None = None,
        found: list[MistakeError] | None = None, sha256: str = "",
    ) -> None:  # fmt: skip
        """`found` takes the mistakes, for a table whose owner tells them with its own; `sha256` is that of the very
        bytes of the file that were read, for its top table."""
        self._data, self.file, self.path = data, file, path
        self.sha256 = sha256
        self._lines = lines
        self._base: TomlTable | None = None  # the same table of the file that this one is laid over
        self._own = data  # what stands in the file itself
        self._found: list[MistakeError] = [] if found is None else found
        self._is_owner = found is None
        self._asked: set[str] = set()
        self._looked_for: set[str] = set()  # keys that might be there; for suggestions alone

    def over(self, base: TomlTable) -> TomlTable:
        """This table laid over another one: what stands here replaces what stands there, key by key, in all tables
        within. A message names the file that the value comes from."""
        laid = TomlTable(_laid_over(self._data, base._data), self.file, self.path, self._lines, sha256=self.sha256)
        laid._base, laid._own, laid._asked = base, self._own, self._asked | base._asked
        laid._found += [*base._found, *self._found]
        return laid

    def replaced(self, data: Fields) -> TomlTable:
        """The same file with other data, for messages with its lines."""
        return TomlTable(data, self.file, self.path, self._lines, sha256=self.sha256)

    @property
    def data(self) -> Fields:
        """All that stands in it."""
        return self._data

    def leave_out(self, place: str) -> bool:
        """Takes out what stands at a path, a.b; False if there is nothing."""
        *outer, last = place.split(".")
        data = self._data
        for key in outer:
            data = data.get(key, {})
        return isinstance(data, dict) and data.pop(last, None) is not None

    def __contains__(self, key: str) -> bool:
        self._looked_for.add(key)
        return key in self._data

    def __iter__(self) -> Iterator[str]:
        return iter(self._data)

    def where(self, key: str = "") -> str:
        """File, line and path to a key, for a message."""
        if self._base is not None and key in self._base and key not in self._own:
            return self._base.where(key)
        path = ".".join(part for part in (self.path, key) if part)
        line = self._lines.line_of(path) if self._lines is not None else 0
        file = f"{self.file}:{line}" if line else self.file
        return f"{file}: {path}" if path else file

    def note(self, key: str, what: str, remedy: str = "") -> None:
        """Notes a mistake about a key of this table; `finish` tells it."""
        where = self.where(key)
        if all(error.where != where for error in self._found):  # another one may follow from it
            self._found.append(MistakeError(what, where=where, remedy=remedy))

    def fail(self, key: str, what: str, remedy: str = "") -> NoReturn:
        """Raises MistakeError about a key of this table; or about what was noted before, if this may follow from it."""
        if not self._found:
            self.note(key, what, remedy)
        raise_all(self._found)
        raise AssertionError

    def _get(self, key: str, kind: type | tuple[type, ...], wanted: str, default: Any, harmless: Any = None) -> Any:
        self._asked.add(key)
        if key not in self._data:
            if default is not _NONE:
                return default
            self.note(key, "is missing", f"It takes {wanted}.")
            return harmless
        value = self._data[key]
        if not isinstance(value, kind) or (isinstance(value, bool) and kind not in (bool, object)):
            self.note(key, f"{value!r} does not fit", f"It takes {wanted}.")
            return harmless if default is _NONE else default
        return value

    def value(self, key: str) -> Any:
        """Whatever stands there."""
        return self._get(key, object, "a value", _NONE)

    def text(self, key: str, default: Any = ...) -> str:
        """A text."""
        value: str = self._get(key, str, "a text in quotes", _default(default), "")
        return value

    def integer(self, key: str, default: Any = ...) -> int:
        """A whole number."""
        value: int = self._get(key, int, "a whole number", _default(default), 0)
        return value

    def flag(self, key: str, default: bool) -> bool:
        """true or false."""
        value: bool = self._get(key, bool, "true or false", default)
        return value

    def date(self, key: str) -> datetime.date:
        """A date without quotes."""
        value: datetime.date = self._get(key, datetime.date, "a date such as 2027-05-01", _NONE, datetime.date.min)
        return value

    def texts(self, key: str, default: Any = ...) -> list[str]:
        """A list of texts."""
        values = self._get(key, list, "a list of texts", _default(default), [])
        if not all(isinstance(value, str) for value in values):
            self.note(key, "not all of these are texts", 'It takes a list such as ["load", "supply"].')
            return []
        return list(values)

    def integers(self, key: str) -> list[int]:
        """A list of whole numbers."""
        values = self._get(key, list, "a list of whole numbers", _NONE, [])
        if not all(isinstance(value, int) and not isinstance(value, bool) for value in values):
            self.note(key, "not all of these are whole numbers", "It takes a list such as [101, 102].")
            return []
        return list(values)

    def quantity(self, key: str, dimension: Dimension, default: Any = ...) -> float:
        """A quantity such as "12 V", in base units."""
        text = self._get(key, str, 'a number with its unit in quotes, as "12 V"', _default(default), math.nan)
        return self._parsed(key, text, dimension) if isinstance(text, str) else text

    def extent(self, key: str, dimension: Dimension) -> tuple[float, float] | None:
        """Two quantities, the lower one first; None when the key is missing."""
        values = self._get(key, list, 'two quantities, as ["0 V", "20 V"]', None)
        if values is None:
            return None
        if len(values) != 2 or not all(isinstance(value, str) for value in values):
            self.note(key, "not two quantities", 'Write it as ["0 V", "20 V"].')
            return None
        low, high = (self._parsed(key, value, dimension) for value in values)
        if low >= high:
            self.note(key, "the first is not below the second", "Write the lower end first.")
        return low, high

    def pair(self, key: str, first: Dimension, second: Dimension, example: str) -> tuple[float, float]:
        """Two quantities of different kinds, in base units; `example` is told where they are not."""
        values = self._get(key, list, f"two quantities, as {example}", [])
        if len(values) != 2 or not all(isinstance(value, str) for value in values):
            self.note(key, "not two quantities", f"Write it as {example}.")
            return math.nan, math.nan
        return self._parsed(key, values[0], first), self._parsed(key, values[1], second)

    def _parsed(self, key: str, text: str, dimension: Dimension) -> float:
        try:
            quantity = parse_quantity(text)
        except UnitError as error:
            self.note(key, error.what, error.remedy)
            return math.nan
        if quantity.dimension != dimension:
            self.note(key, f"{text!r} is {describe(quantity.dimension)}", f"It takes {describe(dimension)}.")
            return math.nan
        return float(quantity)

    def table(self, key: str, *, needed: bool = False) -> TomlTable:
        """A table within this one; an empty one when it is missing."""
        data = self._get(key, dict, "a table", _NONE if needed else {}, {})
        return self._within(key, data, self._found)

    def within(self, key: str, data: Fields) -> TomlTable:
        """A table that stands in a list below a key."""
        return self._within(key, data, self._found)

    def _within(self, key: str, data: Fields, found: list[MistakeError] | None) -> TomlTable:
        inner = TomlTable(data, self.file, ".".join(part for part in (self.path, key) if part), self._lines, found)
        base = self._base
        if base is not None and isinstance(below := base._data.get(key), dict):
            own = self._own.get(key, {})
            inner._base, inner._own = base._within(key, below, None), own if isinstance(own, dict) else {}
        return inner

    def tables(self, key: str) -> dict[str, TomlTable]:
        """All tables below a key, by name; each tells its own mistakes."""
        outer = self.table(key)
        return {name: outer._within(name, outer._get(name, dict, "a table", _NONE, {}), None) for name in outer}

    def list_of_tables(self, key: str) -> list[TomlTable]:
        """The tables of a list, none when it is missing."""
        entries = self._get(key, list, "a list of tables", [])
        if not all(isinstance(entry, dict) for entry in entries):
            self.note(key, "not all of these are tables", "It takes a list of tables in braces.")
            return []
        return [self._within(f"{key}[{i}]", entry, self._found) for i, entry in enumerate(entries)]

    def finish(self, *also: str) -> None:
        """Refuses keys that were not asked for; `also` names keys that are allowed to be there."""
        known = self._asked | set(also)
        for key in self._data:
            if key not in known:
                self.note(key, "is not a key that is known here", did_you_mean(key, known | self._looked_for))
        if self._is_owner:
            raise_all(self._found)


def read_laid_over(path: Path, *, what: str, file_of: Callable[[str], Path | None]) -> tuple[TomlTable, list[Path]]:
    """The table of a file laid over that of the file which its key `extends` names, and so on; with all these files,
    this one first. Its key `without` names tables of those below that are left out: "settings.over_current".

    Args:
        file_of: the file that a name means; None where there is none.

    Raises:
        MistakeError: a file cannot be read, or they extend one another in a circle.
    """
    tables, files = [read_toml(path, what=what)], [path]
    while name := tables[-1].text("extends", ""):
        below = file_of(name)
        if below is None:
            tables[-1].fail("extends", f"there is no {what} {name!r}")
        if any(below.resolve() == file.resolve() for file in files):
            circle = ", ".join(file.name for file in [*files, below])
            tables[-1].fail("extends", f"it goes round in a circle: {circle}", "One of them must stand by itself.")
        tables.append(read_toml(below, what=what))
        files.append(below)
    laid = tables.pop()
    laid.texts("without", [])
    while tables:
        upper = tables.pop()
        for place in upper.texts("without", []):
            if not laid.leave_out(place):
                upper.note("without", f"there is no {place!r} in {laid.file}", 'Write, as "settings.over_current".')
        laid = upper.over(laid)
    return laid, files


T = TypeVar("T")


def each(
    tables: dict[str, TomlTable], read: Callable[[TomlTable, str], T], mistakes: list[MistakeError]
) -> dict[str, T]:
    """What `read` makes of each of some tables, by name; what is wrong with the others goes to the mistakes."""
    made = {}
    for name, table in tables.items():
        try:
            made[name] = read(table, name)
        except MistakeError as error:
            mistakes.append(error)
    return made


def raise_all(mistakes: Iterable[MistakeError]) -> None:
    """Raises all of some mistakes as one error, each told once; nothing where there are none."""
    single = [one for error in mistakes for one in (error.each if isinstance(error, Mistakes) else [error])]
    if len(single) == 1:
        raise single[0]
    if single:
        raise Mistakes(list({str(error): error for error in single}.values()))


ONE_ANSWER = ("complete", "limiting", "identity")  # tables that answer one question: replaced as a whole


def _laid_over(upper: Fields, lower: Fields) -> Fields:
    laid = dict(lower)
    for key, value in upper.items():
        under = lower.get(key)
        if isinstance(value, dict) and isinstance(under, dict) and key not in ONE_ANSWER:
            value = _laid_over(value, under)
        laid[key] = value
    return laid


_NONE: Any = object()


def _default(value: Any) -> Any:
    return _NONE if value is ... else value
