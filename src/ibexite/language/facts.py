"""What a bench offers, as far as vetting needs it, and the comparison of a program with it."""

from __future__ import annotations

import itertools
import math
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from decimal import Decimal

from ibexite import units
from ibexite.classes import Argument
from ibexite.errors import MistakeError, did_you_mean
from ibexite.frozen import frozen
from ibexite.language import constants, nodes, points
from ibexite.language.carrying import RANGE_REMEDY
from ibexite.language.product_flow import ProductBound, look_at_products
from ibexite.language.program import Program, RoleUse, SetPoint
from ibexite.language.route_flow import RouteFacts, look_at_routes
from ibexite.values import Quantity, Text, Type, YesNo

MAX_COMBINATIONS = 20_000
SEARCHED = 101  # values that are looked at between the ends of a search


@frozen
class SettingBound:
    """An allowed extent of a setting, in base units; `origin` says where it is written."""

    low: float
    high: float
    what: str  # "ceiling" or "range"
    origin: str


@frozen
class ReadingFacts:
    """The arguments that a reading takes, and those of them that it needs."""

    arguments: dict[str, Argument]
    needed: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RoleFacts:
    """A role of the bench: its class, the bounds of each setting, the features its profile has."""

    class_name: str
    bounds: dict[str, tuple[SettingBound, ...]]
    settings: frozenset[str]
    readings: dict[str, ReadingFacts]
    actions: frozenset[str]
    allows_raw: bool
    profile: str
    sent: Mapping[str, Callable[[float], float]] = field(default_factory=dict)  # of settings that are sent rounded
    products: tuple[ProductBound, ...] = ()


@frozen
class BenchFacts:
    """The roles, signals and routes of a bench file."""

    name: str
    roles: dict[str, RoleFacts]
    signals: dict[str, Type]
    routes: dict[str, RouteFacts] = {}  # never changed
    accurate: frozenset[str] = frozenset()  # signals and role.reading that say how exact they are
    accurate_in_range: frozenset[str] = frozenset()  # role.reading of which a share of the range is a part of that
    records: frozenset[str] = frozenset()  # signals that are captured while something is played


def _without_accuracy(name: str, bench: BenchFacts) -> str:
    """Where a signal or role.reading would say how exact it is; "" where it does, or there is none."""
    role, _, reading = name.partition(".")
    if name in bench.accurate or not (name in bench.signals or (reading and role in bench.roles)):
        return ""
    return (
        f"[readings.{reading}] of profile {bench.roles[role].profile}"
        if reading
        else f"[signals.{name}] of {bench.name}"
    )


def vet_against(program: Program, bench: BenchFacts) -> None:
    """Reports missing roles and signals, and set points beyond a ceiling or a range, sweeps included."""
    for need in program.sequence.needs:
        _check_need(program, need, bench)
    for use in program.uses:
        found = bench.roles.get(use.role)
        if found is not None:
            _check_use(program, use, found, bench.name)
    for name, (span, source, has_range) in program.accuracies.items():
        where = _without_accuracy(name, bench)
        if where:
            source.report(span, f"{name} does not say how exact it is", "", f"Write accuracy into {where}.")
        elif name in bench.accurate_in_range and not has_range:
            source.report(span, f"{name} is as exact as its range", "", RANGE_REMEDY)
    for point in program.set_points:
        role = bench.roles.get(point.role)
        if role is None:
            continue
        if point.assignment.setting not in role.settings:
            point.source.report(
                point.assignment.span,
                "this bench cannot set it",
                "",
                f"Profile {role.profile} has no setting {point.assignment.setting}.",
            )
        for bound in role.bounds.get(point.assignment.setting, ()):
            _check_bound(program, point, bound)
        if point.assignment.setting in role.sent:
            _note_rounding(program, point, role.sent[point.assignment.setting])
    _look_at_records(program, bench)
    if bench.routes:
        look_at_routes(program, bench.routes)
    products = {name: role.products for name, role in bench.roles.items() if role.products}
    if products:
        known = program.main.known
        look_at_products(program, products, lambda values, loops: _all_of(program, values, loops, known))


