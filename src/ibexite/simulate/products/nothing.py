"""No product: for rehearsals on a bench that names none. Its instruments are connected to nothing, and meters read what
was prepared."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from ibexite.simulate.world import Stimuli


class Nothing:
    """No terminals and no quantities."""

    terminals: Mapping[str, tuple[str, ...]] = {}
    derived: Mapping[str, Callable[[Callable[[str], float]], float]] = {}

    def __init__(self, serial: str) -> None:
        self.time_constants: dict[str, float] = {}

    def operating_point(self, stimuli: Stimuli) -> dict[str, float]:
        """There is none."""
        return {}
