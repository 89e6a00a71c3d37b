"""The kinds of hole in data, and when two values are equal. A hole is NaN: no arithmetic can make a number of it.

A *bad* value (a reading that may not be used, a division by zero) is any NaN. A value that was *never measured* here (a
line in an `if` that was not carried out, a loop that was left) is the NaN with payload 1; where a pass of a ragged or
refined sweep has no point at all, it is the NaN with payload 2, which counts as never measured too. A function that
knows why it has no value says so by a payload of 3 or more. Copies and IEEE 754 arithmetic (section 6.2.3) keep the
payload. Only bad values are told and counted.

One rule for what several holes make of each other: **bad beats never measured**, whatever their order.
"""

from __future__ import annotations

import struct
from typing import NamedTuple

from ibexite.untyped import Measured
from ibexite.verdicts import Reason

PAYLOAD, PAYLOAD_NO_POINT = 0x7FF8_0000_0000_0001, 0x7FF8_0000_0000_0002
NEVER_MEASURED: float = struct.unpack("<d", struct.pack("<Q", PAYLOAD))[0]
NO_POINT: float = struct.unpack("<d", struct.pack("<Q", PAYLOAD_NO_POINT))[0]
BAD = float("nan")
_FIRST_WHY = 3
_WHYS = (
    "orders beyond half the sampling rate", "no peak within the curve, or too few points around it",
    "the curve does not reach that level", "no tone stands out of the record", "the reference has nothing there",
    "neither sign explains what was recorded clearly better than the other",
)  # fmt: skip
# Bad values that say why there is none.
BEYOND_RATE, NO_PEAK, NOT_REACHED, NO_TONE, NO_REFERENCE, NO_SIGN = (
    struct.unpack("<d", struct.pack("<Q", 0x7FF8_0000_0000_0000 | _FIRST_WHY + i))[0] for i in range(len(_WHYS))
)
PAYLOAD_NO_REFERENCE = 0x7FF8_0000_0000_0000 | _FIRST_WHY + _WHYS.index("the reference has nothing there")
_SIGNLESS = 0x7FFF_FFFF_FFFF_FFFF
EQUAL = 1e-12  # of the larger magnitude: closer than that two values are the same


def is_never_measured(value: float | complex) -> bool:
    """True for a value that was never measured (whatever its sign bit).

    >>> is_never_measured(NEVER_MEASURED), is_never_measured(-NEVER_MEASURED * 2 + 1), is_never_measured(float("nan"))
    (True, True, False)
    """
    if value == value:
        return False
    if isinstance(value, complex):
        value = value.real if value.real != value.real else value.imag
    return struct.unpack("<Q", struct.pack("<d", value))[0] & _SIGNLESS in (PAYLOAD, PAYLOAD_NO_POINT)


def why_bad(value: float) -> str:
    """Why a function has no value, "" where it does not say.

    >>> why_bad(NO_PEAK * 2 + 1), why_bad(float("nan")), why_bad(NEVER_MEASURED), why_bad(1.0)
    ('no peak within the curve, or too few points around it', '', '', '')
    """
    if value == value or isinstance(value, complex):
        return ""
    code = (struct.unpack("<Q", struct.pack("<d", value))[0] & _SIGNLESS) - 0x7FF8_0000_0000_0000 - _FIRST_WHY
    return _WHYS[code] if 0 <= code < len(_WHYS) else ""


def hole_of(*operands: Measured) -> float:
    """The hole that is made by operands: bad if one of them is bad or if none is a hole, else never measured.

    >>> is_never_measured(hole_of(1.0, NEVER_MEASURED)), is_never_measured(hole_of(NEVER_MEASURED, BAD))
    (True, False)
    """
    holes = [x for x in operands if isinstance(x, float | complex) and x != x]
    if holes and all(map(is_never_measured, holes)):
        return NEVER_MEASURED
    return next((x for x in holes if isinstance(x, float) and why_bad(x)), BAD)


def settled_hole(found: float, *operands: Measured) -> float:
    """The hole of a formula, whatever the order of its operands; where a function in it says why, that one."""
    return found if why_bad(found) else hole_of(*operands)


def is_equal(a: Measured, b: Measured) -> bool:
    """Whether two numbers are as good as equal: what unit conversions and sums do to the last digits is no difference.

    >>> is_equal(-40.0 + 273.15, 233.15), is_equal(0.1 + 0.2, 0.3), is_equal(1.0, 1.0 + 1e-9), is_equal(0.0, 1e-300)
    (True, True, False, False)
    """
    if isinstance(a, str) or isinstance(b, str):
        return bool(a == b)
    return bool(abs(a - b) <= EQUAL * max(abs(a), abs(b)))


class Bound(float):
    """What a search found when its condition never held, or held at once: only that the value lies beyond `limit`, or
    at it (`is_closed`: the condition held at once, so it may have begun to hold just there).

    It is a NaN: whatever is computed from it is a hole. Only a check looks at `limit` and `is_below`.
    """

    limit: float
    is_below: bool
    is_closed: bool

    def __new__(cls, limit: float, is_below: bool, is_closed: bool = False) -> Bound:
        """A value that is known to lie below (or above) a limit."""
        made = super().__new__(cls, "nan")
        made.limit, made.is_below, made.is_closed = limit, is_below, is_closed
        return made

    @property
    def word(self) -> str:
        """below, above, at most or at least: what stands before the limit."""
        if self.is_closed:
            return "at most" if self.is_below else "at least"
        return "below" if self.is_below else "above"


def decide(word: str, *operands: Measured) -> Measured:
    """and, or, not of single conditions in Kleene's three-valued logic: a hole is neither yes nor no.

    >>> decide("and", False, float("nan")), decide("or", False, True), decide("not", True)
    (False, True, False)
    """
    if word == "not":
        return operands[0] if operands[0] != operands[0] else not operands[0]
    decisive = word == "or"
    if any(x == x and bool(x) is decisive for x in operands):
        return decisive
    return hole_of(*operands) if any(x != x for x in operands) else not decisive


class Bad(NamedTuple):
    """A reading that may not be used: which, why, and what the instrument said."""

    name: str
    reason: Reason
    raw: str


class Counts(NamedTuple):
    """Of how many values a result was made: `good` of `of` that were measured; `bad` ones were left out of it, or of
    what it was made from. `good` and `of` are 0 where it was made of several results."""

    good: int
    of: int
    bad: int
