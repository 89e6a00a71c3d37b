"""The columns of a loop while it runs: one row an iteration, appended, and emitted as an event.

Rows come in the order of nested loops, so the place of a row on the axes follows from its number. Only when an inner
loop can have other points than in its first pass (ragged sweeps, loops that are left) are places kept: then one axis
holds all points, and where one was not visited nothing was measured. NumPy is loaded when a curve is asked for.
"""

from __future__ import annotations

import math
from array import array
from collections.abc import Iterable, Iterator
from itertools import product
from typing import TYPE_CHECKING, Any

from ibexite.events import NOTHING_SAID, Row
from ibexite.holes import NO_POINT, Bound, is_never_measured
from ibexite.untyped import Measured

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array, Curve


NO_HOLES: tuple[tuple[int, ...], tuple[tuple[int, str], ...]] = ((), ())


class Axis:
    """The points of one loop, and the tables that have it as an axis. Points of an axis of texts are kept as their
    indexes, and are texts for everybody else."""

    def __init__(self, name: str, labels: tuple[str, ...] = ()) -> None:
        self.name, self.labels = name, labels
        self.points: array[float] = array("d")
        self.tables: list[LoopTable] = []
        self._first: Iterable[float] | None = None
        self._places: dict[tuple[float, int], int] = {}  # made only when a later pass has other points

    def renew(self) -> None:
        """As if no pass had been made: the loop is run once more, in another call of its measurement."""
        self.points, self._first, self._places = array("d"), None, {}

    def run(self, points: Iterable[float]) -> Iterable[tuple[int, float]]:
        """The pairs (place on the axis, value) of one pass. A value that comes twice in a pass has two places."""
        if self._first is None:
            self._first = points
            self.points = array("d", points)
        if points is self._first:
            return enumerate(points)
        if not self._places:
            self._places = {key: place for place, key in enumerate(_numbered(self.points))}
            for table in self.tables:
                table.keep_places()
        pairs = []
        for key in _numbered(points):
            pairs.append((self._place(key), key[0]))
        return pairs

    def visit(self, points: Iterable[float]) -> Iterator[tuple[int, float]]:
        """As `run`, for points that become known one by one (repeats, searches, refined sweeps)."""
        seen: dict[float, int] = {}
        for point in points:
            key = (point, seen.get(point, 0))
            seen[point] = key[1] + 1
            yield self._place(key), point

    def _place(self, key: tuple[float, int]) -> int:
        place = self._places.setdefault(key, len(self.points))
        if place == len(self.points):
            self.points.append(key[0])
        return place

    def __len__(self) -> int:
        return len(self.points)

    def values(self) -> Array:
        """The points, shape (n,): numbers, or texts as objects."""
        import numpy as np

        points = np.array(self.points)
        return np.array(self.labels, dtype=object)[points.astype(int)] if self.labels else points

    def curve(self) -> Curve:
        """The axis as a curve over itself."""
        from ibexite.analysis.curve import ArrayCurve

        values = self.values()
        return ArrayCurve({self.name: values}, values)


def _numbered(points: Iterable[float]) -> list[tuple[float, int]]:
    """Each point with how often it came before."""
    seen: dict[float, int] = {}
    numbered = []
    for point in points:
        numbered.append((point, seen.get(point, 0)))
        seen[point] = seen.get(point, 0) + 1
    return numbered


