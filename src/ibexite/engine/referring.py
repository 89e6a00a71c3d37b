"""Whether a check may be judged by the references that it names: they are there, not too old, and were measured under
the conditions of what is judged."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Mapping

from ibexite.conditions import differences, together
from ibexite.engine.frame_base import FrameBase
from ibexite.language import constants, nodes
from ibexite.language.check_files import file_of, golden_behind, value_in
from ibexite.reference import Reference
from ibexite.verdicts import Reason
from ibexite.wording import duration_text

MOST_TOLD = 4


def references_of(frame: FrameBase, statement: nodes.Check) -> list[tuple[Reference, nodes.FromFile]]:
    """The references that a check takes values from, itself or by a formula, as far as they are there."""
    found = [(frame.program.references.get(file_of(expr)), expr) for expr in golden_behind(statement, frame.body)]
    return [(reference, expr) for reference, expr in found if reference is not None]


def trouble_with(frame: FrameBase, statement: nodes.Check) -> Reason | None:
    """Why a check cannot pass for the references that it names; None if nothing is in the way."""
    missing = frame.program.without_reference.get(statement)
    if missing is not None:
        return Reason("no_reference", f"there is no reference {missing!r} yet")
    return next(_troubles(frame, statement), None)


def _troubles(frame: FrameBase, statement: nodes.Check) -> Iterator[Reason]:
    for reference, expr in references_of(frame, statement):
        value = value_in(reference, expr.name)
        assert value is not None  # it was looked at when it was vetted
        apart = differences(value.conditions, conditions_now(frame, statement.value))
        if apart:
            more = f" and {len(apart) - MOST_TOLD} more" if len(apart) > MOST_TOLD else ""
            told = f"{'; '.join(apart[:MOST_TOLD])}{more}"
            yield Reason("reference", f"the reference {reference.name} was measured otherwise: {told}")
        yield from _age(frame, statement, reference)


def _age(frame: FrameBase, statement: nodes.Check, reference: Reference) -> Iterator[Reason]:
    limit = constants.number(statement.not_older, frame.known) if statement.not_older is not None else None
    if limit is None:
        return
    measured = datetime.datetime.fromisoformat(reference.origin.measured)
    age = (frame.runtime.started - measured).total_seconds()
    if age > float(limit):
        told = f"is {duration_text(age)} old, it may be {duration_text(float(limit))}"
        yield Reason("reference", f"the reference {reference.name} {told}")
    elif age < 0:
        yield Reason("reference", f"the reference {reference.name} was measured after the beginning of this run")


def conditions_now(frame: FrameBase, value: nodes.Expr) -> dict[str, str]:
    """Under which conditions the readings behind a value came to be, in words."""
    runtime = frame.runtime
    parts: list[Mapping[str, str]] = []
    for name in sorted(constants.names_in(value)):
        owner, _, part = name.partition(".")
        told = runtime.told_conditions.get((owner + runtime.corner, part), runtime.told_conditions.get((owner, part)))
        lines = [] if told is not None else runtime.conditions
        parts += [told] if told is not None else []
        parts += [line.present() for line in lines if frame.prefix + name in line.names()]
    return together(parts)
