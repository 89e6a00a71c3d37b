"""The sign of life of a run: a time in memory that the run writes and its guardian reads, so that a beat costs nothing
but the look at the clock. The run beats wherever it looks whether it is to end: at waits, turns of loops, questions,
and while it waits for instruments and programs."""

from __future__ import annotations

import mmap
import os
import struct
import tempfile
import time
from pathlib import Path

_TIME = struct.Struct("d")


class Heartbeat:
    """Memory that two processes share: monotonic time in s, which is one for all processes of a computer."""

    def __init__(self) -> None:
        """Raises OSError: there is no memory."""
        if hasattr(os, "memfd_create"):
            self.handle = os.memfd_create("ibexite-heartbeat")
        else:
            self.handle, name = tempfile.mkstemp(prefix="ibexite-heartbeat")
            Path(name).unlink()
        os.ftruncate(self.handle, mmap.PAGESIZE)
        self._memory = mmap.mmap(self.handle, mmap.PAGESIZE)
        self.beat()

    def beat(self, ahead: float = 0.0) -> None:
        """The run is alive; it may be that it gives its next sign of life so many s later than it is to."""
        _TIME.pack_into(self._memory, 0, time.monotonic() + ahead)

    def close(self) -> None:
        """Nobody looks any more; a beat does no harm."""
        os.close(self.handle)
