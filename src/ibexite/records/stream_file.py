"""The file of a recording: channels sampled side by side, in an Arrow IPC stream of its own below the records.

Numbers are kept as the instrument sent them, with what makes base units of them, so that they are written without
computing and nothing of them is lost. Each batch tells the number of its first sample: what is between the end of one
and the begin of the next was never received, and reads as bad. What always holds: a batch has been handed to the
system when `write` returns, and is synced within a quarter second; a stream without its end, as a killed process leaves
it, holds all of its whole batches.
"""

from __future__ import annotations

import json
import os
import threading
from bisect import bisect_right
from collections.abc import Iterator, Sequence
from functools import cached_property
from pathlib import Path
from typing import Any, NamedTuple

from ibexite.errors import RecordsError
from ibexite.events import SideRef, StreamChannel
from ibexite.holes import BAD
from ibexite.records.lazy_numbers import LazyNumbers
from ibexite.records.side_file import Unbuffered

FOLDER, SUFFIX = "streams", ".arrows"  # below the records
SYNC_INTERVAL = 0.25  # s
_KEY, _FIRST = b"ibexite", "first"


class StreamFile:
    """Appends batches of samples to the file of a recording. Calls may come from any thread, one at a time."""

    def __init__(self, path: Path, channels: Sequence[StreamChannel]) -> None:
        """Raises RecordsError: it cannot be made."""
        import pyarrow as pa

        self.path, self.channels = path, tuple(channels)
        types = [pa.from_numpy_dtype(channel.numbers) for channel in channels]
        told = json.dumps([channel._asdict() for channel in channels]).encode()
        self._names = [channel.name for channel in channels]
        self._schema = pa.schema(list(zip(self._names, types, strict=True)), metadata={_KEY: told})
        self._types, self._pa = types, pa
        self.count = 0  # of samples, with those that are missing
        self._closed, self._failure = threading.Event(), ""
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            self._fd = os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_APPEND, 0o644)
        except OSError as error:
            raise _unwritable(error, path) from None
        self._writer = pa.ipc.new_stream(pa.PythonFile(Unbuffered(self._fd), mode="w"), self._schema)
        self._syncer = threading.Thread(target=self._keep_synced, daemon=True, name="sync")
        self._syncer.start()

    def write(self, first: int, columns: Sequence[Any]) -> None:
        """Appends samples of all channels, the first of which has this number, each an array of shape (n,).

        Raises:
            RecordsError: they cannot be written.
        """
        pa, count = self._pa, len(columns[0])
        # From the bytes as they are: pa.array would load more than it needs, and touch the holes.
        arrays = [
            pa.Array.from_buffers(kind, count, [None, pa.py_buffer(column)])
            for kind, column in zip(self._types, columns, strict=True)
        ]
        batch = pa.RecordBatch.from_arrays(arrays, schema=self._schema)
        try:
            if self._failure:
                raise OSError(0, self._failure)
            self._writer.write_batch(batch, custom_metadata={_FIRST: str(first)})
        except OSError as error:
            raise _unwritable(error, self.path) from None
        self.count = first + count

    def values(self, name: str, begin: int, end: int) -> Any:
        """Values of a channel, as `Recorded` gives them; to be asked when it was closed."""
        return self._read.values(name, begin, end)

    @cached_property
    def _read(self) -> Recorded:
        return Recorded(self.path)

    def ref(self, name: str) -> SideRef:
        """Where the values of a channel are."""
        return SideRef(self.path.name, 0, self.count, name)

    def _keep_synced(self) -> None:
        synced = 0
        while not self._closed.wait(SYNC_INTERVAL):
            if self.count != synced:
                synced = self.count
                try:
                    os.fdatasync(self._fd)
                except OSError as error:
                    self._failure = error.strerror or str(error)
                    return

    def close(self) -> None:
        """Ends and syncs it; once more does nothing. Raises RecordsError."""
        if self._closed.is_set():
            return
        self._closed.set()
        self._syncer.join()
        try:
            self._writer.close()
            os.fsync(self._fd)
        except OSError as error:
            raise _unwritable(error, self.path) from None
        finally:
            os.close(self._fd)


def _unwritable(error: OSError, path: Path) -> RecordsError:
    return RecordsError(
        f"the recording cannot be written ({error.strerror})", where=str(path),
        remedy="What was written so far is kept. Check disk space and permissions.",
    )  # fmt: skip


class _Batch(NamedTuple):
    first: int
    batch: Any


