"""The values of a stored test by name, and by the turn of its loops: for whoever carries the test out once more without
the product."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import cached_property

from ibexite.records.grids import Grid
from ibexite.records.stored_run import TestRecord
from ibexite.records.stored_values import value_of
from ibexite.untyped import Measured
from ibexite.values import Quantity, YesNo, stored_type
from ibexite.verdicts import Reason

At = tuple[float | str, ...]


class _Turns:
    """What came in each turn; where several turns were at the same values, one after the other."""

    def __init__(self, given: Iterable[tuple[At, Measured]]) -> None:
        self._of: dict[At, list[Measured]] = {}
        for at, value in given:
            self._of.setdefault(at, []).append(value)
        self._taken: dict[At, int] = {}

    def take(self, at: At) -> Measured:
        """The next one that came there; None if there is none."""
        place = self._taken.get(at, 0)
        found = self._of.get(at, ())
        if place >= len(found):
            return None
        self._taken[at] = place + 1
        return found[place]

    def has(self, at: At) -> bool:
        """Whether there is one that was not taken yet."""
        return self._taken.get(at, 0) < len(self._of.get(at, ()))


class RetoldValues:
    """The values of one test or block of a run; all but its single numbers is read when it is asked for."""

    def __init__(
        self, read: Callable[[], TestRecord], singles: Mapping[str, float], units: dict[str, str], *, has_more: bool,
        has_bad: bool,
    ) -> None:  # fmt: skip
        """
        Args:
            read: gives all of it.
            singles: its single numbers, which came outside of loops.
            units: their base units.
            has_more: whether it has other values.
            has_bad: whether there were bad readings.
        """
        self._read, self.singles, self._has_more, self._has_bad = read, singles, has_more, has_bad
        self._units = units
        self._turns: dict[str, _Turns] = {}
        self._logs: dict[str, Iterator[Grid]] = {}

    @cached_property
    def _test(self) -> TestRecord:
        return self._read()

    def value(self, name: str) -> Measured:
        """What came outside of loops; None if there is none."""
        found = self.singles.get(name)
        return value_of(self._test, name) if found is None and self._has_more else found

    def turn(self, name: str, at: At) -> Measured:
        """What came in a turn; None if there is none."""
        return self._of(name).take(at)

    def has_turn(self, name: str, at: At) -> bool:
        """Whether there is a turn that was not taken yet."""
        return self._of(name).has(at)

    def take_log(self, name: str) -> Iterable[tuple[float, float]]:
        """The next log of this name: times and values. Nothing if there is none."""
        if name not in self._logs:
            self._logs[name] = iter([grid for grid in self._test.grids if grid.has(name) and grid.axes == ["watched"]])
        grid = next(self._logs[name], None)
        return zip(grid.column("watched"), grid.column(name), strict=True) if grid is not None else ()

    @cached_property
    def kinds(self) -> Mapping[str, tuple[str, str]]:
        """Of each name its base unit and the kind of its values."""
        found = {name: (unit, Quantity.stored) for name, unit in self._units.items()}
        for grid in self._test.grids if self._has_more else ():
            for column in grid.columns:
                found.setdefault(column["name"].removesuffix(".re"), (column["unit"], column["kind"]))
        return found

    @property
    def plain_units(self) -> Mapping[str, str] | None:
        """The base units of its values if all are single numbers."""
        return None if self._has_more else self._units

    @property
    def bad(self) -> Iterable[tuple[str, Reason]]:
        """The readings that were bad, and why."""
        rows = self._test.bad_readings if self._has_bad else []
        return [(row["name"], Reason(row["reason_code"], row["reason"])) for row in rows]

    @property
    def conditions(self) -> Mapping[str, Mapping[str, str]]:
        """Under which conditions each value came to be."""
        names = {name for entry in self._test.conditions for name in entry["names"]}
        return {name: self._test.conditions_of(name) for name in names}

    def _of(self, name: str) -> _Turns:
        if name not in self._turns:
            self._turns[name] = _Turns(self._rows(name))
        return self._turns[name]

    def _rows(self, name: str) -> Iterable[tuple[At, Measured]]:
        for grid in self._test.grids:
            if grid.has(name) and grid.axes:
                yield from _column(grid, name)
            elif grid.has(f"{name}.re") and grid.axes:
                parts = (_column(grid, f"{name}.{part}") for part in ("re", "im"))
                yield from _complex(*parts)


def _column(grid: Grid, name: str) -> Iterable[tuple[At, Measured]]:
    """The values of a column with their places; of curves that came turn by turn the curves."""
    column = next(c for c in grid.columns if c["name"] == name)
    if grid.turns and grid.turns[0].grid.axes:
        for turn in grid.turns:
            yield turn.at, turn.grid.curve(name)
        return
    is_yes_no = isinstance(stored_type(column), YesNo)
    places = zip(*(grid.values(axis) for axis in grid.axes), strict=True)
    for at, value in zip(places, grid.values(name), strict=True):
        yield at, bool(value) if is_yes_no and value == value else value


def _complex(re: Iterable[tuple[At, Measured]], im: Iterable[tuple[At, Measured]]) -> Iterable[tuple[At, Measured]]:
    for (at, real), (_, imaginary) in zip(re, im, strict=True):
        yield at, real + 1j * imaginary if hasattr(real, "axes") else complex(real, imaginary)
