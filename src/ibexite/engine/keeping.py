"""Files that a run keeps: copies in the folder of the records, named by their hash."""

from __future__ import annotations

import hashlib
import re
from pathlib import Path
from typing import NamedTuple

from ibexite import events
from ibexite.engine.runtime import Runtime
from ibexite.errors import SequenceError
from ibexite.plain_file import is_file, is_there

FILES = "files"  # the folder of the copies, below the records
MOST_BYTES = 50_000_000  # of a file


class Kept(NamedTuple):
    """A file that was kept: its bytes, its hash, and where the copy lies ("" where a run keeps none)."""

    data: bytes
    sha256: str
    path: str


def keep_file(runtime: Runtime, block: str, name: str) -> Kept:
    """Takes a copy of a file beside the sequence into the records, and tells of it.

    Raises:
        SequenceError: it is not there, or too large.
    """
    source = (runtime.kept or {}).get(name, runtime.folder / name)
    if is_there(source) and not is_file(source):  # a pipe, which might never end, or a folder
        raise SequenceError(f"{name} is no plain file, and cannot be attached", remedy="Name a file on a disk.")
    try:
        size = source.stat().st_size
        if size > MOST_BYTES:
            raise SequenceError(f"{name} has {size:,} bytes, too many to attach", remedy=f"At most {MOST_BYTES:,}.")
        return keep_bytes(runtime, block, name, source.read_bytes())
    except (OSError, ValueError) as error:
        why = error.strerror if isinstance(error, OSError) else error
        raise SequenceError(f"{name} cannot be attached ({why})", remedy="It must lie beside the sequence.") from None


def keep_bytes(runtime: Runtime, block: str, name: str, data: bytes) -> Kept:
    """Keeps bytes under a name, and tells of them. Raises OSError: they could not be written."""
    digest, kept = hashlib.sha256(data).hexdigest(), ""
    if runtime.records is not None:
        folder = runtime.records / FILES
        target = folder / f"{digest[:16]}_{re.sub(r'[^A-Za-z0-9._-]', '_', Path(name).name)}"
        if runtime.kept is None:
            folder.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        kept = str(target)
    runtime.emit(events.Attached(runtime.now(), block, name, kept, digest, len(data)))
    return Kept(data, digest, kept)
