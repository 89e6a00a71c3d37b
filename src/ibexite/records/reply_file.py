"""The file of replies of a run: the bytes of long replies, one behind the other, beside the journal, which says where
each lies. They are handed to the system before the journal refers to them, and are synced when it is."""

from __future__ import annotations

import os
from pathlib import Path

from ibexite.errors import RecordsError
from ibexite.events import ReplyRef

FOLDER, SUFFIX = "replies", ".bin"  # below the records
SHOWN = 40  # bytes of a reply that the journal shows


class ReplyFile:
    """Appends replies to the file of a run, which is made for the first of them."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._fd, self._length = -1, 0

    def put(self, reply: bytes | bytearray) -> ReplyRef:
        """Appends a reply, and says where it is. Raises OSError: it could not be written."""
        if self._fd < 0:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            self._fd = os.open(self.path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_APPEND, 0o644)
        rest = memoryview(reply)
        while rest:  # a write that is cut short goes on, or raises the reason why
            rest = rest[os.write(self._fd, rest) :]
        begin, self._length = self._length, self._length + len(reply)
        shown = bytes(reply[:SHOWN]).decode("latin-1") + f"… ({len(reply)} bytes)"
        return ReplyRef(begin, len(reply), shown)

    def sync(self) -> None:
        """Returns when all of it is on the disk."""
        if self._fd >= 0:
            os.fsync(self._fd)

    def close(self) -> None:
        """Closes it."""
        if self._fd >= 0:
            os.close(self._fd)
            self._fd = -1


def reply_of(records: Path, run: str, begin: int, length: int) -> bytes:
    """A long reply of a run.

    Raises:
        RecordsError: it is not there, or not all of it.
    """
    path = records / FOLDER / (run + SUFFIX)
    try:
        with path.open("rb") as file:
            file.seek(begin)
            data = file.read(length)
    except OSError as error:
        raise RecordsError(f"cannot be read ({error.strerror})", where=str(path)) from None
    if len(data) != length:
        raise RecordsError("ends before a reply that the journal refers to", where=str(path))
    return data
