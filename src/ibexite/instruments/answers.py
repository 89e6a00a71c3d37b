"""How whole curves are answered: as a list of numbers or as a block of them, scaled, over axes that are told by start
and step or point by point. A profile says which."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from ibexite.frozen import frozen
from ibexite.protocols.scpi import INFINITY, NOT_A_NUMBER, response_value
from ibexite.protocols.speech import Speech
from ibexite.units import Unit

if TYPE_CHECKING:
    import numpy as np


@frozen
class Told:
    """A number that a profile knows, in base units, or the query that asks for it, or for several, and how that is
    answered, in `unit` of the instrument."""

    query: str
    number: float
    unit: Unit
    speech: Speech = Speech()

    def number_in(self, reply: str) -> float:
        """The number of a reply, in base units. Raises ValueError: it is none."""
        number = self.speech.number_in(reply, self.unit)
        if abs(number) >= 0.999 * INFINITY:
            raise ValueError(reply)
        return number * float(self.unit.factor) + float(self.unit.offset)

    def numbers_in(self, reply: str) -> np.ndarray:
        """The numbers of a reply, in base units, shape (n,). Raises ValueError: one of them is none."""
        import numpy as np

        numbers = np.array(self.speech.numbers_in(reply, self.unit), dtype=float)
        if (np.abs(numbers) >= 0.999 * INFINITY).any():
            raise ValueError(reply)
        found: np.ndarray = numbers * float(self.unit.factor) + float(self.unit.offset)
        return found


SPACINGS = {"linear": ("LIN", "LINEAR"), "logarithmic": ("LOG", "LOGARITHMIC")}


@frozen
class Spacing:
    """The query that asks how the points of an axis lie, and how that is answered."""

    query: str
    speech: Speech

    def is_logarithmic(self, reply: str) -> bool:
        """Whether they lie by even ratios. Raises ValueError: the reply says neither this nor that they lie evenly."""
        return self.speech.choice_in(reply, tuple(SPACINGS)) == "logarithmic"


@frozen
class AxisCommands:
    """How the points of an axis are known: start and step; start and stop, between which as many lie as there are
    values (evenly, or as `spacing` tells); or a list of them."""

    name: str
    unit: Unit
    start: Told | None = None
    step: Told | None = None
    stop: Told | None = None
    points: Told | None = None
    spacing: Spacing | None = None


@frozen
class CurveCommands:
    """How the values of a curve are answered. `numbers` is the type of those in a block, "" for a list in characters; a
    value is number x factor + offset, in the unit of the reading."""

    numbers: str
    axes: tuple[AxisCommands, ...]
    factor: Told
    offset: Told
    is_complex: bool = False  # each point is answered as real and imaginary part

    def asked(self) -> Iterator[Told | Spacing]:
        """All that is asked beside the values."""
        for axis in self.axes:
            for told in (axis.start, axis.step, axis.stop, axis.points, axis.spacing):
                if told is not None and told.query:
                    yield told
        yield from (told for told in (self.factor, self.offset) if told.query)

    def decoded(self, reply: bytes | bytearray, speech: Speech, unit: Unit) -> np.ndarray:
        """The numbers of a reply, shape (n,), as floats in the unit of the instrument; of complex points twice as many.
        What stands for no number (SCPI-1999 volume 1, 7.2.1) is as it was sent: see holes_in.

        Raises:
            ValueError: it holds something else, or half a number.
        """
        import numpy as np

        if self.numbers:
            return np.frombuffer(reply, dtype=self.numbers).astype(float)
        text = reply.decode("latin-1")
        if not speech.is_plain:
            return np.array(speech.numbers_in(text, unit), dtype=float)
        return np.array([response_value(one) for one in speech.split(text)] if text.strip() else [], dtype=float)


def holes_in(numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which numbers stand for none: overload (9.9E37, or infinite), and not a number (9.91E37, or NaN). Between them
    there is room for what single precision makes of both."""
    import numpy as np

    size = np.abs(numbers)
    none = np.isnan(numbers) | ((size >= 0.9995 * NOT_A_NUMBER) & np.isfinite(numbers))
    return (size >= 0.999 * INFINITY) & ~none, none
