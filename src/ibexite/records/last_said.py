"""What was said last to each instrument, for runs that did not come to an end of their own: the journal has all of it,
the store keeps the end."""

from __future__ import annotations

from collections import defaultdict, deque
from collections.abc import Iterable, Mapping

from ibexite.events import Said
from ibexite.untyped import Fields

CLOCK_SAID = "@"  # in place of a direction: no message
MOST = 200  # messages of each instrument
MOST_EVENTS = 4_000  # of the last ones, among which they are looked for


class LastSaid:
    """Takes the traffic of events as they come; hardly anything is done with it before it is asked for."""

    def __init__(self) -> None:
        self._said: deque[Said] = deque(maxlen=MOST_EVENTS)

    def take(self, said: Said) -> None:
        """The traffic of an event."""
        self._said.append(said)

    def rows(self, clock: float) -> list[Fields]:
        """The last messages of each instrument, in their order.

        Args:
            clock: what the clock of the run said when it began, in s.
        """
        kept: dict[str, deque[tuple[int, Fields]]] = defaultdict(lambda: deque(maxlen=MOST))
        for place, (instrument, direction, text, at) in enumerate(self._messages()):
            row = {"instrument": instrument, "t": at - clock, "direction": direction, "message": text}
            kept[instrument].append((place, row))
        return [
            row for _, row in sorted((entry for each in kept.values() for entry in each), key=lambda entry: entry[0])
        ]

    def _messages(self) -> Iterable[tuple[str, str, str, float]]:
        for what, times in self._said:
            for message, at in zip(what, times, strict=False):
                if len(message) != 3 or not isinstance(at, int | float):
                    continue
                instrument, direction, told = message
                text = told.get("shown") if isinstance(told, Mapping) else told
                if not (isinstance(instrument, str) and isinstance(direction, str) and isinstance(text, str)):
                    continue
                if direction != CLOCK_SAID:
                    yield instrument, direction, text, float(at)
