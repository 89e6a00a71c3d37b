"""What events are made of: numbers that lie elsewhere, what was said on links, what was judged."""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from ibexite.values import Quantity


class SideRef(NamedTuple):
    """Numbers in a side file: its name, the first one, and how many; of a recording also the channel."""

    file: str
    begin: int
    length: int
    channel: str = ""


class StreamChannel(NamedTuple):
    """A channel of a recording: its name, the numbers that are kept of it (as NumPy names their type), and what makes
    values in base units of them: value = number * scale + offset. A number of this size, or `beyond` it, says that the
    range of the instrument was exceeded; 0: none does."""

    name: str
    numbers: str
    scale: float = 1.0
    offset: float = 0.0
    beyond: float = 0.0


class ReplyRef(NamedTuple):
    """A long reply in the file of replies of its run: the first byte, how many, and how it begins (Latin-1)."""

    begin: int
    length: int
    shown: str


Message = tuple[str, str, str | bytes | bytearray | ReplyRef]
Said = tuple[Sequence[Message], Sequence[float]]
"""What was said on links: instrument, direction (">" to it, "<" by it, "!" about its link) and bytes of each, each byte
as one character (Latin-1), of a long reply as they are, or where they lie; and the time of each, in s on the clock of
the run (which said RunStarted.clock when the run began). Two lists, for there are several at each point of a sweep.
Messages without an instrument are no traffic: "@" is what the clock of the run was asked for in between, "!" that
somebody wished the run to end. Calls of programs stand by the name of the program, as JSON."""
NOTHING_SAID: Said = ((), ())

Numbers = Sequence[float | str | None] | SideRef
"""Values of a curve in events; a hole is NaN, or None where it was read back from JSON."""

LONG = 64  # numbers of a curve, beyond which they are no list in events, and lie beside the journal;
LONG_COMPUTED = 1_000  # the same in runs that read no whole curves, so that they need not load what writes such files
MOST_LIMITS = 20_000  # points that a result keeps its limits of


class Subject(NamedTuple):
    """What was judged: by which line, under which label, in which unit."""

    line: int
    label: str
    criterion: str  # the check line
    subject: str  # the name that was judged, "" for a formula
    unit: str
    shown: str
    kind: str = Quantity.stored


class Point(NamedTuple):
    """The worst point of what was judged, with the limits there. None where there is no number; `said` is a value that
    is none: yes, no, a text; or a bound, "below 4 V"."""

    value: float | None
    low: float | None
    high: float | None
    margin: float | None
    at: dict[str, float | str] = {}
    said: str = ""


class Limits(NamedTuple):
    """What was demanded: `demand` in words of what is no number. The limits stand by `guard` inside those that were
    written, by `rule`; `origin` is where they come from, if from a limit table. `each` holds axis values, low and high
    of each judged point (the first MOST_LIMITS), where limits are no constants. `moved` tells in words by how much they
    were moved onto what is judged; all of them are told as they were then. `uncertainty` is that of the worst point, by
    which the rule judged, `risk` the probability that the verdict of it is wrong; None where nobody knows."""

    demand: str = ""
    guard: float = 0.0
    rule: str = ""
    origin: str = ""
    each: list[list[float | str | None]] = []
    moved: str = ""
    uncertainty: float = 0.0
    risk: float | None = None


class Points(NamedTuple):
    """The points that were judged: how many, how many of them failed or were bad, the axis values of those that failed
    and the extent of all by axis (not of texts). `n`: of how many values the judged one was made, and how many there
    might have been."""

    judged: int
    failed: int
    bad: int
    failing: list[list[float | str]] = []
    extent: dict[str, list[float]] = {}
    n: tuple[int, int] | None = None
