"""How lines are left before their end: a loop, a test, a unit."""

from __future__ import annotations

from ibexite.verdicts import Reason, Verdict


class Leaving(Exception):
    """The innermost loop is left."""


class TestOver(Exception):
    """The test ends here: skipped, or failed by a watch."""

    __test__ = False  # not for pytest

    def __init__(self, verdict: Verdict, reason: Reason) -> None:
        super().__init__(reason.text)
        self.verdict, self.reason = verdict, reason


class UnitOver(Exception):
    """The tests of this unit end here."""

    def __init__(self, reason: str) -> None:
        super().__init__(reason)
        self.reason = reason
