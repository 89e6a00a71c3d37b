"""Looks, before a run, at products of two settings (voltage times current) along the lines of a sequence: together they
must not go beyond the ceiling of a role.

Only what is sure is a mistake: both values are known, and both hold at one time. Before each line is sent it is looked
at once more, as everything is then (ibexite.bench.joint_bounds).
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ibexite import units
from ibexite.frozen import frozen
from ibexite.language import constants, nodes
from ibexite.language.program import Program
from ibexite.units import Dimension

Key = tuple[str, str]
Combinations = Callable[[tuple[nodes.Expr, ...], tuple[nodes.Loop, ...]], list[dict[str, constants.Value]] | None]


@frozen
class ProductBound:
    """The ceiling of two settings multiplied, in base units; `origin` says where it is written."""

    name: str
    factors: tuple[str, str]
    most: float
    dimension: Dimension
    origin: str


@frozen
class _Given:
    """A value that is sure to be set, and the loops within which it was."""

    value: nodes.Expr
    loops: tuple[nodes.Loop, ...]


Sure = dict[Key, _Given]


def look_at_products(program: Program, bounds: Mapping[str, tuple[ProductBound, ...]], known: Combinations) -> None:
    """Reports the lines with which a product of two settings surely goes beyond its ceiling.

    Args:
        bounds: by role.
        known: all combinations of values that expressions within loops have; None where that is not known.
    """
    sequence, walk = program.sequence, _Walk(program, bounds, known)
    began: Sure = {}
    for body in (sequence.before_lot, sequence.before_unit):
        began = walk.body(body, began, ())
    before = began
    for test in sequence.tests:
        before = walk.body(test.body, dict(before if test.keeps_state else began), ())


class _Walk:
    def __init__(
        self, program: Program, bounds: Mapping[str, tuple[ProductBound, ...]], known: Combinations
    ) -> None:  # fmt: skip
        self._program, self._bounds, self._known = program, bounds, known
        self._told: set[tuple[str, str]] = set()  # roles and products, each once

    def body(self, body: tuple[nodes.Statement, ...], sure: Sure, loops: tuple[nodes.Loop, ...]) -> Sure:
        """What is sure behind some lines, of which those that go beyond a bound are told."""
        for statement in body:
            if isinstance(statement, nodes.Set):
                self._set(statement, sure, loops)
            elif isinstance(statement, nodes.Do | nodes.Send):
                sure = {key: given for key, given in sure.items() if key[0] != statement.role}
            elif isinstance(statement, nodes.Measure):
                sure = {}  # of what a measurement sets more is known only when it is sent
            else:
                sure = self._blocks(statement, sure, loops)
        return sure

    def _blocks(self, statement: nodes.Statement, sure: Sure, loops: tuple[nodes.Loop, ...]) -> Sure:
        """The blocks of a line: what is set in one may be so, or not; also in the next turn of a loop."""
        inner = nodes.inner_bodies(statement)
        within = [line for body in inner for line in nodes.walk(body)]
        if any(isinstance(line, nodes.Do | nodes.Send | nodes.Measure) for line in within):
            return {}
        changed = {(a.role, a.setting) for line in within if isinstance(line, nodes.Set) for a in line.assignments}
        left = {key: given for key, given in sure.items() if key not in changed}
        more = (statement,) if isinstance(statement, nodes.Sweep | nodes.Repeat | nodes.Search) else ()
        for body in inner:
            self.body(body, dict(left), (*loops, *more))
        return left

    def _set(self, statement: nodes.Set, sure: Sure, loops: tuple[nodes.Loop, ...]) -> None:
        line = {(a.role, a.setting): a for a in statement.assignments}
        for key, assignment in line.items():
            sure[key] = _Given(assignment.value, loops)
        for role in dict.fromkeys(role for role, _ in line):
            for bound in self._bounds.get(role, ()):
                keys = [(role, factor) for factor in bound.factors]
                changed = [line[key] for key in keys if key in line]
                if changed and all(key in sure for key in keys):
                    self._look(role, bound, changed[0], [sure[key] for key in keys])

    def _look(self, role: str, bound: ProductBound, place: nodes.Assignment, given: list[_Given]) -> None:
        loops = tuple(dict.fromkeys(loop for one in given for loop in one.loops))
        found = self._known(tuple(one.value for one in given), loops)
        for values in found or ():
            numbers = [constants.number(one.value, values) for one in given]
            if None in numbers or (role, bound.name) in self._told:
                continue
            size = abs(float(numbers[0] or 0) * float(numbers[1] or 0))
            if size <= bound.most * (1 + 1e-9):
                continue
            self._told.add((role, bound.name))
            of = " times ".join(f"{role}.{factor}" for factor in bound.factors)
            self._program.source.report(
                place.value.span, "beyond the ceiling of two settings", units.format_value(size, bound.dimension),
                f"{of} may be at most {units.format_value(bound.most, bound.dimension)} ({bound.origin}).",
            )  # fmt: skip
            return
