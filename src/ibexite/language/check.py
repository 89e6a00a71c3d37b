"""Checks a whole sequence: names, units, order of use. One walk over the tree; everything wrong is reported."""

from __future__ import annotations

import re
from collections.abc import Mapping

from ibexite import units
from ibexite.classes import instrument_classes
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.language import constants, nodes
from ibexite.language.build import build_sequence
from ibexite.language.check_deeds import DeedChecker
from ibexite.language.constants import Value
from ibexite.language.program import Program
from ibexite.language.source import Source
from ibexite.language.types import Type, Typer


def vet(source: Source, overrides: Mapping[str, str] | None = None) -> Program:
    """Checks a source and returns the program. Mistakes are in `source.findings`; do not run it if there are any.

    Args:
        overrides: parameter values given from outside, as texts with units.

    Raises:
        MistakeError: an override names no parameter or has a wrong unit.
    """
    sequence = build_sequence(source)
    program = Program(source, sequence)
    typer = Typer(source)
    program.types = typer.types
    _check_header(program)
    _check_needs(program)
    _check_params(program, typer, overrides or {})
    _check_tests(program, typer)
    _check_switches(program)
    return program


def _check_header(program: Program) -> None:
    sequence = program.sequence
    if sequence.title and not sequence.product:
        program.source.report(
            sequence.serial_span, "no product", "", 'Below the sequence line write: product "FM-2 control board"'
        )
    try:
        re.compile(sequence.serial)
    except re.error as error:
        program.source.report(
            sequence.serial_span, "not a regular expression", str(error), 'Write, for example: serial "FC[0-9]{5}"'
        )


def _check_needs(program: Program) -> None:
    seen: dict[str, nodes.Need] = {}
    for need in program.sequence.needs:
        if need.name in seen:
            program.source.report(need.span, f"'{need.name}' is needed twice")
        seen[need.name] = need
        if need.class_name is not None and need.class_name not in instrument_classes():
            program.source.report(
                need.span,
                f"unknown instrument class {need.class_name!r}",
                "",
                did_you_mean(need.class_name, instrument_classes()),
            )


def _check_params(program: Program, typer: Typer, overrides: Mapping[str, str]) -> None:
    for name in overrides:
        known = [param.name for param in program.sequence.params]
        if name not in known:
            raise MistakeError(
                f"there is no parameter {name!r}",
                where=program.source.name,
                remedy=did_you_mean(name, known) or "The sequence has no parameters.",
            )
    for param in program.sequence.params:
        _check_param(program, typer, param)
        if param.name in overrides and param.name in program.params:
            program.params[param.name] = _override(program, param, overrides[param.name])
            program.overrides += (f"{param.name} = {overrides[param.name]}",)


def _check_param(program: Program, typer: Typer, param: nodes.Param) -> None:
    source = program.source
    if param.name in program.params or param.name in program.needs:
        source.report(param.span, f"'{param.name}' is declared twice")
        return

    def lookup(name: nodes.Name | nodes.ResultOf) -> Type | None:
        if name.name in program.param_types and isinstance(name, nodes.Name):
            return program.param_types[name.name]
        source.report(
            name.span, f"unknown name {name.name!r}", "", "A default is made of numbers and parameters above."
        )
        return None

    found = typer.type_of(param.default, lookup)
    value = constants.evaluate(param.default, program.params)
    if found is None or value is None:
        return
    program.param_types[param.name] = found
    program.params[param.name] = value
    for other in (*param.choices, *(param.bounds or ())):
        kind = typer.type_of(other, lookup)
        if kind is not None and (kind.kind, kind.dimension) != (found.kind, found.dimension):
            source.report(other.span, "wrong unit", str(kind), f"{param.name} is {found}.")
            return
    problem = _outside(program, param, value)
    if problem:
        source.report(param.default.span, problem[0], "", problem[1])


def _outside(program: Program, param: nodes.Param, value: Value) -> tuple[str, str] | None:
    """What is wrong with a value of a parameter (what, remedy), None if it is one of the choices and within bounds."""
    kind = program.param_types[param.name]
    choices = [constants.evaluate(choice, program.params) for choice in param.choices]
    if choices and value not in choices:
        shown = ", ".join(constants.written(c, kind.dimension, kind.shown) for c in choices if c is not None)
        return f"{param.name} is not one of its choices", f"Choose one of: {shown}."
    if param.bounds:
        low, high = (constants.number(bound, program.params) for bound in param.bounds)
        if low is not None and high is not None and isinstance(value, units.Decimal) and not low <= value <= high:
            texts = [constants.written(bound, kind.dimension, kind.shown) for bound in (low, high)]
            return f"{param.name} is out of its bounds", f"It lies between {texts[0]} and {texts[1]}."
    return None


def _override(program: Program, param: nodes.Param, text: str) -> Value:
    kind = program.param_types[param.name]
    value: Value = text
    if kind.kind == "quantity":
        try:
            quantity = units.parse_quantity(text)
        except UnitError as error:
            raise MistakeError(error.what, where=f"parameter {param.name}", remedy=error.remedy) from None
        if quantity.dimension != kind.dimension:
            raise MistakeError(
                f"{text!r} is {units.describe(quantity.dimension)}",
                where=f"parameter {param.name}",
                remedy=f"It takes {kind}.",
            )
        value = quantity.value
    elif kind.kind == "yes_no":
        if text not in ("yes", "no", "on", "off"):
            raise MistakeError(
                f"{text!r} is neither yes nor no", where=f"parameter {param.name}", remedy="Write yes or no."
            )
        value = text in ("yes", "on")
    problem = _outside(program, param, value)
    if problem:
        raise MistakeError(problem[0], where=f"parameter {param.name}", remedy=problem[1])
    return value


def _check_tests(program: Program, typer: Typer) -> None:
    sequence = program.sequence
    titles: set[str] = set()
    blocks = [
        ("before unit", sequence.before_unit),
        *((t.name, t.body) for t in sequence.tests),
        ("after unit", sequence.after_unit),
    ]
    for test in sequence.tests:
        if test.name in titles or test.name in program.needs or test.name in program.params:
            program.source.report(test.span, f"'{test.name}' is declared twice", "", "Give the test another name.")
        titles.add(test.name)
    for name, body in blocks:
        checker = DeedChecker(program, typer, name)
        checker.check_block(body)
        program.names[name] = checker.names


def _check_switches(program: Program) -> None:
    """A level that is set on a role whose output is never switched on reaches nothing: surely a forgotten line."""
    switched = {(a.assignment.role, a.assignment.setting) for a in program.set_points}
    told: set[str] = set()
    for point in program.set_points:
        role, setting = point.assignment.role, point.assignment.setting
        need = program.needs.get(role)
        known = instrument_classes().get(need.class_name or "") if need else None
        if known is None or setting not in known.levels or role in told or (role, known.switch) in switched:
            continue
        told.add(role)
        program.source.report(
            point.assignment.span,
            "nothing switches it on",
            remedy=f"{role}.{setting} is set, but {role}.{known.switch} never is. "
            f"Write: set {role}.{known.switch} = on",
        )
