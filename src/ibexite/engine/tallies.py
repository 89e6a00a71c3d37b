"""Tallies that become events when their check is done."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from ibexite import decision_rules, events, units
from ibexite.analysis.risk import specific_risk
from ibexite.differences import Difference
from ibexite.engine.frame_base import FrameBase
from ibexite.engine.judge import At, Tally
from ibexite.engine.limit_errors import negative_guard
from ibexite.errors import SequenceError
from ibexite.language import constants, nodes
from ibexite.language.carrying import is_by_accuracy
from ibexite.language.check_files import golden_behind, golden_in
from ibexite.mask import Mask
from ibexite.untyped import Fields, Measured
from ibexite.values import Words, YesNo
from ibexite.verdicts import FAULTS, Found, Reason
from ibexite.wording import place_text

if TYPE_CHECKING:
    from ibexite.engine.judged_points import JudgedPoints

BY_ACCURACY = "the uncertainty is the worst that its signals come to (first order)"


class ReportedTally(Tally):
    """A tally that becomes an event when its check is done."""

    def __init__(
        self,
        frame: FrameBase,
        statement: nodes.Check,
        axes: tuple[str, ...],
        readings: frozenset[str],
        *,
        is_fixed: bool,
    ) -> None:
        criterion = statement.criterion
        is_strict = criterion is not None and criterion.kind in ("<", ">")
        super().__init__(is_strict=is_strict, allowed=statement.allowing, is_fixed=is_fixed)
        self._frame, self._statement, self._axes, self._readings = frame, statement, axes, readings
        self._is_guarded = statement.guard is not None or statement in frame.program.guards
        self._is_by_accuracy = is_by_accuracy(statement, frame.names)
        risk = constants.number(statement.risk, frame.known) if statement.risk is not None else None
        self._factor = self._guard_factor(statement, float(risk or 0))
        self.rule = decision_rules.told(statement.rule, float(risk or 0))
        self.rule += f"; {BY_ACCURACY}" if self._is_by_accuracy else ""
        self.has_third_verdict = statement.rule == decision_rules.UNDECIDED
        self._mask = _mask_of(frame, statement)
        self._refers = bool(golden_behind(statement, frame.body))
        self._is_by_reference = bool(golden_in(statement))  # itself, not a formula that it stands on

    def _guard_factor(self, statement: nodes.Check, risk: float) -> float:
        """By which part of its uncertainty the limits of a value are moved."""
        if statement.rule == decision_rules.SIMPLE:
            return 0.0
        if statement.rule != decision_rules.RISK:
            return 1.0
        return decision_rules.guard_factor(risk) / self._standards

    @property
    def _standards(self) -> float:
        """How many standard uncertainties an uncertainty is."""
        return decision_rules.LIMITS_TO_STANDARD if self._is_by_accuracy else decision_rules.COVERAGE

    def guard_by(self, uncertainty: Measured) -> None:
        """What is judged next has this uncertainty: a number, or a curve over axes of it."""
        self.uncertainty = uncertainty
        self.guard = uncertainty * self._factor if self._factor != 1.0 else uncertainty
        if isinstance(uncertainty, float) and uncertainty < 0:
            raise negative_guard()

    def _risk(self) -> tuple[float, float | None]:
        """The uncertainty of the worst point, and the probability that its verdict is wrong; of one that is undecided
        the probability that it lies beyond its limit."""
        if not self._is_guarded or self.value != self.value or self.bound:
            return 0.0, None
        guard = self.told_guard
        size = guard / self._factor if self._factor else self.uncertainty
        if not isinstance(size, float) or not size > 0:
            return 0.0, None
        beyond = specific_risk(self.value, self.low - guard, self.high + guard, size / self._standards)
        is_open = self.has_third_verdict and self.margin >= -2 * guard
        return size, beyond if self.margin >= 0 or is_open else 1 - beyond

    def judge_curve(self, value: Measured, low: Measured, high: Measured, where: Measured, at: At = ()) -> None:
        """Judges a curve; one that does not cover its mask cannot pass, and where limits may be moved onto it they
        are."""
        if not isinstance(value, float) and (self._mask is not None or self._statement.aligned):
            from ibexite.engine import aligning

            if self._mask is not None:
                self.trouble = self.trouble or aligning.not_covered(self._mask, value)
            if self._statement.aligned:
                how = aligning.how_of(self._statement, self._frame.runtime.program, self._mask)
                moved = aligning.moved_limits(value, low, high, where, self.guard, self._mask, how)
                if isinstance(moved, Reason):
                    self.trouble = self.trouble or moved
                    return
                before = self.margin
                super().judge_curve(value, moved.low, moved.high, where, at)
                move = moved.move_at(self.at[len(at) :]) if self.margin < before else None
                self.moved = how.told(move) if move is not None else self.moved
                return
        super().judge_curve(value, low, high, where, at)

    def look_at(self, points: JudgedPoints, at: At) -> None:
        """Points that were measured and for which the references have nothing cannot pass unseen."""
        if not self._is_by_reference:
            return
        places = list(points.unlimited())
        if places and self.trouble is None:
            axes = [self._frame.axis_meta(axis) for axis in self._axes]
            place = dict(zip(self._axes, (*at, *points.place(places[0])), strict=False))
            names = " and ".join(dict.fromkeys(f"{expr.name}" for expr in golden_in(self._statement)))
            more = f", and at {len(places) - 1} more points" if len(places) > 1 else ""
            self.trouble = Reason("reference", f"the reference {names} has nothing at {place_text(place, axes)}{more}")

    def could_not(self, error: SequenceError) -> None:
        """A value or its limits cannot be computed: told by the references if they were measured otherwise, which is
        why then. Raises SequenceError: they were not."""
        self.trouble = self.trouble or self._trouble_with_references()
        if self.trouble is None:
            raise error

    def _trouble_with_references(self) -> Reason | None:
        if not self._refers:
            return None
        from ibexite.engine.referring import trouble_with

        found = trouble_with(self._frame, self._statement)
        if found is not None:
            self._frame.runtime.mark_trial("reference", found.text)
        return found

    def _origin(self) -> str:
        """The files that its limits, or what is judged, come from."""
        found = [self._mask.path] if self._mask is not None else []
        if self._refers:
            from ibexite.engine.referring import references_of

            found += [reference.told for reference, _ in references_of(self._frame, self._statement)]
        return "; ".join(dict.fromkeys(found))

    without_limits: float = math.nan  # a single value for which nobody has set limits yet: it is told all the same

    def close_early(self) -> None:
        """The loop around it was left by something else than its end: what was judged by then counts."""
        if self.judged:
            self.close()

    def close(self) -> None:
        """Emits the result."""
        self.tell()

    def tell(self, said: str = "", demand: str = "", differences: Sequence[Difference] = ()) -> None:
        """Emits the result; of what is no number the value and what was demanded in words, and the differences."""
        frame, statement, runtime = self._frame, self._statement, self._frame.runtime
        row = runtime.program.limits.get(statement)
        reasons = [r for name in self._readings for r in runtime.bad_reasons.get(frame.prefix + name, [])]
        if row is not None and row.low is None and row.high is None:
            reasons = [Reason("no_limit", FAULTS["no_limit"])]
        kind = runtime.program.types[statement.value]
        if isinstance(kind, YesNo):
            said = "" if self.value != self.value else "yes" if self.value else "no"
            demand = "is yes" if self.high else "is no"
        origin = row.origin if row is not None else self._origin()
        axes = [frame.axis_meta(axis) for axis in self._axes]
        self.trouble = self.trouble or self._trouble_with_references()
        subject = _subject(frame, statement)
        event = judged(frame, subject, self, self.verdict(reasons), axes, said=said, demand=demand, origin=origin)
        if self.without_limits == self.without_limits:
            event = event._replace(worst=event.worst._replace(value=or_none(self.without_limits)))
        uncertainty, risk = self._risk()
        rule = self.rule if self._is_guarded else ""
        limits = event.limits._replace(uncertainty=uncertainty, risk=risk, rule=rule)
        listed = [(each.kind, each.text) for each in differences]
        runtime.judged(event._replace(limits=limits, differences=listed))


def judged(
    frame: FrameBase, subject: events.Subject, tally: Tally, found: Found, axes: list[Fields], *, said: str = "",
    demand: str = "", origin: str = "",
) -> events.Judged:  # fmt: skip
    """The event for what a tally has seen, with what it says of the test.

    Args:
        said, demand: for what is no number, the value and what was demanded of it, in words.
        origin: where the limits come from.
    """
    if tally.bound:
        dimension = units.parse_unit(subject.unit).dimension if subject.unit else units.PLAIN
        said = f"{tally.bound} {units.format_value(tally.value, dimension, shown=subject.shown or None)}"
    names = [axis["name"] for axis in axes]
    extent = {
        name: [low, high]
        for name, low, high in zip(names, tally.least, tally.most, strict=False)
        if not isinstance(low, str)
    }
    return events.Judged(
        frame.runtime.now(), frame.block, subject,
        events.Point(
            or_none(tally.value), or_none(tally.low), or_none(tally.high), or_none(tally.margin),
            dict(zip(names, tally.at, strict=False)), said,
        ),
        events.Limits(
            demand, tally.told_guard, tally.rule if tally.told_guard else "", origin,
            [[or_none(x) for x in point] for point in tally.limits], tally.moved,
        ),
        events.Points(
            tally.judged, tally.failed, tally.bad + tally.behind, [list(point) for point in tally.failing], extent,
            tally.n,
        ),
        axes, *found,
    )  # fmt: skip


def _mask_of(frame: FrameBase, statement: nodes.Check) -> Mask | None:
    criterion = statement.criterion
    if criterion is None or criterion.kind != "inside" or not isinstance(criterion.a, nodes.FromFile):
        return None
    return frame.program.masks[criterion.a.name]


def _subject(frame: FrameBase, statement: nodes.Check) -> events.Subject:
    """What a check line judges. Its unit is shown as that of its limit is, where it has none of its own."""
    types = frame.runtime.program.types
    kind, shown = types[statement.value], ""
    if not isinstance(kind, Words):
        limit = types.get(statement.criterion.a, kind) if statement.criterion is not None else kind
        shown = kind.shown or limit.shown or ""
    text, name = texts(frame, statement)
    return events.Subject(
        frame.source.line_of(statement.span.start), label_of(frame, statement, text, name), text, name, kind.unit,
        shown, kind.stored,
    )  # fmt: skip


def texts(frame: FrameBase, statement: nodes.Check) -> tuple[str, str]:
    """The text of a check line, and the name that it judges ("" for a formula)."""
    value = statement.value
    subject = value.name if isinstance(value, nodes.Name) else ""
    if isinstance(value, nodes.ResultOf):
        subject = f"{value.test}.{value.name}"
    return source_text(frame.source, statement.span), frame.prefix + subject if subject else ""


def label_of(frame: FrameBase, statement: nodes.Check, text: str, subject: str) -> str:
    """What a result is called: its label, else the name, else the formula."""
    if statement.label:
        return frame.prefix + statement.label if frame.prefix else statement.label
    return subject or text.split(" ", 1)[1].split(" where ")[0]


def source_text(source: Measured, span: Measured) -> str:
    """The text of a line, without comment, in one piece."""
    return re.sub(r"\s+", " ", source.text[span.start : span.end].split("#")[0]).strip()


def or_none(value: Measured) -> Measured:
    """A number for an event: None for a hole, and for a limit that there is not. A text is itself."""
    if isinstance(value, str):
        return value
    return value if value == value and abs(value) != float("inf") else None
