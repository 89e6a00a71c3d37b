"""Checks a whole sequence: names, units, order of use. One walk over the tree; everything wrong is reported."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import replace

from ibexite import units
from ibexite.classes import instrument_classes
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.language import constants, nodes
from ibexite.language.build import build_sequence, build_shared
from ibexite.language.check_deeds import DeedChecker
from ibexite.language.constants import Value
from ibexite.language.hints import give_hints
from ibexite.language.program import Companions, LimitTable, MeasurementFacts, Program, Scope
from ibexite.language.source import Source, Span
from ibexite.language.types import Typer
from ibexite.values import Quantity, Type, YesNo

BLOCKS = ("before lot", "before unit", "after unit", "after lot")


def vet(source: Source, overrides: Mapping[str, str] | None = None, companions: Companions | None = None) -> Program:
    """Checks a source and returns the program. Mistakes are in the findings of its sources; do not run it if there are
    any.

    Args:
        overrides: parameter values given from outside, as texts with units.
        companions: where the files come from that the sequence names; without, such lines are not looked into.

    Raises:
        MistakeError: an override names no parameter or has a wrong unit.
    """
    sequence = build_sequence(source)
    program = Program(source, sequence, Scope(source))
    checker = _Checker(program, companions)
    checker.check(overrides or {})
    give_hints(program)
    return program


def vet_shared(source: Source, companions: Companions | None = None) -> Program:
    """Checks a shared file alone."""
    program = Program(source, build_shared(source), Scope(source))
    _Checker(program, companions).check_shared(program.main, program.sequence, [])
    return program


class _Checker:
    def __init__(self, program: Program, companions: Companions | None) -> None:
        self.program, self.companions = program, companions
        self.limit_table: LimitTable | None = None

    def check(self, overrides: Mapping[str, str]) -> None:
        program, scope, sequence = self.program, self.program.main, self.program.sequence
        self._header()
        self._needs(scope, sequence.needs)
        self._given_measurements(scope)
        self._uses(scope, sequence.uses, [program.source.name])
        self._constants(scope, sequence.constants)
        for name in overrides:
            known = [param.name for param in sequence.params]
            if name not in known:
                raise MistakeError(
                    f"there is no parameter {name!r}",
                    where=program.source.name,
                    remedy=did_you_mean(name, known) or "The sequence has no parameters.",
                )
        for param in sequence.params:
            if self.param(scope, param) and param.name in overrides:
                program.params[param.name] = parse_value(scope, param, overrides[param.name], f"parameter {param.name}")
                program.overrides += (f"{param.name} = {overrides[param.name]}",)
        self._measurements(scope, sequence.measurements)
        self._limits()
        self._tests()
        self._switches()

    def check_shared(self, scope: Scope, sequence: nodes.Sequence, chain: list[str]) -> None:
        """Checks the declarations of a shared file."""
        self._given_measurements(scope)
        self._uses(scope, sequence.uses, [*chain, scope.source.name])
        self._constants(scope, sequence.constants)
        self._measurements(scope, sequence.measurements)

    # --- declarations ------------------------------------------------------------------------------------------------

    def _header(self) -> None:
        sequence, source = self.program.sequence, self.program.source
        if sequence.title and not sequence.product:
            source.report(
                sequence.serial_span, "no product", "", 'Below the sequence line write: product "FM-2 control board"'
            )
        try:
            re.compile(sequence.serial)
        except re.error as error:
            source.report(
                sequence.serial_span, "not a regular expression", str(error), 'Write, for example: serial "FC[0-9]{5}"'
            )

    def _needs(self, scope: Scope, needs: tuple[nodes.Need, ...]) -> None:
        for need in needs:
            if need.name in scope.needs:
                scope.source.report(need.span, f"'{need.name}' is needed twice")
            scope.needs[need.name] = need
            if need.class_name is not None and need.class_name not in instrument_classes():
                scope.source.report(
                    need.span,
                    f"unknown instrument class {need.class_name!r}",
                    "",
                    did_you_mean(need.class_name, instrument_classes()),
                )

    def _given_measurements(self, scope: Scope) -> None:
        """What the project and installed packages offer. It is looked for only where something is measured."""
        if self.companions is not None and "measure" in scope.source.text:
            scope.measurements.update(self.companions.measurements())

    def _uses(self, scope: Scope, uses: tuple[nodes.Use, ...], chain: list[str]) -> None:
        if self.companions is None:
            return
        for use in uses:
            try:
                if use.is_python:
                    functions, measurements = self.companions.functions(use.file)
                    scope.functions.update(functions)
                    self._bring(scope, use, measurements)
                else:
                    self._use_shared(scope, use, chain)
            except MistakeError as error:
                what = f"{error.where}: {error.what}" if error.where else error.what
                scope.source.report(use.span, what, "", error.remedy)

    def _use_shared(self, scope: Scope, use: nodes.Use, chain: list[str]) -> None:
        assert self.companions is not None
        shared = self.companions.shared(use.file)
        if shared.name in chain:
            scope.source.report(use.span, "a circle of use lines", " uses ".join([*chain, shared.name]), "Break it.")
            return
        known = next((s for s in self.program.shared if s.name == shared.name), None)
        inner = Scope(known or shared)
        if known is None:
            self.program.shared.append(shared)
        self.check_shared(inner, build_shared(inner.source), chain)
        self._bring(scope, use, {n: m for n, m in inner.measurements.items() if m.kind == "sequence"})
        for name, value in inner.known.items():
            if name in scope.known:
                scope.source.report(use.span, f"'{name}' comes from two files", "", "Rename one of them.")
            scope.known[name], scope.types[name] = value, inner.types[name]

    def _bring(self, scope: Scope, use: nodes.Use, measurements: dict[str, MeasurementFacts]) -> None:
        for name, facts in measurements.items():
            if name in scope.measurements and scope.measurements[name].origin != facts.origin:
                scope.source.report(use.span, f"measurement '{name}' comes from two files", "",
                                    f"The other one is in {scope.measurements[name].origin}.")  # fmt: skip
            scope.measurements[name] = facts

    def _constants(self, scope: Scope, constants_: tuple[nodes.Param, ...]) -> None:
        for constant in constants_:
            if constant.choices or constant.bounds:
                scope.source.report(
                    constant.span, "a constant has neither choices nor bounds", "", "Only parameters have them."
                )
            self.param(scope, constant)

    def param(self, scope: Scope, param: nodes.Param) -> bool:
        """Checks a parameter, constant or input, and puts it into the scope; false after a mistake."""
        source = scope.source
        if param.name in scope.types or param.name in scope.needs:
            source.report(param.span, f"'{param.name}' is declared twice")
            return False

        def lookup(name: nodes.Name | nodes.ResultOf) -> Type | None:
            if name.name in scope.types and isinstance(name, nodes.Name):
                scope.used.add(name.name)
                return scope.types[name.name]
            if name.name != nodes.REPORTED:
                source.report(
                    name.span, f"unknown name {name.name!r}", "", "A default is made of numbers and parameters above."
                )
            return None

        typer = Typer(source, self.program.types, self.program.tolerances, {})
        found = typer.type_of(param.default, lookup)
        value = constants.evaluate(param.default, scope.known)
        if found is None:
            return False
        if value is None:
            source.report(
                param.default.span, "not known before the run", "", "A default is made of numbers and + - * / ^."
            )
            return False
        scope.types[param.name] = found
        scope.known[param.name] = value
        for other in (*param.choices, *(param.bounds or ())):
            kind = typer.type_of(other, lookup)
            if kind is not None and not kind.fits(found):
                source.report(other.span, "wrong unit", str(kind), f"{param.name} is {found}.")
                return False
        problem = _outside(scope, param, value)
        if problem:
            source.report(param.default.span, problem[0], "", problem[1])
        return not problem

    # --- measurements ------------------------------------------------------------------------------------------------

    def _measurements(self, scope: Scope, measurements: tuple[nodes.Measurement, ...]) -> None:
        for node in measurements:
            if node.name in scope.measurements and scope.measurements[node.name].origin == scope.source.name:
                scope.source.report(node.span, f"'{node.name}' is declared twice", "", "Give it another name.")
                continue
            scope.measurements[node.name] = self._measurement(scope, node)

    def _measurement(self, scope: Scope, node: nodes.Measurement) -> MeasurementFacts:
        inner = scope.inner({}, {}, {})
        self._needs(inner, node.needs)
        before = set(inner.types)
        for param in node.inputs:
            self.param(inner, param)
        inputs = {name: kind for name, kind in inner.types.items() if name not in before}
        defaults = {name: inner.known.pop(name) for name in inputs}
        facts = MeasurementFacts(
            node.name, node.title, "sequence", inner.needs, inputs, defaults,
            declared_outputs(node.outputs), scope.source.name,
            helps={param.name: param.help for param in node.inputs}, node=node, scope=inner, home=self.program,
        )  # fmt: skip
        checker = self.block_checker(inner, f"measurement {node.name}")
        checker.set_points, checker.uses = facts.set_points, facts.uses
        checker.check_block(node.body)
        facts.names = checker.names
        self._outputs(checker, node)
        return facts

    def _outputs(self, checker: DeedChecker, node: nodes.Measurement) -> None:
        source = checker.source
        for out in node.outputs:
            binding = checker.names.get(out.name)
            wanted = declared_outputs(node.outputs)[out.name]
            if binding is None:
                if out.name not in checker.broken:
                    source.report(out.span, f"'{out.name}' never gets a value", "", "Let its lines read or compute it.")
            elif not binding.type.fits(wanted) or set(binding.type.axes) != set(wanted.axes):
                source.report(out.span, "another type than its value", f"it is {binding.type}", f"Here it is {wanted}.")

    def block_checker(self, scope: Scope, block: str) -> DeedChecker:
        """A checker for one block."""
        checker = DeedChecker(self.program, scope, block)
        checker.companions, checker.limit_table = self.companions, self.limit_table
        return checker

    # --- tests -------------------------------------------------------------------------------------------------------

    def _limits(self) -> None:
        sequence = self.program.sequence
        if not sequence.limits or self.companions is None:
            return
        try:
            self.limit_table = self.companions.limits(sequence.limits)
            self.program.limits_file = self.limit_table.path
        except MistakeError as error:
            what = f"{error.where}: {error.what}" if error.where else error.what
            self.program.source.report(sequence.limits_span, what, "", error.remedy)

    def _tests(self) -> None:
        program, sequence, source = self.program, self.program.sequence, self.program.source
        self._block("before lot", sequence.before_lot, program.main)
        self._block("before unit", sequence.before_unit, program.main)
        seen: set[str] = set()
        previous = ""
        for part in sequence.parts:
            scope = program.main
            if isinstance(part, nodes.Group):
                self._declared(part.name, part.span, seen)
                scope = self._group(part)
            for test in part.tests if isinstance(part, nodes.Group) else (part,):
                self._declared(test.name, test.span, seen)
                self._clauses(test, previous, scope)
                self._block(test.name, test.body, scope)
                previous = test.name
        self._block("after unit", sequence.after_unit, program.main)
        self._block("after lot", sequence.after_lot, program.main)
        unused = self.limit_table.unused() if self.limit_table is not None else []
        if unused:
            source.report(
                sequence.limits_span, "rows of the limit table that no check uses", "",
                f"{', '.join(unused[:8])}{' …' if len(unused) > 8 else ''}: a misspelt name, a missing check?",
                level="warning",
            )  # fmt: skip
        if sequence.limits and self.limit_table is None and self.companions is None:
            source.findings = [f for f in source.findings if f.title != "a check without limits"]

    def _declared(self, name: str, span: Span, seen: set[str]) -> None:
        if name in seen or name in self.program.needs or name in self.program.params:
            self.program.source.report(span, f"'{name}' is declared twice", "", "Give the test another name.")
        seen.add(name)

    def _group(self, group: nodes.Group) -> Scope:
        """The scope of the tests of a group: the corner is known by its type, its value differs from turn to turn."""
        main = self.program.main
        if group.condition is not None:
            self.block_checker(main, group.name).condition(group.condition, 'if variant == "A"')
        if not group.corner:
            return main
        checker = self.block_checker(main, group.name)
        kinds = [checker.scalar(value) for value in group.values]
        first = kinds[0]
        for expr, kind in zip(group.values, kinds, strict=True):
            if kind is not None and first is not None and not kind.fits(first):
                self.program.source.report(expr.span, "wrong unit", str(kind), f"The first corner is {first}.")
            if constants.evaluate(expr, main.known) is None and kind is not None:
                self.program.source.report(
                    expr.span, "not known before the run", "", "Corners are numbers or parameters."
                )
        if group.corner in main.types or group.corner in main.needs:
            self.program.source.report(group.span, f"'{group.corner}' is declared twice")
        return main.inner(main.needs, {}, {group.corner: first} if first is not None else {})

    def _clauses(self, test: nodes.Test, previous: str, scope: Scope) -> None:
        source = self.program.source
        if test.condition is not None:
            self.block_checker(scope, test.name).condition(test.condition, 'if variant == "A"')
        for name, span in test.needs_pass:
            if name not in self.program.names or " " in name:
                earlier = [n for n in self.program.names if " " not in n]
                later = any(t.name == name for t in self.program.sequence.tests)
                source.report(
                    span,
                    f"no test {name!r} before this one",
                    "",
                    "It runs later." if later else did_you_mean(name, earlier),
                )
        if test.keeps_state and not previous:
            source.report(
                test.span, "no test before it", "", "'keeps state' begins with the state that the test before left."
            )

    def _block(self, name: str, body: tuple[nodes.Statement, ...], scope: Scope) -> None:
        checker = self.block_checker(scope, name)
        first = len(self.program.set_points)
        checker.check_block(body)
        self.program.names[name] = checker.names
        group = next((p for p in self.program.sequence.parts if isinstance(p, nodes.Group) and p.corner
                      and any(t.body is body for t in p.tests)), None)  # fmt: skip
        if group is not None:  # each corner gives set points of its own
            mine = self.program.set_points[first:]
            del self.program.set_points[first:]
            for value, _ in self.program.corners(group):
                assert value is not None
                self.program.set_points += [replace(p, known={**p.known, group.corner: value}) for p in mine]

    def _switches(self) -> None:
        """A level that is set on a role whose output is never switched on reaches nothing: surely a forgotten line."""
        program = self.program
        switched = {(p.role, p.assignment.setting) for p in program.set_points}
        told: set[str] = set()
        for point in program.set_points:
            role, setting = point.role, point.assignment.setting
            need = program.needs.get(role)
            known = instrument_classes().get(need.class_name or "") if need else None
            if known is None or setting not in known.levels or role in told or (role, known.switch) in switched:
                continue
            told.add(role)
            point.source.report(
                point.assignment.span,
                "nothing switches it on",
                remedy=f"{role}.{setting} is set, but {role}.{known.switch} never is. "
                f"Write: set {role}.{known.switch} = on",
            )


def declared_outputs(outputs: tuple[nodes.Typed, ...]) -> dict[str, Type]:
    """The types of outputs; one over which others are curves is an axis, a curve over itself."""
    axes = {axis for out in outputs for axis in out.type.axes}
    return {out.name: out.type.over((out.name,)) if out.name in axes else out.type for out in outputs}


def _outside(scope: Scope, param: nodes.Param, value: Value) -> tuple[str, str] | None:
    """What is wrong with a value of a parameter; see constants.refusal."""
    return constants.refusal(param, value, scope.types[param.name], scope.known)


def parse_value(scope: Scope, param: nodes.Param, text: str, where: str) -> Value:
    """The value of a parameter or input that was given from outside.

    Raises:
        MistakeError: wrong unit, not one of the choices, out of bounds.
    """
    value = parse_typed(scope.types[param.name], text, where)
    problem = _outside(scope, param, value)
    if problem:
        raise MistakeError(problem[0], where=where, remedy=problem[1])
    return value


def parse_typed(kind: Type, text: str, where: str) -> Value:
    """A text from outside as a value of a type. Raises MistakeError."""
    if isinstance(kind, Quantity):
        try:
            quantity = units.parse_quantity(text)
        except UnitError as error:
            raise MistakeError(error.what, where=where, remedy=error.remedy) from None
        if quantity.dimension != kind.dimension:
            raise MistakeError(
                f"{text!r} is {units.describe(quantity.dimension)}", where=where, remedy=f"It takes {kind}."
            )
        return quantity.value
    if isinstance(kind, YesNo):
        if text not in ("yes", "no", "on", "off"):
            raise MistakeError(f"{text!r} is neither yes nor no", where=where, remedy="Write yes or no.")
        return text in ("yes", "on")
    return text
