"""What happens in a run, as small tuples without behaviour. The engine emits them; journal and views read them.

Values are in base SI units (levels as levels, temperatures in K); `unit` names that base unit, `shown` the unit that
people want to see ("" where a prefix is to be chosen). Times `t` are seconds since the run began, on a monotonic clock.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from ibexite.event_parts import (
    LONG as LONG,
)
from ibexite.event_parts import (
    LONG_COMPUTED as LONG_COMPUTED,
)
from ibexite.event_parts import (
    MOST_LIMITS as MOST_LIMITS,
)
from ibexite.event_parts import (
    NOTHING_SAID as NOTHING_SAID,
)
from ibexite.event_parts import (
    Limits as Limits,
)
from ibexite.event_parts import (
    Message as Message,
)
from ibexite.event_parts import (
    Numbers as Numbers,
)
from ibexite.event_parts import (
    Point as Point,
)
from ibexite.event_parts import (
    Points as Points,
)
from ibexite.event_parts import (
    ReplyRef as ReplyRef,
)
from ibexite.event_parts import (
    Said as Said,
)
from ibexite.event_parts import (
    SideRef as SideRef,
)
from ibexite.event_parts import (
    StreamChannel as StreamChannel,
)
from ibexite.event_parts import (
    Subject as Subject,
)
from ibexite.holes import Bad
from ibexite.untyped import Fields
from ibexite.values import Quantity
from ibexite.verdicts import Reason, Verdict


class RunStarted(NamedTuple):
    """A run begins. `sequence` and `bench` hold title, file, hash and the like; `params` are as people write them."""

    run: str
    started: str  # wall time, ISO 8601 with offset to UTC
    serial: str
    operator: str
    station: str
    software: str
    sequence: dict[str, str]
    bench: dict[str, str]
    params: list[Fields]
    tests: list[Fields]
    lot: str = ""
    files: list[dict[str, str]] = []  # other files that take part: name, SHA-256, version
    retest_of: str = ""  # the run that this one completes
    first_run: str = ""  # the first run of the unit's result, where this one completes others
    first_verdict: str = ""  # and its verdict, the first pass
    clock: float = 0.0  # s, what the clock of the run said when it began; see Said
    number: int = 0  # counts the runs of a records folder in the order of their starting, whatever the wall clock says
    orders: Fields = {}  # how it was to be carried out, as ibexite.engine.orders.Orders; what a replay needs of it


class BenchConnected(NamedTuple):
    """All instruments answered; who they are and how long their calibration holds. Of the signals that are used: where
    they are read, how they are converted, how exact they are."""

    t: float
    instruments: list[Fields]
    signals: Sequence[Fields] = ()


class Traffic(NamedTuple):
    """What was sent and received since the last event that carries `io`."""

    t: float
    io: Said


class TestStarted(NamedTuple):
    """A test begins."""

    t: float
    test: str
    title: str


class SweepStarted(NamedTuple):
    """An outermost sweep begins; `rows` is the number of rows to come, 0 if unknown."""

    t: float
    test: str
    name: str
    rows: int


class TableStarted(NamedTuple):
    """A table of a test: axes and columns, each {name, unit, shown}. Of a measurement that was called within loops,
    `at` is where they were and `outer` what is told of them."""

    t: float
    test: str
    table: int
    axes: list[dict[str, str]]
    columns: list[dict[str, str]]
    outer: list[dict[str, str]] = []
    at: Sequence[float | str] = ()


class LoopLeft(NamedTuple):
    """A loop was left by its `leave` line; the rows that would have come were never measured."""

    t: float
    test: str
    name: str
    why: str


class Row(NamedTuple):
    """One row of a table: axis values, column values (NaN for a hole), bad readings, instrument traffic. `never` are
    the places of the columns that were never measured; `bounds` what is known of those that are only bounded."""

    t: float
    table: int
    x: tuple[float | str, ...]
    v: tuple[float | str, ...]
    bad: list[Bad]
    io: Said
    never: tuple[int, ...] = ()
    bounds: tuple[tuple[int, str], ...] = ()


class Value(NamedTuple):
    """A single value outside any loop of its block. origin is read, let, call, ask or search. `n` is, for what stands
    on several values, how many those were and how many there would have been without bad ones; `bound` says
    "below 4 V" when no more is known. Of a measurement that was called within loops, `at` is where they were and
    `outer` what is told of them."""

    t: float
    test: str
    name: str
    origin: str
    unit: str
    shown: str
    value: float | bool | str | None
    bad: list[Bad]
    io: Said
    kind: str = Quantity.stored  # of the type, see ibexite.values
    n: tuple[int, int] | None = None
    bound: str = ""
    outer: list[dict[str, str]] = []
    at: Sequence[float | str] = ()


class WholeCurve(NamedTuple):
    """A curve that came to be as a whole: read, computed after its sweep, or given by a program. `x` holds for each
    axis its value at every point, but nothing for one with even steps: `sampling` is its start and step then. `never`
    are the points that were never measured. Within loops, `at` are their values and `outer` what is told of them.
    Long `x` and `v` lie in the side file of the run."""

    t: float
    test: str
    name: str
    origin: str
    unit: str
    shown: str
    axes: list[dict[str, str]]
    x: Sequence[Numbers]
    v: Numbers
    kind: str = Quantity.stored
    sampling: tuple[float, float] | None = None
    never: Sequence[int] = ()
    outer: list[dict[str, str]] = []
    at: Sequence[float | str] = ()
    bad: list[Bad] = []
    io: Said = NOTHING_SAID


class RecordingStarted(NamedTuple):
    """A recording begins: which one of the run it is, the file of its samples (below streams), and its curves, each
    {name, unit, shown}. `step` is the time in s from sample to sample, None where each has its own time; `starts` tells
    when each curve begins. Within loops, `at` are their values and `outer` what is told of them."""

    t: float
    test: str
    name: str
    number: int
    file: str
    curves: list[dict[str, str]]
    step: float | None
    starts: Sequence[float] = ()
    outer: list[dict[str, str]] = []
    at: Sequence[float | str] = ()
    io: Said = NOTHING_SAID


class RecordingEnded(NamedTuple):
    """It has ended: the number of samples with those that are missing, the first of which and the one behind the last
    stand in `gaps`; of each curve how many were beyond the range, and which one was the first; and what broke it off,
    if that was not the sequence. Its curves are told by WholeCurve."""

    t: float
    test: str
    number: int
    samples: int
    gaps: Sequence[tuple[int, int]] = ()
    beyond: Sequence[tuple[int, int]] = ()
    failure: str = ""
    io: Said = NOTHING_SAID


class Conditions(NamedTuple):
    """Under which conditions values of a test came to be: `names` are readings and what is computed from them,
    `conditions` what each setting, argument of a reading and parameter was, in words. One that changed meanwhile is
    told with its least and its greatest value."""

    t: float
    test: str
    names: list[str]
    conditions: dict[str, str]


class Judged(NamedTuple):
    """The result of one check line, or of a watch. `differences` are kind and words of all that is otherwise in what
    was to be the same as something else."""

    t: float
    test: str
    subject: Subject
    worst: Point
    limits: Limits
    points: Points
    axes: list[dict[str, str]]
    verdict: Verdict
    reason: Reason
    differences: Sequence[tuple[str, str]] = ()

    def row(self) -> Fields:
        """All of it side by side, as the table of results of the store has it."""
        limits = self.limits._asdict()
        limits["limits"] = limits.pop("each")
        return {
            "test": self.test, "axes": self.axes, "verdict": self.verdict, "reason": self.reason.text,
            "reason_code": self.reason.code, **self.subject._asdict(), **self.worst._asdict(), **limits,
            **self.points._asdict(), "differences": self.differences,
        }  # fmt: skip


class Figure(NamedTuple):
    """A figure for the report; `spans` are stretches of x that are marked: name, begin and end, in base units."""

    t: float
    test: str
    ys: list[str]
    x: str
    by: str
    title: str
    spans: Sequence[tuple[str, float, float]] = ()


class Shown(NamedTuple):
    """A text that was shown to the operator (how = show), or that is for the report only (how = note)."""

    t: float
    text: str
    test: str = ""
    how: str = "show"


class Attached(NamedTuple):
    """A file for the records: its name, where it lay, its SHA-256 and size in bytes."""

    t: float
    test: str
    name: str
    path: str
    sha256: str
    size: int


class Taught(NamedTuple):
    """Values of the unit (test.name) that are to become a reference of this name."""

    t: float
    test: str
    names: list[str]
    reference: str


class Tone(NamedTuple):
    """A tone for the operator: good or bad."""

    t: float
    kind: str


class Called(NamedTuple):
    """A program or Python function was called: what went in, what came out, how long it took (s)."""

    t: float
    test: str
    program: str
    given: Fields
    gave: Fields
    duration: float


class Answered(NamedTuple):
    """A question to the operator and the answer, in words and as the value that it is (a number in base units)."""

    t: float
    question: str
    answer: str
    value: float | bool | str | None = None


class Limiting(NamedTuple):
    """A role whose instrument reached its limit during a test: its set points were then not true."""

    t: float
    test: str
    role: str


class Halted(NamedTuple):
    """The run stood still at a line: what was answered (next, continue, again, stop) and the values of that moment."""

    t: float
    test: str
    line: int
    answer: str
    values: Fields


class RelaysClosed(NamedTuple):
    """Relays of routes that have closed: instrument, channel, and how often."""

    t: float
    test: str
    closed: list[tuple[str, int, int]]
    io: Said = NOTHING_SAID


class Restored(NamedTuple):
    """What was set back to the state that `before unit` left."""

    t: float
    settings: list[str]


class TestEnded(NamedTuple):
    """A test ended: pass, fail, error, skipped, aborted or no check; see ibexite.verdicts. `has_failed`: a check of it
    failed on valid readings; `run`: the run that it was taken over from."""

    t: float
    test: str
    verdict: Verdict
    reason: Reason
    duration: float
    has_failed: bool = False
    run: str = ""


class MadeSafe(NamedTuple):
    """The bench is in its safe state, or what hinders it. `roles` are in the order of switching off."""

    t: float
    roles: list[dict[str, str]]
    by: str = ""  # guardian, where the run itself could not


class Problem(NamedTuple):
    """Something went wrong outside the tests, or while cleaning up."""

    t: float
    text: str


class RunEnded(NamedTuple):
    """The verdict: pass, fail, error, aborted, or no check (one measurement at the desk); `trial` holds the reasons
    why a pass would not count, each with the run that it comes from."""

    t: float
    verdict: Verdict
    reason: Reason
    trial: list[Reason]
    passed: int
    tests: int
    io: Said = NOTHING_SAID


class Emitted(NamedTuple):
    """An event as readers are told of it: the run that it belongs to, and its number in that run, from 1. The events of
    a run are the lines of its journal, in the same order."""

    run: str
    number: int
    event: Event


Event = (
    RunStarted | BenchConnected | Traffic | TestStarted | SweepStarted | TableStarted | LoopLeft | Row | Value
    | WholeCurve | RecordingStarted | RecordingEnded | Conditions | Judged | Figure | Shown | Attached | Taught | Tone
    | Called | Answered | Limiting | Halted | RelaysClosed | Restored | TestEnded | MadeSafe | Problem | RunEnded
)  # fmt: skip
