"""Compiles loops, conditions and waits."""

from __future__ import annotations

from array import array
from typing import Any

from ibexite.engine.compile_base import CompilerBase, Loop, commas
from ibexite.engine.formula import variable
from ibexite.language import constants, nodes
from ibexite.language.carrying import SUFFIX


class LoopCompiler(CompilerBase):
    """The verbs sweep, repeat, search, leave, if, wait."""

    # --- waiting and branching ---------------------------------------------------------------------------------------

    def _wait(self, statement: nodes.Wait, line: int) -> None:
        self._emit(f"wait({self.formulas.source(statement.time)})", line)

    def _waitreading(self, statement: nodes.WaitReading, line: int) -> None:
        names = [reading.name for reading in statement.read.readings]
        waiter = self._bind("waiting", self.frame.waiting(statement))
        times = f"{self.formulas.time(statement.every)}, {self.formulas.time(statement.timeout)}"
        condition = self.formulas.source(statement.until)
        arguments = ", ".join(variable(name) for name in names)
        self._emit(f"{waiter}({times}, lambda {arguments}, drift: {condition})", line)

    def _if(self, statement: nodes.If, line: int) -> None:
        for name in self._made_in(statement):
            self._emit(f"{variable(name)} = {self._not_measured(name)}", line)
        word = "if"
        for condition, body in statement.branches:
            self._emit(f"{word} {self._decided(condition)}:", line)
            self._branch(body, line)
            word = "elif"
        if statement.otherwise:
            self._emit("else:", line)
            self._branch(statement.otherwise, line)

    def _decided(self, condition: nodes.Expr) -> str:
        """The source of a condition that must be known; one that stands on several values of which some were bad is
        not."""
        counts = self._stands_on(condition)
        return f"decided({self.formulas.source(condition)}{', ' + counts if counts else ''})"

    def _branch(self, body: tuple[nodes.Statement, ...], line: int) -> None:
        self._depth += 1
        self._block(body)
        self._emit("pass", line)
        self._depth -= 1

    def _made_in(self, statement: nodes.If) -> list[str]:
        """The names that get a value in one of the branches; of loops within them those that are used as curves."""
        made: dict[str, None] = {}
        for body in nodes.inner_bodies(statement):
            for inner in nodes.walk(body):
                names = [name for name, _ in nodes.names_made(inner)]
                if isinstance(inner, nodes.Measure):
                    names += [f"{inner.name}.{name}" for name in self.program.measures[inner].measurement.outputs]
                names += [name + SUFFIX for name in names if name in self.carried]
                names += [key for name in names for key in self._parts_of(name)]
                made |= dict.fromkeys(name for name in names if self._is_seen_outside(name))
        return list(made)

    def _is_seen_outside(self, name: str) -> bool:
        binding = self.frame.names.get(name)
        outer = [loop.axis for loop in self._loops]
        return binding is None or set(binding.type.axes) <= set(outer) or self._is_used_as_curve(name, outer)

    def _not_measured(self, name: str) -> str:
        """The source of what a name stands for whose line was not carried out."""
        binding = self.frame.names.get(name)
        axes = [] if binding is None else [a for a in binding.type.axes if a not in {loop.axis for loop in self._loops}]
        return f"never_over({axes!r})" if axes else "NEVER"

    def _leave(self, statement: nodes.Leave, line: int) -> None:
        self._emit(f"leave({self._loops[-1].axis!r}, {statement.why!r})", line)

    # --- the three loops ---------------------------------------------------------------------------------------------

    def _sweep(self, sweep: nodes.Sweep, line: int) -> None:
        self._whole_loop(Loop(sweep, sweep.name, self._number()), line)

    def _repeat(self, repeat: nodes.Repeat, line: int) -> None:
        self._whole_loop(Loop(repeat, repeat.name, self._number()), line)

    def _search(self, search: nodes.Search, line: int) -> None:
        self._whole_loop(Loop(search, search.name, self._number()), line)

    def _whole_loop(self, loop: Loop, line: int) -> None:
        """A loop. However the outermost one ends, its checks are told of: points that were judged count."""
        is_outermost = not self._loops
        if is_outermost:
            self._finished, self._tallies = [], []
            started = len(self._lines)
            self._emit("", line)  # a place for the announcement, known once the inner loops are compiled
            self._emit("try:", line)
            self._depth += 1
        else:
            self._loops[-1].inner.append(loop)
        self._loops.append(loop)
        loop.is_ragged = any(outer.is_ragged for outer in self._loops) or _can_be_ragged(loop.node)
        self._loop(loop, line)
        self._loops.pop()
        if is_outermost:
            self._depth -= 1
            self._emit("except BaseException:", line)
            self._emit(f"    broken_off({', '.join(tally for tally, _ in self._tallies)})", line)
            self._emit("    raise", line)
            self._announce(loop, started)
            for text, at in [*self._finished, *((f"{tally}.close()", at) for tally, at in self._tallies)]:
                self._emit(text, at)
        self._release(loop, line, is_outermost)

    def _loop(self, loop: Loop, line: int) -> None:
        name, node = loop.axis, loop.node
        labels = self.program.labels.get(node, ()) if isinstance(node, nodes.Sweep) else ()
        self.bound[loop.axis_key] = self.frame.axis(name, labels)
        value = f"a_{name}" if labels else f"v_{name}"
        self._emit(f"for p_{name}, {value} in {loop.axis_key}.{self._turns(loop, line)}:", line)
        self._depth += 1
        if labels:
            self.bound[f"labels_{loop.number}"] = labels
            self._emit(f"v_{name} = labels_{loop.number}[int(a_{name})]", line)
        if isinstance(node, nodes.Repeat):
            self._emit(f"{variable(node.elapsed)} = turns_{loop.number}.elapsed", line)
            loop.columns.append(node.elapsed)
        if _leaves(node.body):
            self._emit(f"left_{loop.number} = False", line)
        place = len(self._lines)
        self._emit("pass", line)  # the columns of this turn have no values yet
        self._emit("try:", line)
        self._depth += 1
        self._block(node.body)
        self._emit("pass", line)
        self._depth -= 1
        if _leaves(node.body):
            self._emit("except Leaving:", line)
            self._emit(f"    left_{loop.number} = True", line)
        own = [self._slot(column) for column in self._own(loop)] + [variable(name) for name in loop.curves]
        if own:
            self._lines[place] = "    " * self._depth + " = ".join([*own, "NEVER"])
        row = self._row(loop)
        self._emit("except BaseException:", line)  # what was read in a turn that broke is kept
        self._emit(f"    {row.replace('(', '.broken_off(', 1)}" if row else "    pass", line)
        self._emit("    raise", line)
        if row:
            self._emit(row, line)
            self._emit("heed()", line)  # whether the run is to end; what was measured is recorded
        for name, rows in loop.curves.items():
            self._emit(f"{rows}(({commas('p_', [around.axis for around in self._loops])}), {variable(name)})", line)
        self._told(loop, line)
        self._depth -= 1
        if isinstance(node, nodes.Search):
            self._emit(f"v_{name} = {self._slot(name)} = search_{loop.number}.result()", line)
            if len(self._loops) > 1:
                self._loops[-2].columns.append(name)
            else:
                self._finished.append((f"{self._bind('told', self.frame.computed(name))}(v_{name})", line))

    def _own(self, loop: Loop) -> list[str]:
        """The columns of a loop that its lines make (not its elapsed time)."""
        return [c for c in loop.columns if not (isinstance(loop.node, nodes.Repeat) and c == loop.node.elapsed)]

    def _slot(self, column: str) -> str:
        """The variable that holds the value of a column; what a search has found is not the value that it tries."""
        binding = self.frame.names.get(column)
        return f"found_{column}" if binding is not None and binding.origin == "search" else variable(column)

    def _row(self, loop: Loop) -> str:
        """The call that records a row of a loop, "" for one that has none of its own."""
        if not loop.columns and loop.inner:
            return ""
        axes = tuple(self.bound[outer.axis_key] for outer in self._loops)
        columns = [part for name in loop.columns for part in self._parts(name)]
        loop.table = self._bind("table", self.frame.table(axes, tuple(columns), loop.is_ragged))
        names = [outer.axis for outer in self._loops]
        x = "".join(f"v_{name}, " for name in names)
        values = "".join(self._values(name) for name in loop.columns)
        return f"{loop.table}(({commas('p_', names)}), ({x}), ({values}))"

    def _parts(self, name: str) -> list[str]:
        return [f"{name}.re", f"{name}.im"] if self._is_complex(name) else [name]

    def _values(self, name: str) -> str:
        v = self._slot(name)
        return f"{v}.real, {v}.imag, " if self._is_complex(name) else f"{v}, "

    def _told(self, loop: Loop, line: int) -> None:
        """After the row: what the loop must know of this turn."""
        name, node = loop.axis, loop.node
        if _leaves(node.body):
            self._emit(f"if left_{loop.number}: break", line)
        if isinstance(node, nodes.Search):
            self._emit(f"search_{loop.number}.held = {self._decided(node.until)}", line)
        elif isinstance(node, nodes.Repeat) and node.kind == "until":
            self._emit(f"turns_{loop.number}.held = holds({self.formulas.source(node.amount)})", line)
        elif isinstance(node, nodes.Sweep) and node.refine is not None:
            self._emit(f"refined_{loop.number}.tell(v_{name}, {variable(node.refine.column)})", line)

    # --- which values a loop takes -----------------------------------------------------------------------------------

    def _turns(self, loop: Loop, line: int) -> str:
        node, name = loop.node, loop.number
        if isinstance(node, nodes.Repeat):
            self.bound[f"make_turns_{name}"] = self.frame.turns(node)
            amount = "None" if node.kind == "until" else self.formulas.source(node.amount)
            times = [self.formulas.time(e) if e is not None else "None" for e in (node.every, node.timeout)]
            self._emit(f"turns_{name} = make_turns_{name}({', '.join([amount, *times])})", line)
            return f"visit(turns_{name})"
        if isinstance(node, nodes.Search):
            self.bound[f"make_search_{name}"] = self.frame.search(node)
            given = [self.formulas.source(e) if e is not None else "None" for e in (node.start, node.end, node.step)]
            given.append(self._difference(node.resolution))
            given[2] = self._difference(node.step) if node.step is not None else "None"
            self._emit(f"search_{name} = make_search_{name}({', '.join(given)})", line)
            return f"visit(search_{name})"
        points = self.program.points.get(node)
        if points is not None:
            loop.points = self.bound[f"points_{name}"] = array("d", map(self.frame.rounding(node), map(float, points)))
            made = f"points_{name}"
        else:
            self.bound[f"make_points_{name}"] = self.frame.points(node)
            made = f"make_points_{name}({self._ends(node)})"
        if node.refine is None:
            return f"run({made})"
        loop.points = None
        self.bound[f"make_refined_{name}"] = self.frame.refined(node)
        self._emit(f"refined_{name} = make_refined_{name}({made})", line)
        return f"visit(refined_{name})"

    def _difference(self, expr: nodes.Expr) -> str:
        known = constants.number(expr, self.frame.known)
        return repr(float(constants.as_difference(expr, known))) if known is not None else self.formulas.source(expr)

    def _ends(self, sweep: nodes.Sweep) -> str:
        exprs = list(sweep.values)
        for segment in sweep.segments:
            exprs += [e for e in (segment.start, segment.end, segment.amount) if e is not None]
        return ", ".join(self.formulas.source(e) for e in exprs)

    def _announce(self, loop: Loop, place: int) -> None:
        tables: list[tuple[Any, list[Any]]] = []
        curves: list[Any] = []

        def collect(here: Loop, outer: list[Any]) -> None:
            points = here.points
            if isinstance(here.node, nodes.Repeat) and here.node.kind == "times":
                points = self.frame.known_count(here.node)
            sizes = [*outer, points]
            if here.table:
                tables.append((self.bound[here.table], sizes))
            curves.extend(self.bound[rows] for rows in here.curves.values())
            for inner in here.inner:
                collect(inner, sizes)

        collect(loop, [])
        started = self._bind("started", self.frame.sweep_started(loop.axis, tables, curves))
        self._lines[place] = "    " * self._depth + f"{started}()"

    def _release(self, loop: Loop, line: int, is_outermost: bool) -> None:
        """After a loop its names are curves: whole ones after the outermost, slices at this point within another."""
        outer = [around.axis for around in self._loops]
        place = f"({commas('p_', outer)})"
        for name in loop.columns:
            if self._is_used_as_curve(name, outer):
                made = f"curve({name!r}, {place})" if outer else f"whole({name!r})"
                self._emit(f"{variable(name)} = {loop.table}.{made}", line)
        for name, rows in loop.curves.items():
            if self.frame.is_used_over(name, loop.axis):
                self._emit(f"{variable(name)} = {rows}.curve({place})", line)
        if not isinstance(loop.node, nodes.Search) and self._is_used_as_curve(loop.axis, outer):
            self._emit(f"v_{loop.axis} = {loop.axis_key}.curve()", line)
        if is_outermost:
            for inner in loop.inner:
                self._release(inner, line, is_outermost)

    def _is_used_as_curve(self, name: str, outer: list[str]) -> bool:
        """True if any line uses the name as a curve, as seen from within the loops around."""
        if name in self.frame.outputs:
            return not outer
        return any(not set(outer) & axes for axes in self.frame.curves_used.get(name, ()))


def _leaves(body: tuple[nodes.Statement, ...]) -> bool:
    """True if a loop with this body has a `leave` of its own."""
    for statement in body:
        if isinstance(statement, nodes.Leave):
            return True
        if isinstance(statement, nodes.If | nodes.Watch | nodes.Record) and any(
            map(_leaves, nodes.inner_bodies(statement))
        ):
            return True
    return False


def _can_be_ragged(node: nodes.Loop) -> bool:
    """True if the loop, in a second pass, can have other turns than in the first, or be left out."""
    if isinstance(node, nodes.Search) or (isinstance(node, nodes.Repeat) and node.kind != "times"):
        return True
    if isinstance(node, nodes.Sweep) and node.refine is not None:
        return True
    return _leaves(node.body) or any(isinstance(s, nodes.If) for s in node.body)
