"""Where those who have one bench by hand find each other: a folder of this user alone, with a socket of the process
that holds what is on, a lock of that process, and what the last one left behind."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import tempfile
from pathlib import Path

from ibexite.bench.file import BenchFile
from ibexite.errors import BenchError


class HandPlace:
    """That of one bench file, or of one address."""

    def __init__(self, what: str) -> None:
        """`what` tells benches apart. Raises BenchError: the folder belongs to somebody else."""
        self.folder = Path(tempfile.gettempdir()) / f"ibexite-by-hand-{os.getuid()}"
        try:
            self.folder.mkdir(mode=0o700, exist_ok=True)
            found = self.folder.lstat()
            if found.st_uid != os.getuid() or found.st_mode & 0o077 or not self.folder.is_dir():
                raise PermissionError(0, "others may write into it")
        except OSError as error:
            raise BenchError(
                f"cannot be used ({error.strerror})", where=str(self.folder), remedy="Remove it, and try again."
            ) from None
        name = hashlib.sha256(what.encode()).hexdigest()[:16]
        self.socket, self.lock = self.folder / f"{name}.socket", self.folder / f"{name}.lock"
        self._log = self.folder / f"{name}.log"

    @classmethod
    def of(cls, file: BenchFile) -> HandPlace:
        """That of a bench."""
        return cls(str(file.path.absolute()) if file.sha256 else file.name)

    def take_log(self) -> tuple[int, list[str]]:
        """The file into which a guardian writes what it did, emptied and opened; and what the last one wrote, in words:
        nothing unless somebody who had the bench by hand was broken off."""
        told = _told(self._log.read_text("utf-8", "replace")) if self._log.exists() else []
        return os.open(self._log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | os.O_APPEND, 0o600), told


def _told(log: str) -> list[str]:
    told = {}
    for line in log.splitlines():
        with contextlib.suppress(ValueError, KeyError, TypeError):
            entry = json.loads(line)
            for role in entry["roles"] if entry["e"] == "MadeSafe" else ():
                told[role["role"]] = role["problem"]
    return [
        f"the last one by hand broke off; the guardian {'could not switch off' if problem else 'switched off'} {role}"
        + (f": {problem}" if problem else "")
        for role, problem in told.items()
    ]