class LoopTable:
    """Columns over the axes of nested loops. Calling it stores and emits a row. A complex column is two: x.re, x.im.
    Of a column of texts the numbers of the texts are kept."""

    def __init__(
        self, number: int, axes: tuple[Axis, ...], columns: tuple[str, ...], runtime: Any, is_ragged: bool,
        texts: Iterable[str] = (),
    ) -> None:  # fmt: skip
        self.number, self.axes, self.columns = number, axes, columns
        self._runtime, self._is_ragged = runtime, is_ragged
        self._texts: dict[int, dict[str, float]] = {columns.index(name): {} for name in texts}  # of each such column
        self._values: array[float] = array("d")  # row by row
        self._places: list[tuple[int, ...]] | None = [] if is_ragged else None
        self._bounds: dict[tuple[int, int], Bound] = {}  # of (row, column): what is known of a value that is bounded
        for axis in axes:
            axis.tables.append(self)

    def renew(self) -> None:
        """An empty table with a number of its own, for another call of its measurement."""
        self.number = self._runtime.next_table()
        self._values, self._bounds = array("d"), {}
        self._places = [] if self._is_ragged else None

    def __call__(self, place: tuple[int, ...], x: tuple[float, ...], values: tuple[float, ...]) -> None:
        """Stores the values of one row (NaN for a hole) and emits the event."""
        numbers = self._numbers(values) if self._texts else values
        self._values.extend(numbers)
        if self._places is not None:
            self._places.append(place)
        runtime = self._runtime
        bench = runtime.bench
        bad = runtime.take_bad() if bench.bad else []
        total = sum(numbers)
        more = NO_HOLES if total == total else self._holes(values)
        t, io = runtime.clock.now() - runtime.began, bench.take_said() or NOTHING_SAID
        # As Row(…), in half the time: it is done at each point of a sweep.
        runtime.emit(tuple.__new__(Row, (t, self.number, x, values, bad, io, *more)))

    def _numbers(self, values: tuple[Measured, ...]) -> list[float]:
        """A row with the numbers of texts in place of them."""
        numbers = list(values)
        for column, known in self._texts.items():
            if isinstance(values[column], str):
                numbers[column] = known.setdefault(values[column], float(len(known)))
        return numbers

    def _holes(self, values: tuple[float, ...]) -> tuple[tuple[int, ...], tuple[tuple[int, str], ...]]:
        """Which values of a row were never measured, and what is known of those that are bounded."""
        row = len(self._values) // max(1, len(self.columns)) - 1
        told = []
        for column, value in enumerate(values):
            if isinstance(value, Bound):
                self._bounds[row, column] = value
                told.append((column, f"{value.word} {value.limit!r}"))
        return tuple(i for i, value in enumerate(values) if is_never_measured(value)), tuple(told)

    def broken_off(self, place: tuple[int, ...], x: tuple[float, ...], values: tuple[float, ...]) -> None:
        """Stores the row of a turn that ended in the middle, as far as anything was measured in it."""
        if not all(map(is_never_measured, values)):
            self.keep_places()  # rows may be missing from now on
            self(place, x, values)

    def keep_places(self) -> None:
        """From now on the place of each row is kept; those so far came in the order of the loops."""
        if self._places is None:
            rows = len(self._values) // max(1, len(self.columns))
            every_place = product(*(range(len(axis)) for axis in self.axes))
            self._places = [place for place, _ in zip(every_place, range(rows), strict=False)]

    def whole(self, column: str) -> Curve:
        """A column as a curve over all axes when the outermost loop is over: no copy is made of its values."""
        if self._places is not None or column not in self.columns or self._texts or not self._values:
            return self.curve(column)
        import numpy as np

        from ibexite.analysis.curve import ArrayCurve

        shape, step = [len(axis) for axis in self.axes], len(self.columns)
        if len(self._values) != math.prod(shape) * step:
            return self.curve(column)
        # While there is such a view the array cannot grow: a further call of the measurement makes a new one.
        values = np.frombuffer(self._values)[self.columns.index(column) :: step].reshape(shape)
        return ArrayCurve({axis.name: axis.values() for axis in self.axes}, values, self._bounds_of(column, ()))

    def curve(self, column: str, place: tuple[int, ...] = ()) -> Curve:
        """A column as a curve over all axes, or over the inner ones at one place of the outer ones."""
        import numpy as np

        from ibexite.analysis.curve import ArrayCurve

        rest = self.axes[len(place) :]
        axes = {axis.name: axis.values() for axis in rest}
        if column not in self.columns:
            whole = np.empty([len(axis) for axis in rest], dtype=complex)
            whole.real, whole.imag = (self._over_axes(f"{column}.{part}", place) for part in ("re", "im"))
            return ArrayCurve(axes, whole)  # by parts: arithmetic would mix the kinds of their holes
        return ArrayCurve(
            axes, self._with_texts(column, self._over_axes(column, place)), self._bounds_of(column, place)
        )

    def _with_texts(self, column: str, numbers: Array) -> Array:
        """The values of a column, texts in place of their numbers."""
        known = self._texts.get(self.columns.index(column))
        if known is None:
            return numbers
        import numpy as np

        texts, is_text = numbers.astype(object), ~np.isnan(numbers)
        texts[is_text] = np.array([*known, ""], dtype=object)[numbers[is_text].astype(int)]
        return texts

    def _bounds_of(self, column: str, place: tuple[int, ...]) -> dict[int, Bound]:
        """The bounds in a column, by the place in the flattened curve."""
        number = self.columns.index(column)
        mine = {row: bound for (row, at), bound in self._bounds.items() if at == number}
        if not mine:
            return {}
        shape = [len(axis) for axis in self.axes]
        every_place = self._places or list(product(*map(range, shape)))
        found = {}
        for row, bound in mine.items():
            if every_place[row][: len(place)] == place:
                flat = 0
                for at, size in zip(every_place[row][len(place) :], shape[len(place) :], strict=True):
                    flat = flat * size + at
                found[flat] = bound
        return found

    def _over_axes(self, column: str, place: tuple[int, ...]) -> Array:
        """A column over all axes, or over the inner ones at one place of the outer ones; copied: more rows are to
        come."""
        import numpy as np

        shape = [len(axis) for axis in self.axes]
        first, step = self.columns.index(column), len(self.columns)
        if self._places is None and (place or len(self._values) == math.prod(shape) * step):
            number = 0  # of the pass of the inner loops
            for at, size in zip(place, shape, strict=False):
                number = number * size + at
            inner = shape[len(place) :]
            rows = math.prod(inner) * step
            return np.array(self._values[number * rows + first : (number + 1) * rows : step]).reshape(inner)
        self.keep_places()
        spread: Array = np.full(shape, NO_POINT)
        if self._places:
            spread[tuple(np.array(self._places).T)] = np.array(self._values[first::step])
        part: Array = spread[place]
        return part
