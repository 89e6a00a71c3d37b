"""Recordings that are kept in memory, and those of a run that is replayed."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from ibexite import events

Read = Callable[[str, str, int, int], Any]
"""Values of a channel of a recording: file, name, the first one and the one behind the last."""


class KeptInMemory:
    """A recording of float64 numbers."""

    def __init__(self, file: str, channels: Sequence[events.StreamChannel]) -> None:
        self._file, self._channels = file, tuple(channels)
        self._rows: list[Sequence[Any]] = []
        self.count = 0

    def write(self, first: int, columns: Sequence[Any]) -> None:
        """Appends samples of all channels."""
        self._rows.append(columns)
        self.count = first + len(columns[0])

    def ref(self, name: str) -> events.SideRef:
        """Where the values of a channel were."""
        return events.SideRef(self._file, 0, self.count, name)

    def values(self, name: str, begin: int, end: int) -> Any:
        """Some of them."""
        import numpy as np

        at = [channel.name for channel in self._channels].index(name)
        return np.concatenate([np.array([]), *(columns[at] for columns in self._rows)])[begin:end]

    def close(self) -> None:
        """It stays."""


class _KeptThen(KeptInMemory):
    """A recording of then, which nobody makes now."""

    def __init__(self, file: str, channels: Sequence[events.StreamChannel], count: int, read: Read) -> None:
        super().__init__(file, channels)
        self.count, self._read = count, read

    def values(self, name: str, begin: int, end: int) -> Any:
        """Some of them, as they were recorded."""
        return self._read(self._file, name, begin, end)


class RecordingsOfThen:
    """The recordings of a run that is replayed: what was streamed is taken from its file, what was polled is polled
    once more, of what was said then.

    Args:
        told: the events of the run.
        read: gives values that were recorded.
    """

    def __init__(self, told: Iterable[events.Event], read: Read) -> None:
        told, self._read = list(told), read
        self._begun = {event.number: event for event in told if isinstance(event, events.RecordingStarted)}
        self._ended = {event.number: event for event in told if isinstance(event, events.RecordingEnded)}

    def begin(self, number: int, channels: Sequence[events.StreamChannel]) -> tuple[str, KeptInMemory]:
        """One of then."""
        begun = self._begun.get(number)
        file = begun.file if begun is not None else ""
        ended = self.streamed(number)
        if ended is not None:
            return file, _KeptThen(file, channels, ended.samples, self._read)
        return file, KeptInMemory(file, channels)

    def streamed(self, number: int) -> events.RecordingEnded | None:
        """How one that was streamed had ended; of one that broke off with its run, that it has no samples."""
        begun = self._begun.get(number)
        if begun is None or begun.step is None:
            return None
        return self._ended.get(number) or events.RecordingEnded(begun.t, begun.test, number, 0)
