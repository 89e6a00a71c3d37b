"""The wish to end a run: asked for from any thread or signal handler, heeded where the run looks (at waits, turns of
loops, waiting for instruments, programs and people). Nowhere else an exception is raised, so nothing that was measured
is torn out of the hands of whoever records it.

What always holds: a wish that `request` has called accepted is heeded; one that comes too late is called so. There are
no locks, since a signal may come in the middle of another one.
"""

from __future__ import annotations

from collections.abc import Callable

from ibexite.errors import StopRun

_TOO_LATE = "the tests are over"


class Stop:
    """Ends one run, once."""

    def __init__(self) -> None:
        # Whoever looks is alive: told to the guardian, and by how many s later the next look may come.
        self.beat: Callable[[float], None] = lambda ahead: None
        self.when_heeded: Callable[[str], None] = lambda reason: None  # told once, where the run ends
        self._is_heeded = False
        self._fate: dict[str, str] = {}  # of the run: what came first, a wish or the end of its tests
        self._is_sealed = False

    def request(self, reason: str) -> bool:
        """Asks the run to end; `reason` stands in its records. False if that was asked before, or if its tests are over
        and it is being made safe already."""
        return not self._fate and self._fate.setdefault("run", reason) is reason

    def check(self) -> None:
        """Raises StopRun if somebody asked for the end."""
        self.beat(0.0)
        if self._fate and not self._is_sealed:
            self.heed(self._fate["run"])
            raise StopRun(self._fate["run"])

    def seal(self) -> str:
        """From now on the run is being made safe, and no wish is accepted. The reason of one that was, "" if none."""
        self._is_sealed = True
        fate = self._fate.setdefault("run", _TOO_LATE)
        if fate is _TOO_LATE:
            return ""
        self.heed(fate)
        return fate

    def heed(self, reason: str) -> None:
        """The run ends here, for this reason: told if it was not yet."""
        if not self._is_heeded:
            self._is_heeded = True
            self.when_heeded(reason)
