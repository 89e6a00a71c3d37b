"""Tallies that become events when their check is done."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

from ibexite import events, units
from ibexite.bench.read_line import FAULT_OF_UNIT
from ibexite.engine.judge import Tally
from ibexite.language import nodes

if TYPE_CHECKING:
    from ibexite.engine.frame import Frame

RULE = "guarded acceptance: both limits moved inwards by the guard (JCGM 106:2012, 8.3.2)"


class ReportedTally(Tally):
    """A tally that becomes an event when its check is done."""

    def __init__(
        self, frame: Frame, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str], *, is_fixed: bool
    ) -> None:
        criterion = statement.criterion
        is_strict = criterion is not None and criterion.kind in ("<", ">")
        super().__init__(is_strict=is_strict, allowed=statement.allowing, is_fixed=is_fixed)
        self._frame, self._statement, self._axes, self._readings = frame, statement, axes, readings

    def close_early(self) -> None:
        """The loop around it was left by something else than its end: what was judged by then counts."""
        if self.judged:
            self.close()

    def close(self) -> None:
        """Emits the result."""
        frame, statement, runtime = self._frame, self._statement, self._frame.runtime
        row = runtime.program.limits.get(statement)
        reasons = [r for name in self._readings for r in runtime.bad_reasons.get(frame.prefix + name, [])]
        if row is not None and row.low is None and row.high is None:
            reasons = ["no limit has been set yet"]
        verdict, reason = self.verdict(reasons, FAULT_OF_UNIT)
        kind = runtime.program.types[statement.value]
        limit = runtime.program.types[statement.criterion.a] if statement.criterion is not None else kind
        text, subject = texts(frame, statement)
        shown = kind.shown or limit.shown or ""
        said = demand = ""
        if kind.kind == "yes_no":
            said = "" if self.value != self.value else "yes" if self.value else "no"
            demand = "is yes" if self.high else "is no"
        elif self.bound:
            said = f"{self.bound} {units.format_value(self.value, kind.dimension, shown=shown or None)}"
        runtime.judged(
            events.Judged(
                runtime.now(), frame.block, frame.source.line_of(statement.span.start),
                label_of(frame, statement, text, subject), text, _base(kind), shown,
                or_none(self.value), or_none(self.low), or_none(self.high), or_none(self.margin),
                dict(zip(self._axes, self.at, strict=False)), [frame.axis_meta(axis) for axis in self._axes],
                self.judged, self.failed, self.bad + self.behind, [list(point) for point in self.failing],
                {axis: [low, high] for axis, low, high in zip(self._axes, self.least, self.most, strict=False)},
                subject, verdict, reason, kind.kind, said, demand, self.guard, RULE if self.guard else "",
                row.origin if row is not None else "", [[or_none(x) for x in point] for point in self.limits], self.n,
            )
        )  # fmt: skip


def judge_text(frame: Frame, statement: nodes.Check, value: Any, wanted: str) -> None:
    """Judges a text against a pattern or another text, and emits the result."""
    runtime, criterion = frame.runtime, statement.criterion
    assert criterion is not None
    text, subject = texts(frame, statement)
    is_hole = not isinstance(value, str)
    holds = not is_hole and (
        re.fullmatch(wanted, value) is not None if criterion.kind == "matches" else value == wanted
    )
    verdict = "error" if is_hole else "pass" if holds else "fail"
    reason = "undecided: the text could not be read" if is_hole else ""
    word = "matches" if criterion.kind == "matches" else "is"
    runtime.judged(
        events.Judged(
            runtime.now(), frame.block, frame.source.line_of(statement.span.start),
            label_of(frame, statement, text, subject), text, "", "", None, None, None, None, {}, [], 1,
            int(verdict == "fail"), int(is_hole), [], {}, subject, verdict, reason, "text",
            "" if is_hole else str(value)[:200], f'{word} "{wanted}"',
        )
    )  # fmt: skip


def texts(frame: Frame, statement: nodes.Check) -> tuple[str, str]:
    """The text of a check line, and the name that it judges ("" for a formula)."""
    from ibexite.engine.frame import source_text

    value = statement.value
    subject = value.name if isinstance(value, nodes.Name) else ""
    if isinstance(value, nodes.ResultOf):
        subject = f"{value.test}.{value.name}"
    return source_text(frame.source, statement.span), frame.prefix + subject if subject else ""


def label_of(frame: Frame, statement: nodes.Check, text: str, subject: str) -> str:
    """What a result is called: its label, else the name, else the formula."""
    if statement.label:
        return frame.prefix + statement.label if frame.prefix else statement.label
    return subject or text.split(" ", 1)[1].split(" where ")[0]


def _base(kind: Any) -> str:
    return units.base_symbol(kind.dimension) if kind.kind == "quantity" else ""


def or_none(value: float) -> float | None:
    """A number for an event: None for a hole, and for a limit that there is not."""
    return value if value == value and abs(value) != float("inf") else None
