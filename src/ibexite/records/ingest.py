"""Puts the journal of a run into rows for the store: a pure function from events to rows."""

from __future__ import annotations

import datetime
import json
from array import array
from collections.abc import Iterable
from dataclasses import dataclass, field

from ibexite import events
from ibexite.errors import RecordsError
from ibexite.holes import Bad
from ibexite.records.broken_recordings import LengthOf, curves_of
from ibexite.records.curve_rows import at_of, curve_row, labels_text, place_of, stored_number
from ibexite.records.last_said import LastSaid
from ibexite.records.older_journals import as_it_is, into_present_form
from ibexite.records.stored_events import KINDS, event_of
from ibexite.untyped import Fields
from ibexite.values import is_words
from ibexite.verdicts import Reason, Verdict, told
from ibexite.wording import percent_of_tolerance

# The blocks around the tests, with their places before and behind all of them.
BLOCKS = {"before lot": -2, "before unit": -1, "after unit": 1_000_000, "after lot": 1_000_001}
# Events that leave no row in the store: what they tell is in others, or of the way only. Journals keep them all.
NOT_STORED = {
    events.Traffic: "what was said to instruments; see last_said.py",
    events.SweepStarted: "progress of a loop, for views", events.Tone: "a tone for the operator",
    events.Restored: "settings between tests",
    events.RecordingEnded: "its curves are told, and what is missing of them is bad",
}  # fmt: skip


PARTS = ("results", "curves", "conditions", "bad_readings", "figures", "calls")  # the tables of what belongs to a test


@dataclass(slots=True)
class TestRows:
    """The rows of one test."""

    __test__ = False  # not for pytest
    test: Fields
    results: list[Fields] = field(default_factory=list)
    curves: list[Fields] = field(default_factory=list)
    conditions: list[Fields] = field(default_factory=list)
    bad_readings: list[Fields] = field(default_factory=list)
    figures: list[Fields] = field(default_factory=list)
    calls: list[Fields] = field(default_factory=list)

    @property
    def parts(self) -> dict[str, list[Fields]]:
        """All that belongs to it, by the names of the tables."""
        return {name: getattr(self, name) for name in PARTS}


@dataclass(slots=True)
class RunRows:
    """The rows of one run."""

    unit: Fields
    run: Fields
    tests: list[TestRows]
    files: list[Fields] = field(default_factory=list)
    relays: list[Fields] = field(default_factory=list)
    traffic: list[Fields] = field(default_factory=list)  # what was said last, if it did not end by itself


@dataclass(slots=True)
class _Grid:
    test: TestRows
    columns: list[Fields]
    values: array[float]  # row by row
    bounds: list[list[str]]  # of each column: what is known of values that are only bounded
    texts: dict[int, dict[str, float]]  # of each column of texts: their numbers

    def numbers(self, row: tuple[float | str, ...]) -> list[float]:
        """A row with numbers in place of texts."""
        numbers = list(row)
        for column, known in self.texts.items():
            numbers[column] = stored_number(row[column], known)
        return numbers  # type: ignore[return-value]  # all of them now


