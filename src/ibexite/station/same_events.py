"""Compares the events of a replay with those that were recorded, one by one as they come."""

from __future__ import annotations

import hashlib
import math
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import Any

from ibexite import events
from ibexite.errors import RecordsError
from ibexite.records.side_file import read_side
from ibexite.records.stored_events import stored
from ibexite.untyped import Fields

# Of the begin: by which version, out of which folder, and that it is a replay.
_NOT_COMPARED = {"RunStarted": ("software", "bench", "sequence", "files", "orders")}


class Comparison:
    """A reader of events. `count` of them came; `first` is the first that is another one than then, in words.

    Args:
        folders: where the sequence lay then, and where it lies now: files are named with it.
        whole: the bytes of a long reply that was recorded.
    """

    def __init__(
        self, then: Sequence[events.Event], records: Path, whole: Callable[[Any], bytes], folders: Iterable[Path]
    ) -> None:
        self._then, self._records, self._whole = then, records, whole
        self._folders = [f"{folder}/" for folder in folders if folder != Path()]
        self.count, self.first = 0, ""

    def __call__(self, emitted: events.Emitted) -> None:
        """Takes an event."""
        number, self.count = self.count, self.count + 1
        if self.first:
            return
        if number >= len(self._then):
            self.first = f"event {number + 1} ({type(emitted.event).__name__}) comes after the end of the record"
            return
        now = self._plain(emitted.event)
        try:
            then = self._plain(self._then[number])
        except RecordsError as error:
            self.first = f"event {number + 1} ({now['e']}) cannot be compared: {error.where}: {error.what}"
            return
        if then != now:
            self.first = _difference(number + 1, then, now)

    @property
    def is_same(self) -> bool:
        """All events are those of then, and none is missing."""
        return not self.first and self.count == len(self._then)

    def _plain(self, event: events.Event) -> Fields:
        content = stored(event)
        left_out = _NOT_COMPARED.get(content["e"], ())
        found: Fields = self._value({key: value for key, value in content.items() if key not in left_out})
        return found

    def _value(self, value: Any) -> Any:
        """The same for what was recorded and for what was not yet: numbers from side files, replies by their bytes."""
        if isinstance(value, events.SideRef) and not value.channel:
            return self._value(read_side(self._records, value).tolist())
        if isinstance(value, bytes | bytearray):
            return hashlib.sha256(value).hexdigest()
        if hasattr(value, "_asdict"):
            value = value._asdict()
        if isinstance(value, dict):
            if set(value) == set(events.ReplyRef._fields):
                return hashlib.sha256(self._whole(value)).hexdigest()
            value = {str(key): self._value(inner) for key, inner in value.items()}
            for key in {"origin", "path"} & set(value):  # files are named from where the run was started
                value[key] = str(value[key]).rpartition("/")[2]
            return value
        if isinstance(value, str):
            text = str(value)
            for folder in self._folders:
                text = text.replace(folder, "")
            return text
        if hasattr(value, "tolist"):
            value = value.tolist()
        if isinstance(value, list | tuple):
            return [self._value(inner) for inner in value]
        return None if isinstance(value, float) and math.isnan(value) else value


def _difference(number: int, then: Fields, now: Fields) -> str:
    if then["e"] != now["e"]:
        return f"event {number} was {then['e']} at {then.get('t', 0):g} s, and is {now['e']}"
    keys = [key for key in then if then[key] != now.get(key)]
    told = "; ".join(f"{key} was {_shown(then[key], now.get(key))}" for key in keys)
    return f"event {number} ({now['e']} at {then.get('t', 0):g} s): {told}"


def _shown(then: Any, now: Any) -> str:
    """Two values where they differ."""
    if isinstance(then, dict) and isinstance(now, dict):
        for key in then | now:
            if then.get(key) != now.get(key):
                return f"{key}: {_shown(then.get(key), now.get(key))}"
    if isinstance(then, list) and isinstance(now, list):
        for a, b in zip(then, now, strict=False):
            if a != b:
                return _shown(a, b)
        return f"{len(then)} long, and is {len(now)} long"
    return f"{then!r:.100}, and is {now!r:.100}"
