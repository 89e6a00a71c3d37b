"""Checks the declarations of a file: head, needs, files that it uses, constants, parameters, measurements."""

from __future__ import annotations

import re

from ibexite.errors import MistakeError, did_you_mean
from ibexite.language import constants, nodes
from ibexite.language.build import build_shared
from ibexite.language.check_deeds import DeedChecker
from ibexite.language.check_stimuli import StimulusChecker
from ibexite.language.program import Companions, LimitTable, MeasurementFacts, Program, Scope
from ibexite.language.types import Typer
from ibexite.values import Type


class DeclarationChecker:
    """The declarations of a sequence and of the shared files that it uses."""

    def __init__(self, program: Program, companions: Companions | None) -> None:
        self.program, self.companions = program, companions
        self.limit_table: LimitTable | None = None

    def check_shared(self, scope: Scope, sequence: nodes.Sequence, chain: list[str]) -> None:
        """Checks the declarations of a shared file."""
        self._given_measurements(scope)
        self._uses(scope, sequence.uses, [*chain, scope.source.name])
        self._constants(scope, sequence.constants)
        self._stimuli(scope, sequence.stimuli)
        self._measurements(scope, sequence.measurements)

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
            if need.is_role and need.class_name not in self.program.classes:
                scope.source.report(
                    need.span,
                    f"unknown instrument class {need.class_name!r}",
                    "",
                    did_you_mean(need.class_name or "", [*self.program.classes, nodes.ROUTE])
                    + f" One of your own is a file: classes/{need.class_name}.toml",
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

    def _stimuli(self, scope: Scope, stimuli: tuple[nodes.Stimulus, ...]) -> None:
        checker = StimulusChecker(self.program, scope, self.companions, self.block_checker(scope, "stimuli"))
        for node in stimuli:
            checker.check(node)

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
        problem = constants.refusal(param, value, found, scope.known)
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
        checker = self.block_checker(inner, f"measurement {node.name}", facts)
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

    def block_checker(self, scope: Scope, block: str, measurement: MeasurementFacts | None = None) -> DeedChecker:
        """A checker for one block."""
        return DeedChecker(self.program, scope, block, self.companions, self.limit_table, measurement)


def declared_outputs(outputs: tuple[nodes.Typed, ...]) -> dict[str, Type]:
    """The types of outputs; one over which others are curves is an axis, a curve over itself."""
    axes = {axis for out in outputs for axis in out.type.axes}
    return {out.name: out.type.over((out.name,)) if out.name in axes else out.type for out in outputs}
