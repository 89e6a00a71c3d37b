"""Standard output and error that last: when nobody reads them any more, or the disk behind them is full, what is
written goes nowhere. The exit code and the records must not depend on who looks; it is told that a file is not
complete. A reader who holds (a paused terminal) is waited for, but not by a run that somebody wants to end."""

from __future__ import annotations

import contextlib
import errno
import os
import select
import sys
from typing import Any, TextIO

TURN = 0.1  # s


class LastingStream:
    """A text stream around another one, which never fails."""

    waits_for_readers = True  # of all streams

    def __init__(self, stream: TextIO | None, number: int) -> None:
        self._stream = stream
        self._number = number

    def write(self, text: str) -> int:
        """Writes, as long as somebody reads."""
        if self._is_read():
            self._tried("write", text)
        return len(text)

    def flush(self) -> None:
        """Flushes, as long as somebody reads."""
        if self._is_read():
            self._tried("flush")

    def _is_read(self) -> bool:
        """Waits until there is room for a line; false if there is none and nobody is to be waited for."""
        with contextlib.suppress(OSError, ValueError):  # what cannot be waited for is tried
            while self._stream is not None and not select.select([], [self._number], [], TURN)[1]:
                if not LastingStream.waits_for_readers:
                    return False
        return True

    def isatty(self) -> bool:
        """True for a terminal."""
        return bool(self._tried("isatty"))

    def _tried(self, name: str, *arguments: Any) -> Any:
        if self._stream is None:
            return None
        try:
            return getattr(self._stream, name)(*arguments)
        except (OSError, ValueError) as error:
            self._give_up()
            # A reader who has seen enough, or a closed stream, is nothing to tell of.
            if self._number == 1 and isinstance(error, OSError) and error.errno not in (errno.EPIPE, errno.EBADF):
                sys.stderr.write(f"standard output: {error.strerror}; what was written there is not complete\n")
        return None

    def _give_up(self) -> None:
        """From now on nothing is written; what is still in buffers must not fail when the program ends either."""
        self._stream = None
        with contextlib.suppress(OSError):
            nowhere = os.open(os.devnull, os.O_WRONLY)
            os.dup2(nowhere, self._number)
            os.close(nowhere)

    def __getattr__(self, name: str) -> Any:
        stream = self.__dict__["_stream"]
        return getattr(stream if stream is not None else sys.__stderr__, name)


def make_output_last() -> None:
    """Puts lasting streams in place of standard output and error."""
    for number, name in ((1, "stdout"), (2, "stderr")):
        stream = getattr(sys, name)
        if not isinstance(stream, LastingStream):
            setattr(sys, name, LastingStream(stream, number))
