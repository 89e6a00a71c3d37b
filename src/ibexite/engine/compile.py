"""Compiles the blocks of a vetted program into Python functions.

The generated code has the file name and the line numbers of the sequence, so that an error which passes through it
names the line. Everything that can be looked up, checked or computed beforehand is bound by name; the loop over points
only calls what is bound.
"""

from __future__ import annotations

import ast
from array import array
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from ibexite import units
from ibexite.engine.formula import Formulas, readings_behind
from ibexite.language import constants, nodes
from ibexite.language.program import Binding, Program
from ibexite.language.types import Type

Bound = dict[str, Any]


@dataclass(slots=True)
class _Loop:
    """A sweep that is being compiled: the table of its rows and the columns met so far."""

    sweep: nodes.Sweep
    axis: str
    columns: list[str] = field(default_factory=list)
    inner: list[_Loop] = field(default_factory=list)
    table: str = ""


class Binder:
    """What the compiler asks of the runtime: ready-made objects for lines. Implemented by ibexite.engine.runtime."""

    def set_line(self, statement: nodes.Set) -> Any: ...
    def read_line(self, statement: nodes.Read) -> Any: ...
    def tally(self, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str]) -> Any: ...
    def table(self, axes: tuple[Any, ...], columns: tuple[str, ...]) -> Any: ...
    def axis(self, name: str) -> Any: ...
    def text(self, statement: nodes.Show | nodes.AskConfirm) -> Any: ...
    def plot(self, statement: nodes.Plot) -> Any: ...
    def computed(self, binding: Binding) -> Any: ...
    def readings(self, names: tuple[str, ...]) -> Any: ...
    def sweep_started(self, name: str, tables: list[tuple[Any, list[Any]]]) -> Any: ...
    def points(self, sweep: nodes.Sweep) -> Any: ...
    def function(self, name: str) -> Any: ...


