"""Tells of the values that a block reads and computes, and has others compute: programs, Python, measurements."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import TYPE_CHECKING

from ibexite import events, units
from ibexite.engine.frame_base import OUTSIDE, FrameBase, Turn
from ibexite.holes import Bound, Counts
from ibexite.untyped import Fields, Measured
from ibexite.values import Quantity

if TYPE_CHECKING:
    from ibexite.analysis.curve import Curve


class Values(FrameBase):
    """What a block reads and computes."""

    def readings(self, names: tuple[str, ...]) -> Callable[[list[Measured]], list[Measured]] | None:
        """Passes the values of a read line on and tells of them; None if there is nothing to tell."""
        metas = [self.meta(name) for name in names]
        runtime, block = self.runtime, self.block

        def tell(values: list[Measured]) -> list[Measured]:
            bad, io = runtime.take_bad(), runtime.take_traffic()
            for meta, value in zip(metas, values, strict=True):
                mine = [b for b in bad if b[0] == meta["name"]]
                runtime.fresh[block, meta["name"]] = value
                if hasattr(value, "axes"):
                    self._tell_curve(meta, value, bad=mine, io=io)
                    io = events.NOTHING_SAID
                    continue
                runtime.emit(
                    events.Value(
                        runtime.now(), block, meta["name"], "read", meta["unit"], meta["shown"], plain(value), mine, io,
                        meta.get("kind", Quantity.stored), None, "", *self.around(),
                    )
                )  # fmt: skip
                io = events.NOTHING_SAID
            return values

        return tell

    def computed(self, name: str) -> Callable[..., None]:
        """Tells of a value or curve that came to be outside of loops."""
        runtime, block, meta = self.runtime, self.block, self.meta(name)
        kind = meta.get("kind", Quantity.stored)

        def tell(value: Measured, counts: Counts | None = None) -> None:
            n = (counts.good, counts.of) if counts is not None and counts.of else None
            runtime.fresh[block, meta["name"]] = value
            if isinstance(value, complex):
                for part, number in (("re", value.real), ("im", value.imag)):
                    tell_one(f"{meta['name']}.{part}", number, None)
            elif isinstance(value, bool | str | float | int):
                tell_one(meta["name"], value, n)
            else:
                self._tell_curve(meta, value)

        def tell_one(called: str, value: Measured, n: tuple[int, int] | None) -> None:
            bound = ""
            if isinstance(value, Bound):
                shown = units.format_value(value.limit, self.names[name].type.dimension, shown=meta["shown"] or None)
                bound = f"{value.word} {shown}"
            runtime.emit(
                events.Value(
                    runtime.now(), block, called, meta["origin"], meta["unit"], meta["shown"], plain(value),
                    runtime.take_bad(), runtime.take_traffic(), kind, n, bound, *self.around(),
                )
            )  # fmt: skip

        return tell

    def whole_curve(self, name: str, outer: tuple[str, ...]) -> Callable[..., None]:
        """Tells of a curve that came within loops, at a place of them. What was said and what is bad goes with the row
        of the turn."""
        meta, metas = self.meta(name), [self.axis_meta(axis) for axis in outer]
        return lambda value, at: self._tell_curve(meta, value, turn=Turn(metas, at))

    def _tell_curve(self, meta: Fields, curve: Curve, turn: Turn = OUTSIDE, **more: Measured) -> None:
        """Emits a curve; a complex one as two. `turn` is that of the loops of this block."""
        before = self.around([*(axis["name"] for axis in turn.outer), *curve.axes])
        more = {**more, "outer": before.outer + turn.outer, "at": before.at + turn.at}
        parts = {"": curve.values}
        if curve.values.dtype.kind == "c":
            parts = {".re": curve.values.real, ".im": curve.values.imag}
        for part, values in parts.items():
            self.runtime.emit(self._curve_event(meta, meta["name"] + part, curve, values, more))
            more |= {"bad": [], "io": events.NOTHING_SAID}  # told with the first part

    def _curve_event(
        self, meta: Fields, called: str, curve: Curve, values: Measured, more: Fields
    ) -> events.WholeCurve:
        from ibexite.analysis.curve import never

        sampling, runtime = curve.sampling, self.runtime
        flat = values.ravel()
        long = events.LONG if runtime.program.axes else events.LONG_COMPUTED
        return events.WholeCurve(
            runtime.now(), self.block, called, meta["origin"], meta["unit"], meta["shown"],
            [self.axis_meta(axis) for axis in ([sampling.axis] if sampling else curve.axes)],
            [] if sampling else [_numbers(points.ravel(), long) for points in curve.grid()],
            _numbers(flat, long), meta.get("kind", Quantity.stored),
            (sampling.start, sampling.step) if sampling else None,
            never(flat).nonzero()[0].tolist(), **more,
        )  # fmt: skip


def _numbers(values: Measured, long: int) -> Measured:
    """Values for an event: a long series of numbers as the array that it is."""
    return values if len(values) > long and values.dtype.kind == "f" else values.tolist()


def plain(value: Measured) -> Measured:
    """A value for an event: a hole is None."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value
