"""What a retest takes over from the runs that it completes, from the store."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

from ibexite.untyped import Fields, Measured
from ibexite.verdicts import Judgement, Reason, Verdict

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.engine.orders import Earlier
    from ibexite.language.program import Program
    from ibexite.records.lookup import Lookup
    from ibexite.records.stored_run import RunRecord, TestRecord


def earlier_of(record: RunRecord, lookup: Lookup, program: Program, file: BenchFile) -> Earlier:
    """The tests of a run with the runs they come from, why their values are trials, and what has changed since."""
    from ibexite.engine.orders import Earlier, EarlierTest

    row = record.row
    tests = {}
    for test in record.tests:
        t = test.row
        facts = Judgement(Verdict(t["verdict"]), bool(t["has_failed"]), Reason(t["reason_code"], t["reason"]))
        tests[t["name"]] = EarlierTest(facts, t["duration"], t["run"] or row["id"])
    origins = {test.run for test in tests.values()}
    # What lies in tests that were left out is found anew in the merged tests; what has changed is compared anew.
    own = [Reason(r["code"], r["text"], r["run"] or row["id"]) for r in row["trial"]]
    kept = tuple(r for r in own if r.code not in ("left_out", "changed"))
    changes = {}
    for origin in sorted(origins):
        found = record if origin == row["id"] else _run_or_none(lookup, origin)
        changed = changes_since(found.row, program, file) if found is not None else ("it is not stored any more",)
        if changed:
            changes[origin] = changed
    return Earlier(
        row["id"], row["first_run"] or row["id"], Verdict(row["first_verdict"] or row["verdict"]), tests, kept, changes,
        result=_results({test.row["name"]: test for test in record.tests}),
    )  # fmt: skip


def _run_or_none(lookup: Lookup, run: str) -> RunRecord | None:
    return lookup.run(run) if lookup.has(run) else None


def changes_since(row: Fields, program: Program, file: BenchFile, *, of_unit: bool = True) -> tuple[str, ...]:
    """What was otherwise when a run was done: sequence, parameters, bench file, other files.

    Args:
        row: of the run, JSON decoded.
        of_unit: the parameters and the position of the unit as well.
    """
    from ibexite.engine.beginning import files_of, sequence_hash
    from ibexite.language import constants

    changes = [] if row["sequence_sha256"] == sequence_hash(program) else ["sequence"]
    now = {
        param.name: constants.written(
            program.params[param.name], program.param_types[param.name].dimension, program.param_types[param.name].shown
        )
        for param in program.sequence.params
    }
    if of_unit and now != {param["name"]: param["value"] for param in row["params"]}:
        changes.append("parameters")
    if row["bench_sha256"] != file.sha256:
        changes.append("bench file")
    if of_unit and row["position"] != file.position:
        changes.append("position")
    before = {entry["name"]: entry["sha256"] for entry in row["files"]}
    present = {entry["name"]: entry["sha256"] for entry in files_of(program, file)}
    for name in sorted(before | present):
        if before.get(name) != present.get(name):
            changes.append("limits" if name == program.limits_file else name)
    return tuple(changes)


def _results(tests: dict[str, TestRecord]) -> Callable[[str, str], Measured]:
    """A function that gives a stored value or curve of a test, None if there is none."""

    def result(test: str, name: str) -> Measured:
        from ibexite.records.stored_values import value_of

        return value_of(tests[test], name) if test in tests else None

    return result