def _look_at_records(program: Program, bench: BenchFacts) -> None:
    """Signals that are records are captured, all others are read."""
    captured = {reading for use in program.plays for reading in use.node.readings}
    for use in program.plays:
        for reading in use.node.readings:
            name = use.signals.get(reading.source, reading.source)
            if name in bench.signals and name not in bench.records:
                use.source.report(
                    reading.span, f"{name} is no record", "a signal that is read", f"See [signals.{name}]: read = …"
                )
    sequence = program.sequence
    for body in (sequence.before_unit, *(test.body for test in sequence.tests)):
        for statement in nodes.walk(body):
            for reading in statement.readings if isinstance(statement, nodes.Read) else ():
                if reading.role is None and reading.source in bench.records and reading not in captured:
                    program.source.report(
                        reading.span, f"{reading.source} is a record", "", "Capture it: play … capturing … as rec"
                    )


def _note_rounding(program: Program, point: SetPoint, sent: Callable[[float], float]) -> None:
    """What is sent is what is recorded: a loop whose name is set as it is goes through the values that are sent."""
    value = point.assignment.value
    if isinstance(value, nodes.Name):
        program.rounding |= {loop: sent for loop in point.loops if loop.name == value.name}


def _check_need(program: Program, need: nodes.Need, bench: BenchFacts) -> None:
    report = program.source.report
    if need.is_route:
        if need.name not in bench.routes:
            hint = did_you_mean(need.name, bench.routes)
            report(need.span, f"no route '{need.name}' on this bench", "",
                   f"Add [routes.{need.name}] to {bench.name}. {hint}".rstrip())  # fmt: skip
        return
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
    signal = bench.signals.get(need.name)
    if signal is None:
        report(
            need.span,
            f"no signal '{need.name}' on this bench",
            "",
            f"Add [signals.{need.name}] to {bench.name}. {did_you_mean(need.name, bench.signals)}".rstrip(),
        )
        return
    if need.type is not None and not need.type.fits(signal):
        is_number = isinstance(signal, Quantity)
        told = str(signal) if is_number else f"a {signal.stored} signal"
        report(
            need.span,
            "wrong unit" if is_number else "another kind of signal",
            f"on the bench {need.name} is {told}",
            f"The sequence needs a {need.words}; see [signals.{need.name}] in {bench.name}.",
        )


def _check_use(program: Program, use: RoleUse, role: RoleFacts, bench: str) -> None:
    node = use.node
    if isinstance(node, nodes.Do):
        if node.action not in role.actions:
            use.source.report(
                node.span,
                "this bench cannot do it",
                "",
                # fmt: skip
                f"Profile {role.profile} has no action {node.action}. {did_you_mean(node.action, role.actions)}",
            )
    elif isinstance(node, nodes.Send) or node.query:
        if not role.allows_raw:
            use.source.report(
                node.span, "raw commands are not allowed here", "",
                f"Where they are wanted, write raw = true into [roles.{use.role}] of {bench}.",
            )  # fmt: skip
    else:
        _check_reading(program, use, node, role)


def _check_reading(program: Program, use: RoleUse, reading: nodes.Reading, role: RoleFacts) -> None:
    """The profile must have the reading, and the line must give each of its arguments (the channel may be left out)."""
    report, wanted = use.source.report, role.readings.get(reading.source)
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
        argument = Argument("number", units.PLAIN) if name == "channel" else wanted.arguments.get(name)
        if argument is None:
            known = [*wanted.arguments, "channel"]
            report(value.span, f"{reading.source} has no argument {name!r}", "", did_you_mean(name, known))
        elif kind is not None:
            _check_argument(use, name, argument, value, kind)
    missing = [name for name in wanted.needed if name not in given]
    if missing:
        report(
            reading.span,
            f"{reading.source} needs {' and '.join(missing)}",
            "",
            f"Write: {reading.role}.{reading.source}(channel = 101, {missing[0]} = …)",
        )


def _check_argument(use: RoleUse, name: str, argument: Argument, value: nodes.Expr, kind: Type) -> None:
    report = use.source.report
    if argument.choices:
        told = ", ".join(f'"{choice}"' for choice in argument.choices)
        if not isinstance(kind, Text):
            report(value.span, "not one of its words", str(kind), f"{name} is one of {told}.")
        elif isinstance(value, nodes.Text) and value.value not in argument.choices:
            report(value.span, f"there is no choice {value.value!r}", "", f"{name} is one of {told}.")
    elif argument.dimension is None:
        if not isinstance(kind, YesNo):
            report(value.span, "not on or off", str(kind), f"{name} is on or off.")
    elif not isinstance(kind, Quantity) or kind.dimension != argument.dimension:
        report(value.span, "wrong unit", str(kind), f"{name} is {units.describe(argument.dimension)}.")


