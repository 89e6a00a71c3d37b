"""An instrument is held by one run on this computer: a lock file for its address, taken before the first byte.

The lock goes away with the processes that hold it (the run, and the guardian as long as it has something to switch
off). What stands in the file says who has it and since when.
"""

from __future__ import annotations

import contextlib
import datetime
import hashlib
import json
import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from ibexite.errors import BenchError
from ibexite.file_lock import try_lock
from ibexite.instruments.address import parse_address

FOLDER = "ibexite-locks"


class AddressLocks:
    """The locks of some addresses. Of those that are taken at a time, all are or none."""

    def __init__(self) -> None:
        self._held: dict[str, int] = {}

    def take(self, addresses: Iterable[tuple[str, str]], holder: str) -> None:
        """Takes the locks of (name of the instrument, address). `holder` says in words who wants them.

        Raises:
            BenchError: another run has one; names it.
        """
        folder = Path(tempfile.gettempdir()) / FOLDER
        wanted = list(addresses)
        try:
            folder.mkdir(exist_ok=True)
            with contextlib.suppress(OSError):
                folder.chmod(0o777)  # of all users of this computer
            for name, address in wanted:
                self._take(folder, name, address, holder)
        except (OSError, BenchError) as error:
            for name, _ in wanted:
                self.release(name)
            if isinstance(error, BenchError):
                raise
            raise BenchError(
                f"instruments cannot be reserved ({error.strerror})", where=str(folder),
                remedy="Two runs on one bench would reset each other's instruments. Check the folder.",
            ) from None  # fmt: skip

    def _take(self, folder: Path, name: str, address: str, holder: str) -> None:
        path = folder / f"{hashlib.sha256(parse_address(address).place().encode()).hexdigest()[:24]}.json"
        fd = os.open(path, os.O_RDWR | os.O_CREAT, 0o666)
        if not try_lock(fd):
            told = os.read(fd, 4096).decode("utf-8", "replace")
            os.close(fd)
            raise BenchError(
                f"{name} is in use by {_who(told)}", where=address,
                remedy="Wait until that has ended; two at a time would reset each other's instruments.",
            )  # fmt: skip
        self._held[name] = fd
        with contextlib.suppress(OSError):
            os.fchmod(fd, 0o666)
        since = datetime.datetime.now().astimezone().isoformat(timespec="seconds")
        os.ftruncate(fd, 0)
        os.write(fd, json.dumps({"holder": holder, "since": since, "process": os.getpid()}).encode())

    def handles(self) -> list[int]:
        """The open files; copies of them hold the locks as well."""
        return list(self._held.values())

    def release(self, name: str) -> None:
        """Gives one lock back."""
        fd = self._held.pop(name, None)
        if fd is not None:
            os.close(fd)


def _who(told: str) -> str:
    try:
        entry = json.loads(told)
        return f"{entry['holder']} (process {entry['process']}, since {entry['since']})"
    except (ValueError, KeyError, TypeError):
        return "another run"
