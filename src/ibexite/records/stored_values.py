"""The values of a stored test as a formula has them: numbers, yes and no, texts, curves, complex ones put together of
their two parts."""

from __future__ import annotations

from ibexite.records.grids import Grid
from ibexite.records.stored_run import TestRecord
from ibexite.untyped import Fields, Measured
from ibexite.values import Quantity, Type, YesNo, stored_type

PARTS_OF_COMPLEX = ("re", "im")


def value_of(test: TestRecord, name: str) -> Measured:
    """A value or curve of a test by its name, also an axis, which is a curve over itself; None if there is none."""
    grid, is_complex = _grid_of(test, name)
    if grid is not None:
        return _complex(test, name) if is_complex else _value(grid, name)
    for grid in test.grids:
        if name in grid.axes and len(grid.axes) == 1:
            return _value(grid, name)
    return None


def type_of(test: TestRecord, name: str) -> Type | None:
    """The type of such a value, over its axes; None if there is none of this name."""
    grid, is_complex = _grid_of(test, name)
    if grid is None:
        return None
    column = next(c for c in grid.columns if c["name"] == (f"{name}.re" if is_complex else name))
    kind = stored_type(column)
    if is_complex and isinstance(kind, Quantity):
        return Quantity(tuple(grid.axes), kind.dimension, kind.shown, True)
    return kind.over(tuple(grid.axes))


def axis_types(test: TestRecord, name: str) -> dict[str, Type]:
    """The types of the axes of such a value."""
    grid, _ = _grid_of(test, name)
    if grid is None:
        return {}
    return {c["name"]: stored_type(c) for c in grid.columns if c["origin"] == "sweep"}


def names_of(test: TestRecord) -> list[str]:
    """The names of all values of a test, without axes; a complex one once."""
    names = [c["name"] for grid in test.grids for c in grid.columns if c["origin"] != "sweep"]
    wholes = {name.rpartition(".")[0] for name in names if name.endswith(".re")}
    return list(dict.fromkeys(w if (w := name.rpartition(".")[0]) in wholes else name for name in names))


def _grid_of(test: TestRecord, name: str) -> tuple[Grid | None, bool]:
    for grid in test.grids:
        names = [c["name"] for c in grid.columns]
        if name in names and grid.columns[names.index(name)]["origin"] != "sweep":
            return grid, False
        if f"{name}.re" in names:
            return grid, True
    return None, False


def _value(grid: Grid, name: str) -> Measured:
    column = next(c for c in grid.columns if c["name"] == name)
    if not grid.axes:
        value = grid.values(name)[0]
        return bool(value) if _is_yes_no(column, value) else value
    return grid.curve(name)


def _is_yes_no(column: Fields, number: Measured) -> bool:
    return isinstance(stored_type(column), YesNo) and number == number


def _complex(test: TestRecord, name: str) -> Measured:
    """Of two columns of one table, or of two curves that were told one after the other."""
    from ibexite.analysis.pointwise import rectangular

    return rectangular(*(value_of(test, f"{name}.{part}") for part in PARTS_OF_COMPLEX))
