"""What opens links, so that what is said on them is written into a file where that is wanted."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from pathlib import Path

from ibexite.bench.pool import Opening
from ibexite.instruments.open_link import open_link


@contextlib.contextmanager
def watched(path: Path | None, what: str, tell: Callable[[str], None]) -> Iterator[Opening]:
    """Opens links; with a path what is said on them goes there, and at the end it is told if it is not complete.

    Args:
        what: heads it: a run, a bench.
        tell: takes a sentence for people.

    Raises:
        MistakeError: the file cannot be written.
    """
    if path is None:
        yield open_link
        return
    from ibexite.instruments.traffic_file import TrafficFile

    with contextlib.closing(TrafficFile(path, what, open_link)) as file:
        yield file.open
    if file.problem:
        tell(f"{path} is not complete: {file.problem}")
