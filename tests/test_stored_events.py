"""Events and their stored form: what is read back from a journal is what was told."""

import math
from pathlib import Path
from typing import Any, get_args, get_type_hints

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ibexite import events
from ibexite.holes import NEVER_MEASURED, Bad, is_never_measured
from ibexite.records.ingest import NOT_STORED, _Collector
from ibexite.records.journal import Journal, read_journal
from ibexite.records.stored_events import event_of
from ibexite.verdicts import BAD_READINGS, ENDINGS, FAULTS, SKIPS, TRIALS, Reason, Verdict
from tests.runs import emitted

KINDS = get_args(events.Event)
TEXT = st.text(max_size=8)
NUMBER = st.floats(allow_nan=False, allow_infinity=False)
HOLE = st.sampled_from([math.nan, NEVER_MEASURED])
REASON = st.builds(Reason, st.sampled_from([*SKIPS, *TRIALS, *FAULTS, *ENDINGS]), TEXT, TEXT)
BAD = st.builds(Bad, TEXT, st.builds(Reason, st.sampled_from([*BAD_READINGS]), TEXT), TEXT)
COUNT = st.integers(0, 10**6)
ENTRY = st.dictionaries(TEXT, TEXT, max_size=2)
N = st.none() | st.tuples(COUNT, COUNT)
SAID = st.tuples(st.lists(st.tuples(TEXT, st.sampled_from("<>!"), TEXT), max_size=2), st.lists(NUMBER, max_size=2))
MAYBE = st.none() | NUMBER
SERIES = st.lists(NUMBER | TEXT, max_size=3) | st.builds(events.SideRef, TEXT, COUNT, COUNT, TEXT)
AT = st.dictionaries(TEXT, NUMBER, max_size=2)
# What each field may hold, by name; by kind and name where one name holds different things.
FIELDS: dict[str, st.SearchStrategy[Any]] = {
    "t": NUMBER, "sequence": ENTRY, "bench": ENTRY, "params": st.lists(ENTRY, max_size=2), "tests": st.lists(ENTRY, max_size=2),
    "files": st.lists(ENTRY, max_size=2), "number": COUNT, "instruments": st.lists(ENTRY, max_size=2), "io": SAID,
    "rows": COUNT, "table": COUNT, "axes": st.lists(ENTRY, max_size=2), "columns": st.lists(ENTRY, max_size=2),
    "bad": st.lists(BAD, max_size=2), "value": st.none() | NUMBER | TEXT | st.booleans(), "n": N, "verdict": st.sampled_from(Verdict),
    "reason": REASON, "trial": st.lists(REASON, max_size=2), "passed": COUNT, "duration": NUMBER, "has_failed": st.booleans(),
    "roles": st.lists(ENTRY, max_size=2), "settings": st.lists(TEXT, max_size=2), "values": AT, "line": COUNT, "given": AT, "gave": AT,
    "size": COUNT, "ys": st.lists(TEXT, max_size=2), "RunEnded.tests": COUNT, "WholeCurve.x": st.lists(SERIES, max_size=2),
    "WholeCurve.v": SERIES, "sampling": st.none() | st.tuples(NUMBER, NUMBER), "never": st.just([]), "outer": st.lists(ENTRY, max_size=2),
    "WholeCurve.at": st.lists(NUMBER | TEXT, max_size=2), "subject": st.builds(events.Subject, COUNT, TEXT, TEXT, TEXT, TEXT, TEXT, TEXT),
    "worst": st.builds(events.Point, MAYBE, MAYBE, MAYBE, MAYBE, AT, TEXT),
    "limits": st.builds(events.Limits, TEXT, NUMBER, TEXT, TEXT, st.lists(st.lists(MAYBE, max_size=3), max_size=2), TEXT, NUMBER, MAYBE),
    "samples": COUNT, "gaps": st.lists(st.tuples(COUNT, COUNT), max_size=2), "beyond": st.lists(st.tuples(COUNT, COUNT), max_size=2),
    "curves": st.lists(ENTRY, max_size=2), "step": st.none() | NUMBER, "starts": st.lists(NUMBER, max_size=2), "spans": st.lists(st.tuples(TEXT, NUMBER, NUMBER), max_size=2), "RecordingStarted.at": st.lists(NUMBER | TEXT, max_size=2),
    "differences": st.lists(st.tuples(TEXT, TEXT), max_size=2),
    "points": st.builds(events.Points, COUNT, COUNT, COUNT, st.lists(st.lists(NUMBER, max_size=2), max_size=2),
                        st.dictionaries(TEXT, st.lists(NUMBER, max_size=2), max_size=2), N)}  # fmt: skip


@st.composite
def rows(draw: st.DrawFn) -> events.Row:
    """A row whose holes are told as the engine tells them."""
    values = tuple(draw(st.lists(NUMBER | HOLE, min_size=1, max_size=4)))
    never = tuple(place for place, value in enumerate(values) if is_never_measured(value))
    bounds = tuple((place, "below 4.0") for place, value in enumerate(values) if value != value and place not in never)
    return events.Row(draw(NUMBER), draw(COUNT), tuple(draw(st.lists(NUMBER, max_size=3))), values,
                      draw(st.lists(BAD, max_size=2)), draw(SAID), never, bounds)  # fmt: skip


def any_of(kind: type) -> st.SearchStrategy[Any]:
    """Any event of a kind."""
    if kind is events.Row:
        return rows()
    names = get_type_hints(kind)
    return st.builds(kind, **{n: FIELDS.get(f"{kind.__name__}.{n}", FIELDS.get(n, TEXT)) for n in names})


def same(one: Any, other: Any) -> bool:
    """Whether two events are the same, holes by their kind."""
    if isinstance(one, float) and one != one:
        return other != other and is_never_measured(one) == is_never_measured(other)
    if isinstance(one, tuple | list):
        return isinstance(other, tuple | list) and len(one) == len(other) and all(map(same, one, other))
    return bool(one == other)


@pytest.mark.parametrize("kind", KINDS)
def test_an_event_that_is_read_back_is_the_one_that_was_told(tmp_path_factory, kind: type) -> None:
    path: Path = tmp_path_factory.mktemp("journal") / "j.jsonl"
    writer, told = Journal(path), []

    @given(any_of(kind))
    @settings(max_examples=40, deadline=None)
    def tell(event: events.Event) -> None:
        writer(emitted(event))
        told.append(event)

    try:
        tell()
    finally:
        writer.close()
    found = [event_of(entry) for entry in read_journal(path)]
    assert len(found) == len(told) and all(map(same, told, found))


@pytest.mark.parametrize("kind", KINDS)
def test_each_event_is_stored_or_listed_as_not_stored(kind: type) -> None:
    is_stored = hasattr(_Collector, "_" + kind.__name__.lower())
    assert is_stored != (kind in NOT_STORED), kind.__name__
