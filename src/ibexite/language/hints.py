"""Warnings: nothing is wrong, but surely not meant. Unused names, conditions that never hold, tests that never run."""

from __future__ import annotations

from ibexite.language import constants, nodes
from ibexite.language.program import Program


def give_hints(program: Program) -> None:
    """Reports warnings, unless there are mistakes: those come first."""
    if program.has_mistakes:
        return
    _unused(program)
    _never_run(program)


def _unused(program: Program) -> None:
    scope, sequence = program.main, program.sequence
    for need in sequence.needs:
        if need.name not in scope.used:
            _warn(program, need, f"'{need.name}' is never used", "Remove it from the needs, or use it.")
    for entry in (*sequence.params, *sequence.constants):
        if entry.name not in scope.used and entry.name != "variant":
            _warn(program, entry, f"'{entry.name}' is never used", "Remove it, or use it.")


def _never_run(program: Program) -> None:
    scope = program.main
    params = {param.name for param in program.sequence.params}
    fixed = {name: value for name, value in scope.known.items() if name not in params}
    blocked = ""
    for test in program.sequence.tests:
        if blocked:
            _warn(program, test, f"'{test.name}' can never run", blocked)
            continue
        if test.condition is not None and constants.evaluate(test.condition, fixed) is False:
            _warn(program, test, f"'{test.name}' can never run", "Its condition is never met.")
        for name, span in test.needs_pass:
            other = next(t for t in program.sequence.tests if t.name == name)
            if other.is_off or not _judges(other):
                why = "is switched off" if other.is_off else "judges nothing"
                program.source.report(
                    span, f"'{test.name}' can never run", "", f"It needs {name} to pass, which {why}.", level="warning"
                )
        if test.is_gate and not test.is_off and test.condition is None and not _judges(test):
            blocked = f"Gate {test.name} judges nothing, so it never passes."


def _judges(test: nodes.Test) -> bool:
    return any(isinstance(s, nodes.Check | nodes.Watch | nodes.Measure) for s in nodes.walk(test.body))


def _warn(program: Program, node: nodes.Need | nodes.Param | nodes.Test, title: str, remedy: str) -> None:
    program.source.report(node.span, title, "", remedy, level="warning")
