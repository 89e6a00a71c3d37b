"""Tells readers of a run what happens in it: the journal first, which is no view (without it no run goes on), then the
views. A view that breaks is taken out; it touches neither the verdict nor the exit code."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from ibexite.errors import RecordsError
from ibexite.events import Emitted, Event

Reader = Callable[[Emitted], None]


class Teller:
    """Calling it tells an event to all. `on_lost` is called once, when the journal cannot be written any more: what it
    raises ends the run."""

    def __init__(
        self, run: str, journal: Reader, views: Iterable[Reader], on_lost: Callable[[RecordsError], None]
    ) -> None:
        self._run, self._journal, self._views, self._on_lost = run, journal, list(views), on_lost
        self._number = 0
        self.has_journal = True
        self.broken_views: list[str] = []

    def __call__(self, event: Event) -> None:
        """Tells the journal, then the views. Raises what `on_lost` raises."""
        self._number = number = self._number + 1
        emitted: Emitted = tuple.__new__(Emitted, (self._run, number, event))  # as Emitted(…), in half the time
        if self.has_journal:
            try:
                self._journal(emitted)
            except Exception as error:
                self._lose(error)
        if self._views:
            self._show(emitted)

    def in_two_steps(self, event: Event, again: Callable[[], Event]) -> None:
        """Tells the journal an event, and the views what it is after that: what cannot be written may change it."""
        views, self._views = self._views, []
        self(event)
        self._views = views
        self._show(Emitted(self._run, self._number, again()))

    def _lose(self, error: Exception) -> None:
        self.has_journal = False
        self._on_lost(error if isinstance(error, RecordsError) else RecordsError(f"the journal broke: {error!r}"))

    def _show(self, emitted: Emitted) -> None:
        for view in tuple(self._views):
            try:
                view(emitted)
            except Exception as error:
                self._views.remove(view)
                self.broken_views.append(f"{type(error).__name__}: {error}")
