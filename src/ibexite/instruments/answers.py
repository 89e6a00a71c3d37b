"""How whole curves are answered: as a list of numbers or as a block of them, scaled, over axes that are told by start
and step or point by point. A profile says which."""

from __future__ import annotations

from decimal import Decimal
from typing import TYPE_CHECKING

from ibexite import units
from ibexite.classes import Feature
from ibexite.errors import UnitError, did_you_mean
from ibexite.frozen import frozen
from ibexite.protocols.scpi import INFINITY, NOT_A_NUMBER, response_value
from ibexite.units import Dimension, Unit
from ibexite.values import Connections, Picture, Table

if TYPE_CHECKING:
    import numpy as np

    from ibexite.toml_reader import TomlTable

NUMBERS = {"int8": "i1", "uint8": "u1", "int16": "i2", "uint16": "u2", "int32": "i4", "float32": "f4", "float64": "f8"}
ORDERS = {"big": ">", "little": "<"}


@frozen
class Told:
    """A number that a profile knows, or the query that asks for it. Numbers are in `unit` of the instrument."""

    query: str
    number: float
    unit: Unit

    def in_base(self, number: float) -> float:
        """A number of the instrument in base units."""
        return number * float(self.unit.factor) + float(self.unit.offset)


@frozen
class AxisCommands:
    """How the points of an axis are known: start and step; start and stop, between which as many lie as there are
    values (`spacing` asks how: LIN or LOG, evenly without it); or a list of them (then `points` is its query)."""

    name: str
    start: Told | None
    step: Told | None
    points: str
    unit: Unit
    stop: Told | None = None
    spacing: str = ""


@frozen
class CurveCommands:
    """How the values of a curve are answered. `numbers` is the type of those in a block, "" for a list in characters; a
    value is number x factor + offset, in the unit of the reading."""

    numbers: str
    axes: tuple[AxisCommands, ...]
    factor: Told
    offset: Told
    is_complex: bool = False  # each point is answered as real and imaginary part

    def decoded(self, reply: bytes | bytearray) -> np.ndarray:
        """The numbers of a reply, shape (n,), as floats; of complex points twice as many. What stands for no number
        (SCPI-1999 volume 1, 7.2.1) is as it was sent: see holes_in.

        Raises:
            ValueError: it holds something else, or half a number.
        """
        import numpy as np

        if self.numbers:
            return np.frombuffer(reply, dtype=self.numbers).astype(float)
        texts = reply.decode("latin-1").split(",") if reply.strip() else []
        return np.array([response_value(text) for text in texts], dtype=float)


def holes_in(numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Which numbers stand for none: overload (9.9E37, or infinite), and not a number (9.91E37, or NaN). Between them
    there is room for what single precision makes of both."""
    import numpy as np

    size = np.abs(numbers)
    none = np.isnan(numbers) | ((size >= 0.9995 * NOT_A_NUMBER) & np.isfinite(numbers))
    return (size >= 0.999 * INFINITY) & ~none, none


def curve_commands(table: TomlTable, feature: Feature, unit: Unit) -> CurveCommands | None:
    """What a profile says of a reading that gives a curve; None for one that gives a single value."""
    if not feature.axes:
        for key in ("form", "numbers", "bytes", "axes"):
            if key in table and not (key == "form" and isinstance(feature.type, Table | Connections | Picture)):
                table.fail(key, "is for curves", f"{feature.name} is one value.")
        return None
    form = table.text("form", "list")
    if form not in ("list", "block"):
        table.fail("form", f"there is no form {form!r}", "Write list (numbers with commas) or block (IEEE 488.2).")
    numbers = ""
    if form == "block":
        kind, order = table.text("numbers", "float32"), table.text("bytes", "big")
        if kind not in NUMBERS:
            table.fail("numbers", f"there is no {kind!r}", did_you_mean(kind, NUMBERS))
        if order not in ORDERS:
            table.fail("bytes", f"there is no order {order!r}", "Write big (most significant byte first) or little.")
        numbers = ORDERS[order] + NUMBERS[kind]
    known = table.tables("axes")
    if set(known) != set(feature.axes):
        table.fail("axes", f"{feature.name} is over {', '.join(feature.axes)}", "Say of each how its points are known.")
    axes = tuple(_axis(known[name], name, dimension) for name, dimension in feature.axes.items())
    if len(axes) > 1 and any(axis.start for axis in axes):
        table.fail("axes", "start and step are for one axis", "Name a query for the points of each.")
    bare = Unit("", units.PLAIN, Decimal(1))
    factor, offset = _told(table, "factor", "1", bare), _told(table, "offset", "0", bare)
    return CurveCommands(numbers, axes, factor, offset, feature.type.is_complex)


def _axis(table: TomlTable, name: str, dimension: Dimension) -> AxisCommands:
    try:
        unit = units.parse_unit(table.text("unit", units.symbol_of(dimension)))
    except UnitError as error:
        table.fail("unit", error.what, error.remedy)
    if unit.dimension != dimension:
        table.fail("unit", f"is {units.describe(unit.dimension)}", f"{name} is {units.describe(dimension)}.")
    points = table.text("points", "")
    if points:
        made = AxisCommands(name, None, None, points, unit)
    elif "stop" in table:
        ends = _told(table, "start", "", unit), _told(table, "stop", "", unit)
        made = AxisCommands(name, ends[0], None, "", unit, ends[1], table.text("spacing", ""))
    else:
        made = AxisCommands(name, _told(table, "start", "", unit), _told(table, "step", "", unit), "", unit)
    table.finish()
    return made


def _told(table: TomlTable, key: str, default: str, unit: Unit) -> Told:
    """A query, or a number that always holds."""
    text = table.text(key, default) if default else table.text(key)
    if "?" in text:
        return Told(text, 0.0, unit)
    try:
        quantity = units.parse_quantity(text)
        if quantity.dimension != unit.dimension:
            raise UnitError(f"{text} is {units.describe(quantity.dimension)}")
    except UnitError as error:
        table.fail(key, error.what, "Write a query, or a number with its unit.")
    return Told("", float(quantity), unit)
