"""What Python files offer to sequences: functions for formulas, and measurements.

The declarations are read from the text of the file before a run, without executing it; so their arguments must be
written out as literals. When they are called the file runs in a process of its own.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, TypeVar

F = TypeVar("F", bound=Callable[..., Any])


def function(*, returns: str, timeout: str = "10 s", **arguments: str) -> Callable[[F], F]:
    """Offers a function to formulas.

    Args:
        returns: unit of the result, "" for a plain number.
        timeout: how long a call may take.
        arguments: the unit of each argument, "" for a plain number. "V[]" takes a whole curve as a list of numbers (NaN
            for a hole); an argument called axis, such as axis="Hz[]", then gets the points of its axis.

    Numbers come and go in the units that are declared here, whatever the sequence is written in.

    >>> @function(returns="dB", drive="V", echo="V")
    ... def echo_loss(drive, echo):
    ...     return 20 * math.log10(drive / echo)
    """
    return _marked("function", {"returns": returns, "timeout": timeout, "arguments": arguments})


def measurement(
    title: str,
    *,
    needs: Mapping[str, str] | None = None,
    inputs: Mapping[str, str] | None = None,
    outputs: Mapping[str, str] | None = None,
    timeout: str = "60 s",
) -> Callable[[F], F]:
    """Offers a measurement. The function takes the bench and the inputs, and returns a dictionary of the outputs.

    Args:
        needs: for each role its instrument class, for each signal its unit: {"source": "function_generator", "tap":
            "V"}.
        inputs: for each input its default with unit: {"f_high": "2 MHz"}.
        outputs: for each output its unit, for a curve with its axes: {"f_cut": "Hz", "freq": "Hz", "gain": "dB over
            freq"}.
        timeout: how long it may be silent.
    """
    return _marked(
        "measurement", {"title": title, "needs": needs, "inputs": inputs, "outputs": outputs, "timeout": timeout}
    )


def _marked(kind: str, declaration: dict[str, Any]) -> Callable[[F], F]:
    def mark(target: F) -> F:
        target.__dict__["ibexite_offer"] = (kind, declaration)
        return target

    return mark
