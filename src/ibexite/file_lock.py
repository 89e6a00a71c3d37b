"""Tells whether a file is in use by a living process. The lock goes away with the process, however it ends."""

from __future__ import annotations

import sys

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
