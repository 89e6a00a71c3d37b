"""Makes references of what a run has taught, once it is stored."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from pathlib import Path

from ibexite import events
from ibexite.errors import IbexiteError
from ibexite.events import Emitted
from ibexite.station.project import find_project, shown_path


class Taught:
    """Hears the events of a run, for what of it is to become a reference."""

    def __init__(self) -> None:
        self._found: list[events.Taught] = []

    def __call__(self, emitted: Emitted) -> None:
        """Takes an event."""
        if isinstance(emitted.event, events.Taught):
            self._found.append(emitted.event)

    def saved(self, records: Path, run: str, sequence: Path, by: str) -> Iterator[tuple[str, bool]]:
        """Makes the references. What has become of each, in words, and whether it could not be made."""
        if not self._found:
            return
        from ibexite.records.gateway import open_lookup
        from ibexite.station import references

        project = find_project(sequence).folder
        with contextlib.closing(open_lookup(records)) as lookup:
            record = lookup.run(run)
            for one in self._found:
                try:
                    made = references.save(project, record, tuple(one.names), one.reference, by=by, replaces=True)
                    yield f"  taught: {shown_path(Path(made.path))}, not approved yet", False
                except (IbexiteError, OSError) as error:
                    yield f"  not taught as {one.reference}: {error}", True
