"""What a bench offers, as far as vetting needs it, and the comparison of a program with it."""

from __future__ import annotations

import itertools
from dataclasses import dataclass
from decimal import Decimal

from ibexite import units
from ibexite.errors import did_you_mean
from ibexite.language import constants, nodes
from ibexite.language.program import Program, SetPoint
from ibexite.units import Dimension

MAX_COMBINATIONS = 20_000


@dataclass(frozen=True, slots=True)
class Bound:
    """An allowed extent of a setting, in base units; `origin` says where it is written."""

    low: float
    high: float
    what: str  # "ceiling" or "range"
    origin: str


@dataclass(frozen=True, slots=True)
class RoleFacts:
    """A role of the bench: its class, the bounds of each setting, the features its profile has."""

    class_name: str
    bounds: dict[str, tuple[Bound, ...]]
    settings: frozenset[str]
    readings: dict[str, dict[str, Dimension]]  # the arguments of each reading
    profile: str


@dataclass(frozen=True, slots=True)
class BenchFacts:
    """The roles and signals of a bench file."""

    name: str
    roles: dict[str, RoleFacts]
    signals: dict[str, Dimension]


def vet_against(program: Program, bench: BenchFacts) -> None:
    """Reports missing roles and signals, and set points beyond a ceiling or a range, sweeps included."""
    for need in program.sequence.needs:
        _check_need(program, need, bench)
    for reading in program.role_readings:
        found = bench.roles.get(reading.role or "")
        if found is not None:
            _check_reading(program, reading, found)
    for point in program.set_points:
        role = bench.roles.get(point.assignment.role)
        if role is None:
            continue
        if point.assignment.setting not in role.settings:
            program.source.report(
                point.assignment.span,
                "this bench cannot set it",
                "",
                f"Profile {role.profile} has no setting {point.assignment.setting}.",
            )
        for bound in role.bounds.get(point.assignment.setting, ()):
            _check_bound(program, point, bound)


def _check_need(program: Program, need: nodes.Need, bench: BenchFacts) -> None:
    report = program.source.report
    if need.class_name is not None:
        role = bench.roles.get(need.name)
        if role is None:
            report(
                need.span,
                f"no role '{need.name}' on this bench",
                "",
                f"Add [roles.{need.name}] to {bench.name}. {did_you_mean(need.name, bench.roles)}".rstrip(),
            )
        elif role.class_name != need.class_name:
            report(
                need.span,
                "another instrument class",
                f"on the bench {need.name} is a {role.class_name}",
                f"The sequence needs a {need.class_name}; see [roles.{need.name}] in {bench.name}.",
            )
        return
    dimension = bench.signals.get(need.name)
    if dimension is None:
        report(
            need.span,
            f"no signal '{need.name}' on this bench",
            "",
            f"Add [signals.{need.name}] to {bench.name}. {did_you_mean(need.name, bench.signals)}".rstrip(),
        )
    elif need.unit is not None and need.unit.dimension != dimension:
        report(
            need.span,
            "wrong unit",
            f"on the bench {need.name} is {units.describe(dimension)}",
            f"The sequence needs it in {need.unit.symbol}; see [signals.{need.name}] in {bench.name}.",
        )


def _check_reading(program: Program, reading: nodes.Reading, role: RoleFacts) -> None:
    """The profile must have the reading, and the line must give each of its arguments (the channel may be left out)."""
    report, wanted = program.source.report, role.readings.get(reading.source)
    if wanted is None:
        report(
            reading.span,
            "this bench cannot read it",
            "",
            f"Profile {role.profile} has no reading {reading.source}. " + did_you_mean(reading.source, role.readings),
        )
        return
    given = dict(reading.arguments)
    for name, value in given.items():
        kind = program.types.get(value)
        dimension = units.PLAIN if name == "channel" else wanted.get(name)
        if dimension is None:
            report(
                value.span, f"{reading.source} has no argument {name!r}", "", did_you_mean(name, [*wanted, "channel"])
            )
        elif kind is not None and kind.dimension != dimension:
            report(value.span, "wrong unit", str(kind), f"{name} is {units.describe(dimension)}.")
    missing = [name for name in wanted if name not in given]
    if missing:
        report(
            reading.span,
            f"{reading.source} needs {' and '.join(missing)}",
            "",
            f"Write: {reading.role}.{reading.source}(channel = 101, {missing[0]} = …)",
        )


def _check_bound(program: Program, point: SetPoint, bound: Bound) -> None:
    assignment = point.assignment
    kind = program.types.get(assignment.value)
    for known in _combinations(program, point):
        value = constants.number(assignment.value, known)
        if value is None or kind is None or bound.low <= float(value) <= bound.high:
            continue
        shown = constants.written(value, kind.dimension)
        limit = bound.high if float(value) > bound.high else bound.low
        at = ", ".join(
            f"{sweep.name} = {constants.written(known[sweep.name], program.types[_end(sweep)].dimension)}"
            for sweep in point.sweeps
            if sweep.name in constants.names_in(assignment.value)
        )
        program.source.report(
            assignment.value.span,
            f"beyond the {bound.what}",
            f"{shown}" + (f" at {at}" if at else ""),
            f"{assignment.role}.{assignment.setting} may be at "
            f"{'most' if limit == bound.high else 'least'} "
            f"{units.format_value(limit, kind.dimension)} ({bound.origin}).",
        )
        return


def _end(sweep: nodes.Sweep) -> nodes.Expr:
    return sweep.values[0] if sweep.values else sweep.segments[0].end


def _combinations(program: Program, point: SetPoint) -> list[dict[str, constants.Value]]:
    """Every combination of the sweep values that the set point depends on; parameters as they are."""
    used = constants.names_in(point.assignment.value)
    sweeps = [sweep for sweep in point.sweeps if sweep.name in used]
    axes: list[list[Decimal]] = []
    for sweep in sweeps:
        values = program.points.get(sweep)
        if values is None:
            return []  # known only at run time; the engine looks at each set point again
        axes.append(values)
    count = 1
    for axis in axes:
        count *= len(axis)
    if count > MAX_COMBINATIONS:  # formulas of several sweeps are nearly always extreme at the ends
        axes = [[axis[0], axis[-1]] for axis in axes]
    names = [sweep.name for sweep in sweeps]
    return [
        {**program.params, **dict(zip(names, combination, strict=True))} for combination in itertools.product(*axes)
    ]