def _check_bound(program: Program, point: SetPoint, bound: SettingBound) -> None:
    assignment = point.assignment
    kind = program.types.get(assignment.value)
    combinations = _combinations(program, point)
    if combinations is None and program.has_mistakes:
        return  # it may be unknown only for a mistake that was reported already
    if combinations is None:
        point.source.report(
            assignment.value.span, "will be watched", "",
            f"{point.role}.{assignment.setting} is known only when the line runs; it is compared with its "
            f"{bound.what} then.",
            level="note",
        )  # fmt: skip
        return
    for known in combinations:
        value = constants.number(assignment.value, known)
        if value is None or kind is None or bound.low <= float(value) <= bound.high:
            continue
        shown = constants.written(value, kind.dimension)
        limit = bound.high if float(value) > bound.high else bound.low
        at = ", ".join(
            f"{name} = {constants.written(known[name], program.types[expr].dimension)}"
            for name, expr in _named_by_loops(point)
            if name in constants.names_in(assignment.value) and name in known
        )
        point.source.report(
            assignment.value.span,
            f"beyond the {bound.what}",
            f"{shown}" + (f" at {at}" if at else ""),
            f"{point.role}.{assignment.setting} may be at "
            f"{'most' if limit == bound.high else 'least'} "
            f"{units.format_value(limit, kind.dimension)} ({bound.origin}).",
        )
        return


def _named_by_loops(point: SetPoint) -> list[tuple[str, nodes.Expr]]:
    """The names of the loops around a set point, each with an expression of its type."""
    named: list[tuple[str, nodes.Expr]] = []
    for loop in point.loops:
        if isinstance(loop, nodes.Search):
            named.append((loop.name, loop.start))
        elif isinstance(loop, nodes.Repeat) and loop.kind == "times":
            named.append((loop.name, loop.amount))
        elif isinstance(loop, nodes.Sweep) and (loop.values or loop.segments):
            named.append((loop.name, loop.values[0] if loop.values else loop.segments[0].end))
    return named


def _axis_points(program: Program, loop: nodes.Loop, known: constants.Known) -> list[constants.Value] | None:
    """The values that the name of a loop takes; None where they are known only at run time."""
    if isinstance(loop, nodes.Search):
        start, end = constants.number(loop.start, known), constants.number(loop.end, known)
        return None if start is None or end is None else _spread(start, end, SEARCHED)
    if isinstance(loop, nodes.Repeat):
        count = constants.number(loop.amount, known) if loop.kind == "times" else None
        return None if count is None else _spread(Decimal(1), count, int(count), whole=True)
    found = program.points.get(loop)
    if found is None:
        try:
            found = constants.sweep_points(loop, known)
        except (MistakeError, points.StepDoesNotFit):
            return None
    return list(found) if found is not None else None


def _spread(first: Decimal, last: Decimal, count: int, *, whole: bool = False) -> list[constants.Value]:
    """So many values from one to another, both included, but no more than are looked at."""
    steps = max(1, min(count, MAX_COMBINATIONS) - 1)
    values = (first + (last - first) * i / steps for i in range(steps + 1))
    return list(dict.fromkeys(value.to_integral_value() if whole else value for value in values))


def _combinations(program: Program, point: SetPoint) -> list[dict[str, constants.Value]] | None:
    """Every combination of the loop values that the set point depends on; None if it cannot be known before the run."""
    return _all_of(program, (point.assignment.value,), point.loops, point.known)


def _all_of(
    program: Program, values_of: tuple[nodes.Expr, ...], around: tuple[nodes.Loop, ...], given: constants.Known
) -> list[dict[str, constants.Value]] | None:
    """Every combination of the values of loops that some expressions depend on; None if it cannot be known."""
    used = {name for expr in values_of for name in constants.names_in(expr)}
    loops = [loop for loop in around if loop.name in used]
    axes: list[list[constants.Value]] = []
    for loop in loops:
        values = _axis_points(program, loop, given)
        if values is None:
            return None
        axes.append(values)
    if any(name not in given and name not in {loop.name for loop in loops} for name in used):
        return None
    while math.prod(map(len, axes)) > MAX_COMBINATIONS and any(len(axis) > 2 for axis in axes):
        axes = [axis if len(axis) < 3 else [*axis[:-1:2], axis[-1]] for axis in axes]  # every other point, and the ends
    names = [loop.name for loop in loops]
    made = [{**given, **dict(zip(names, combination, strict=True))} for combination in itertools.product(*axes)]
    for expr in values_of:
        if isinstance(program.types.get(expr), Quantity) and made and constants.number(expr, made[0]) is None:
            return None  # a function stands in it
    return made
