"""Checks what judges: check lines, with or without the limit table, and watches."""

from __future__ import annotations

import re
from decimal import Decimal

from ibexite import units
from ibexite.decision_rules import COVERAGE, SIMPLE, guard_factor
from ibexite.errors import MistakeError
from ibexite.functions import AXES
from ibexite.language import constants, nodes
from ibexite.language.carrying import is_by_accuracy, made_of
from ibexite.language.check_files import GOLDEN, FileChecker
from ibexite.language.complex_checks import REMEDY, check_of_number
from ibexite.language.program import AccuracyUse
from ibexite.language.source import Span
from ibexite.values import NUMBER, Quantity, Text, Type, Words, YesNo


class JudgingChecker(FileChecker):
    """The verbs check, watch, skip, stop, expect."""

    def check_block(self, body: tuple[nodes.Statement, ...]) -> None:
        """Checks the lines of a block."""
        raise NotImplementedError

    def _check(self, statement: nodes.Check) -> None:
        if self.block in ("after unit", "after lot"):
            self.source.report(
                statement.span, "a check after the verdict", "", f"Judge in a test; {self.block} only cleans up."
            )
        if self._lacks_reference(statement):
            has_own = any(file.kind == GOLDEN for file in constants.files_in(statement.value))
            kind = None if has_own else self.typer.type_of(statement.value, self.lookup)
            self.program.types.setdefault(statement.value, kind or NUMBER)
            return
        kind = self.typer.type_of(statement.value, self.lookup)
        if kind is not None and kind.is_complex:
            statement, kind = self._of_number(statement, kind)
        if statement.criterion is None:
            self._from_table(statement, kind)
        elif kind is not None:
            self._demanded(statement, statement.criterion, kind)
        if statement.where is not None:
            self._where(kind, statement.where)
        self._aligned(statement, kind)
        self._age(statement)
        if statement.guard is not None:
            self._guard(statement, kind)

    def _of_number(self, statement: nodes.Check, kind: Type) -> tuple[nodes.Check, Type | None]:
        """What is judged of a complex value: a check of a number in its place, and the type of that."""
        criterion = statement.criterion
        tolerance = self.typer.type_of(criterion.b, self.lookup) if criterion is not None and criterion.b else None
        found = check_of_number(statement, kind, tolerance)
        if found is None:
            self.source.report(statement.value.span, "a complex value", str(kind), REMEDY)
            return statement, None
        self.program.checks_of_numbers[statement] = found
        return found, self.typer.type_of(found.value, self.lookup)

    def _demanded(self, statement: nodes.Check, criterion: nodes.Criterion, kind: Type) -> None:
        if criterion.kind == "same_as":
            self._same_as(statement, criterion, kind)
        elif criterion.kind == "matches":
            assert isinstance(criterion.a, nodes.Text)
            self.pattern(criterion.a.value, criterion.a.span)
            if not isinstance(kind, Text):
                self.source.report(statement.value.span, "not a text", str(kind), "'matches' judges texts.")
        elif criterion.kind == "is":
            self.typer.type_of(criterion.a, self.lookup)
            if not isinstance(kind, YesNo):
                self.source.report(
                    statement.value.span, "not a yes/no value", str(kind), "'is' judges yes and no, on and off."
                )
        elif criterion.kind == "==" and not isinstance(kind, Quantity):
            found = self.typer.type_of(criterion.a, self.lookup)
            if found is not None and not found.compares(kind):
                self.source.report(criterion.a.span, "these cannot be compared", str(found), f"The value is {kind}.")
        elif not isinstance(kind, Quantity):
            self.source.report(
                statement.value.span, "not a number", str(kind), "These limits judge numbers with units."
            )
        else:
            self.typer.demand(kind, criterion, self.lookup)
            self._constant(statement, criterion)

    def _same_as(self, statement: nodes.Check, criterion: nodes.Criterion, kind: Type) -> None:
        found = self.typer.type_of(criterion.a, self.lookup)
        if not isinstance(kind, Words) or not kind.compares(kind):
            self.source.report(
                statement.value.span, "nothing to list differences of", str(kind),
                "'same as' compares connections, tables and texts; numbers are judged within limits.",
            )  # fmt: skip
        elif found is not None and not found.compares(kind):
            self.source.report(criterion.a.span, "these cannot be compared", str(found), f"The value is {kind}.")
        elif found is not None and not set(found.axes) <= set(kind.axes):
            self.source.report(criterion.a.span, "over other axes", str(found), f"The value is {kind}.")
        for tolerance in criterion.tolerances:
            size, known = constants.number(tolerance, self.scope.known), self.scalar(tolerance)
            if known is not None and (size is None or size < 0 or known.dimension.kind != "linear"):
                self.source.report(
                    tolerance.span, "not a tolerance known before the run", str(known),
                    "Write a part of the value or an amount: +/- 5 %, +/- 200 mohm.",
                )  # fmt: skip

    def pattern(self, text: str, span: Span) -> None:
        """Reports a text that is no regular expression."""
        try:
            re.compile(text)
        except re.error as error:
            self.source.report(
                span, "not a regular expression", str(error), 'Write, for example: matches "v2[.][0-9]+"'
            )

    def _constant(self, statement: nodes.Check, criterion: nodes.Criterion) -> None:
        """A check of which everything is known before the run judges nothing."""
        known = self.scope.known
        value, a = constants.number(statement.value, known), constants.number(criterion.a, known)
        b = constants.number(criterion.b, known) if criterion.b is not None else None
        if value is None or a is None or (criterion.b is not None and b is None):
            return
        passes = constants.meets(value, criterion.kind, a, b, self.program.tolerances.get(criterion), criterion.b)
        self.source.report(
            statement.span, "this check cannot " + ("fail" if passes else "pass"), "",
            "Its value and its limits are known before the run. Judge something that was measured.", level="warning",
        )  # fmt: skip

    def _from_table(self, statement: nodes.Check, kind: Type | None) -> None:
        if self.limit_table is None:
            self.source.report(
                statement.span, "a check without limits", "",
                'Write, for example: check v_out >= 4.9 V; or name a limit table in the head: limits "limits.csv"',
            )  # fmt: skip
            return
        if kind is None:
            return
        name = _table_name(statement.value)
        if not name or not isinstance(kind, Quantity):
            self.source.report(
                statement.value.span,
                "not a name with a unit",
                str(kind),
                "The limit table has limits for names: check v_out",
            )
            return
        variant = self.scope.known.get("variant")
        try:
            row = self.limit_table.row(
                self.block, name, variant if isinstance(variant, str) else "", self.program.sequence.revision, kind
            )
        except MistakeError as error:
            self.source.report(statement.span, error.what, error.where, error.remedy)
            return
        if row is None:
            self.source.report(
                statement.span, f"no limits for {self.block}.{name}", "",
                f"Add a row for it to {self.limit_table.path}, or write them here: check {name} >= …",
            )  # fmt: skip
            return
        if row.low is None and row.high is None:
            self.source.report(
                statement.span, "its limits are not set yet", row.origin, "Until they are, this check is an error.",
                level="warning",
            )  # fmt: skip
        if not row.is_approved and not self.program.is_table_approved:
            self.program.placeholders.append(f"{self.block}.{name}")
        self.program.limits[statement] = row

    def _where(self, kind: Type | None, where: nodes.Expr) -> None:
        def lookup(name: nodes.Name | nodes.ResultOf) -> Type | None:
            """As everywhere, and the axes of what is judged besides."""
            meant = self.axes_meant(kind) if kind is not None else AXES  # of what was reported nobody knows the axes
            if isinstance(name, nodes.Name) and name.name in meant and name.name not in self.names:
                return self.axis_of(name.name)
            return self.lookup(name)

        found = self.typer.type_of(where, lookup)
        if found is None or kind is None:
            return
        if not isinstance(found, YesNo):
            self.source.report(where.span, "not a condition", str(found), "Write, for example: where iload >= 140 mA")
        elif not set(found.axes) <= set(kind.axes):
            extra = ", ".join(a for a in found.axes if a not in kind.axes)
            self.source.report(
                where.span, "a condition over other axes", f"over {extra}", f"The value to be judged is {kind}."
            )

    def axes_meant(self, kind: Type) -> list[str]:
        """The axes of a curve whose names mean nothing else here: those that came with it."""
        return [axis for axis in kind.axes if axis not in self.names and axis not in self.scope.types]

    def _guard(self, statement: nodes.Check, kind: Type | None) -> None:
        guard = statement.guard
        assert guard is not None
        self._risk(statement)
        if is_by_accuracy(statement, self.names):
            self._by_accuracy(statement, guard)
            return
        found = self.scalar(guard)
        if found is None or kind is None:
            return
        if not self.typer.is_difference(guard, found, kind) or not isinstance(kind, Quantity):
            wanted = units.describe(units.difference(kind.dimension))
            self.source.report(guard.span, "wrong unit", str(found), f"The guard is {wanted}.")
            return
        width = constants.number(guard, self.scope.known)
        limits = self._known_limits(statement)
        if width is None:
            return
        width = constants.as_difference(guard, width)
        if width < 0:
            self.source.report(guard.span, "a negative guard", "", "It is the uncertainty of the measurement.")
        elif (
            limits is not None and statement.rule != SIMPLE and limits[1] - limits[0] < 2 * self._wide(statement, width)
        ):
            self.source.report(
                guard.span, "the guard is wider than the tolerance", "", "Nothing could pass. Measure more exactly."
            )

    def _risk(self, statement: nodes.Check) -> None:
        if statement.risk is None:
            return
        kind, risk = self.scalar(statement.risk), constants.number(statement.risk, self.scope.known)
        if kind is None:
            return
        if not kind.dimension.is_plain or risk is None or not 0 < risk < Decimal("0.5"):
            self.source.report(
                statement.risk.span, "not a risk", str(kind), "It is a probability above 0 and below 50 %: risk 1 %."
            )

    def _wide(self, statement: nodes.Check, width: Decimal) -> Decimal:
        """How far limits are moved by an uncertainty."""
        risk = constants.number(statement.risk, self.scope.known) if statement.risk is not None else None
        if risk is None or not 0 < risk < Decimal("0.5"):
            return width
        return width * Decimal(guard_factor(float(risk))) / Decimal(COVERAGE)

    def _by_accuracy(self, statement: nodes.Check, guard: nodes.Expr) -> None:
        """What is judged must be made of signals and readings of single numbers, and formulas of them."""
        made = made_of(statement.value, self.body, self.scope.known)
        problem = made.problem or ("" if made.sources else "it is made of no reading")
        for name in sorted(made.names & set(self.names)):
            found = self.names[name].type
            if not isinstance(found, Quantity) or found.is_complex:
                problem = problem or f"{name} is {found}, and not so much more or less"
        for role, _, reading in (source.partition(".") for source in sorted(made.sources)):
            known = self.program.class_of(self.scope.needs.get(role)) if reading else None
            if known is not None and reading in known.readings and known.readings[reading].axes:
                problem = problem or f"{role}.{reading} is a curve, of which nobody says how exact it is"
        if problem:
            self.source.report(guard.span, "its accuracy is not known", "", f"{problem}.")
        for source in sorted(made.sources):
            if source not in self.program.accuracies or source in made.without_range:
                has_range = source not in made.without_range
                self.program.accuracies[source] = AccuracyUse(guard.span, self.source, has_range)

    def _known_limits(self, statement: nodes.Check) -> tuple[Decimal, Decimal] | None:
        """Both limits where they are known before the run."""
        if statement in self.program.limits:
            row = self.program.limits[statement]
            return (row.low, row.high) if row.low is not None and row.high is not None else None
        criterion = statement.criterion
        if criterion is None or criterion.b is None:
            return None
        return constants.both_limits(criterion, self.scope.known, self.program.tolerances.get(criterion))

    # --- what ends things --------------------------------------------------------------------------------------------

    def _watch(self, statement: nodes.Watch) -> None:
        need = self.signal(statement.signal, statement.span)
        if need is not None and isinstance(need.type, Quantity):
            self.typer.demand(need.type, statement.criterion, self.lookup)
        elif need is not None:
            self.source.report(statement.span, "not a number", "", "Signals with a unit can be watched.")
        kind = self.scalar(statement.every)
        if kind is not None and kind.dimension != units.SECOND:
            self.source.report(statement.every.span, "wrong unit", str(kind), "'every' takes a time, such as 100 ms.")
        self.check_block(statement.body)

    def _skip(self, statement: nodes.Skip) -> None:
        if self.block in ("before unit", "after unit", "before lot", "after lot"):
            self.source.report(statement.span, "not in a test", "", "'skip' leaves a test.")

    def _stop(self, statement: nodes.Stop) -> None:
        if self.block in ("after unit", "after lot"):
            self.source.report(statement.span, "nothing to stop", "", "The tests of this unit have ended already.")

    def _expect(self, statement: nodes.Expect) -> None:
        if self.block in ("before unit", "after unit", "before lot", "after lot"):
            self.source.report(statement.span, "not in a test", "", "'expect limiting' belongs to a test.")


def _table_name(value: nodes.Expr) -> str:
    if isinstance(value, nodes.ResultOf):
        return f"{value.test}.{value.name}"
    return value.name if isinstance(value, nodes.Name) else ""
