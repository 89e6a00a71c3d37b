"""The types of values: what a value is, and over which axes there are many of it. All speak of them: the language when
it vets, the engine when it records, records and reports when they read back.

A type is a class, matched by `match` or isinstance; how values of it are called in records (`stored`), are written for
people and have their unit is its own business.
"""

from __future__ import annotations

from typing import ClassVar, Self

from ibexite import compound, connections, units
from ibexite.frozen import frozen, replaced
from ibexite.units import PLAIN, Dimension
from ibexite.untyped import Fields, Measured


@frozen
class Type:
    """What is common to all types. `axes` names the axes of a curve; a single value has none."""

    stored: ClassVar[str]  # what it is called in events and records
    axes: tuple[str, ...] = ()

    @property
    def dimension(self) -> Dimension:
        """What is measured; plain for what is no quantity."""
        return PLAIN

    @property
    def shown(self) -> str | None:
        """The unit in which it was written, None where a prefix is to be chosen."""
        return None

    @property
    def is_complex(self) -> bool:
        """True for complex numbers."""
        return False

    @property
    def unit(self) -> str:
        """The symbol of the base unit in which values are stored."""
        return ""

    @property
    def word(self) -> str:
        """What declarations name it by: a unit or one of WORDS."""
        return self.stored

    def over(self, axes: tuple[str, ...]) -> Self:
        """The same over other axes."""
        return replaced(self, axes=axes)

    def single(self) -> Self:
        """One value of it."""
        return replaced(self, axes=()) if self.axes else self

    def compares(self, other: Type) -> bool:
        """True if values of both can be compared: one kind and dimension, whatever their axes."""
        return type(self) is type(other)

    def fits(self, other: Type) -> bool:
        """True if one can take the place of the other, whatever their axes."""
        return self.compares(other)

    def _what(self) -> str:
        raise NotImplementedError

    def __str__(self) -> str:
        return f"{self._what()} over {', '.join(self.axes)}" if self.axes else self._what()

    def said(self, value: Measured, digits: int = 4) -> str:
        """A value for people; it is no hole."""
        raise NotImplementedError


@frozen
class Quantity(Type):
    """A number with a unit, or a bare one."""

    stored = "quantity"
    dimension: Dimension = PLAIN
    shown: str | None = None
    is_complex: bool = False

    @property
    def unit(self) -> str:
        """The symbol of the base unit in which values are stored."""
        return units.base_symbol(self.dimension)

    @property
    def written(self) -> units.Unit:
        """The unit in which people and raw replies write it."""
        symbol = self.shown or units.symbol_of(self.dimension)
        return units.parse_unit(symbol) if symbol else units.NO_UNIT

    @property
    def word(self) -> str:
        """What declarations name it by: its unit, number for a plain one."""
        return self.written.symbol or "number"

    def as_declared(self) -> Quantity:
        """To be shown in the unit that was written, also where that is the bare one."""
        return replaced(self, shown=self.written.symbol or None)

    def compares(self, other: Type) -> bool:
        """True if values of both can be compared: one dimension, whatever their axes."""
        return isinstance(other, Quantity) and self.dimension == other.dimension

    def fits(self, other: Type) -> bool:
        """True if one can take the place of the other, whatever their axes."""
        return self.compares(other) and self.is_complex == other.is_complex

    def _what(self) -> str:
        return units.describe(self.dimension) + (", complex" if self.is_complex else "")

    def said(self, value: Measured, digits: int = 4) -> str:
        """A value with its unit."""
        return units.format_value(value, self.dimension, shown=self.shown or None, digits=digits)


@frozen
class Waveform(Quantity):
    """A quantity over time at even steps, as an instrument records it. Computing with it gives curves."""

    stored = "waveform"
    AXES: ClassVar[tuple[str, ...]] = ("time",)

    def single(self) -> Quantity:  # type: ignore[override]  # one value is no waveform
        """One value of it."""
        return Quantity((), self.dimension, self.shown)


@frozen
class YesNo(Type):
    """Yes or no; as a number 1 or 0."""

    stored = "yes_no"

    def _what(self) -> str:
        return "a yes/no value"

    def said(self, value: Measured, digits: int = 4) -> str:
        """yes or no."""
        return "yes" if value else "no"


class Words(Type):
    """What is held as a text: texts, and what has several parts (compound.py), in its fixed form."""

    def said(self, value: Measured, digits: int = 4) -> str:
        """The text itself."""
        return str(value)

    def has_holes(self, value: str) -> bool:
        """Whether something in it is missing, so that it cannot be compared."""
        return False

    def is_same(self, value: str, wanted: str) -> bool:
        """Whether a value is as a check demands that compares with another."""
        return value == wanted

    def as_demanded(self, value: str) -> str:
        """What a check demands that compares with this value."""
        return f'is "{value}"'

    def as_judged(self, value: str, wanted: str) -> str:
        """A value that was compared with another, for the result."""
        return value


