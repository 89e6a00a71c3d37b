"""Compiles check lines and watches."""

from __future__ import annotations

from ibexite.engine.compile_base import CompilerBase
from ibexite.engine.formula import readings_behind
from ibexite.language import constants, nodes
from ibexite.values import Text


class CheckCompiler(CompilerBase):
    """The verbs check and watch."""

    def _check(self, statement: nodes.Check, line: int) -> None:
        kind = self._type(statement.value)
        if isinstance(kind, Text):
            self._check_text(statement, line)
            return
        low, high = self._limits_of(statement)
        axes = tuple(loop.axis for loop in self._loops)
        readings = readings_behind(statement.value, self.behind)
        guard = self._guard(statement.guard) if statement.guard is not None else "0.0"
        is_fixed = all(map(_is_constant, (low, high, guard)))
        tally = self._bind("check", self.frame.tally(statement, axes + kind.axes, readings, is_fixed=is_fixed))
        if statement.guard is not None:
            self._emit(f"{tally}.guard = {guard}", line)
        at = "(" + "".join(f"{self._axis_value(axis)}, " for axis in axes) + ")"
        value = self._judged_value(statement, line)
        parts = [statement.value, statement.where, statement.guard]
        parts += [statement.criterion.a, statement.criterion.b] if statement.criterion is not None else []
        counts = self._stands_on(*parts)
        if counts:
            self._emit(f"{tally}.stands_on({counts})", line)
        where = self.formulas.source(statement.where) if statement.where is not None else "True"
        if kind.axes or (statement.where is not None and self._type(statement.where).axes):
            self._emit(f"{tally}.judge_curve({value}, {low}, {high}, {where}, {at})", line)
        elif statement.where is not None:
            self._emit(f"{tally}.judge_where({where}, {value}, {low}, {high}, {at})", line)
        else:
            self._emit(f"{tally}.judge({value}, {low}, {high}, {at})", line)
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

    def _axis_value(self, axis: str) -> str:
        loop = next(loop for loop in self._loops if loop.axis == axis)
        is_labelled = isinstance(loop.node, nodes.Sweep) and loop.node in self.program.labels
        return f"a_{axis}" if is_labelled else f"v_{axis}"

    def _guard(self, guard: nodes.Expr) -> str:
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

    def _check_text(self, statement: nodes.Check, line: int) -> None:
        criterion = statement.criterion
        assert criterion is not None
        judge = self._bind("check", self.frame.text_check(statement))
        wanted = repr(criterion.a.value) if isinstance(criterion.a, nodes.Text) else self.formulas.source(criterion.a)
        if isinstance(criterion.a, nodes.Text) and criterion.kind == "==":
            wanted = self.formulas.source(criterion.a)
        where = f" if decided({self.formulas.source(statement.where)}) else None" if statement.where is not None else ""
        self._emit(f"{judge}({self.formulas.source(statement.value)}, {wanted}){where}", line)

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
