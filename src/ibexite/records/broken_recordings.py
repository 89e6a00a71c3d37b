"""The curves of recordings whose end nobody told, because the process died."""

from __future__ import annotations

from collections.abc import Callable, Iterator

from ibexite import events
from ibexite.errors import RecordsError
from ibexite.values import Quantity

LengthOf = Callable[[str], int]
"""How many samples the file of a recording has. Raises RecordsError: it cannot be read."""
TIME = {"name": "time", "unit": "s", "shown": "s", "kind": "quantity"}


def curves_of(begun: events.RecordingStarted, length_of: LengthOf) -> Iterator[events.WholeCurve]:
    """What the file of a recording holds, as the run would have told it; nothing where it holds no sample."""
    try:
        count = length_of(begun.file)
    except RecordsError:
        return
    if not count:
        return
    is_even = begun.step is not None
    starts = [*begun.starts, *(0.0 for _ in begun.curves[len(begun.starts) :])]
    for curve, start in zip(begun.curves, starts, strict=True):
        yield events.WholeCurve(
            begun.t, begun.test, curve["name"], "read", curve["unit"], curve["shown"], [TIME],
            [] if is_even else [events.SideRef(begun.file, 0, count, TIME["name"])],
            events.SideRef(begun.file, 0, count, curve["name"]), curve.get("kind", Quantity.stored),
            sampling=(start, begun.step) if begun.step is not None else None, outer=begun.outer, at=begun.at,
        )  # fmt: skip
