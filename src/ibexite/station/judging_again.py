"""Judges stored runs again, and tells what would change."""

from __future__ import annotations

import contextlib
import datetime
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING

from ibexite import __version__, units
from ibexite.engine.rejudging import RejudgedTest, RejudgedUnit, Rejudging, StoredTest
from ibexite.language import nodes
from ibexite.language.program import Program
from ibexite.language.source import Span
from ibexite.records.lookup import Lookup
from ibexite.records.runs_to_judge import RunToJudge, TestToJudge, runs_to_judge
from ibexite.station.opening import open_to_judge
from ibexite.station.retest import parameters_for, sequence_of
from ibexite.untyped import Fields
from ibexite.values import Quantity
from ibexite.verdicts import Judgement, Reason, Verdict
from ibexite.wording import judged_text

if TYPE_CHECKING:
    from ibexite.engine.rejudging import StoredUnit

NOT_OF_THE_RUN = ("placeholder", "unapproved", "reference")  # reasons of trials that are found anew


@dataclass(frozen=True, slots=True)
class How:
    """By what is judged: None stands for what the run names."""

    sequence: Path | None = None
    limits: Path | None = None
    guard: units.Amount | None = None


@dataclass(frozen=True, slots=True)
class Change:
    """What would change: the verdict of a check, with value and limits in words."""

    test: str
    check: str
    old: str
    new: str

    def as_entry(self) -> dict[str, str]:
        """As it is kept."""
        return {"test": self.test, "check": self.check, "old": self.old, "new": self.new}


@dataclass(slots=True)
class Judged:
    """A run that was judged again."""

    run: str
    serial: str
    old: str
    new: RejudgedUnit
    trial: list[Reason]
    changes: list[Change] = field(default_factory=list)
    not_again: list[tuple[str, str]] = field(default_factory=list)  # tests that could not be, and why
    files: list[dict[str, str]] = field(default_factory=list)

    @property
    def differs(self) -> bool:
        """Whether anything changes."""
        return self.old != self.new.verdict or bool(self.changes)


class StoredRun:
    """A stored run as the engine judges it."""

    def __init__(self, record: RunToJudge) -> None:
        row = record.row
        self.serial, self.started = row["serial"], datetime.datetime.fromisoformat(row["started"])
        self.is_aborted = row["verdict"] == Verdict.ABORTED
        self._parts = record.parts
        broken_then = any(
            part.row["verdict"] == Verdict.ERROR and part.row["kind"] == "test" for part in record.parts.values()
        )
        self.is_broken = (
            row["verdict"] == Verdict.ERROR and not broken_then and row["reason_code"] not in ("nothing", "")
        )

    def test(self, name: str) -> StoredTest | None:
        """A test or block."""
        part = self._parts.get(name)
        if part is None:
            return None
        row = part.row
        facts = Judgement(Verdict(row["verdict"]), bool(row["has_failed"]), Reason(row["reason_code"], row["reason"]))
        was_begun = row["duration"] > 0 or row["kind"] == "block"
        return StoredTest(facts, part.values, was_begun, part.labelled)


def keep(records: Path, found: list[Judged], how: How, operator: str) -> None:
    """Keeps second verdicts beside the stored ones, which stay. Raises RecordsError."""
    from ibexite.records.gateway import open_store

    now = datetime.datetime.now(datetime.UTC).isoformat(timespec="milliseconds")
    guard = "" if how.guard is None else units.format_value(float(how.guard), how.guard.dimension)
    rows = [
        {
            "run_id": one.run, "judged": now, "operator": operator, "software": __version__,
            "verdict": one.new.verdict, "is_trial": int(bool(one.trial)),
            "trial": json.dumps([reason._asdict() for reason in one.trial]), "guard": guard,
            "files": json.dumps(one.files),
            "changes": json.dumps([change.as_entry() for change in one.changes]),
        }
        for one in found
    ]  # fmt: skip
    with contextlib.closing(open_store(records)) as store:
        store.keep_second_verdicts(rows)


