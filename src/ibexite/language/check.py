"""Checks a whole sequence: names, units, order of use. One walk over the tree; everything wrong is reported."""

from __future__ import annotations

from collections.abc import Mapping

from ibexite.errors import MistakeError, did_you_mean
from ibexite.language import nodes
from ibexite.language.build import build_sequence, build_shared
from ibexite.language.check_tests import TestChecker
from ibexite.language.given_values import parse_value
from ibexite.language.hints import give_hints
from ibexite.language.program import Companions, Program, Scope
from ibexite.language.source import Source


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
    program = _program(source, sequence, companions)
    checker = _Checker(program, companions)
    checker.check(overrides or {})
    give_hints(program)
    return program


def vet_shared(source: Source, companions: Companions | None = None) -> Program:
    """Checks a shared file alone."""
    program = _program(source, build_shared(source), companions)
    _Checker(program, companions).check_shared(program.main, program.sequence, [])
    return program


def _program(source: Source, sequence: nodes.Sequence, companions: Companions | None) -> Program:
    program = Program(source, sequence, Scope(source))
    if companions is not None:
        program.classes = companions.classes()
    return program


class _Checker(TestChecker):
    """All of a sequence, in the order in which one part needs another."""

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
        self._stimuli(scope, sequence.stimuli)
        self._measurements(scope, sequence.measurements)
        self._limits()
        self._tests()
        self._switches()
