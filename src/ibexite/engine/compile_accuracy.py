"""Compiles what `guarded by accuracy` needs: beside each reading and formula that such a check stands on, by how much
it may be off. These are names of their own, "v_out.accuracy", and are recorded as such."""

from __future__ import annotations

from ibexite import units
from ibexite.engine.compile_base import CompilerBase
from ibexite.engine.formula import variable
from ibexite.language import constants, nodes
from ibexite.language.carrying import SUFFIX, carried_names, is_pointwise
from ibexite.language.program import Binding
from ibexite.values import Quantity


class AccuracyCompiler(CompilerBase):
    """The accuracies of a block."""

    def _carry(self, body: tuple[nodes.Statement, ...]) -> None:
        """Looks which names need it, and makes their accuracies names of the block."""
        frame = self.frame
        self.carried = set(carried_names(body, frame.names, frame.known))
        for name in self.carried:
            kind = frame.names[name].type
            assert isinstance(kind, Quantity)
            span = frame.names[name].span
            frame.names[name + SUFFIX] = Binding(
                name + SUFFIX, "let", Quantity(kind.axes, units.difference(kind.dimension)), span
            )
            frame.curves_used[name + SUFFIX] = frame.curves_used.get(name, [])

    def _accuracies(self, statement: nodes.Read, line: int) -> None:
        """Behind a read line."""
        for reading in statement.readings:
            if reading.name in self.carried:
                of = self._bind("accuracy", self.frame.accuracy(reading, statement))
                self._keep_accuracy(reading.name, f"{of}({variable(reading.name)})", line)

    def _keep_accuracy(self, name: str, source: str, line: int) -> None:
        """Gives the accuracy of a name a value; in a loop it is a column."""
        target = variable(name + SUFFIX)
        self._emit(f"{target} = {source}", line)
        if self._loops:
            self._told_in_turn(name + SUFFIX, line)
        else:
            self._emit(f"{self._bind('told', self.frame.computed(name + SUFFIX))}({target})", line)

    def _carried(self, expr: nodes.Expr) -> str:
        """The source of by how much a value may be off."""
        if isinstance(expr, nodes.Name):
            return variable(expr.name + SUFFIX)
        names = sorted(name for name in constants.names_in(expr) if name in self.carried)
        arguments = [variable(name) for name in names]
        values = "".join(f"{name}, " for name in arguments)
        widths = "".join(f"{variable(name + SUFFIX)}, " for name in names)
        function = f"lambda {', '.join(arguments)}: {self.formulas.source(expr)}"
        return f"carried({function}, ({values}), ({widths}), {is_pointwise(expr)})"
