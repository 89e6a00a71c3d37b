"""The accuracy of a signal or a reading: a share of the reading, one of the range, and an absolute part, as data sheets
have it."""

from __future__ import annotations

import re

from ibexite import units
from ibexite.errors import UnitError
from ibexite.frozen import frozen
from ibexite.toml_reader import TomlTable
from ibexite.units import Dimension

_OF_RANGE = re.compile(r"(.*?)\s+of\s+(range|reading)")
EXAMPLE = 'Write, for example: "0.1 % + 20 uA", or "0.05 % of reading + 0.02 % of range"'


@frozen
class Accuracy:
    """By how much a value may be off, in both directions; `text` as it is written."""

    text: str
    of_reading: float
    of_range: float
    absolute: float  # in base units of the signal's difference

    def at(self, value: float, range_: float = 0.0) -> float:
        """Half of the width in which the true value lies, in base units. `range_` is the range of the reading,
        converted as the value is."""
        return self.of_reading * abs(value) + self.of_range * abs(range_) + self.absolute


def accuracy_of(table: TomlTable, key: str, dimension: Dimension) -> Accuracy | None:
    """The accuracy that is written there."""
    text = table.text(key)
    of_reading, of_range, absolute = 0.0, 0.0, 0.0
    for part in text.split("+"):
        found = _OF_RANGE.fullmatch(part.strip())
        try:
            amount = units.parse_quantity(found[1] if found else part.strip())
        except UnitError as error:
            table.note(key, error.what, EXAMPLE)
            return None
        if float(amount) < 0:
            table.note(key, f"{part.strip()!r} is below zero", EXAMPLE)
        if amount.unit.symbol in ("%", "ppm"):
            if dimension.kind != "linear":
                table.note(key, f"{units.describe(dimension)} has no share of it", "Write an absolute part alone.")
            if found and found[2] == "range":
                of_range += float(amount)
            else:
                of_reading += float(amount)
        elif found or amount.dimension != units.difference(dimension):
            wanted = units.describe(units.difference(dimension))
            table.note(
                key, f"{part.strip()!r} is {units.describe(amount.dimension)}", f"It is {wanted}, or a share in %."
            )
            return None
        else:
            absolute += float(amount)
    return Accuracy(text, of_reading, of_range, absolute)