class Compiler:
    """Compiles one block. `names` are the bindings of the block, as the checker found them."""

    def __init__(self, program: Program, binder: Binder, names: dict[str, Binding], bound: Bound) -> None:
        self.program, self.binder, self.names = program, binder, names
        self.bound = dict(bound)
        self.formulas = Formulas(program.types, program.params)
        self.behind: dict[str, frozenset[str]] = {}
        self._lines: list[str] = []
        self._line_of: list[int] = [0]
        self._depth = 1
        self._loops: list[_Loop] = []
        self._finished: list[tuple[str, int]] = []  # what to run when the outermost sweep has ended, with its line
        self._count = 0

    def compile(
        self, body: tuple[nodes.Statement, ...], guard: Callable[[Exception], None] | None = None
    ) -> Callable[[], None]:
        """The function that carries out a block. With a guard, each line is tried whatever became of the one before,
        and the guard is told of the errors."""
        self._emit("def block():", 1, depth=0)
        for name in sorted(self.program.params):
            self.bound[f"v_{name}"] = _plain(self.program.params[name])
        if guard is None:
            self._block(body)
        else:
            self._guarded_block(body, guard)
        self._emit("pass", 1)
        tree = ast.parse("\n".join(self._lines))
        for item in ast.walk(tree):
            if isinstance(item, ast.Name) and item.id.startswith("f_"):
                self.bound[item.id] = self.binder.function(item.id[2:])
            if hasattr(item, "lineno"):
                line = self._line_of[item.lineno]
                item.lineno = item.end_lineno = line  # type: ignore[attr-defined]
                item.col_offset = item.end_col_offset = 0  # type: ignore[attr-defined]
        exec(compile(tree, self.program.source.name, "exec"), self.bound)
        run: Callable[[], None] = self.bound["block"]
        return run

    # --- writing -----------------------------------------------------------------------------------------------------

    def _emit(self, text: str, line: int, *, depth: int | None = None) -> None:
        self._lines.append("    " * (self._depth if depth is None else depth) + text)
        self._line_of.append(line)

    def _bind(self, prefix: str, thing: Any) -> str:
        self._count += 1
        name = f"{prefix}_{self._count}"
        self.bound[name] = thing
        return name

    def _line(self, statement: Any) -> int:
        return self.program.source.line_of(statement.span.start)

    def _type(self, expr: nodes.Expr) -> Type:
        return self.program.types[expr]

    def _block(self, body: tuple[nodes.Statement, ...]) -> None:
        for statement in body:
            getattr(self, f"_{type(statement).__name__.lower()}")(statement, self._line(statement))

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

    # --- verbs -------------------------------------------------------------------------------------------------------

    def _set(self, statement: nodes.Set, line: int) -> None:
        setter = self._bind("set", self.binder.set_line(statement))
        values = ", ".join(self.formulas.source(a.value) for a in statement.assignments)
        self._emit(f"{setter}({values})", line)

    def _read(self, statement: nodes.Read, line: int) -> None:
        reader = self._bind("read", self.binder.read_line(statement))
        names = [r.name for r in statement.readings]
        for name in names:
            self.behind[name] = frozenset({name})
        targets = ", ".join(f"v_{name}" for name in names) + ","
        if self._loops:
            self._emit(f"{targets} = {reader}()", line)
            self._loops[-1].columns += names
        else:
            teller = self._bind("told", self.binder.readings(tuple(names)))
            self._emit(f"{targets} = {teller}({reader}())", line)

    def _let(self, statement: nodes.Let, line: int) -> None:
        name = statement.name
        self.behind[name] = readings_behind(statement.value, self.behind)
        source = self.formulas.source(statement.value)
        self._emit(f"v_{name} = {source}", line)
        if self._loops:
            self._loops[-1].columns.append(name)
        else:
            teller = self._bind("told", self.binder.computed(self.names[name]))
            self._emit(f"{teller}(v_{name})", line)

    def _check(self, statement: nodes.Check, line: int) -> None:
        low, high = self._limits(statement.criterion)
        axes = tuple(loop.axis for loop in self._loops)
        kind = self._type(statement.value)
        readings = readings_behind(statement.value, self.behind)
        tally = self._bind("check", self.binder.tally(statement, axes + kind.axes, readings))
        at = "(" + "".join(f"v_{axis}, " for axis in axes) + ")"
        value = self.formulas.source(statement.value)
        is_whole = kind.axes or (statement.where is not None and self._type(statement.where).axes)
        if is_whole:
            where = self.formulas.source(statement.where) if statement.where is not None else "True"
            self._emit(f"{tally}.judge_curve({value}, {low}, {high}, {where}, {at})", line)
        else:
            if statement.where is not None:
                self._emit(f"if {self.formulas.source(statement.where)}:", line)
            indent = "    " if statement.where is not None else ""
            self._emit(f"{indent}{tally}.judge({value}, {low}, {high}, {at})", line)
        if self._loops:
            self._finished.append((f"{tally}.close()", line))
        else:
            self._emit(f"{tally}.close()", line)

    def _limits(self, criterion: nodes.Criterion) -> tuple[str, str]:
        """The source of the lower and the upper limit; exact where both parts are known."""
        a = self.formulas.source(criterion.a)
        if criterion.kind in (">=", ">"):
            return a, "INF"
        if criterion.kind in ("<=", "<"):
            return "-INF", a
        assert criterion.b is not None
        if criterion.kind == "between":
            return a, self.formulas.source(criterion.b)
        nominal = constants.number(criterion.a, self.program.params)
        tolerance = constants.number(criterion.b, self.program.params)
        is_relative = self.program.tolerances[criterion] == "relative"
        if tolerance is not None:
            tolerance = constants.as_difference(criterion.b, tolerance)
            if nominal is not None:
                half = abs(nominal * tolerance) if is_relative else tolerance
                return repr(float(nominal - half)), repr(float(nominal + half))
        b = self.formulas.source(criterion.b) if tolerance is None else repr(float(tolerance))
        half_text = f"f_absolute({a} * {b})" if is_relative else b
        return f"({a} - {half_text})", f"({a} + {half_text})"

    def _wait(self, statement: nodes.Wait, line: int) -> None:
        self._emit(f"wait({self.formulas.source(statement.time)})", line)

    def _show(self, statement: nodes.Show | nodes.AskConfirm, line: int) -> None:
        teller, names = self.binder.text(statement)
        self._emit(f"{self._bind('show', teller)}({', '.join('v_' + name for name in names)})", line)

    _askconfirm = _show

    def _plot(self, statement: nodes.Plot, line: int) -> None:
        self._emit(f"{self._bind('plot', self.binder.plot(statement))}()", line)

    # --- sweeps ------------------------------------------------------------------------------------------------------

    def _sweep(self, sweep: nodes.Sweep, line: int) -> None:
        is_outermost = not self._loops
        if is_outermost:
            self._finished = []
            started = len(self._lines)
            self._emit("", line)  # a place for the announcement, known once the inner sweeps are compiled
        loop = _Loop(sweep, sweep.name)
        if self._loops:
            self._loops[-1].inner.append(loop)
        self._loops.append(loop)
        self._loop(loop, line)
        self._loops.pop()
        if is_outermost:
            self._announce(loop, started)
            for text, at in self._finished:
                self._emit(text, at)
        self._release(loop, line, is_outermost)

    def _loop(self, loop: _Loop, line: int) -> None:
        name = loop.axis
        axis = self.binder.axis(name)
        self.bound[f"axis_{name}"] = axis
        self.bound[f"points_{name}"] = self._points(loop.sweep)
        points = f"points_{name}" if self._is_known(loop.sweep) else f"make_points_{name}({self._ends(loop.sweep)})"
        self._emit(f"for p_{name}, v_{name} in axis_{name}.run({points}):", line)
        self._depth += 1
        self._block(loop.sweep.body)
        if loop.columns or not loop.inner:
            axes = tuple(f"axis_{outer.axis}" for outer in self._loops)
            table = self.binder.table(tuple(self.bound[a] for a in axes), tuple(loop.columns))
            loop.table = self._bind("table", table)
            names = [outer.axis for outer in self._loops]
            self._emit(
                f"{loop.table}(({_commas('p_', names)}), ({_commas('v_', names)}), ({_commas('v_', loop.columns)}))",
                line,
            )
        self._depth -= 1

    def _is_known(self, sweep: nodes.Sweep) -> bool:
        return self.program.points.get(sweep) is not None

    def _points(self, sweep: nodes.Sweep) -> array[float] | None:
        points = self.program.points.get(sweep)
        if points is not None:
            return array("d", map(float, points))
        self.bound[f"make_points_{sweep.name}"] = self.binder.points(sweep)
        return None

    def _ends(self, sweep: nodes.Sweep) -> str:
        exprs = list(sweep.values)
        for segment in sweep.segments:
            exprs += [e for e in (segment.start, segment.end, segment.amount) if e is not None]
        return ", ".join(self.formulas.source(e) for e in exprs)

    def _announce(self, loop: _Loop, place: int) -> None:
        tables: list[tuple[Any, list[Any]]] = []

        def collect(here: _Loop, outer: list[Any]) -> None:
            sizes = [*outer, self.bound.get(f"points_{here.axis}")]
            if here.table:
                tables.append((self.bound[here.table], sizes))
            for inner in here.inner:
                collect(inner, sizes)

        collect(loop, [])
        started = self._bind("started", self.binder.sweep_started(loop.axis, tables))
        self._lines[place] = "    " * self._depth + f"{started}()"

    def _release(self, loop: _Loop, line: int, is_outermost: bool) -> None:
        """After a sweep its names are curves: whole ones after the outermost, slices at this point within another."""
        outer = [around.axis for around in self._loops]
        place = f"({_commas('p_', outer)})"
        for name in loop.columns:
            if self._is_used_as_curve(name, outer):
                self._emit(f"v_{name} = {loop.table}.curve({name!r}, {place})", line)
        if self._is_used_as_curve(loop.axis, outer):
            self._emit(f"v_{loop.axis} = axis_{loop.axis}.curve()", line)
        if is_outermost:
            for inner in loop.inner:
                self._release(inner, line, is_outermost)

    def _is_used_as_curve(self, name: str, outer: list[str]) -> bool:
        """True if any line uses the name as a curve, as seen from within the sweeps around."""
        return any(
            isinstance(expr, nodes.Name) and expr.name == name and kind.axes and not set(outer) & set(kind.axes)
            for expr, kind in self.program.types.items()
        )


def _commas(prefix: str, names: list[str]) -> str:
    return "".join(f"{prefix}{name}, " for name in names)


def _plain(value: constants.Value) -> Any:
    return float(value) if isinstance(value, units.Decimal) else value
