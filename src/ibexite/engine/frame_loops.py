"""Loops, as compiled code is bound to them: axes, tables, points, turns, searches; and the checks within."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import Any

from ibexite import events
from ibexite.engine.curve_rows import CurveRows
from ibexite.engine.frame_base import FrameBase
from ibexite.engine.leaving import Leaving
from ibexite.engine.loops import Refined, SearchTurns, Turns
from ibexite.engine.tables import Axis, LoopTable
from ibexite.errors import MistakeError, SequenceError
from ibexite.language import constants, nodes, points
from ibexite.untyped import Fields
from ibexite.values import Words


class Loops(FrameBase):
    """The loops and checks of a block."""

    def axis(self, name: str, labels: tuple[str, ...] = ()) -> Axis:
        """A new axis."""
        axis = Axis(name, labels)
        self._stateful.append(axis)
        return axis

    def table(self, axes: tuple[Axis, ...], columns: tuple[str, ...], is_ragged: bool) -> LoopTable:
        """A new table."""
        texts = [name for name in columns if name in self.names and isinstance(self.names[name].type, Words)]
        table = LoopTable(self.runtime.next_table(), axes, columns, self.runtime, is_ragged, texts)
        self._stateful.append(table)
        return table

    def curve_rows(self, name: str, axes: tuple[Axis, ...], own: tuple[str, ...]) -> CurveRows:
        """What keeps the curves of the turns of a loop, each over some axes of its own."""
        rows = CurveRows(name, axes, own)
        self._stateful.append(rows)
        return rows

    def _keep_axes(self, table: LoopTable) -> None:
        """From now on the axes of a table are what other tests get for these names. What a search has found takes the
        place of what it tried."""
        for axis in table.axes:
            self.runtime.fresh[self.block, self.prefix + axis.name] = axis.curve

    def _keep_columns(self, table: LoopTable) -> None:
        """From now on the columns of a table are what other tests get for these names: its loop has begun."""
        for column in table.columns:
            whole = column.removesuffix(".re") if column not in self.names else column
            self.runtime.fresh[self.block, self.prefix + whole] = partial(table.curve, whole)

    def sweep_started(
        self, name: str, tables: list[tuple[LoopTable, list[Any]]], curves: list[CurveRows]
    ) -> Callable[[], None]:
        """Announces a loop, its tables, and the curves of its turns that are kept."""
        runtime, block = self.runtime, self.block
        rows = (
            0 if any(None in sizes for _, sizes in tables) else sum(math.prod(map(len, sizes)) for _, sizes in tables)
        )

        def tell() -> None:
            for table, _ in tables:
                self._keep_axes(table)
            for table, _ in tables:
                self._keep_columns(table)
                runtime.emit(
                    events.TableStarted(
                        runtime.now(),
                        block,
                        table.number,
                        [self._axis_of_table(a) for a in table.axes],
                        [self.meta(c) for c in table.columns],
                        *self.around(axis.name for axis in table.axes),
                    )
                )
            for kept in curves:
                runtime.fresh[block, self.prefix + kept.name] = kept.curve
            runtime.emit(events.SweepStarted(runtime.now(), block, name, rows))

        return tell

    def _axis_of_table(self, axis: Axis) -> Fields:
        return {**self.meta(axis.name), "name": axis.name, "origin": "sweep"}

    def leave(self, axis: str, why: str) -> None:
        """Leaves the innermost loop."""
        self.runtime.emit(events.LoopLeft(self.runtime.now(), self.block, axis, why))
        raise Leaving

    def rounding(self, loop: nodes.Loop) -> Callable[[float], float]:
        """What becomes of the values of a loop that sets them on an instrument which takes few digits."""
        return self.program.rounding.get(loop, float)

    def points(self, sweep: nodes.Sweep) -> Callable[..., list[float]]:
        """Makes the points of a sweep whose ends are known only when it begins."""
        rounded = self.rounding(sweep)

        def make(*ends: float) -> list[float]:
            given = [points.exact(end) for end in ends]
            if not all(end.is_finite() for end in given):
                raise SequenceError(
                    f"an end of sweep {sweep.name} is not a number", remedy="What it depends on is bad."
                )
            if sweep.values:
                return [rounded(float(end)) for end in given]
            values = iter(given)
            segments, start = [], None
            for segment in sweep.segments:
                start = next(values) if segment.start is not None else start
                end, amount = next(values), constants.as_difference(segment.amount, next(values))
                assert start is not None
                try:
                    segments.append(constants.segment_points(segment, start, end, amount))
                except MistakeError as error:
                    raise SequenceError(f"sweep {sweep.name}: {error.what}", remedy=error.remedy) from None
                start = end
            return [rounded(float(point)) for point in points.joined(segments)]

        return make

    def known_count(self, repeat: nodes.Repeat) -> range | None:
        """The turns of a `repeat … times` that is known before the run."""
        known = constants.number(repeat.amount, self.known)
        return range(int(known)) if known is not None else None

    def turns(self, repeat: nodes.Repeat) -> Callable[..., Turns]:
        """The turns of a repeat."""
        runtime = self.runtime
        key = {"times": "times", "for": "seconds", "until": ""}[repeat.kind]

        def make(amount: float | None, every: float | None, timeout: float | None) -> Turns:
            given = {key: amount} if key and amount is not None else {}
            limit = math.inf if timeout is None else timeout
            return Turns(runtime.clock.now, runtime.pause, every=every or 0.0, timeout=limit, **given)

        return make

    def search(self, search: nodes.Search) -> Callable[..., SearchTurns]:
        """A search."""
        rounded = self.rounding(search)
        return lambda start, end, step, resolution: SearchTurns(
            start, end, step, resolution, halving=search.is_halving, rounded=rounded
        )

    def refined(self, sweep: nodes.Sweep) -> Callable[[list[float]], Refined]:
        """The points of a refined sweep."""
        refine = sweep.refine
        assert refine is not None
        is_log = all(segment.spacing in ("log", "decade", "octave") for segment in sweep.segments)
        limits = self._limits_for(refine) if refine.how == "limit" else None
        rounded = self.rounding(sweep)
        return lambda given: Refined(list(given), refine.most, is_log=is_log, limits=limits, rounded=rounded)

    def _limits_for(self, refine: nodes.Refine) -> Callable[[], list[tuple[float, float]]]:
        """The limits of the checks on a column, as far as they are known before the run; in a measurement also those
        of its caller on this output."""
        found = _limits_on(self, refine.column)
        if self.caller is not None:
            frame, name = self.caller
            found += _limits_on(frame, f"{name}.{refine.column}")
        if not found:
            raise SequenceError(f"there is no known limit for {refine.column}", where=self.place(refine),
                                remedy="Check it in this test against a number, or refine where it bends.")  # fmt: skip
        return lambda: found


def _limits_on(frame: FrameBase, column: str) -> list[tuple[float, float]]:
    """The limits of the checks of a block on a column that are known before the run."""
    found: list[tuple[float, float]] = []
    for check in (s for s in nodes.walk(frame.body) if isinstance(s, nodes.Check)):
        if not isinstance(check.value, nodes.Name | nodes.ResultOf) or constants.names_in(check.value) != {column}:
            continue
        if check in frame.program.limits:
            row = frame.program.limits[check]
            found.append((float(row.low) if row.low is not None else -math.inf,
                          float(row.high) if row.high is not None else math.inf))  # fmt: skip
        elif check.criterion is not None and check.criterion.b is not None:
            kind = frame.program.tolerances.get(check.criterion)
            both = constants.both_limits(check.criterion, frame.known, kind)
            found += [(float(both[0]), float(both[1]))] if both else []
        elif check.criterion is not None:
            limit = constants.number(check.criterion.a, frame.known)
            found += [(float(limit), math.inf)] if limit is not None else []
    return found
