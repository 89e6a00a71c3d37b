"""By how much a result may be off when what it is made of may be: first-order propagation, in the worst direction."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ibexite.untyped import Measured


def carried(
    function: Callable[..., Measured], values: Sequence[Measured], widths: Sequence[Measured], is_pointwise: bool
) -> Measured:
    """Half of the width in which the true result lies.

    Each value is changed by its own half width in both directions, the larger change counts, and the changes of all
    values are added up: what a data sheet warrants is a bound, and nobody knows the signs (JCGM 100:2008, 5.1.3 with
    finite changes for the derivatives, F.2.4.5 and E.2.1 for the sum of bounds). What stands in a formula several times
    is changed in all places at once, so v - v is exact.

    Args:
        values, widths: numbers or curves, each pair over the same axes, in base units.
        is_pointwise: each point of the result stands on the same point of the values alone; else each point of each
            curve is changed by itself.

    Returns:
        A number or a curve, as the function gives; NaN where the result or a changed one has no value.
    """
    base = function(*values)
    if not any(hasattr(value, "axes") for value in values):
        return _of_numbers(function, list(values), list(widths), base)
    from ibexite.analysis.pointwise import absolute, larger

    total = absolute(base - base)
    for i, (value, width) in enumerate(zip(values, widths, strict=True)):
        for up, down in _changes(value, width, is_pointwise):
            sides = (function(*values[:i], changed, *values[i + 1 :]) - base for changed in (up, down))
            total = total + larger(*map(absolute, sides))
    return total


def _of_numbers(
    function: Callable[..., Measured], values: list[Measured], widths: list[Measured], base: Measured
) -> Measured:
    total = abs(base - base)
    for i, (value, width) in enumerate(zip(values, widths, strict=True)):
        sides = [
            abs(function(*values[:i], changed, *values[i + 1 :]) - base) for changed in (value + width, value - width)
        ]
        total += sides[0] if sides[0] > sides[1] or sides[0] != sides[0] else sides[1]
    return total


def _changes(value: Measured, width: Measured, is_pointwise: bool) -> list[tuple[Measured, Measured]]:
    """The changed values: one pair, or one for each point that was measured."""
    if is_pointwise or not hasattr(value, "axes"):
        return [(value + width, value - width)]
    import numpy as np

    from ibexite.analysis.curve import ArrayCurve

    by = np.broadcast_to(width.values if hasattr(width, "values") else width, value.values.shape)
    found = []
    for place in np.argwhere(~np.isnan(value.values)):
        pair = []
        for sign in (1, -1):
            changed = value.values.copy()
            changed[tuple(place)] += sign * by[tuple(place)]
            pair.append(ArrayCurve(value.axes, changed))
        found.append((pair[0], pair[1]))
    return found
