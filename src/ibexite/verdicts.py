"""The verdict rules, in one place: what makes a check, a test, a unit, a merged unit pass or fail, what makes a trial,
and the exit code. Engine, records, views and the page docs/verdicts.md all use these functions and tables.

Nothing is ever recovered from text: a reason is a code and a text, and only the code is asked.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from enum import StrEnum
from typing import NamedTuple

from ibexite.errors import EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_MISTAKE, EXIT_PASS, EXIT_TRIAL


class Verdict(StrEnum):
    """What is said of a check, a test, a unit; the words are those that are stored and shown."""

    PASS = "pass"
    FAIL = "fail"
    ERROR = "error"
    SKIPPED = "skipped"
    ABORTED = "aborted"
    NO_CHECK = "no check"


class Reason(NamedTuple):
    """Why: a code of the tables below, and words for people. `run` is the run that it comes from, "" for the run
    itself."""

    code: str
    text: str
    run: str = ""

    def told(self) -> str:
        """The reason in words, with the run it comes from."""
        return f"{self.text} (run {self.run})" if self.run and self.run not in self.text else self.text


# What checks are called and their verdicts in one text, so that those of two tests are compared at once.
UNIT_SEPARATOR, RECORD_SEPARATOR = "\x1f", "\x1e"


def labelled(label: str, verdict: Verdict) -> str:
    """A check in such a text; several are joined by RECORD_SEPARATOR."""
    return f"{label}{UNIT_SEPARATOR}{verdict}"


NO_REASON = Reason("", "")  # a pass needs none
OLDER = "older"  # the code of a reason that was stored before it had one

# What makes a trial: the code of each reason, and when it arises.
TRIALS: dict[str, str] = {
    "simulated": "an instrument was a simulated stand-in, or the run was asked to simulate",
    "parameter": "a parameter was set by hand (unless the project calls it a variant)",
    "placeholder": "a limit that was used has no source or nobody has approved it",
    "taught": "a value of the unit was made a reference by the sequence",
    "unapproved": "a mask, reference or limit table was used that nobody has approved as it is",
    "reference": "a reference was not there, too old, or measured under other conditions",
    "calibration": "the calibration of an instrument that was used is past its date",
    "confirmed": "a confirmation was taken as given, nobody was asked",
    "halted": "the run was halted, or a line was carried out again at a halt",
    "lot": "sequence, limits, references, bench, profiles or programs have changed since the lot began",
    "replayed": "it is a replay in which sequence, limits, bench or other files are not those of the run",
    "retest": "a test was run again more often than the project allows, or by somebody whom it does not name",
    "changed": "a merged value was measured with another sequence, parameters, limits, bench, profile or program",
    "left_out": "a test was skipped for any other reason than its own `if`; see the next table",
}

# What to do about each of them.
REMEDIES: dict[str, str] = {
    "simulated": "run it on the real bench",
    "parameter": "leave the parameter as it is, or name it among the variants of the project file",
    "placeholder": "set the limit and have it approved: ibexite limits approve FILE",
    "taught": "take the line golden save out once the reference is approved",
    "unapproved": "have the file approved as it is: ibexite limits approve FILE, ibexite golden approve NAME",
    "reference": "measure a known good unit as this one was, and save it: ibexite golden save RUN VALUE --as NAME",
    "calibration": "have the instrument calibrated, and write the new date into the bench file",
    "confirmed": "run it without --yes",
    "halted": "run it without halts",
    "replayed": "run the unit on the bench",
    "retest": "run the whole sequence for the unit anew",
    "changed": "run the whole sequence for the unit anew",
    "lot": "begin a new lot, or run the units before the change again",
    "left_out": "run all tests; switch on what is off",
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
SKIPPED_ON_PURPOSE = ("condition", "off", "selection")  # by the sequence or by whoever ran it, not for what was found


# Why a check or a test failed or broke, beside numbers beyond their limits.
FAULTS: dict[str, str] = {
    "limit": "a value lies beyond its limit",
    "overload": "a value is an overload: a fact about the unit",
    "bad": "values that may not be used, of which the check allows fewer",
    "undecided": "a value that the check stands on could not be computed or read",
    "guard_zone": "a value is nearer to a limit than its uncertainty, and the rule leaves it undecided then",
    "nothing": "nothing was judged",
    "no_limit": "no limit has been set yet",
    "no_reference": "a reference that the check needs has not been saved yet",
    "reference": "a reference is too old, or was measured under other conditions",
    "mask": "what was judged does not cover its mask as it must, or nothing says where the mask belongs",
    "watch": "a watch saw a value beyond its limits, or could not see",
    "limiting": "a source was at its limit: its set points were not true",
    "tripped": "a protection tripped",
    "damage": "a signal was beyond its damage level: the sources were switched off, the unit was over",
    "off": "an output went off by itself",
    "lost": "an instrument has another setting than it was given",
    "doubt": "nobody knows which answers belong to which questions",
    "reported": "an instrument reported errors",
    "condition": "the condition of the test cannot be decided",
    "line": "a line could not be carried out",
    "never_read": "judged again: it needs what was never read then",
    "mistake": "a file or value that the line needs is wrong",
    "bench": "the bench did not do what was asked",
    "link": "the connection to an instrument failed",
    "instrument": "an instrument answered, but wrongly",
    "ceiling": "a set point beyond a ceiling or range; nothing was sent",
    "too_long": "a setting stayed beyond a level longer than the bench allows: all was switched off",
    "route": "a route that may not be switched now; nothing was",
    "program": "a program or Python function failed",
    "answer": "nobody was there to answer",
    "records": "journal or store cannot be written",
    "internal": "a mistake of the program itself",
}

# Why a whole run ended as it did, where no test says it; the codes of FAULTS stand for what failed outside the tests.
ENDINGS: dict[str, str] = {
    "stopped": "a person or a signal ended it",
    "restore": "setting back between tests failed",
    "after_unit": "a line of after unit failed, or the bench could not be left as it must be",
    "not_safe": "an output is not off, or does not say so",
    "broken_off": "the process died, or the run ended before this",
}

# Why a reading may not be used: its code, and the words for many of one kind.
BAD_READINGS: dict[str, str] = {
    "overload": "overload",
    "unbelievable": "not believable",
    "not_a_number": "not a number",
    "empty": "empty reply",
    "count": "another number of values",
    "unsettled": "did not settle",
    "not_as_said": "not as its profile says",
    "beyond_sensor": "beyond what its sensor is defined for",
    "no_frequency": "the frequency of its correction is not known",
    "no_correction": "no correction at this frequency",
    "limiting": "taken while a source was at its limit",
    "clipped": "clipped",
    "dropout": "samples are missing",
    "rate": "another sampling rate",
    "late": "polled too late",
}
OVERLOAD = "overload"
FAULTS_OF_UNIT = (OVERLOAD, "limiting")  # facts about the unit; every other code is a fault of the measurement


class Judgement(NamedTuple):
    """What counts of a test: its verdict, whether a check of it failed on valid readings (then the unit has failed,
    whatever came after), and why."""

    verdict: Verdict
    has_failed: bool = False
    reason: Reason = NO_REASON

    @property
    def skip(self) -> str:
        """The code of its skip, "" if it was not skipped."""
        return self.reason.code if self.verdict == Verdict.SKIPPED else ""


def skipped(code: str, why: str) -> Judgement:
    """A test that was skipped."""
    return Judgement(Verdict.SKIPPED, False, Reason(code, why))


Found = tuple[Verdict, Reason]  # what a check, a watch or an instrument says of a test


def verdict_of_check(
    judged: int, failed: int, bad: int, allowed: int, *, bad_by_unit: bool, none_left: bool = False
) -> Verdict:
    """The verdict of one check line from its counts.

    Args:
        judged: points that had to be judged; failed: of them beyond a limit.
        bad: points without a usable value, and bad values that were left out of what was judged.
        allowed: bad ones that the line allows.
        bad_by_unit: every bad one is a fact about the unit (an overload).
        none_left: no point has a usable value.

    >>> str(verdict_of_check(5, 0, 0, 0, bad_by_unit=False)), str(verdict_of_check(5, 0, 1, 1, bad_by_unit=False))
    ('pass', 'pass')
    >>> str(verdict_of_check(0, 0, 0, 0, bad_by_unit=False))
    'error'
    >>> str(verdict_of_check(1, 0, 1, 1, bad_by_unit=True, none_left=True))
    'fail'
    """
    if failed:
        return Verdict.FAIL
    if judged == 0:
        return Verdict.ERROR
    if bad == 0 or (bad <= allowed and not none_left):
        return Verdict.PASS
    return Verdict.FAIL if bad_by_unit else Verdict.ERROR


def verdict_of_test(
    found: Sequence[Found], *, problems: Sequence[Reason], left: Reason | None, is_doubtful: bool
) -> Judgement:
    """The verdict of a test that has begun, and the reason that is told.

    Args:
        found: what its checks, watches and instruments (a source that limited) say.
        problems: a line could not be carried out, an instrument or program failed.
        left: the `skip` or `stop` line that left it.
        is_doubtful: it cannot be said which answers belong to which questions: nothing that it found counts.
    """
    verdicts = [verdict for verdict, _ in found]
    has_failed = Verdict.FAIL in verdicts and not is_doubtful
    if problems or is_doubtful or Verdict.ERROR in verdicts:
        return Judgement(Verdict.ERROR, has_failed, problems[0] if problems else _told_of(found, Verdict.ERROR))
    if has_failed:
        return Judgement(Verdict.FAIL, True, _told_of(found, Verdict.FAIL))
    if left is not None:
        return Judgement(Verdict.SKIPPED, False, left)
    return Judgement(Verdict.PASS, False, _told_of(found, Verdict.PASS)) if found else Judgement(Verdict.NO_CHECK)


def _told_of(found: Sequence[Found], verdict: Verdict) -> Reason:
    """The first reason of this verdict that has words; numbers beyond their limits speak for themselves."""
    reasons = [reason for said, reason in found if said == verdict]
    return next((reason for reason in reasons if reason.text), reasons[0] if reasons else NO_REASON)


def verdict_of_unit(
    tests: Iterable[Judgement], *, is_aborted: bool, is_broken: bool, needs_no_check: bool = False
) -> Verdict:
    """The verdict of a unit from its tests, also of one that was merged from several runs.

    Args:
        is_aborted: a person or a signal ended it, or the process died.
        is_broken: something failed outside the tests (before unit, setting back, after unit, switching off, recording).
        needs_no_check: one measurement at the desk, which need not judge anything.

    >>> good, bad = Judgement(Verdict.PASS), Judgement(Verdict.ERROR, has_failed=True)
    >>> str(verdict_of_unit([good, bad], is_aborted=False, is_broken=False))
    'fail'
    >>> str(verdict_of_unit([good, skipped("gate", "")], is_aborted=False, is_broken=True))
    'error'
    """
    found = list(tests)
    if is_aborted:
        return Verdict.ABORTED
    if any(test.has_failed or test.verdict == Verdict.FAIL for test in found):
        return Verdict.FAIL
    if is_broken or any(test.verdict in (Verdict.ERROR, Verdict.ABORTED) for test in found):
        return Verdict.ERROR
    if any(test.verdict == Verdict.PASS for test in found):
        return Verdict.PASS
    return (
        Verdict.NO_CHECK
        if needs_no_check and any(test.verdict == Verdict.NO_CHECK for test in found)
        else Verdict.ERROR
    )


def left_out(tests: Iterable[tuple[str, Judgement]]) -> list[Reason]:
    """The reasons of a trial that lie in tests which were skipped, one for each code: (name, facts) of each test."""
    names: dict[str, list[str]] = {}
    for name, test in tests:
        if test.verdict == Verdict.SKIPPED and test.skip != PLAIN_SKIP:
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


def trial_of(
    own: Iterable[Reason], tests: Mapping[str, Judgement], *, is_simulated: bool, kept: Iterable[Reason] = ()
) -> list[Reason]:
    """Why a pass of a unit would not count.

    Args:
        own: what was found on the way; tests: all of the unit, also those taken over from earlier runs.
        kept: the reasons of the earlier runs whose values it holds.
    """
    simulated = [Reason("simulated", "simulated bench")] if is_simulated else []
    reasons = [*simulated, *own, *left_out(tests.items())]
    return reasons + [reason for reason in kept if reason not in reasons]


def told(reasons: Iterable[Reason]) -> list[str]:
    """Reasons in words, for people: what holds for this run is not said again of others.

    >>> told([Reason("x", "simulated bench"), Reason("x", "simulated bench", "r1"), Reason("y", "halted", "r1")])
    ['simulated bench', 'halted (run r1)']
    """
    given = list(reasons)
    own = {reason.text for reason in given if not reason.run}
    return [reason.told() for reason in given if not reason.run or reason.text not in own]


def to_do(codes: Iterable[str]) -> list[str]:
    """What to do about the reasons of a trial, each once.

    >>> to_do(["halted", "retest", "changed"])
    ['run it without halts', 'run the whole sequence for the unit anew']
    """
    return list(dict.fromkeys(REMEDIES[code] for code in codes if code in REMEDIES))


def exit_code(verdict: Verdict, is_trial: bool, *, accept_trial: bool = False) -> int:
    """0 passed (or nothing to judge), 1 failed, 3 error, 4 aborted, 5 passed as a trial.

    >>> exit_code(Verdict.PASS, True), exit_code(Verdict.PASS, True, accept_trial=True), exit_code(Verdict.FAIL, False)
    (5, 0, 1)
    """
    if verdict == Verdict.PASS:
        return EXIT_TRIAL if is_trial and not accept_trial else EXIT_PASS
    return {Verdict.NO_CHECK: EXIT_PASS, Verdict.FAIL: EXIT_FAIL, Verdict.ERROR: EXIT_BENCH}.get(verdict, EXIT_ABORTED)


def worst_code(codes: Iterable[int]) -> int:
    """The exit code of several runs: that of the worst one.

    >>> worst_code([0, 5, 1, 0])
    1
    """
    return min(codes, key=(EXIT_ABORTED, EXIT_BENCH, EXIT_FAIL, EXIT_TRIAL, EXIT_PASS).index)


def describe() -> str:
    """The rules as Markdown, for docs/verdicts.md."""
    lines = ["## What makes a trial", "", "| code | | what to do |", "|---|---|---|"]
    lines += [f"| `{code}` | {text} | {REMEDIES[code]} |" for code, text in TRIALS.items()]
    lines += ["", "## Why a test is skipped", "", "| code | | leaves a pass whole |", "|---|---|---|"]
    lines += [f"| `{code}` | {text} | {'yes' if code == PLAIN_SKIP else 'no: trial'} |" for code, text in SKIPS.items()]
    for title, table in (
        ("Why a check or a test failed or broke", FAULTS), ("Why a run ended so, where no test says it", ENDINGS),
        ("Why a reading may not be used", BAD_READINGS),
    ):  # fmt: skip
        lines += ["", f"## {title}", "", "| code | |", "|---|---|"]
        lines += [f"| `{code}` | {text} |" for code, text in table.items()]
    lines += ["", "## Exit codes", "", "| verdict | trial | code |", "|---|---|---|"]
    for verdict in (Verdict.PASS, Verdict.FAIL, Verdict.ERROR, Verdict.ABORTED, Verdict.NO_CHECK):
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
