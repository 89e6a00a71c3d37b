"""The verdict rules, in one place: what makes a check, a test, a unit, a merged unit pass or fail, what makes a trial,
and the exit code. Engine, records, views and the page docs/verdicts.md all use these functions and tables.

Nothing is ever recovered from text: a reason is a code and a text, and only the code is asked.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from ibexite.errors import EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_MISTAKE, EXIT_PASS, EXIT_TRIAL

PASS, FAIL, ERROR, SKIPPED, ABORTED, NO_CHECK = "pass", "fail", "error", "skipped", "aborted", "no check"


class Reason(NamedTuple):
    """Why a pass does not count. `run` is the run that it comes from, "" for the run itself."""

    code: str
    text: str
    run: str = ""

    def told(self) -> str:
        """The reason in words, with the run it comes from."""
        return f"{self.text} (run {self.run})" if self.run and self.run not in self.text else self.text


# What makes a trial: the code of each reason, and when it arises.
TRIALS: dict[str, str] = {
    "simulated": "an instrument was a simulated stand-in, or the run was asked to simulate",
    "parameter": "a parameter was set by hand (unless the project calls it a variant)",
    "placeholder": "a limit that was used has no source or nobody has approved it",
    "calibration": "the calibration of an instrument that was used is past its date",
    "confirmed": "a confirmation was taken as given, nobody was asked",
    "halted": "the run was halted, or a line was carried out again at a halt",
    "changed": "a merged value was measured with another sequence, parameters, limits, bench, profile or program",
    "left_out": "a test was skipped for any other reason than its own `if`; see the next table",
}

# Why a test was skipped. Only the first leaves a pass whole: the sequence says that the test is not for this unit.
SKIPS: dict[str, str] = {
    "condition": "its own `if`, or that of its group, is not met",
    "off": "it is switched off in the sequence",
    "selection": "it was not selected",
    "needs": "a test that it needs did not pass, in all corners",
    "gate": "a gate before it did not pass (one that was not selected closes nothing)",
    "state": "it keeps the state of a test that was not run",
    "line": "a `skip` line left it",
    "stop": "a `stop` line, or a stop on failure, ended the unit before or in it",
    "bench": "the bench failed before it",
    "answer": "a question before it had nobody to answer it",
    "broken_off": "the run was broken off before it",
}
PLAIN_SKIP = "condition"


class Judgement(NamedTuple):
    """What counts of a test: its verdict, whether a check of it failed on valid readings (then the unit has failed,
    whatever came after), and the code of its skip."""

    verdict: str
    has_failed: bool = False
    skip: str = ""


def verdict_of_check(
    judged: int, failed: int, bad: int, allowed: int, *, bad_by_unit: bool, none_left: bool = False
) -> str:
    """The verdict of one check line from its counts.

    Args:
        judged: points that had to be judged; failed: of them beyond a limit.
        bad: points without a usable value, and bad values that were left out of what was judged.
        allowed: bad ones that the line allows.
        bad_by_unit: every bad one is a fact about the unit (an overload).
        none_left: no point has a usable value.

    >>> verdict_of_check(5, 0, 0, 0, bad_by_unit=False), verdict_of_check(5, 0, 1, 1, bad_by_unit=False)
    ('pass', 'pass')
    >>> verdict_of_check(0, 0, 0, 0, bad_by_unit=False), verdict_of_check(1, 0, 1, 1, bad_by_unit=True, none_left=True)
    ('error', 'fail')
    """
    if failed:
        return FAIL
    if judged == 0:
        return ERROR
    if bad == 0 or (bad <= allowed and not none_left):
        return PASS
    return FAIL if bad_by_unit else ERROR


def verdict_of_test(checks: Sequence[str], *, is_broken: bool, is_left: bool, is_doubtful: bool) -> Judgement:
    """The verdict of a test that has begun.

    Args:
        checks: the verdicts of its checks, watches and of its instruments (a source that limited).
        is_broken: a line could not be carried out, an instrument or program failed.
        is_left: a `skip` or `stop` line left it.
        is_doubtful: it cannot be said which answers belong to which questions: nothing that it found counts.
    """
    has_failed = FAIL in checks and not is_doubtful
    if is_broken or is_doubtful or ERROR in checks:
        return Judgement(ERROR, has_failed)
    if has_failed:
        return Judgement(FAIL, True)
    if is_left:
        return Judgement(SKIPPED)
    return Judgement(PASS if checks else NO_CHECK)


def verdict_of_unit(
    tests: Iterable[Judgement], *, is_aborted: bool, is_broken: bool, needs_no_check: bool = False
) -> str:
    """The verdict of a unit from its tests, also of one that was merged from several runs.

    Args:
        is_aborted: a person or a signal ended it, or the process died.
        is_broken: something failed outside the tests (before unit, setting back, after unit, switching off, recording).
        needs_no_check: one measurement at the desk, which need not judge anything.

    >>> good, bad = Judgement("pass"), Judgement("error", has_failed=True)
    >>> verdict_of_unit([good, bad], is_aborted=False, is_broken=False)
    'fail'
    >>> verdict_of_unit([good, Judgement("skipped")], is_aborted=False, is_broken=True)
    'error'
    """
    found = list(tests)
    if is_aborted:
        return ABORTED
    if any(test.has_failed or test.verdict == FAIL for test in found):
        return FAIL
    if is_broken or any(test.verdict in (ERROR, ABORTED) for test in found):
        return ERROR
    if any(test.verdict == PASS for test in found):
        return PASS
    return NO_CHECK if needs_no_check and any(test.verdict == NO_CHECK for test in found) else ERROR


def left_out(tests: Iterable[tuple[str, Judgement]]) -> list[Reason]:
    """The reasons of a trial that lie in tests which were skipped, one for each code: (name, facts) of each test."""
    names: dict[str, list[str]] = {}
    for name, test in tests:
        if test.verdict == SKIPPED and test.skip != PLAIN_SKIP:
            names.setdefault(test.skip, []).append(name)
    return [
        Reason("left_out", f"{_LEFT_OUT.get(code, code or 'skipped')}: {', '.join(found)}")
        for code, found in names.items()
    ]


_LEFT_OUT = {
    "off": "switched off", "selection": "tests were selected, left out", "needs": "not run for what it needs",
    "gate": "not run for a gate", "state": "not run for the state it keeps", "line": "left by a skip line",
    "stop": "not run for a stop", "bench": "not run for the bench", "answer": "not run for want of an answer",
    "broken_off": "not reached",
}  # fmt: skip


def told(reasons: Iterable[Reason]) -> list[str]:
    """Reasons in words, for people: what holds for this run is not said again of others.

    >>> told([Reason("x", "simulated bench"), Reason("x", "simulated bench", "r1"), Reason("y", "halted", "r1")])
    ['simulated bench', 'halted (run r1)']
    """
    given = list(reasons)
    own = {reason.text for reason in given if not reason.run}
    return [reason.told() for reason in given if not reason.run or reason.text not in own]


def exit_code(verdict: str, is_trial: bool, *, accept_trial: bool = False) -> int:
    """0 passed (or nothing to judge), 1 failed, 3 error, 4 aborted, 5 passed as a trial.

    >>> exit_code("pass", True), exit_code("pass", True, accept_trial=True), exit_code("fail", False)
    (5, 0, 1)
    """
    if verdict == PASS:
        return EXIT_TRIAL if is_trial and not accept_trial else EXIT_PASS
    return {NO_CHECK: EXIT_PASS, FAIL: EXIT_FAIL, ERROR: EXIT_BENCH}.get(verdict, EXIT_ABORTED)


def worst_code(codes: Iterable[int]) -> int:
    """The exit code of several runs: that of the worst one.

    >>> worst_code([0, 5, 1, 0])
    1
    """
    return min(codes, key=(EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_TRIAL, EXIT_PASS).index)


def describe() -> str:
    """The rules as Markdown, for docs/verdicts.md."""
    lines = ["## What makes a trial", "", "| code | |", "|---|---|"]
    lines += [f"| `{code}` | {text} |" for code, text in TRIALS.items()]
    lines += ["", "## Why a test is skipped", "", "| code | | leaves a pass whole |", "|---|---|---|"]
    lines += [f"| `{code}` | {text} | {'yes' if code == PLAIN_SKIP else 'no: trial'} |" for code, text in SKIPS.items()]
    lines += ["", "## Exit codes", "", "| verdict | trial | code |", "|---|---|---|"]
    for verdict in (PASS, FAIL, ERROR, ABORTED, NO_CHECK):
        codes = {is_trial: exit_code(verdict, is_trial) for is_trial in (False, True)}
        for is_trial, code in codes.items():
            if is_trial is False or codes[True] != codes[False]:
                word = ("yes" if is_trial else "no") if codes[True] != codes[False] else "yes or no"
                lines.append(f"| {verdict} | {word} | {code} |")
    lines += ["", f"{EXIT_MISTAKE} is a mistake in files or options. Several units: the worst code of them, "
              "4 before 3 before 1 before 5 before 0. With `--accept-trial` a pass as a trial is 0. "
              "A signal that comes when the tests are over does not change the code; "
              "if units are left it is 4, for they are not run."]  # fmt: skip
    return "\n".join(lines) + "\n"


def main() -> None:
    """Writes the tables into a page, behind its own text: `python -m ibexite.verdicts docs/verdicts.md`."""
    import sys
    from pathlib import Path

    page = Path(sys.argv[1])
    text = page.read_text(encoding="utf-8").partition(MARK)[0]
    page.write_text(text + describe(), encoding="utf-8")


MARK = "## What makes a trial"

if __name__ == "__main__":
    main()
