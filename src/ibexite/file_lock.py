"""Tells whether a file is in use by a living process. The lock goes away with the process, however it ends. And a file
that several add to."""

from __future__ import annotations

import contextlib
import errno
import os
import sys
import time
from pathlib import Path

if sys.platform == "win32":
    import msvcrt

    def try_lock(fd: int) -> bool:
        """Locks an open file; False if another process holds it."""
        try:
            msvcrt.locking(fd, msvcrt.LK_NBLCK, 1)
        except OSError:
            return False
        return True
else:
    import fcntl

    def try_lock(fd: int) -> bool:
        """Locks an open file; False if another process holds it."""
        try:
            fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            return False
        return True


def append_whole(path: Path, text: str, *, head: str = "") -> None:
    """Adds a text at the end of a file, all of it or nothing, in its turn with others who do the same.

    Args:
        head: what a new file begins with.

    Raises:
        OSError: it cannot be written, or somebody else does for a second.
    """
    with path.open("ab", buffering=0) as file:
        for _ in range(200):
            if try_lock(file.fileno()):
                break
            time.sleep(0.005)
        else:
            raise OSError(errno.EAGAIN, "somebody else writes it", str(path))
        before = os.fstat(file.fileno()).st_size
        data = ((head if not before else "") + text).encode()
        try:
            if file.write(data) < len(data):
                raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC), str(path))
            os.fsync(file.fileno())
        except OSError:
            with contextlib.suppress(OSError):
                os.ftruncate(file.fileno(), before)
            raise
