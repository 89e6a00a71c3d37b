"""Compiles check lines and watches."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from ibexite.engine.compile_accuracy import AccuracyCompiler
from ibexite.engine.formula import readings_behind, variable
from ibexite.language import constants, nodes
from ibexite.language.carrying import is_by_accuracy
from ibexite.language.check_files import golden_in
from ibexite.values import Words


class CheckCompiler(AccuracyCompiler):
    """The verbs check and watch."""

    def _check(self, statement: nodes.Check, line: int) -> None:
        statement = self.program.checks_of_numbers.get(statement, statement)
        kind = self._type(statement.value)
        axes = tuple(loop.axis for loop in self._loops)
        readings = readings_behind(statement.value, self.behind)
        at = "(" + "".join(f"v_{axis}, " for axis in axes) + ")"
        if statement in self.program.without_reference:
            tally = self._bind("check", self.frame.tally(statement, axes, readings, is_fixed=True))
            self._emit(f"{tally}.judge(float('nan'), -INF, INF, {at})", line)
            self._close(tally, line)
            return
        where = self.formulas.source(statement.where) if statement.where is not None else "True"
        if isinstance(kind, Words):
            tally = self._bind("check", self.frame.text_tally(statement, axes + kind.axes, readings))
            value = self.formulas.source(statement.value)
            self._emit(f"{tally}.judge_text({value}, {self._wanted(statement)}, {where}, {at})", line)
            self._close(tally, line)
            return
        with self._told_by_references(statement, line) as told_by:
            low, high = self._limits_of(statement)
            by_accuracy = is_by_accuracy(statement, self.frame.names)
            uncertainty = self.program.guards.get(statement, statement.guard)
            guard = self._carried(statement.value) if by_accuracy else self._guard(uncertainty)
            is_fixed = all(map(_is_constant, (low, high, guard)))
            tally = self._bind("check", self.frame.tally(statement, axes + kind.axes, readings, is_fixed=is_fixed))
            told_by.append(tally)
            self._judge(statement, tally, (low, high, where, at), guard if uncertainty is not None else "", line)
        self._close(tally, line)

    def _judge(
        self, statement: nodes.Check, tally: str, limits: tuple[str, str, str, str], guard: str, line: int
    ) -> None:  # fmt: skip
        """Judges a number or a curve, with the sources of its limits, of where, of its place, and of its guard."""
        low, high, where, at = limits
        kind, uncertainty = self._type(statement.value), self.program.guards.get(statement, statement.guard)
        if guard:
            self._emit(f"{tally}.guard_by({guard})", line)
        value = self._judged_value(statement, line)
        for axis in self._axes_meant(statement):
            self._emit(f"{variable(axis)} = {self.formulas.function('catalog.points_of')}({value}, {axis!r})", line)
        by_accuracy = is_by_accuracy(statement, self.frame.names)
        parts = [statement.value, statement.where, None if by_accuracy else uncertainty]
        parts += [statement.criterion.a, statement.criterion.b] if statement.criterion is not None else []
        row = self.program.limits.get(statement)
        if row is not None and row.low is None and row.high is None and not self._loops and not kind.axes:
            self._emit(f"{tally}.without_limits = {value}", line)
        counts = self._stands_on(*parts)
        if counts:
            self._emit(f"{tally}.stands_on({counts})", line)
        if kind.axes or (statement.where is not None and self._type(statement.where).axes):
            self._emit(f"{tally}.judge_curve({value}, {low}, {high}, {where}, {at})", line)
        elif statement.where is not None:
            self._emit(f"{tally}.judge_where({where}, {value}, {low}, {high}, {at})", line)
        else:
            self._emit(f"{tally}.judge({value}, {low}, {high}, {at})", line)

    @contextlib.contextmanager
    def _told_by_references(self, statement: nodes.Check, line: int) -> Iterator[list[str]]:
        """What cannot be computed of a reference is told by how that was measured otherwise, where it was; by the tally
        that is put into the list."""
        told_by: list[str] = []
        if not golden_in(statement):
            yield told_by
            return
        self._emit("try:", line)
        self._depth += 1
        yield told_by
        self._depth -= 1
        self._emit("except SequenceError as error:", line)
        self._emit(f"    {told_by[0]}.could_not(error)", line)

    def _axes_meant(self, statement: nodes.Check) -> list[str]:
        """The axes that came with what is judged and that its `where` names."""
        if statement.where is None:
            return []
        names, known = constants.names_in(statement.where), (*self.frame.names, *self.frame.known)
        return [axis for axis in self._type(statement.value).axes if axis in names and axis not in known]

    def _close(self, tally: str, line: int) -> None:
        """Has a tally become a result: at once, or when the outermost loop has ended."""
        if self._loops:
            self._tallies.append((tally, line))
        else:
            self._emit(f"{tally}.close()", line)

    def _judged_value(self, statement: nodes.Check, line: int) -> str:
        """The source of the value; a formula of several names gets a variable of its own, so that its hole is right."""
        value = self.formulas.source(statement.value)
        if isinstance(statement.value, nodes.Name | nodes.ResultOf | nodes.Literal):
            return value
        self._emit(f"judged = {value}", line)
        self._settle_hole("judged", [statement.value], line)
        return "judged"

    def _settle_hole(self, target: str, exprs: list[nodes.Expr], line: int) -> None:
        raise NotImplementedError

    def _guard(self, guard: nodes.Expr | None) -> str:
        if guard is None:
            return "0.0"
        known = constants.number(guard, self.frame.known)
        return repr(float(constants.as_difference(guard, known))) if known is not None else self.formulas.source(guard)

    def _limits_of(self, statement: nodes.Check) -> tuple[str, str]:
        if statement.criterion is not None:
            return self.formulas.limits(statement.criterion, None)
        row = self.program.limits[statement]
        if row.low is None and row.high is None:
            return "float('nan')", "float('nan')"  # nobody has set them: nothing can be decided
        low = repr(float(row.low)) if row.low is not None else "-INF"
        return low, repr(float(row.high)) if row.high is not None else "INF"

    def _wanted(self, statement: nodes.Check) -> str:
        """The source of what is demanded of a text: another one, or a pattern, which is never filled in."""
        criterion = statement.criterion
        assert criterion is not None
        if criterion.kind == "matches" and isinstance(criterion.a, nodes.Text):
            return repr(criterion.a.value)
        return self.formulas.source(criterion.a)

    def _watch(self, statement: nodes.Watch, line: int) -> None:
        low, high = self.formulas.limits(statement.criterion, None)
        watch = self._bind("watch", self.frame.watch(statement))
        self._emit(f"with {watch}({low}, {high}, {self.formulas.time(statement.every)}):", line)
        self._depth += 1
        self._watches += 1
        self._block(statement.body)
        self._watches -= 1
        self._emit("pass", line)
        self._depth -= 1


def _is_constant(source: str) -> bool:
    """Whether the source of a limit is a plain number."""
    try:
        float(source.replace("INF", "inf"))
    except ValueError:
        return False
    return True
