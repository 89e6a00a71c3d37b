"""Merging a retest into the result of the run before it."""

from __future__ import annotations

from dataclasses import dataclass, field


@dataclass(frozen=True, slots=True)
class Earlier:
    """What is taken over from the run that a retest completes."""

    run: str
    verdict: str  # the first-pass verdict
    tests: dict[str, tuple[str, str]] = field(default_factory=dict)  # verdict and reason of each
    trial: tuple[str, ...] = ()  # its own reasons, as far as they still hold
    changes: tuple[str, ...] = ()  # what differs: sequence, parameters, limits, bench

    def reasons(self) -> list[str]:
        """Why the merged result is a trial."""
        kept = [f"of the first run: {reason}" for reason in self.trial]
        return kept + [f"changed since run {self.run}: {change}" for change in self.changes]


def merged_verdict(verdicts: list[str]) -> str:
    """The verdict of a unit from those of its tests: fail, else error, else pass if any passed.

    >>> merged_verdict(["pass", "fail", "error"]), merged_verdict(["pass", "skipped"]), merged_verdict(["no check"])
    ('fail', 'pass', 'error')
    """
    for worst in ("fail", "error", "aborted"):
        if worst in verdicts:
            return "fail" if worst == "fail" else "error"
    return "pass" if "pass" in verdicts else "error"