class RecordingFiles:
    """Keeps the recordings of a run, each in a file of its own with its number in the name."""

    def __init__(self, records: Path, run: str) -> None:
        self._folder, self._run = records / FOLDER, run

    def begin(self, number: int, channels: Sequence[StreamChannel]) -> tuple[str, StreamFile]:
        """A new one: its file, and what is written to. Raises RecordsError: it cannot be made."""
        made = StreamFile(self._folder / f"{self._run}_{number}{SUFFIX}", channels)
        return made.path.name, made

    def streamed(self, number: int) -> None:
        """All are made now."""


class Recorded:
    """A recording that is read back; its bytes are looked at where they are used.

    Raises:
        RecordsError: the file is not there, or is no recording.
    """

    def __init__(self, path: Path) -> None:
        import pyarrow as pa

        self._path = path
        try:
            with pa.memory_map(str(path)) as source, pa.ipc.open_stream(source) as stream:
                self.channels = [StreamChannel(**told) for told in json.loads(stream.schema.metadata[_KEY])]
                self._batches = list(_whole_batches(stream))
        except (OSError, pa.ArrowException, KeyError, TypeError, ValueError) as error:
            why = str(error).partition("\n")[0]
            raise RecordsError(
                f"the recording cannot be read ({why:.120})", where=str(path),
                remedy="All else of the run is in the store. Was the file moved away from the records?",
            ) from None  # fmt: skip
        self._firsts = [batch.first for batch in self._batches]

    @property
    def count(self) -> int:
        """How many samples it has, with those that are missing."""
        return self._batches[-1].first + len(self._batches[-1].batch) if self._batches else 0

    def values(self, name: str, begin: int, end: int) -> Any:
        """Values of a channel in base units, shape (end - begin,); a sample that is missing, or was beyond the range
        of the instrument, is bad. Raises RecordsError: it has no such channel, or is shorter."""
        import numpy as np

        channel = next((one for one in self.channels if one.name == name), None)
        if channel is None or end > self.count:
            what = f"no channel {name}" if channel is None else f"{self.count:,} samples, not {end:,}"
            raise RecordsError(f"the recording has {what}", where=str(self._path), remedy="It was changed since.")
        found = np.full(end - begin, BAD)
        at = max(0, bisect_right(self._firsts, begin) - 1)
        for first, batch in self._batches[at:]:
            low, high = max(first, begin), min(first + len(batch), end)
            if first >= end:
                break
            if low < high:
                raw = batch.column(name).to_numpy(zero_copy_only=True)[low - first : high - first]
                found[low - begin : high - begin] = in_base_units(raw, channel)
        return found


def in_base_units(raw: Any, channel: StreamChannel) -> Any:
    """What numbers of an instrument mean, shape (n,); one that says that the range was exceeded is bad."""
    import numpy as np

    with np.errstate(invalid="ignore"):  # of what is no number
        numbers = raw.astype(float)
        values = numbers * channel.scale + channel.offset
        beyond = ~np.isfinite(values)
        if channel.beyond:
            least = -channel.beyond if raw.dtype.kind != "u" else 0.0
            beyond = ~((numbers < channel.beyond) & (numbers > least))
    if beyond.any():
        values[beyond] = BAD
    return values


def _whole_batches(stream: Any) -> Iterator[_Batch]:
    """The batches of a stream up to its end, or to where whoever wrote it was killed."""
    import pyarrow as pa

    while True:
        try:
            batch, told = stream.read_next_batch_with_custom_metadata()
        except (StopIteration, pa.ArrowInvalid, OSError):  # the last one was torn
            return
        yield _Batch(int(told[_FIRST]), batch)


class StreamValues(LazyNumbers):
    """The values of a channel of a recording, of which those are read that are looked at."""

    def __init__(self, records: Path, ref: SideRef) -> None:
        self._path, self._ref = records / FOLDER / ref.file, ref

    @cached_property
    def _recorded(self) -> Recorded:
        return Recorded(self._path)

    def __len__(self) -> int:
        return self._ref.length

    def at(self, place: int) -> float:
        """One value."""
        return float(self.between(place, place + 1)[0])

    def __iter__(self) -> Iterator[float]:
        for begin in range(0, len(self), 1 << 16):
            yield from self.between(begin, min(begin + (1 << 16), len(self))).tolist()

    def between(self, begin: int, end: int) -> Any:
        """Some of them, shape (end - begin,)."""
        return self._recorded.values(self._ref.channel, self._ref.begin + begin, self._ref.begin + end)

    def array(self) -> Any:
        """All of them."""
        return self.between(0, len(self))


def length_of(records: Path, file: str) -> int:
    """How many samples a recording has, also one whose writer was killed. Raises RecordsError."""
    return Recorded(records / FOLDER / file).count
