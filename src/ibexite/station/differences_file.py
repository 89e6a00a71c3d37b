"""The list of what is otherwise in a unit that was to be like another, as a text to print at once: one for each run
that found differences, beside the records."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from pathlib import Path

from ibexite import events
from ibexite.events import Emitted
from ibexite.plain_file import written_whole
from ibexite.records.stored_run import verdict_text
from ibexite.verdicts import Verdict

WIDTH = 80  # columns of a plain printer
FOLDER = "differences"


class DifferencesFile:
    """Hears the events of a run and writes the list when it has ended."""

    def __init__(self, folder: Path, name: str) -> None:
        self.path = folder / FOLDER / f"{name}.txt"
        self.is_written = False
        self._started: events.RunStarted | None = None
        self._found: list[events.Judged] = []

    def __call__(self, emitted: Emitted) -> None:
        """Takes an event. Raises OSError: the list cannot be written."""
        event = emitted.event
        if isinstance(event, events.RunStarted):
            self._started = event
        elif isinstance(event, events.Judged) and event.differences and event.verdict != Verdict.PASS:
            self._found.append(event)
        elif isinstance(event, events.RunEnded) and self._found:
            with written_whole(self.path) as beside:
                beside.write_text("\n".join(self._lines(event)) + "\n", encoding="utf-8")
            self.is_written = True

    def _lines(self, ended: events.RunEnded) -> Iterator[str]:
        assert self._started is not None
        started = self._started
        yield f"{started.sequence['product']}, unit {started.serial}"
        yield verdict_text(ended.verdict, bool(ended.trial))
        yield f"{started.started[:19].replace('T', ' ')}   {started.sequence['title']}   run {started.run}"
        for judged in self._found:
            yield "-" * WIDTH
            yield from textwrap.wrap(f"{judged.test}: {judged.subject.criterion}", WIDTH, subsequent_indent="    ")
            yield ""
            for kind, text in judged.differences:
                yield from textwrap.wrap(f"{kind:<13} {text}", WIDTH - 4, initial_indent="[ ] ",
                                         subsequent_indent=" " * 18)  # fmt: skip
