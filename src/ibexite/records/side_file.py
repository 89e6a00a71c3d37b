"""The side file of a run: long series of numbers, in one Arrow IPC stream (one column, float64), beside the journal and
the store, which refer to them by file, begin and count.

What always holds: numbers are handed to the system before the journal refers to them, and are synced when it is. What
was written is never written again, so that a stream without its end, as a killed process leaves it, holds all that is
referred to.
"""

from __future__ import annotations

import os
from array import array
from collections.abc import Iterator
from functools import cached_property
from pathlib import Path
from typing import Any

from ibexite.errors import RecordsError
from ibexite.events import SideRef
from ibexite.records.lazy_numbers import LazyNumbers

FOLDER = "curves"  # below the records
SUFFIX = ".arrows"
_COLUMN = "value"


class SideFile:
    """Appends series of numbers to the side file of a run, which is made for the first of them."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._fd, self._count = -1, 0
        self._writer: Any = None

    def put(self, numbers: Any) -> SideRef:
        """Appends numbers, shape (n,), and says where they are. Raises OSError: they could not be written."""
        import numpy as np
        import pyarrow as pa

        if self._writer is None:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._fd = os.open(self.path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_APPEND, 0o644)
            schema = pa.schema([(_COLUMN, pa.float64())])
            self._writer = pa.ipc.new_stream(pa.PythonFile(Unbuffered(self._fd), mode="w"), schema)
        data = np.ascontiguousarray(numbers, dtype=float)
        # From the bytes as they are: pa.array would load more than it needs, and touch the holes.
        column = pa.Array.from_buffers(pa.float64(), len(data), [None, pa.py_buffer(data)])
        self._writer.write_batch(pa.RecordBatch.from_arrays([column], [_COLUMN]))
        begin, self._count = self._count, self._count + len(data)
        return SideRef(self.path.name, begin, len(data))

    def sync(self) -> None:
        """Returns when all of it is on the disk."""
        if self._fd >= 0:
            os.fsync(self._fd)

    def close(self) -> None:
        """Ends the stream."""
        if self._writer is not None:
            self._writer.close()
            os.close(self._fd)
            self._fd, self._writer = -1, None


class Unbuffered:
    """A file for Arrow whose writes have reached the system when they return."""

    closed = False

    def __init__(self, fd: int) -> None:
        self._fd = fd

    def write(self, data: Any) -> int:
        """Writes all of it. Raises OSError."""
        view = memoryview(data).cast("B")
        written = 0
        while written < len(view):
            written += os.write(self._fd, view[written:])
        return written

    def flush(self) -> None:
        """Nothing is held back."""


def read_side(folder: Path, ref: SideRef) -> array[float]:
    """The numbers that a reference means. `folder` is that of the records.

    Raises:
        RecordsError: the file is not there, is damaged, or holds fewer.
    """
    import pyarrow as pa

    path, found, at = folder / FOLDER / ref.file, array("d"), 0
    try:
        with pa.OSFile(str(path)) as source, pa.ipc.open_stream(source) as stream:
            while len(found) < ref.length:
                column = stream.read_next_batch().column(0)
                first = max(0, ref.begin - at)
                wanted = column.slice(first, ref.length - len(found)) if first < len(column) else column.slice(0, 0)
                found.frombytes(wanted.to_numpy(zero_copy_only=True).tobytes())
                at += len(column)
    except StopIteration:
        raise _unreadable(path, f"it ends before number {ref.begin + ref.length}") from None
    except (OSError, pa.ArrowException) as error:
        raise _unreadable(path, str(error).partition("\n")[0]) from None
    return found


def _unreadable(path: Path, why: str) -> RecordsError:
    return RecordsError(
        f"the values of a curve cannot be read ({why:.120})", where=str(path),
        remedy="All else of the run is in the store. Was the file moved away from the records?",
    )  # fmt: skip


class SideValues(LazyNumbers):
    """Numbers in a side file, read when the first of them is looked at."""

    def __init__(self, folder: Path, ref: SideRef) -> None:
        self._folder, self._ref = folder, ref

    @cached_property
    def _values(self) -> array[float]:
        return read_side(self._folder, self._ref)

    def __len__(self) -> int:
        return self._ref.length

    def at(self, place: int) -> float:
        """As it was written."""
        return self._values[place]

    def __iter__(self) -> Iterator[float]:
        return iter(self._values)

    def array(self) -> Any:
        """A copy of all."""
        import numpy as np

        return np.array(self._values)


class EvenPoints(LazyNumbers):
    """The points of an axis with even steps."""

    def __init__(self, start: float, step: float, count: int) -> None:
        self.start, self.step, self._count = start, step, count

    def __len__(self) -> int:
        return self._count

    def at(self, place: int) -> float:
        """Start and so many steps."""
        return self.start + self.step * place

    def array(self) -> Any:
        """As floats."""
        import numpy as np

        return self.start + self.step * np.arange(self._count, dtype=float)


def warm_up() -> None:
    """Does what the first long series would have to wait for."""
    import pyarrow.ipc  # noqa: F401
