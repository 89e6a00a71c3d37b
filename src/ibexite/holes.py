"""The two kinds of hole in data. Both are NaN, so that no arithmetic can make a number of them.

A *bad* value (a reading that may not be used, a division by zero) is any NaN. A value that was *never measured* here (a
line in an `if` that was not carried out, the inner range of a ragged sweep, a loop that was left) is the NaN with
payload 1, which copies of it and IEEE 754 arithmetic (section 6.2.3) keep. Only bad values are told and counted.
"""

from __future__ import annotations

import struct
from typing import Any

NEVER_MEASURED: float = struct.unpack("<d", struct.pack("<Q", 0x7FF8_0000_0000_0001))[0]
PAYLOAD = 0x7FF8_0000_0000_0001
_SIGNLESS = 0x7FFF_FFFF_FFFF_FFFF


def is_never_measured(value: float) -> bool:
    """True for a value that was never measured (whatever its sign bit).

    >>> is_never_measured(NEVER_MEASURED), is_never_measured(-NEVER_MEASURED * 2 + 1), is_never_measured(float("nan"))
    (True, True, False)
    """
    return value != value and struct.unpack("<Q", struct.pack("<d", value))[0] & _SIGNLESS == PAYLOAD


class Bound(float):
    """What a search found when its condition never held, or held at once: only that the value lies beyond `limit`.

    It is a NaN: whatever is computed from it is a hole. Only a check looks at `limit` and `is_below`.
    """

    limit: float
    is_below: bool

    def __new__(cls, limit: float, is_below: bool) -> Bound:
        """A value that is known to lie below (or above) a limit."""
        made = super().__new__(cls, "nan")
        made.limit, made.is_below = limit, is_below
        return made


def decide(word: str, *operands: Any) -> Any:
    """and, or, not of single conditions in Kleene's three-valued logic: a hole is neither yes nor no.

    >>> decide("and", False, float("nan")), decide("or", False, True), decide("not", True)
    (False, True, False)
    """
    if word == "not":
        return operands[0] if operands[0] != operands[0] else not operands[0]
    decisive = word == "or"
    if any(x == x and bool(x) is decisive for x in operands):
        return decisive
    return next((x for x in operands if x != x), not decisive)
