"""A function of a Python file, as sequences see it."""

from __future__ import annotations

from ibexite import units
from ibexite.frozen import frozen
from ibexite.units import Dimension


@frozen
class PythonFunction:
    """A function of a Python file with the units that it declares. An argument that takes whole curves is a list
    there."""

    name: str
    file: str
    arguments: tuple[tuple[str, Dimension, bool], ...]  # name, dimension, takes a whole curve
    result: Dimension
    shown: str | None
    help: str
    timeout: float
    takes: tuple[units.Unit, ...] = ()  # in which it gets each argument, as it declares them
    gives: units.Unit = units.NO_UNIT  # in which it gives its result

    @property
    def usage(self) -> str:
        """How it is called."""
        return f"{self.name}({', '.join(name for name, _, _ in self.arguments if name != 'axis')})"
