"""Which tests of a program are run: all, or those that somebody chose."""

from __future__ import annotations

from dataclasses import dataclass, field

from ibexite.errors import MistakeError, did_you_mean
from ibexite.language.program import Case, Program


@dataclass(frozen=True, slots=True)
class Selection:
    """A choice of tests by name (of a test, a group, or one corner of a test), by tag, or from a list (on or off
    each)."""

    only: tuple[str, ...] = ()
    skip: tuple[str, ...] = ()
    tags: tuple[str, ...] = ()
    listed: dict[str, bool] = field(default_factory=dict)

    def chooses(self, case: Case) -> bool:
        """True if a test is to be run."""
        names = {case.name, case.test.name, case.group.name if case.group else ""}
        if self.listed and not self.listed.get(case.name, self.listed.get(case.test.name, False)):
            return False
        if self.only and not names & set(self.only):
            return False
        if self.tags and not set(self.tags) & set(case.tags):
            return False
        return not names & set(self.skip)

    def check(self, program: Program) -> None:
        """Refuses a choice that chooses nothing, names what is not there, or tears apart what belongs together.

        Raises:
            MistakeError: with the names that there are.
        """
        cases = program.cases
        names = {n for c in cases for n in (c.name, c.test.name, c.group.name if c.group else c.test.name)}
        tags = {tag for case in cases for tag in case.tags}
        for what, given, known in (
            ("test", (*self.only, *self.skip, *self.listed), names), ("tag", self.tags, tags),
        ):  # fmt: skip
            for name in given:
                if name not in known:
                    raise MistakeError(
                        f"there is no {what} {name!r}", where=program.source.name,
                        remedy=did_you_mean(name, known) or f"The sequence has no {what}s.",
                    )  # fmt: skip
        chosen = [case for case in cases if self.chooses(case)]
        if not chosen:
            raise MistakeError("no test is selected", where=program.source.name, remedy="Select one at least.")
        previous: Case | None = None
        for case in cases:
            if case.test.keeps_state and case in chosen and previous is not None and previous not in chosen:
                raise MistakeError(
                    f"{case.name} keeps the state of {previous.name}", where=program.source.name,
                    remedy=f"Select both, or {previous.name} alone.",
                )  # fmt: skip
            previous = case
