"""`guarded by accuracy`: which readings and formulas a judged value is made of, so that their accuracies can be carried
through them; and whether they have any."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import NamedTuple

from ibexite.functions import FUNCTIONS
from ibexite.language import constants, nodes

WORD = "accuracy"
RANGE = "range"  # the argument of a reading that an accuracy may be a share of
RANGE_REMEDY = "Its accuracy is a share of the range, which nobody knows unless it stands in the line that reads it."
SUFFIX = f".{WORD}"  # behind a name: by how much it may be off


class Made(NamedTuple):
    """Of what a value is made: names of readings and formulas of its block, the signals and role.reading of the
    readings, and the first thing of which nobody knows how exact it is, in words."""

    names: frozenset[str]
    sources: frozenset[str]
    problem: str = ""
    without_range: frozenset[str] = frozenset()  # of the sources: role.reading of which no range is named


def is_by_accuracy(check: nodes.Check, names: Collection[str]) -> bool:
    """Whether a check is guarded by the accuracy of its value, and not by something that is called so."""
    return isinstance(check.guard, nodes.Name) and check.guard.name == WORD and WORD not in names


def made_of(value: nodes.Expr, body: tuple[nodes.Statement, ...], known: Mapping[str, object]) -> Made:
    """Of what a value in a block is made; `known` are names with a value before the run, which is exact."""
    readings: dict[str, nodes.Reading] = {}
    formulas: dict[str, nodes.Expr] = {}
    played: set[str] = set()  # recordings and stimuli
    for statement in nodes.walk(body):
        if isinstance(statement, nodes.Read):
            readings |= {reading.name: reading for reading in statement.readings}
        elif isinstance(statement, nodes.Let):
            formulas[statement.name] = statement.value
        elif isinstance(statement, nodes.Play):
            played |= {statement.name, statement.stimulus}
        elif isinstance(statement, nodes.Record):
            played.add(statement.name)
    names: set[str] = set()
    sources: set[str] = set()
    without_range: set[str] = set()
    problem = ""
    todo: list[nodes.Expr] = [value]
    while todo:
        expr = todo.pop()
        foreign = [call.function for call in constants.calls_in(expr) if call.function not in FUNCTIONS]
        problem = problem or "".join(f"{name}() is no function through which it can be carried" for name in foreign[:1])
        for name in sorted(constants.names_in(expr) - names - set(known)):
            reading = readings.get(name)
            if reading is not None and not reading.query:
                source = reading.source if reading.role is None else f"{reading.role}.{reading.source}"
                sources.add(source)
                if reading.role is not None and RANGE not in dict(reading.arguments):
                    without_range.add(source)
            elif name in formulas:
                todo.append(formulas[name])
            else:
                problem = problem or _unknown(name, readings, played)
            names.add(name)
    return Made(frozenset(names), frozenset(sources), problem, frozenset(without_range))


def _unknown(name: str, readings: Mapping[str, nodes.Reading], played: Collection[str]) -> str:
    if name.partition(".")[0] in played:
        return "it is made of what was recorded, of which nobody says how exact it is: write by how much it may be off"
    if name in readings:
        return f"{name} is the answer to a raw query, of which nobody says how exact it is"
    if "." in name:
        return f"{name} comes from elsewhere: judge it there"
    return f"{name} is set, not measured: read what it really is"


def is_pointwise(expr: nodes.Expr) -> bool:
    """Whether each point of a result stands on the same point of its operands alone."""
    return all(FUNCTIONS[c.function].kind == "point" for c in constants.calls_in(expr) if c.function in FUNCTIONS)


def carried_names(
    body: tuple[nodes.Statement, ...], names: Collection[str], known: Mapping[str, object]
) -> Iterator[str]:
    """The names of a block whose accuracy some check of it needs."""
    found: set[str] = set()
    for statement in nodes.walk(body):
        if isinstance(statement, nodes.Check) and is_by_accuracy(statement, names):
            found |= made_of(statement.value, body, known).names
    yield from sorted(found)
