"""Functions that may take longer than a run may give no sign of life: what they were given tells for how long."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from ibexite.analysis.curve import Curve, StreamedCurve
from ibexite.stop import Stop

MUCH = 1_000_000  # values; what is computed of fewer is there in a second or so
SECONDS_EACH = 5e-6  # that a value may take: some ten times as long as its Fourier transform on a slow computer


def announced(function: Callable[..., Any], stop: Stop) -> Callable[..., Any]:
    """A function of ibexite.analysis that says how long it may take before it begins with much."""

    def called(*arguments: Any, **options: Any) -> Any:
        count = 0
        for one in arguments:
            if isinstance(one, Curve):  # without reading what still lies on the disk
                count += one.count if isinstance(one, StreamedCurve) else one.values.size
        if count <= MUCH:
            return function(*arguments, **options)
        stop.beat(count * SECONDS_EACH)
        try:
            return function(*arguments, **options)
        finally:
            stop.beat(0.0)  # whatever hangs behind it is not to have so long

    return called
