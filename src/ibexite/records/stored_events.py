"""The stored form of events, a dictionary for each, and events from it again. A journal begins with the number of the
form that it is in; older_journals.py brings older ones into the present one."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, get_args

from ibexite import events
from ibexite.holes import NEVER_MEASURED, Bad
from ibexite.untyped import Fields
from ibexite.verdicts import Reason, Verdict

FORM = 3  # of journals
KINDS: dict[str, type] = {kind.__name__: kind for kind in get_args(events.Event)}


def stored(event: events.Event) -> Fields:
    """The stored form: `e` for the kind, then its fields. Tuples with names become dictionaries as they are written."""
    if isinstance(event, events.Row):
        return _stored_row(event)
    form = {"form": FORM} if isinstance(event, events.RunStarted) else {}
    return {"e": type(event).__name__, **form, **event._asdict()}


def _stored_row(row: events.Row) -> Fields:
    """A row is written at every point: quickly, and without what is empty in nearly all of them."""
    content = {"e": "Row", "t": row.t, "table": row.table, "x": row.x, "v": row.v, "bad": row.bad, "io": row.io}
    if row.never or row.bounds:
        content |= {"never": row.never, "bounds": row.bounds}
    return content


def event_of(entry: Fields) -> events.Event | None:
    """The event of a stored form; None for a kind that is not known.

    Raises:
        KeyError, TypeError, ValueError, IndexError, AttributeError: it lacks something, or holds what it must not.
    """
    kind = KINDS.get(entry["e"])
    if kind is None:
        return None
    if kind is events.Row:
        return _row(entry)
    if kind is events.WholeCurve:
        return _curve(entry)
    given = {name: entry[name] for name in kind._fields if name in entry}  # type: ignore[attr-defined]
    for name, read in _FIELDS.get(entry["e"], {}).items():
        if name in given:
            given[name] = read(given[name])
    made: events.Event = kind(**given)
    return made


def _row(entry: Fields) -> events.Row:
    values, never, bounds = entry["v"], entry.get("never", ()), entry.get("bounds", ())
    if None in values:
        values = [math.nan if value is None else value for value in values]
        for place in never:
            values[place] = NEVER_MEASURED
    if never or bounds:
        never, bounds = tuple(never), tuple((place, text) for place, text in bounds)
    bad = _bad(entry["bad"]) if entry["bad"] else []
    return events.Row(
        entry["t"], entry["table"], tuple(entry["x"]), tuple(values), bad, _said(entry["io"]), never, bounds
    )  # fmt: skip


def reason_of(entry: Mapping[str, str]) -> Reason:
    """A reason from its stored form."""
    return Reason(**entry)


def _bad(entries: list[Fields]) -> list[Bad]:
    return [Bad(entry["name"], reason_of(entry["reason"]), entry["raw"]) for entry in entries]


def _said(entry: list[Any]) -> events.Said:
    what, at = entry
    return what, at  # lists of lists: there are several at each point, and hardly anybody looks at them


def _counts(entry: Sequence[int] | None) -> tuple[int, int] | None:
    return None if entry is None else (entry[0], entry[1])


def _pairs(entries: Sequence[Sequence[int]]) -> list[tuple[int, int]]:
    return [(entry[0], entry[1]) for entry in entries]


def _points(entry: Fields) -> events.Points:
    points = events.Points(**entry)
    return points._replace(n=_counts(points.n))


def _trial(entries: list[Fields]) -> list[Reason]:
    return [reason_of(entry) for entry in entries]


def _numbers(entry: Any) -> Any:
    """Values of a curve, or where they are."""
    return events.SideRef(**entry) if isinstance(entry, dict) else entry


def _curve(entry: Fields) -> events.WholeCurve:
    given = {name: entry[name] for name in events.WholeCurve._fields if name in entry}
    given |= {
        "x": list(map(_numbers, given["x"])),
        "v": _numbers(given["v"]),
        "bad": _bad(given["bad"]),
        "io": _said(given["io"]),
    }
    given["sampling"] = None if given["sampling"] is None else (given["sampling"][0], given["sampling"][1])
    if isinstance(given["v"], list) and None in given["v"]:
        given["v"] = [math.nan if value is None else value for value in given["v"]]
        for place in given["never"]:
            given["v"][place] = NEVER_MEASURED
    return events.WholeCurve(**given)


# Of each kind, the fields that are more than JSON has, and what reads them.
_FIELDS: dict[str, Fields] = {
    "Traffic": {"io": _said}, "Value": {"bad": _bad, "n": _counts, "io": _said},
    "Judged": {
        "subject": lambda entry: events.Subject(**entry), "worst": lambda entry: events.Point(**entry),
        "limits": lambda entry: events.Limits(**entry), "points": _points, "verdict": Verdict, "reason": reason_of,
    },
    "Figure": {"spans": lambda entry: [tuple(span) for span in entry]},
    "RecordingStarted": {"io": _said},
    "RecordingEnded": {"io": _said, "gaps": _pairs, "beyond": _pairs},
    "TestEnded": {"verdict": Verdict, "reason": reason_of},
    "RunEnded": {"verdict": Verdict, "reason": reason_of, "trial": _trial, "io": _said},
}  # fmt: skip
