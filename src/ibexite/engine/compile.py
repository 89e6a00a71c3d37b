"""Compiles the blocks of a vetted program into Python functions.

The generated code has the file name and the line numbers of the sequence, so that an error which passes through it
names the line. Everything that can be looked up, checked or computed beforehand is bound by name; the loop over points
only calls what is bound. Loops and conditions are in compile_loops, checks in compile_checks.
"""

from __future__ import annotations

import ast
import os
import sys
from collections.abc import Callable
from decimal import Decimal
from pathlib import PurePath
from typing import Any

from ibexite import units
from ibexite.engine.compile_checks import CheckCompiler
from ibexite.engine.compile_loops import LoopCompiler
from ibexite.engine.formula import HELPERS, readings_behind, variable
from ibexite.language import constants, nodes
from ibexite.source_trees import code_of, tree_of
from ibexite.values import Quantity

SHOW_CODE = "IBEXITE_SHOW_CODE"  # set to 1, each block that is compiled is printed on the error stream


class Compiler(LoopCompiler, CheckCompiler):
    """Compiles one block."""

    def compile(
        self,
        body: tuple[nodes.Statement, ...],
        *,
        guard: Callable[[Exception], None] | None = None,
        inputs: tuple[str, ...] = (),
        outputs: tuple[str, ...] = (),
    ) -> Callable[..., Any]:
        """The function that carries out a block.

        Args:
            guard: each line is tried whatever became of the one before, and the guard is told of the errors.
            inputs, outputs: names that it takes as arguments, and names that it returns as a tuple.
        """
        self.bound |= HELPERS
        self._carry(body)
        self._emit(f"def block({', '.join(map(variable, inputs))}):", 1, depth=0)
        for name, value in sorted(self.frame.known.items()):
            self.bound[variable(name)] = _plain(value)
        if guard is None:
            self._block(body)
        else:
            self._guarded_block(body, guard)
        self._emit(f"return ({''.join(variable(name) + ', ' for name in outputs)})", 1)
        self._bind_functions()
        if os.environ.get(SHOW_CODE, "0") not in ("", "0"):
            print(self.text, file=sys.stderr)
        tree = tree_of("\n".join(self._lines))
        for item in ast.walk(tree):
            if hasattr(item, "lineno"):
                line = self._line_of[item.lineno]
                item.lineno = item.end_lineno = line  # type: ignore[attr-defined]
                item.col_offset = item.end_col_offset = 0  # type: ignore[attr-defined]
        exec(code_of(tree, self.frame.source.name), self.bound)
        run: Callable[..., Any] = self.bound["block"]
        return run

    def condition(self, expr: nodes.Expr) -> bool:
        """The value of a condition that stands outside of any block."""
        self._emit(self._decided(expr), 1, depth=0)
        self._bind_functions()
        return bool(eval(self._lines[-1], {**self.bound, **HELPERS}))

    @property
    def text(self) -> str:
        """The generated source, to be looked at: before each line the line of the sequence that it comes from."""
        lines = (f"{self._line_of[at]:5}  {line}" for at, line in enumerate(self._lines, 1))
        return "\n".join((f"made of {PurePath(self.frame.source.name).name}:", *lines, ""))

    def _bind_functions(self) -> None:
        for name, target in self.formulas.used.items():
            self.bound[name] = self.frame.function(target)

    def _guarded_block(self, body: tuple[nodes.Statement, ...], guard: Callable[[Exception], None]) -> None:
        self.bound["guard"] = guard
        for statement in body:
            line = self._line(statement)
            self._emit("try:", line)
            self._depth += 1
            self._block((statement,))
            self._depth -= 1
            self._emit("except Exception as error:", line)
            self._emit("    guard(error)", line)

    # --- what touches hardware ---------------------------------------------------------------------------------------

    def _set(self, statement: nodes.Set, line: int) -> None:
        setter = self._bind("set", self.frame.set_line(statement))
        values = ", ".join(self.formulas.source(a.value) for a in statement.assignments)
        self._emit(f"{setter}({values})", line)

    def _read(self, statement: nodes.Read, line: int) -> None:
        reader = self._bind("read", self.frame.read_line(statement))
        names = [r.name for r in statement.readings]
        gaps = sorted({gap for r in statement.readings if r.query for gap in self.frame.gap_names(r.query)})
        given = ", ".join(f"{gap!r}: {self._named(gap)}" for gap in gaps)
        call = f"{reader}({{{given}}})" if gaps else f"{reader}()"
        corrected = self.frame.corrected_at(statement)
        if corrected:
            call = f"reading_at({self._places_on(corrected)}, lambda: {call})"
        self._take(names, call, statement, line)
        self._accuracies(statement, line)
        for name in names:
            self._measured_of(name, line)

    def _take(self, names: list[str], call: str, read: nodes.Read, line: int) -> None:
        """Gives names the values that a call brings in, and tells them, with the conditions under which they came."""
        for name in names:
            self.behind[name] = frozenset({name})
        targets = ", ".join(map(variable, names)) + ","
        if self._loops:
            self._emit(f"{targets} = {call}", line)
            for name in names:
                self._told_in_turn(name, line)
        else:
            tell = self.frame.readings(tuple(names))
            self._emit(f"{targets} = {self._bind('told', tell)}({call})" if tell else f"{targets} = {call}", line)
        changing = self._changed_around() if self._loops else set()
        note = self.frame.conditions(read, changing, self.behind)
        if note is not None:
            self._emit(f"{self._bind('noted', note)}()", line)

    def _changed_around(self) -> set[tuple[str, str]] | None:
        """The settings that lines of the loops around may change; None where measurements may change any."""
        return self._changed_within(self._loops[0].node.body)

    def _changed_within(self, body: tuple[nodes.Statement, ...]) -> set[tuple[str, str]] | None:
        """The same of the lines of a block."""
        within = list(nodes.walk(body))
        if any(isinstance(statement, nodes.Measure) for statement in within):
            return None
        sets = [statement for statement in within if isinstance(statement, nodes.Set)]
        return {(self.frame.played_by(a.role), a.setting) for s in sets for a in s.assignments}

    def _places_on(self, axes: list[str]) -> str:
        """Where sweeps over frequencies are that run just now."""
        here = [loop.axis for loop in self._loops if self.frame.names[loop.axis].type.dimension == units.HERTZ]
        return "{" + ", ".join(f"{axis!r}: v_{axis}" for axis in axes if axis in here) + "}"

    def _named(self, name: str) -> str:
        owner, _, part = name.partition(".")
        key = nodes.ResultOf(self._nowhere, owner, part) if part else nodes.Name(self._nowhere, name)
        return self.formulas.source(key)

    def _play(self, statement: nodes.Play, line: int) -> None:
        player = self._bind("play", self.frame.play(statement))
        if not statement.readings:
            self._emit(f"{player}()", line)
            return
        records = [reading.name for reading in statement.readings]
        call = f"{player}()"
        if statement.again is not None:
            condition = self._decided(statement.again)
            call = f"{player}(lambda {', '.join(map(variable, records))}: {condition})"
        self._take([*records, statement.repeats], call, statement.read, line)

    def _record(self, statement: nodes.Record, line: int) -> None:
        here = tuple(loop.axis for loop in self._loops)
        made = self.frame.record(statement, here)
        record = self._bind("record", made)
        changing = self._changed_within(statement.body)
        if self._loops and changing is not None:
            around = self._changed_around()
            changing = None if around is None else changing | around
        note = self.frame.conditions(statement.read, changing, self.behind)
        noted = self._bind("noted", note) if note is not None else ""
        at = "".join(f"v_{axis}, " for axis in here)
        self._emit(f"with {record}({self.formulas.time(statement.every)}, ({at})):", line)
        self._depth += 1
        self._watches += not made.is_streamed
        if noted:
            self._emit(f"{noted}()", line)
        self._block(statement.body)
        self._watches -= not made.is_streamed
        self._emit("pass", line)
        self._depth -= 1
        names = [reading.name for reading in statement.readings]
        self._emit(f"{', '.join(map(variable, names))}, = {record}.curves()", line)
        if noted:
            self._emit(f"{noted}()", line)
        for name in names:
            self.behind[name] = frozenset({name})
            if self._loops:
                own = tuple(axis for axis in self.frame.names[name].type.axes if axis not in here)
                self._keep_curve(name, own)

    def _do(self, statement: nodes.Do, line: int) -> None:
        self._emit(f"{self._bind('do', self.frame.action(statement))}()", line)

    def _connect(self, statement: nodes.Connect, line: int) -> None:
        self._emit(f"{self._bind('connect', self.frame.routes(statement))}()", line)

    def _send(self, statement: nodes.Send, line: int) -> None:
        teller, names = self.frame.raw(statement)
        self._emit(f"{self._bind('send', teller)}({', '.join(map(self._named, names))})", line)

    # --- computing ---------------------------------------------------------------------------------------------------

    def _let(self, statement: nodes.Let, line: int) -> None:
        name = statement.name
        if self.formulas.is_by_reference(statement.value):
            self.formulas.by_reference.add(name)
        self.behind[name] = readings_behind(statement.value, self.behind)
        source = self.formulas.source(statement.value)
        self._emit(f"{variable(name)} = {source}", line)
        self._settle_hole(variable(name), [statement.value], line)
        counts = self._stands_on(statement.value)
        if counts:
            self.several.add(name)
            self._emit(f"counts = {counts}", line)
            self._emit(f"left_bad({name!r}, counts)", line)
        if self._loops:
            self._told_in_turn(name, line)
        else:
            teller = self._bind("told", self.frame.computed(name))
            self._emit(f"{teller}({variable(name)}{', counts' if counts else ''})", line)
        if name in self.carried:
            self._keep_accuracy(name, self._carried(statement.value), line)
        self._measured_of(name, line)

    def _settle_hole(self, target: str, exprs: list[nodes.Expr], line: int) -> None:
        """Of single values: which kind of hole a formula gives must not depend on the order of its operands."""
        names = sorted({name for expr in exprs for name in constants.names_in(expr) if name in self.frame.names})
        kinds = [self._type(expr) for expr in exprs]
        if len(names) < 2 or any(kind.axes or not isinstance(kind, Quantity) for kind in kinds):
            return
        operands = ", ".join(map(variable, names))
        self._emit(f"if {target} != {target}: {target} = settled_hole({target}, {operands})", line)

    # --- measurements and programs -----------------------------------------------------------------------------------

    def _measure(self, statement: nodes.Measure, line: int) -> None:
        use = self.program.measures[statement]
        values = []
        for name, expr in use.inputs.items():
            default = use.measurement.defaults[name]
            values.append(self.formulas.source(expr) if expr is not None else repr(_plain(default)))
        axes = tuple(loop.axis for loop in self._loops)
        runner = self._bind("measure", self.frame.measurement(statement, axes))
        at = "".join(f"v_{axis}, " for axis in axes)
        outputs = [f"{statement.name}.{name}" for name in use.measurement.outputs]
        targets = "".join(variable(name) + ", " for name in outputs) or "_"
        self._emit(f"{targets} = {runner}({', '.join([f'({at})', *values])})", line)
        for name in outputs:
            self.behind[name] = frozenset({name})
            self.several.add(name)
            if self._loops and name in self.frame.names:
                own = use.measurement.outputs[name.rpartition(".")[2]].axes
                self._keep_curve(name, own) if own else self._column(name)

    def _callexecutable(self, statement: nodes.CallExecutable, line: int) -> None:
        runner = self._bind("call", self.frame.executable_call(statement))
        given = ", ".join(f"{name!r}: {self.formulas.source(value)}" for name, value in statement.arguments)
        timeout = self.formulas.time(statement.timeout)
        names = [typed.name for typed in statement.gives]
        targets = "".join(variable(name) + ", " for name in names) or "_"
        self._emit(f"{targets} = {runner}({{{given}}}, {timeout})", line)
        for name in names:
            self.behind[name] = frozenset({name})
            if self._loops:
                self._told_in_turn(name, line)
            else:
                self._emit(f"{self._bind('told', self.frame.computed(name))}({variable(name)})", line)
            self._measured_of(name, line)

    # --- the operator and the report ---------------------------------------------------------------------------------

    def _show(self, statement: nodes.Show, line: int) -> None:
        teller, names = self.frame.text(statement)
        self._emit(f"{self._bind('show', teller)}({', '.join(map(self._named, names))})", line)

    def _ask(self, statement: nodes.Ask, line: int) -> None:
        asker, names = self.frame.question(statement)
        bounds = [self.formulas.source(bound) for bound in statement.bounds or ()]
        if statement.criterion is not None:
            bounds = list(self.formulas.limits(statement.criterion, None))
        given = f"({', '.join(bounds)}{',' if bounds else ''}), {', '.join(map(self._named, names))}"
        call = f"{self._bind('ask', asker)}({given})"
        if not statement.name or statement.kind == "adjust":
            self._emit(call, line)
            return
        self._emit(f"{variable(statement.name)} = {call}", line)
        if self._loops:
            self._column(statement.name)
        else:
            self._emit(f"{self._bind('told', self.frame.computed(statement.name))}({variable(statement.name)})", line)

    def _attach(self, statement: nodes.Attach, line: int) -> None:
        attacher, names = self.frame.attachment(statement)
        self._emit(f"{self._bind('attach', attacher)}({', '.join(map(self._named, names))})", line)

    def _teach(self, statement: nodes.Teach, line: int) -> None:
        self._emit(f"{self._bind('teach', self.frame.teaching(statement))}()", line)

    def _tone(self, statement: nodes.Tone, line: int) -> None:
        self._emit(f"{self._bind('tone', self.frame.tone(statement))}()", line)

    def _plot(self, statement: nodes.Plot, line: int) -> None:
        self._emit(f"{self._bind('plot', self.frame.plot(statement))}()", line)

    def _skip(self, statement: nodes.Skip, line: int) -> None:
        self._emit(f"end_test({statement.why!r})", line)

    def _stop(self, statement: nodes.Stop, line: int) -> None:
        self._emit(f"end_unit({statement.why!r})", line)

    def _expect(self, statement: nodes.Expect, line: int) -> None:
        self._emit("expect_limiting()", line)


def _plain(value: constants.Value) -> Any:
    """A value known before the run, as the code computes with it."""
    return float(value) if isinstance(value, Decimal) else value