class _Collector:
    def __init__(self, length_of: LengthOf) -> None:
        self._length_of = length_of
        self._recordings: dict[str, events.RecordingStarted] = {}  # by file: of which nothing was told yet
        self.rows: RunRows | None = None
        self.tests: dict[str, TestRows] = {}
        self.grids: dict[int, _Grid] = {}
        self.remarks: list[Fields] = []
        self.closings: dict[tuple[str, int], int] = {}  # of relays, by instrument and channel
        self.last_time = self._clock = 0.0
        self._said, self._has_ended = LastSaid(), False
        named = {kind: getattr(self, "_" + kind.__name__.lower(), None) for kind in KINDS.values()}
        self._handlers = {kind: handler for kind, handler in named.items() if handler is not None}

    def take(self, event: events.Event) -> None:
        self.last_time = getattr(event, "t", self.last_time)
        said = getattr(event, "io", None)
        if said and said[0]:
            self._said.take(said)
        handler = self._handlers.get(type(event))
        if handler is not None:
            handler(event)

    def _runstarted(self, e: events.RunStarted) -> None:
        self._clock = e.clock
        sequence, bench = e.sequence, e.bench
        run = {
            "id": e.run,
            "number": e.number,
            "started": in_utc(e.started)[0],
            "utc_offset": in_utc(e.started)[1],
            "duration": 0.0,
            "verdict": Verdict.ABORTED,
            "is_trial": 1,
            "trial_reasons": "the run was broken off",
            "trial": json.dumps([Reason("left_out", "the run was broken off")._asdict()]),
            "reason": "broken off: the process died during the run",
            "reason_code": "broken_off",
            "broken_off": 1,
            "is_safe": 0,
            "operator": e.operator,
            "station": e.station,
            "software": e.software,
            "sequence": sequence["title"],
            "revision": sequence["revision"],
            "sequence_file": sequence["file"],
            "sequence_sha256": sequence["sha256"],
            "bench": bench["name"],
            "bench_sha256": bench["sha256"],
            "position": bench.get("position", ""),
            "params": json.dumps(e.params),
            "instruments": "[]",
            "signals": "[]",
            "lot": e.lot,
            "files": json.dumps(e.files),
            "retest_of": e.retest_of,
            "first_run": e.first_run,
            "first_verdict": e.first_verdict,
        }
        tests = []
        for position, test in enumerate(e.tests):
            row = _test_row(e.run, test["test"], test["title"], position)
            row |= {"is_gate": int(test["gate"]), "tags": ", ".join(test.get("tags", ()))}
            self.tests[test["test"]] = TestRows(row)
            tests.append(self.tests[test["test"]])
        self.rows = RunRows({"serial": e.serial, "product": sequence["product"]}, run, tests)

    def _part(self, name: str) -> TestRows | None:
        """The rows of a test, or of a block around the tests, which gets some when it gives its first value."""
        if name in self.tests or name not in BLOCKS or self.rows is None:
            return self.tests.get(name)
        row = _test_row(self.rows.run["id"], name, name.capitalize(), BLOCKS[name])
        part = TestRows(row | {"kind": "block", "verdict": Verdict.NO_CHECK, "reason": "", "reason_code": ""})
        self.tests[name] = part
        self.rows.tests.append(part)
        return part

    def _run(self) -> Fields:
        assert self.rows is not None
        return self.rows.run

    def _remark(self, kind: str, text: str, **more: str) -> None:
        self.remarks.append({"kind": kind, "text": text, **more})

    def _benchconnected(self, e: events.BenchConnected) -> None:
        self._run()["instruments"] = json.dumps(e.instruments)
        self._run()["signals"] = json.dumps(list(e.signals))

    def _teststarted(self, e: events.TestStarted) -> None:
        self.tests[e.test].test["verdict"] = Verdict.ABORTED

    def _testended(self, e: events.TestEnded) -> None:
        self.tests[e.test].test.update(
            verdict=e.verdict, reason=e.reason.text, reason_code=e.reason.code, duration=e.duration,
            has_failed=int(e.has_failed), run=e.run,
        )  # fmt: skip

    def _tablestarted(self, e: events.TableStarted) -> None:
        test = self._part(e.test)
        if test is not None:
            place = place_of(e)
            columns: list[Fields] = [
                {**c, "grid": e.table, "position": i, "place": place} for i, c in enumerate(e.axes + e.columns)
            ]
            # Journals of older versions number the texts of an axis, and tell them beforehand.
            texts: dict[int, dict[str, float]] = {
                i: {text: float(n) for n, text in enumerate(c.get("labels") or ())}
                for i, c in enumerate(columns)
                if is_words(c)
            }
            self.grids[e.table] = _Grid(test, columns, array("d"), [[] for _ in columns], texts)

    def took_plain_row(self, entry: Fields) -> bool:
        """Takes a row in which nothing is missing straight from its stored form, as nearly all are; False if it is no
        such row."""
        grid, row = self.grids.get(entry["table"]), entry["x"] + entry["v"]
        what, times = entry["io"]
        is_plain = not entry["bad"] and "never" not in entry and None not in row and len(what) == len(times)
        if grid is None or grid.texts or not is_plain or len(row) != len(grid.columns):
            return False
        grid.values.extend(row)
        self.last_time = entry["t"]
        if what:
            self._said.take((what, times))
        return True

    def _row(self, e: events.Row) -> None:
        grid = self.grids.get(e.table)
        if grid is None:
            return
        row, axes = e.x + e.v, len(e.x)
        if len(row) != len(grid.columns):
            raise ValueError(f"{len(row)} values for {len(grid.columns)} columns")
        grid.values.extend(grid.numbers(row) if grid.texts else row)  # type: ignore[arg-type]  # all numbers then
        for column, bound in e.bounds:
            grid.bounds[axes + column].append(f"row {len(grid.values) // len(row)}: {bound}")
        if e.bad:
            outer = json.loads(grid.columns[0]["place"] or "{}").get("at", {})
            self._bad(grid.test, e.bad, outer | dict(zip((c["name"] for c in grid.columns), e.x, strict=False)))

    def _bad(self, test: TestRows, bad: list[Bad], at: Fields) -> None:
        test.bad_readings += [
            {"name": name, "at": json.dumps(at), "reason": why.text, "reason_code": why.code, "raw": raw[:200]}
            for name, why, raw in bad
        ]

    def _value(self, e: events.Value) -> None:
        test = self._part(e.test)
        if test is None:
            return
        self._bad(test, e.bad, at_of(e))
        column = {"name": e.name, "origin": e.origin, "unit": e.unit, "shown": e.shown, "kind": e.kind}
        row = curve_row(column | {"place": place_of(e)}, self._next_grid(test), 0, [e.value])
        test.curves.append(row | {"n": _of_how_many(e.n), "bound": e.bound})

    def _next_grid(self, test: TestRows) -> int:
        """A number for what has no table of its own; negative, so that it cannot meet that of a table."""
        return -1 - sum(1 for c in test.curves if c["grid"] < 0 and c["position"] == 0)

    def _wholecurve(self, e: events.WholeCurve) -> None:
        test = self._part(e.test)
        if test is None:
            return
        if isinstance(e.v, events.SideRef):
            self._recordings.pop(e.v.file, None)
        grid, count = self._next_grid(test), e.v.length if isinstance(e.v, events.SideRef) else len(e.v)
        self._bad(test, e.bad, at_of(e))
        if e.sampling is not None:
            rows = [curve_row(e.axes[0] | {"origin": "sweep"}, grid, 0, [])]
            rows[0] |= {"start": e.sampling[0], "step": e.sampling[1], "length": count}
        else:
            each = enumerate(zip(e.axes, e.x, strict=True))
            rows = [curve_row(axis | {"origin": "sweep"}, grid, position, x) for position, (axis, x) in each]
        column = {"name": e.name, "origin": e.origin, "unit": e.unit, "shown": e.shown, "kind": e.kind}
        rows.append(curve_row(column, grid, len(e.axes), e.v))
        test.curves += [row | {"place": place_of(e)} for row in rows]

    def _recordingstarted(self, e: events.RecordingStarted) -> None:
        self._recordings[e.file] = e

    def _conditions(self, e: events.Conditions) -> None:
        test = self._part(e.test)
        if test is not None:
            test.conditions.append({"names": json.dumps(e.names), "conditions": json.dumps(e.conditions)})

    def _judged(self, e: events.Judged) -> None:
        test = self._part(e.test)
        if test is None:
            return
        row = {**e.row(), "percent": percent_of_tolerance(e.worst.margin, e.worst.low, e.worst.high)}
        row |= {key: json.dumps(row[key]) for key in ("at", "axes", "extent", "failing", "limits", "differences")}
        test.results.append({**row, "n": _of_how_many(e.points.n)})
        if test.test["kind"] == "block":
            worst = max((r["verdict"] for r in test.results), key=(Verdict.PASS, Verdict.FAIL, Verdict.ERROR).index)
            test.test.update(verdict=worst if worst == Verdict.PASS else Verdict.ERROR, has_failed=0)

    def _figure(self, e: events.Figure) -> None:
        test = self._part(e.test)
        if test is not None:
            test.figures.append(
                {"ys": json.dumps(e.ys), "x": e.x, "by": e.by, "title": e.title, "spans": json.dumps(e.spans)}
            )

    def _shown(self, e: events.Shown) -> None:
        self._remark("note" if e.how == "note" else "shown", e.text)

    def _attached(self, e: events.Attached) -> None:
        assert self.rows is not None
        self.rows.files.append({"test": e.test, "name": e.name, "path": e.path, "sha256": e.sha256, "size": e.size})

    def _taught(self, e: events.Taught) -> None:
        self._remark("taught", f"{', '.join(e.names)} as the reference {e.reference}")

    def _called(self, e: events.Called) -> None:
        test = self._part(e.test)
        if test is not None:
            short = {name: _short(value) if isinstance(value, dict) else value for name, value in e.gave.items()}
            test.calls.append({"program": e.program, "given": json.dumps(e.given), "gave": json.dumps(short),
                               "duration": e.duration})  # fmt: skip
        gave = ", ".join(f"{name} = {_short(value)}" for name, value in e.gave.items())
        self._remark("called", f"{e.test}: {e.program} gave {gave or 'nothing'}")

    def _loopleft(self, e: events.LoopLeft) -> None:
        self._remark("left", f"{e.test}: loop {e.name} was left: {e.why}")

    def _answered(self, e: events.Answered) -> None:
        self._remark("question", e.question, answer=e.answer)

    def _halted(self, e: events.Halted) -> None:
        values = ", ".join(f"{name} = {_short(value)}" for name, value in e.values.items())
        where = f"line {e.line}" if e.line else "its end"
        self._remark("halted", f"{e.test}: halted at {where}, {e.answer}; {values or 'no values yet'}")

    def _limiting(self, e: events.Limiting) -> None:
        self._remark("limiting", f"{e.role} was at its limit in test {e.test}")

    def _relaysclosed(self, e: events.RelaysClosed) -> None:
        for instrument, channel, times in e.closed:
            self.closings[instrument, channel] = self.closings.get((instrument, channel), 0) + times

    def _relays(self) -> list[Fields]:
        """How often each relay has closed, with the identity of its switch: counts go with that."""
        known = {one["name"]: one["identity"] for one in json.loads(self._run()["instruments"])}
        return [
            {"instrument": name, "identity": known.get(name, ""), "channel": channel, "closed": times}
            for (name, channel), times in self.closings.items()
        ]

    def _problem(self, e: events.Problem) -> None:
        self._remark("problem", e.text)

    def _madesafe(self, e: events.MadeSafe) -> None:
        self._run()["is_safe"] = int(not any(role["problem"] for role in e.roles))
        if e.by:
            self._remark("guardian", "the process died; the guardian switched the outputs off")
        for role in e.roles:
            if role["problem"]:
                self._remark("problem", f"{role['role']} is not off: {role['problem']}")

    def _runended(self, e: events.RunEnded) -> None:
        self._has_ended = e.verdict not in (Verdict.ERROR, Verdict.ABORTED)
        self._run().update(
            verdict=e.verdict,
            reason=e.reason.text,
            reason_code=e.reason.code,
            is_trial=int(bool(e.trial)),
            broken_off=0,
            trial=json.dumps([reason._asdict() for reason in e.trial]),
            trial_reasons="\n".join(told(e.trial)),
        )

    def finish(self) -> RunRows | None:
        if self.rows is None:
            return None
        for begun in list(self._recordings.values()):  # the process died in the middle
            for curve in curves_of(begun, self._length_of):
                self._wholecurve(curve)
        for grid in self.grids.values():
            for i, (meta, bounds) in enumerate(zip(grid.columns, grid.bounds, strict=True)):
                row = curve_row(meta, meta["grid"], meta["position"], grid.values[i :: len(grid.columns)])
                grid.test.curves.append(
                    row | {"labels": labels_text(grid.texts.get(i, {})), "bound": "; ".join(bounds)}
                )
        self._run().update(duration=self.last_time, remarks=json.dumps(self.remarks))
        self.rows.relays = self._relays()
        if not self._has_ended:
            self.rows.traffic = self._said.rows(self._clock)
        return self.rows


