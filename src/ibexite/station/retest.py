"""A retest: the sequence of a stored run, the tests that are run again, and what is taken over from before."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from ibexite.errors import MistakeError, did_you_mean
from ibexite.plain_file import is_file
from ibexite.station.given import given_parameters
from ibexite.station.opening import declared_params
from ibexite.station.project import FILE_NAME, REFUSE, RetestPolicy, find_project
from ibexite.untyped import Fields
from ibexite.verdicts import SKIPPED_ON_PURPOSE, Reason, Verdict

if TYPE_CHECKING:
    from ibexite.language.program import Program
    from ibexite.records.runs_to_judge import RunToJudge
    from ibexite.records.stored_run import Attempt, RunRecord


def sequence_of(earlier: RunRecord | RunToJudge, records: Path | None = None) -> Path:
    """The sequence file of a stored run; `records` is the folder of its records. Raises MistakeError: it is not
    there."""
    sequence = Path(earlier.row["sequence_file"])
    if not is_file(sequence):  # the run was started from another folder
        sequence = find_project(records or Path.cwd()).folder / sequence.name
    if not is_file(sequence):
        raise MistakeError(
            f"its sequence {sequence} is not there",
            where=earlier.row["id"],
            remedy="Run it from the folder of that run.",
        )
    return sequence


def bench_of(earlier: RunRecord, sequence: Path) -> Path | None:
    """The bench that the project has for a sequence, with the position at which the unit was; None: as usual."""
    found, position = find_project(sequence).bench_for(sequence), earlier.row["position"]
    return found.with_name(f"{found.name}@{position}") if found is not None and position else None


def parameters_for(earlier: RunRecord | RunToJudge, sequence: Path) -> dict[str, str]:
    """The parameters that a run was given and the sequence still has; that it has changed is told as it is."""
    known = declared_params(sequence)
    return {name: value for name, value in given_parameters(earlier).items() if name in known}


def policy_of(
    policy: RetestPolicy, attempts: dict[str, list[Attempt]], chosen: tuple[str, ...], operator: str
) -> list[Reason]:
    """Why a retest is a trial by the policy of the project.

    Args:
        attempts: how often each test was carried out so far.
        chosen: the tests that are run again.

    Raises:
        MistakeError: the policy refuses it.
    """
    found = []
    if policy.operators and operator not in policy.operators:
        found.append(f"{operator or 'nobody'} may not run tests again; {', '.join(policy.operators)} may")
    if policy.times is not None:
        often = [name for name in chosen if len(attempts.get(name, [])) > policy.times]
        if often:
            times = "once" if policy.times == 1 else f"{policy.times} times"
            named = ", ".join(often[:6]) + (" …" if len(often) > 6 else "")
            found.append(f"run again more often than {times}: {named}")
    if found and policy.beyond == REFUSE:
        raise MistakeError(found[0], where=f"{FILE_NAME}: retest", remedy="Run the whole sequence for the unit anew.")
    return [Reason("retest", text) for text in found]


def chosen_tests(earlier: RunRecord, program: Program, only: tuple[str, ...], *, failed: bool) -> tuple[str, ...]:
    """The tests to run again: those named, those that did not pass, or all. Where one keeps the state of the test
    before it, that one is taken along.

    Raises:
        MistakeError: there is no such test, or nothing failed.
    """
    names = [test.row["name"] for test in earlier.tests]
    known = {n for c in program.cases for n in (c.name, c.test.name, c.group.name if c.group else c.test.name)}
    for name in only:
        if name not in known:
            raise MistakeError(
                f"run {earlier.row['id']} has no test {name!r}", where="--only", remedy=did_you_mean(name, known)
            )
    if not only and not failed:
        return tuple(dict.fromkeys([*names, *(case.name for case in program.cases)]))
    wanted = set(only) or {t.row["name"] for t in earlier.tests if _has_not_passed(t.row)}
    wanted |= {case.name for case in program.cases if not only and case.name not in names}  # new in the sequence
    if not wanted:
        raise MistakeError(
            f"nothing failed in run {earlier.row['id']}", where="--failed", remedy="Name tests with --only."
        )
    chosen: list[str] = []
    cases = program.cases
    for number, case in enumerate(cases):
        if not wanted & {case.name, case.test.name, case.group.name if case.group else case.test.name}:
            continue
        while cases[number].test.keeps_state and number:
            number -= 1
            chosen.append(cases[number].name)
        chosen.append(case.name)
    return tuple(dict.fromkeys(chosen)) or tuple(sorted(wanted))


def _has_not_passed(row: Fields) -> bool:
    """True for a test that failed, broke, or was skipped because of something else that did not pass."""
    verdict = Verdict(row["verdict"])
    if verdict == Verdict.SKIPPED:
        return row["reason_code"] not in SKIPPED_ON_PURPOSE
    return verdict in (Verdict.FAIL, Verdict.ERROR, Verdict.ABORTED)
