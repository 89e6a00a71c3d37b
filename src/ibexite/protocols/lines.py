"""Lines out of a stream of bytes, without I/O: feed what arrived, take the lines that are complete.

What always holds: bytes are looked at once; a line longer than MAX_LINE is refused, so that a peer which floods
its output cannot fill the memory.
"""

from __future__ import annotations

MAX_LINE = 16_000_000


class LineTooLong(Exception):
    """The peer sent more than MAX_LINE bytes without ending the line."""


class LineBuffer:
    """Collects received bytes and gives back whole lines, without their terminator."""

    def __init__(self, terminator: bytes = b"\n") -> None:
        self.terminator = terminator
        self._data = bytearray()
        self._searched = 0

    def feed(self, data: bytes) -> None:
        """Adds received bytes."""
        self._data += data
        if len(self._data) > MAX_LINE:
            raise LineTooLong

    def next_line(self) -> bytes | None:
        """The next complete line, None when more bytes are needed."""
        end = self._data.find(self.terminator, self._searched)
        if end < 0:
            self._searched = max(0, len(self._data) - len(self.terminator) + 1)
            return None
        line = bytes(self._data[:end])
        del self._data[: end + len(self.terminator)]
        self._searched = 0
        return line

    @property
    def pending(self) -> bytes:
        """What has arrived of a line that is not complete, or of lines not taken."""
        return bytes(self._data)