def _short(value: object) -> str:
    if isinstance(value, dict):
        return f"a curve of {len(value.get('values', []))} values"
    return str(value)[:60]


def _nothing(file: str) -> int:
    return 0


_UNFIT = (KeyError, TypeError, ValueError, IndexError, AttributeError)  # what an event that lacks something leads to


def rows_of(entries: Iterable[Fields], name: str = "", length_of: LengthOf = _nothing) -> RunRows | None:
    """The rows of a run from the entries of its journal; None if there are none. `length_of` is asked of recordings
    whose end is not told.

    Raises:
        RecordsError: they are no events of a run: the first is not its begin, or one lacks what its kind has.
    """
    collector = _Collector(length_of)
    number, kind, present = 0, "", into_present_form({})
    try:
        for entry in entries:
            number, kind = number + 1, str(entry["e"])[:40]
            if collector.rows is None and kind != "RunStarted":
                raise RecordsError(
                    "it does not begin with the begin of a run", where=name, remedy="Its first line is lost."
                )
            present = into_present_form(entry) if number == 1 else present
            if kind == "Row" and present is as_it_is and collector.took_plain_row(entry):
                continue
            event = event_of(present(entry))
            if event is not None:
                collector.take(event)
    except _UNFIT as error:
        raise RecordsError(
            f"event {number} ({kind}) is damaged: {error!r:.80}", where=name, remedy="Mend it there."
        ) from None
    try:
        return collector.finish()
    except _UNFIT as error:
        raise RecordsError(
            f"one of its {number} events is damaged: {error!r:.80}", where=name, remedy="Mend it there."
        ) from None


def in_utc(started: str) -> tuple[str, str]:
    """A wall time with its offset, as the time in UTC and the offset.

    >>> in_utc("2026-11-25T11:02:39.123+02:00")
    ('2026-11-25T09:02:39.123+00:00', '+02:00')
    """
    local = datetime.datetime.fromisoformat(started)
    if local.tzinfo is None:
        return started, ""
    return local.astimezone(datetime.UTC).isoformat(timespec="milliseconds"), local.isoformat()[-6:]


def _test_row(run: str, name: str, title: str, position: int) -> Fields:
    return {
        "run_id": run, "position": position, "kind": "test", "name": name, "title": title, "is_gate": 0,
        "verdict": Verdict.SKIPPED, "reason": "the run was broken off", "reason_code": "broken_off", "duration": 0.0,
        "tags": "", "has_failed": 0, "run": "",
    }  # fmt: skip


def _of_how_many(n: tuple[int, int] | None) -> str:
    return f"{n[0]} of {n[1]}" if n else ""
