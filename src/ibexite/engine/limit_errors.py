"""What is wrong with limits that nothing can meet."""

from __future__ import annotations

from ibexite.errors import SequenceError


def negative_guard() -> SequenceError:
    """A guard that would make the limits wider."""
    return SequenceError("the guard is below zero", remedy="It is the uncertainty of the measurement.")


def wrong_way_round(low: float, high: float) -> SequenceError:
    """The error for limits of which the lower is above the upper."""
    return SequenceError(
        f"the lower limit {low:g} is above the upper one {high:g} (base units)",
        remedy="Nothing could pass. Look at what the limits depend on.",
    )


def too_wide_a_guard() -> SequenceError:
    """A guard that leaves no room between the limits."""
    return SequenceError("the guard is wider than the tolerance", remedy="Nothing could pass.")