class Judge:
    """Judges runs by sequences that are opened once for all runs that had the same parameters."""

    def __init__(self, lookup: Lookup, how: How) -> None:
        self._lookup, self._how = lookup, how
        self.is_guarding = how.guard is None  # whether any check takes the uncertainty that was given
        self._ready: dict[tuple[str, str], tuple[Rejudging, list[dict[str, str]]]] = {}
        self._found: dict[tuple[str, str], tuple[Rejudging, list[dict[str, str]]]] = {}

    def judged(self, runs: Sequence[str]) -> Iterator[Judged]:
        """The runs one after the other."""
        yield from map(self.one, runs_to_judge(self._lookup, runs))

    def one(self, record: RunToJudge) -> Judged:
        """One run.

        Raises:
            MistakeError: its sequence is not there, or has other parameters.
            NotReady: there are mistakes in the sequence.
        """
        rejudging, files = self._for(record)
        unit: StoredUnit = StoredRun(record)
        new = rejudging.unit(unit)
        kept = [Reason(r["code"], r["text"], r["run"]) for r in record.row["trial"] if r["code"] not in NOT_OF_THE_RUN]
        trial = [*kept, *(reason for reason in new.trial if reason not in kept)]
        made = Judged(record.row["id"], record.row["serial"], record.row["verdict"], new, trial, files=files)
        for test in new.tests:
            made.changes += _changes(record.parts.get(test.name), test) if not test.is_as_then else ()
            made.not_again += [(test.name, test.why)] if test.why else []
        return made

    def _for(self, record: RunToJudge) -> tuple[Rejudging, list[dict[str, str]]]:
        """What judges a run: that of the last one that was carried out likewise."""
        key = (record.row["sequence_file"], json.dumps(record.row["params"]))
        if key not in self._found:
            self._found[key] = self._open(record)
        return self._found[key]

    def _open(self, record: RunToJudge) -> tuple[Rejudging, list[dict[str, str]]]:
        sequence = self._how.sequence or sequence_of(record)
        given = parameters_for(record, sequence)
        key = (str(sequence), json.dumps(given, sort_keys=True))
        if key not in self._ready:
            program = open_to_judge(sequence, given, self._how.limits)
            if self._how.guard is not None:
                self.is_guarding = guard_all(program, self._how.guard) or self.is_guarding
            self._ready[key] = (Rejudging(program), files_of(program))
        return self._ready[key]


def guard_all(program: Program, guard: units.Amount) -> bool:
    """Gives every check of a number with this unit an uncertainty, unless it has one; whether there is any."""
    found = False
    for body in (test.body for test in program.sequence.tests):
        for line in nodes.walk(body):
            if not isinstance(line, nodes.Check) or line.guard is not None:
                continue
            statement = program.checks_of_numbers.get(line, line)
            kind = program.types.get(statement.value)
            if isinstance(kind, Quantity) and units.difference(kind.dimension) == guard.dimension:
                literal = nodes.Literal(Span(0, 0), guard)
                program.types[literal] = Quantity((), guard.dimension)
                program.guards[statement] = literal
                found = True
    return found


def files_of(program: Program) -> list[dict[str, str]]:
    """What is judged by: each file with its hash."""
    import hashlib

    digest = hashlib.sha256(program.source.text.encode()).hexdigest()
    found = [(program.source.name, digest), *program.python_files]
    found += [(mask.path, mask.sha256) for mask in program.masks.values()]
    found += [(one.path, one.sha256) for one in program.references.values() if one is not None]
    return [{"name": name, "sha256": sha256} for name, sha256 in found]


def _changes(part: TestToJudge | None, test: RejudgedTest) -> Iterator[Change]:
    """The checks of a test whose verdict is another one now, and those that are new or gone."""
    if part is None or (test.why and not test.results):
        return
    before: dict[str, list[Fields]] = {}
    for row in part.whole().results:
        before.setdefault(row["label"], []).append(row)
    for event in test.results:
        now = event.row()
        old = before.get(event.subject.label, [])
        then = old.pop(0) if old else None
        if then is None:
            yield Change(test.name, event.subject.label, "not judged", _said(now))
        elif then["verdict"] != now["verdict"]:
            yield Change(test.name, event.subject.label, _said(then), _said(now))
    if not test.why:
        for label, rows in before.items():
            for row in rows:
                if not label.startswith("watch "):
                    yield Change(test.name, label, _said(row), "not judged")


def _said(row: Fields) -> str:
    """A result in words."""
    text = judged_text(row)
    told = row["reason"] or f"{text.value_with_unit} against {text.limits}"
    return f"{row['verdict']}: {told}"
