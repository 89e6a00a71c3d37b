"""Tells of the values that a block reads and computes, and has others compute: programs, Python, measurements."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from ibexite import events, units
from ibexite.engine.frame_base import FrameBase
from ibexite.holes import Bound, Counts
from ibexite.values import Quantity


class Values(FrameBase):
    """What a block reads and computes."""

    def readings(self, names: tuple[str, ...]) -> Callable[[list[Any]], list[Any]]:
        """Passes the values of a read line on and tells of them."""
        metas = [self.meta(name) for name in names]
        runtime, block = self.runtime, self.block

        def tell(values: list[Any]) -> list[Any]:
            bad, io = runtime.take_bad(), runtime.take_traffic()
            for meta, value in zip(metas, values, strict=True):
                mine = [b for b in bad if b[0] == meta["name"]]
                runtime.emit(
                    events.Value(
                        runtime.now(), block, meta["name"], "read", meta["unit"], meta["shown"], plain(value), mine, io,
                        meta.get("kind", Quantity.stored),
                    )
                )  # fmt: skip
                runtime.fresh[block, meta["name"]] = value
                io = events.NOTHING_SAID
            return values

        return tell

    def computed(self, name: str) -> Callable[..., None]:
        """Tells of a value or curve that came to be outside of loops."""
        runtime, block, meta = self.runtime, self.block, self.meta(name)
        kind = meta.get("kind", Quantity.stored)

        def tell(value: Any, counts: Counts | None = None) -> None:
            n = (counts.good, counts.of) if counts is not None and counts.of else None
            runtime.fresh[block, meta["name"]] = value
            if isinstance(value, complex):
                for part, number in (("re", value.real), ("im", value.imag)):
                    tell_one(f"{meta['name']}.{part}", number, None)
            elif isinstance(value, bool | str | float | int):
                tell_one(meta["name"], value, n)
            elif value.values.dtype.kind == "c":
                for part, values in (("re", value.values.real), ("im", value.values.imag)):
                    tell_curve(f"{meta['name']}.{part}", value, values)
            else:
                tell_curve(meta["name"], value, value.values)

        def tell_one(called: str, value: Any, n: tuple[int, int] | None) -> None:
            bound = ""
            if isinstance(value, Bound):
                shown = units.format_value(value.limit, self.names[name].type.dimension, shown=meta["shown"] or None)
                bound = f"{value.word} {shown}"
            runtime.emit(
                events.Value(
                    runtime.now(), block, called, meta["origin"], meta["unit"], meta["shown"], plain(value),
                    runtime.take_bad(), runtime.take_traffic(), kind, n, bound,
                )
            )  # fmt: skip

        def tell_curve(called: str, curve: Any, values: Any) -> None:
            axes = [self.axis_meta(axis) for axis in curve.axes]
            runtime.emit(
                events.Computed(
                    runtime.now(), block, called, meta["unit"], meta["shown"], axes,
                    [g.ravel().tolist() for g in curve.grid()],
                    [plain(v) for v in values.ravel().tolist()], kind,
                )
            )  # fmt: skip

        return tell


def plain(value: Any) -> Any:
    """A value for an event: a hole is None."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value
