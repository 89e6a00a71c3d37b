"""Checks the lines of one block (a test, before unit, a measurement), verb by verb."""

from __future__ import annotations

import re

from ibexite import units
from ibexite.errors import UnitError, did_you_mean
from ibexite.frozen import replaced
from ibexite.language import constants, fill, nodes
from ibexite.language.check_bench_lines import BenchLineChecker
from ibexite.language.check_judging import JudgingChecker
from ibexite.language.check_loops import LoopChecker
from ibexite.language.program import Binding, VettedMeasure
from ibexite.language.source import Span
from ibexite.values import NUMBER, Compound, Picture, Quantity, Type, Words


class DeedChecker(BenchLineChecker, LoopChecker, JudgingChecker):
    """Walks one block."""

    def check_block(self, body: tuple[nodes.Statement, ...]) -> None:
        """Checks the lines of a block and of the blocks within it."""
        if not self.loops and not self.later:
            self.body = body
            self.later = dict(made for statement in nodes.walk(body) for made in nodes.names_made(statement))
        for statement in body:
            getattr(self, f"_{type(statement).__name__.lower()}")(statement)

    # --- computing ---------------------------------------------------------------------------------------------------

    def _let(self, statement: nodes.Let) -> None:
        kind = self.typer.type_of(statement.value, self.lookup)
        if kind is None:
            self.broken.add(statement.name)
            return
        if isinstance(statement.value, nodes.Call) and statement.value.function == "line":
            self.source.report(
                statement.value.span, "a line by itself", "", "It has values only where it meets a curve."
            )
            self.broken.add(statement.name)
            return
        if statement.shown is not None and (
            not isinstance(kind, Quantity) or statement.shown.dimension != kind.dimension
        ):
            self.source.report(
                statement.value.span, "wrong unit", str(kind), f"It cannot be shown in {statement.shown.symbol}."
            )
        elif statement.shown is not None and isinstance(kind, Quantity):
            kind = replaced(kind, shown=statement.shown.symbol)
        self.bind_in_turn(statement.name, "let", kind, statement.span)

    def _if(self, statement: nodes.If) -> None:
        before = dict(self.names)
        merged: dict[str, Binding] = {}
        for condition, _ in statement.branches:
            self.condition(condition, "if v_out > 4.75 V")
        for body in (*(body for _, body in statement.branches), statement.otherwise):
            self.names = dict(before)
            self.check_block(body)
            for name, binding in self.names.items():
                if name in before:
                    continue
                other = merged.get(name)
                if other is not None and not other.type.fits(binding.type):
                    self.source.report(
                        binding.span,
                        "another unit than in the branch above",
                        str(binding.type),
                        f"There it is {other.type}.",
                    )
                merged[name] = binding
        self.names = {**before, **merged}

    # --- measurements and programs -----------------------------------------------------------------------------------

    def _measure(self, statement: nodes.Measure) -> None:
        facts = self.scope.measurements.get(statement.measurement)
        if facts is None and self.companions is not None:
            facts = self.companions.installed().get(statement.measurement)
        if facts is None:
            hint = did_you_mean(statement.measurement, self.scope.measurements)
            self.source.report(
                statement.span,
                f"unknown measurement {statement.measurement!r}",
                "",
                # fmt: skip
                hint or 'Declare it at the left margin, or bring it with: use "shared.ibx"',
            )
            self.broken.add(statement.name)
            return
        self.program.adopt(facts)
        given = dict(statement.arguments)
        for name, value in given.items():
            if name not in facts.needs and name not in facts.inputs:
                hint = did_you_mean(name, [*facts.needs, *facts.inputs])
                self.source.report(value.span, f"{facts.name} takes no {name!r}", "", hint)
        roles = {name: self._played_by(statement, need, given.get(name)) for name, need in facts.needs.items()}
        inputs: dict[str, nodes.Expr | None] = {}
        values = dict(facts.defaults)
        for name, kind in facts.inputs.items():
            inputs[name] = given.get(name)
            if name not in given:
                continue
            found = self.scalar(given[name])
            values.pop(name, None)
            if found is not None and not found.fits(kind):
                self.source.report(given[name].span, "wrong unit", str(found), f"{name} of {facts.name} is {kind}.")
                continue
            known = constants.evaluate(given[name], self.scope.known)
            if known is not None:
                values[name] = known
                problem = facts.refusal(name, known)
                if problem:
                    self.source.report(given[name].span, problem[0], f"an input of {facts.name}", problem[1])
        self.program.measures[statement] = VettedMeasure(facts, {k: v for k, v in roles.items() if v}, inputs)
        for point in facts.set_points:
            role = roles.get(point.role) or point.role
            self.set_points.append(
                replaced(point, role=role, known={**point.known, **values}, loops=(*self.loops, *point.loops))
            )
        self.uses += [replaced(use, role=roles.get(use.role) or use.role) for use in facts.uses]
        self.plays += [
            replaced(
                use, role=roles.get(use.role) or use.role,
                signals=roles | {mine: roles.get(theirs) or theirs for mine, theirs in use.signals.items()},
            )
            for use in facts.plays
        ]  # fmt: skip
        self.recordings += [
            replaced(use, signals=roles | {mine: roles.get(theirs) or theirs for mine, theirs in use.signals.items()})
            for use in facts.recordings
        ]
        self._outputs_of(statement, facts.outputs)

    def _played_by(self, statement: nodes.Measure, need: nodes.Need, given: nodes.Expr | None) -> str:
        """The role or signal of this block that plays one of the measurement."""
        name = given.name if isinstance(given, nodes.Name) else need.name if given is None else ""
        place = given.span if given is not None else statement.span
        mine = self.scope.needs.get(name)
        self.scope.used.add(name)
        what = f"a {need.class_name}" if not need.is_signal else "a signal"
        if mine is None:
            self.source.report(place, f"what is {need.name!r} here?", "",
                               f"{statement.measurement} needs {what}: write {need.name} = name")  # fmt: skip
            return ""
        if not need.takes(mine):
            said = mine.class_name or str(mine.type)
            self.source.report(place, "another kind", f"{name} is {said}",
                               f"{need.name} of {statement.measurement} is {what}"
                               + (f" in {need.type.word}." if need.type else "."))  # fmt: skip
            return ""
        return name

    def _outputs_of(self, statement: nodes.Measure, outputs: dict[str, Type]) -> None:
        for name, kind in outputs.items():
            key = f"{statement.name}.{name}"
            for axis in kind.axes:
                known = outputs.get(axis)
                if known is not None:
                    self.foreign_axes[axis] = known.over((axis,))
            self.bind_in_turn(key, "let", kind, statement.span)

    def _callexecutable(self, statement: nodes.CallExecutable) -> None:
        if not self.program_exists(statement.program):
            self.source.report(
                statement.span,
                f"there is no program {statement.program!r}",
                "",
                "It is looked for beside the sequence.",
            )
        for _, value in statement.arguments:
            self.scalar(value)
        self._time(statement.timeout, "a time-out", "10 s")
        for typed in statement.gives:
            kind = typed.type
            for axis in kind.axes:
                self.foreign_axes.setdefault(axis, NUMBER)
            self.bind_in_turn(typed.name, "call", kind, typed.span)

    def program_exists(self, name: str) -> bool:
        """True if there is such a file; without companions nobody knows."""
        return self.companions is None or self.companions.exists(name)

    # --- the operator and the report ---------------------------------------------------------------------------------

    def _show(self, statement: nodes.Show) -> None:
        self._text(statement.text, statement.span)

    def _attach(self, statement: nodes.Attach) -> None:
        self._text(statement.file, statement.span, bare=True)

    def _teach(self, statement: nodes.Teach) -> None:
        if not re.fullmatch(r"[a-z_][a-z0-9_]*", statement.reference):
            self.source.report(
                statement.span, "this cannot be the name of a reference", "", "Small letters, digits and _, in quotes."
            )
        if self.loops or self.block in ("after unit", "after lot", "before lot"):
            self.source.report(statement.span, "not within a test and behind its loops", "", "Save values there.")
        for name, span in statement.names:
            test, _, part = name.partition(".")
            key = nodes.ResultOf(span, test, part) if part and test not in self.names else nodes.Name(span, name)
            kind = self.typer.type_of(key, self.lookup)
            if isinstance(kind, Picture):
                self.source.report(span, "a picture", "", "It is looked at, not compared.")

    def _tone(self, statement: nodes.Tone) -> None:
        """Nothing can be wrong with it."""

    def _ask(self, statement: nodes.Ask) -> None:
        self._text(statement.text, statement.span)
        if statement.picture and not self.program_exists(statement.picture):
            self.source.report(statement.span, f"there is no picture {statement.picture!r}", "",
                               "It is looked for beside the sequence.")  # fmt: skip
        if statement.kind == "adjust":
            need = self.signal(statement.name, statement.span)
            assert statement.criterion is not None
            if need is not None:
                assert need.type is not None
                self.typer.demand(need.type, statement.criterion, self.lookup)
            return
        if statement.pattern:
            self.pattern(statement.pattern, statement.span)
        kind = statement.type
        if kind is None:
            return
        for bound in statement.bounds or ():
            found = self.scalar(bound)
            if found is not None and not found.fits(kind):
                self.source.report(bound.span, "wrong unit", str(found), f"The answer is {kind}.")
        self.bind(statement.name, "ask", kind.over(self.here), statement.span)

    def _text(self, text: str, span: Span, *, bare: bool = False) -> None:
        """Checks the gaps of a text. bare: where a number must have its unit named, for machines read it."""
        for gap in fill.gaps(text):
            place = Span(span.start + 1 + gap.start, span.start + 1 + gap.end)
            owner, _, part = gap.name.partition(".")
            kind = self.lookup(nodes.ResultOf(place, owner, part) if part else nodes.Name(place, gap.name))
            if kind is None:
                continue
            if kind.axes:
                self.source.report(
                    place, "a curve in a text", str(kind), "Take one value of it before: let best = max(x)"
                )
                continue
            if bare and isinstance(kind, Compound | Picture):
                self.source.report(place, "this has several parts", str(kind), "Only texts and numbers are sent.")
                continue
            if not gap.unit:
                if bare and isinstance(kind, Quantity) and not kind.dimension.is_plain:
                    symbol = units.symbol_of(kind.dimension)
                    self.source.report(place, "in which unit?", str(kind), f"Write: {{{gap.name}:{symbol}}}")
                continue
            try:
                if units.parse_unit(gap.unit).dimension != kind.dimension or not isinstance(kind, Quantity):
                    self.source.report(place, "wrong unit", str(kind))
            except UnitError as error:
                self.source.report(place, error.what, "", error.remedy)

    def _plot(self, statement: nodes.Plot) -> None:
        for y in statement.ys:
            kind = self._plotted(y, statement)
            if kind is None:
                return
            for axis in (name for name in (statement.x, statement.by) if name):
                other = self.names.get(axis)
                is_column = other is not None and axis == statement.x and set(other.type.axes) <= set(kind.axes)
                if axis not in kind.axes and not (is_column and other is not None and other.type.axes and axis != y):
                    self.source.report(
                        statement.span,
                        f"'{y}' is not a curve over {axis}",
                        "",
                        f"It has {', '.join(kind.axes) or 'no axes'}.",
                    )
                    return

    def _plotted(self, name: str, statement: nodes.Plot) -> Type | None:
        binding = self.names.get(name)
        if binding is None and name in self.scope.types:
            self.source.report(
                statement.span, f"'{name}' is not a curve", str(self.scope.types[name]), "A parameter has one value."
            )
            return None
        if binding is None:
            if name not in self.broken:
                self.report_unknown(nodes.Name(statement.span, name))
            return None
        if isinstance(binding.type, Words):
            self.source.report(statement.span, f"'{name}' cannot be drawn", str(binding.type), "Draw numbers.")
            return None
        return binding.type