@frozen
class Text(Words):
    """A text."""

    stored = "text"

    def _what(self) -> str:
        return "a text"


class Compound(Words):
    """What has several parts: recorded, shown and compared as a whole; no formula computes with it. `form` is how its
    texts are made, read and compared."""

    form: ClassVar[compound.Form]

    def said(self, value: Measured, digits: int = 4) -> str:
        """In a few words: how much of what."""
        return self.form.said(value)

    def as_demanded(self, value: str) -> str:
        """What a check demands that compares with this value."""
        return f"the same {self.said(value)}"

    def as_judged(self, value: str, wanted: str) -> str:
        """A value that was compared with another, for the result: where it differs first."""
        return self.form.differs(value, wanted) or self.said(value)

    def has_holes(self, value: str) -> bool:
        """Whether something in it is missing, so that it cannot be compared."""
        return self.form.has_holes(value)


@frozen
class Table(Compound):
    """A table: named columns of as many rows."""

    stored = "table"
    form = compound.TABLE

    def _what(self) -> str:
        return "a table"


@frozen
class Connections(Compound):
    """What is connected with what: nets of pins, and what was measured between them."""

    stored = "connections"
    form = connections.CONNECTIONS

    def is_same(self, value: str, wanted: str) -> bool:
        """True with the same nets, diodes and parts; what was measured between them is judged by itself."""
        return not self.form.differs(value, wanted)

    def parts(self) -> dict[str, Quantity]:
        """What was measured, by the names that it has behind that of the value: curves over pairs of pins."""
        return {
            name: Quantity((*self.axes, kind.axis), units.parse_unit(kind.unit).dimension)
            for name, kind in connections.KINDS.items()
        }

    def _what(self) -> str:
        return "connections"


@frozen
class Picture(Words):
    """A picture. It is looked at, not compared."""

    stored = "picture"

    def compares(self, other: Type) -> bool:
        """False: the same thing looks different in every picture of it."""
        return False

    def fits(self, other: Type) -> bool:
        """True for another picture."""
        return isinstance(other, Picture)

    def _what(self) -> str:
        return "a picture"

    def said(self, value: Measured, digits: int = 4) -> str:
        """Its name and size."""
        return compound.picture_said(value)


NUMBER, YES_NO, TEXT = Quantity(), YesNo(), Text()
_KINDS: tuple[type[Type], ...] = (Quantity, Waveform, YesNo, Text, Table, Connections, Picture)
_STORED: dict[str, type[Type]] = {kind.stored: kind for kind in _KINDS}
SINGLE_WORDS = ("number", "text", "yes_no")  # that declarations name types of one part by, beside units
_WORDS: dict[str, Type] = {
    "number": NUMBER,
    **{kind.stored: kind() for kind in _KINDS if kind not in (Quantity, Waveform)},
}
WORDS = tuple(_WORDS)  # and all


def declared(kind: units.Unit | str, axes: tuple[str, ...] = ()) -> Type:
    """The type that a declaration names, a unit or one of WORDS, over some axes."""
    if isinstance(kind, str):
        return _WORDS[kind].over(axes)
    is_bare = kind.symbol == units.symbol_of(kind.dimension) and kind.dimension.kind == "linear"
    return Quantity(axes, kind.dimension, None if is_bare else kind.symbol)


def column_of(name: str, kind: Type, origin: str = "read") -> Fields:
    """What is told of a column or value in events: its name, unit, the unit to show it in, origin, and its kind if it
    is no quantity. stored_type reads it back."""
    told = {"name": name, "unit": kind.unit, "shown": kind.shown or "", "origin": origin}
    return told if type(kind) is Quantity else told | {"kind": kind.stored}


def is_words(entry: Fields) -> bool:
    """Whether values of a stored column are texts, from its entry."""
    return issubclass(_STORED[entry.get("kind", Quantity.stored)], Words)


def stored_type(entry: Fields) -> Type:
    """The type of stored values (without axes), from what is stored with them: kind, unit, shown."""
    kind = _STORED[entry.get("kind", Quantity.stored)]
    if not issubclass(kind, Quantity):
        return kind()
    shown = entry["shown"] or None
    symbol = shown or entry["unit"]
    return kind((), units.parse_unit(symbol).dimension if symbol else PLAIN, shown)
