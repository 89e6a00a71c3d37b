"""What each line and each instrument command cost, for `run --timing`."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ibexite.bench.interface import BenchLike


@dataclass(slots=True)
class Cost:
    """How often something was done, the seconds in all, and the longest single one."""

    times: int = 0
    seconds: float = 0.0
    longest: float = 0.0

    def add(self, seconds: float) -> None:
        """One more."""
        self.times += 1
        self.seconds += seconds
        self.longest = max(self.longest, seconds)


@dataclass(slots=True)
class Timing:
    """Gathers costs while a run goes on. Nested lines are told by themselves, not by those around them."""

    lines: dict[tuple[str, int], Cost] = field(default_factory=dict)
    commands: dict[tuple[str, str], Cost] = field(default_factory=dict)
    clock: Callable[[], float] = time.perf_counter

    def took(self, line: int, file: str, seconds: float) -> None:
        """A line of a file took so long."""
        self.lines.setdefault((file, line), Cost()).add(seconds)

    def listen(self, bench: BenchLike) -> None:
        """Times every exchange of a connected bench."""
        bench.listen(self._timed)

    def _timed(self, name: str, method: Callable[..., Any]) -> Callable[..., Any]:
        def timed(message: Any, *more: Any, **options: Any) -> Any:
            begun = self.clock()
            try:
                return method(message, *more, **options)
            finally:
                text = message if isinstance(message, str) else message.what[2].rpartition("\n")[2]
                self.commands.setdefault((name, _shape(text)), Cost()).add(self.clock() - begun)

        return timed


def _shape(text: str) -> str:
    """A command without its numbers, so that the points of a sweep count as one: "VOLT 7.5" and "VOLT 9" are "VOLT
    …"."""
    head, space, _ = text.partition(" ")
    return f"{head} …" if space else head
