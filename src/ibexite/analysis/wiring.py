"""What was measured of connections, as curves over pairs of pins, and which contacts come and go."""

from __future__ import annotations

from collections import Counter
from itertools import combinations

import numpy as np

from ibexite.analysis.curve import Array, ArrayCurve, Curve, never
from ibexite.analysis.stacking import stacked
from ibexite.connections import CONTACT, KINDS, values_of, wiring_of
from ibexite.errors import SequenceError
from ibexite.holes import BAD, NEVER_MEASURED, is_never_measured
from ibexite.untyped import Measured

MOST_CONTACTS = 200_000
UNKNOWN = "-"  # the only point of a curve whose connections are not known


def measured(wires: Measured, kind: str) -> Curve:
    """What was measured between pins, as a curve over the names of the pairs; of connections over further axes over
    these as well.

    Args:
        wires: the text of connections, a hole, or a curve of them.
        kind: one of KINDS.
    """
    axis = KINDS[kind].axis
    if isinstance(wires, Curve):
        texts = enumerate(wires.values.ravel().tolist())
        rows = {tuple(map(int, np.unravel_index(i, wires.values.shape))): measured(text, kind) for i, text in texts}
        return stacked(wires.axes, [axis], rows)
    if not isinstance(wires, str):
        return _over(axis, [UNKNOWN], [NEVER_MEASURED if is_never_measured(wires) else BAD])
    return _over(axis, *values_of(wires, kind))


def _over(axis: str, names: list[str], values: list[float]) -> ArrayCurve:
    return ArrayCurve({axis: _names(names)}, np.array(values, dtype=float))


def _names(names: list[str]) -> Array:
    found = np.empty(len(names), dtype=object)
    found[:] = names
    return found


def intermittent(wires: Curve, axis: str) -> Curve:
    """In how many turns each pair of pins was not as in most: connected where it mostly was not, or the other way
    round. 0 says that it never changed. Pairs that were never connected are left out.

    Args:
        wires: a curve of connections, over `axis` and perhaps others.
        axis: the axis of the turns.

    Returns:
        A curve over the other axes and then the pairs; bad at all of them where the connections of one turn are.

    Raises:
        SequenceError: there are fewer than two turns, or more than MOST_CONTACTS pairs.
    """
    others = {name: points for name, points in wires.axes.items() if name != axis}
    turns = np.moveaxis(wires.values, list(wires.axes).index(axis), -1)
    rows = {place: _contacts(turns[place].tolist()) for place in np.ndindex(turns.shape[:-1])}
    return stacked(others, [CONTACT], rows) if others else rows[()]


def _contacts(turns: list[Measured]) -> ArrayCurve:
    if len(turns) < 2:
        raise SequenceError("one scan cannot tell which contacts come and go", remedy="Repeat it: repeat scan for 10 s")
    if any(not isinstance(text, str) for text in turns):
        is_never = all(not isinstance(text, str) and bool(never(np.array([text]))[0]) for text in turns)
        return _over(CONTACT, [UNKNOWN], [NEVER_MEASURED if is_never else BAD])
    connected: Counter[tuple[str, str]] = Counter()
    for text, times in Counter(turns).items():  # most turns are alike
        for net in wiring_of(text).nets:
            for pair in combinations(net, 2):
                connected[pair] += times
        if len(connected) > MOST_CONTACTS:
            raise SequenceError(
                f"the nets have more than {MOST_CONTACTS:,} pairs of pins", remedy="Test fewer pins in one scan."
            )
    pairs = sorted(connected)
    changes = [float(min(connected[pair], len(turns) - connected[pair])) for pair in pairs]
    return _over(CONTACT, [KINDS["resistance"].name(*pair) for pair in pairs], changes)
