"""Checks the lines of one block (a test, before unit, after unit), verb by verb."""

from __future__ import annotations

from dataclasses import replace

from ibexite import units
from ibexite.classes import Feature, InstrumentClass, instrument_classes
from ibexite.errors import UnitError, did_you_mean
from ibexite.language import constants, fill, nodes
from ibexite.language.program import Binding, Program, SetPoint
from ibexite.language.source import Span
from ibexite.language.types import TEXT, Type, Typer


class DeedChecker:
    """Walks one block; `names` grows with what its lines bring into being."""

    def __init__(self, program: Program, typer: Typer, block: str) -> None:
        self.program, self.source, self.typer, self.block = program, program.source, typer, block
        self.names: dict[str, Binding] = {}
        self.sweeps: list[nodes.Sweep] = []
        self.later: dict[str, Span] = {}
        self.broken: set[str] = set()  # names whose line was reported; their uses are not reported as well

    def check_block(self, body: tuple[nodes.Statement, ...]) -> None:
        """Checks the lines of a block and of the blocks within it."""
        if not self.sweeps:
            self.later = dict(_names_made(body))
        for statement in body:
            getattr(self, f"_{type(statement).__name__.lower()}")(statement)

    # --- names -------------------------------------------------------------------------------------------------------

    @property
    def _here(self) -> tuple[str, ...]:
        return tuple(sweep.name for sweep in self.sweeps)

    def lookup(self, name: nodes.Name | nodes.ResultOf) -> Type | None:
        """The type of a name as seen from the present line: a sweep that is still running is no axis of it."""
        if isinstance(name, nodes.ResultOf):
            return self._lookup_result(name)
        if name.name == "serial":
            return TEXT
        if name.name in self.program.param_types:
            return self.program.param_types[name.name]
        binding = self.names.get(name.name)
        if binding is not None:
            return replace(binding.type, axes=tuple(a for a in binding.type.axes if a not in self._here))
        if name.name not in self.broken:
            self._report_unknown(name)
        return None

    def _report_unknown(self, name: nodes.Name) -> None:
        need = self.program.needs.get(name.name)
        if name.name in self.later:
            line = self.source.line_of(self.later[name.name].start)
            here = self.source.line_of(name.span.start)
            when = "by this very line" if line == here else f"on line {line}"
            self.source.report(name.span, f"'{name.name}' has no value yet", "", f"It gets one {when}.")
        elif need is not None and need.unit is not None:
            self.source.report(
                name.span, f"'{name.name}' has no value yet", "a signal", f"First write: read {name.name}"
            )
        elif need is not None:
            self.source.report(
                name.span,
                f"'{name.name}' is a role, not a value",
                "",
                f"Read one of its readings first: read x = {name.name}.…",
            )
        else:
            owners = [test for test, names in self.program.names.items() if name.name in names and " " not in test]
            hint = (
                f"It belongs to another test: write {owners[0]}.{name.name}."
                if owners
                else did_you_mean(name.name, [*self.names, *self.later, *self.program.params, *self.program.needs])
            )
            self.source.report(name.span, f"unknown name {name.name!r}", "", hint)

    def _lookup_result(self, name: nodes.ResultOf) -> Type | None:
        names = self.program.names.get(name.test)
        if names is None or " " in name.test:
            later = any(test.name == name.test for test in self.program.sequence.tests)
            hint = (
                "It runs later; move it up."
                if later
                else did_you_mean(name.test, [test for test in self.program.names if " " not in test])
            )
            self.source.report(name.span, f"no test {name.test!r} before this one", "", hint)
        elif name.name not in names:
            self.source.report(
                name.span, f"'{name.test}' has no result {name.name!r}", "", did_you_mean(name.name, names)
            )
        else:
            return names[name.name].type
        return None

    def _bind(self, name: str, origin: str, kind: Type, span: Span) -> None:
        earlier = self.names.get(name)
        if earlier is not None or name in self.program.params:
            self.source.report(
                span,
                f"'{name}' has a value already",
                "",
                f"Take a new name, such as later_{name}: read later_{name} = {name}"
                if origin == "read"
                else "Take a new name.",
            )
            return
        self.names[name] = Binding(name, origin, kind, span)

    def _role(self, role: str, span: Span) -> InstrumentClass | None:
        need = self.program.needs.get(role)
        if need is None or need.class_name is None:
            roles = [n.name for n in self.program.sequence.needs if n.class_name]
            what = "is a signal, not a role" if need else "is not among the needs"
            self.source.report(
                Span(span.start, span.start + len(role)),
                f"'{role}' {what}",
                "",
                did_you_mean(role, roles) or "Declare it below needs, as: supply : power_supply",
            )
            return None
        return instrument_classes().get(need.class_name)

    def _scalar(self, expr: nodes.Expr) -> Type | None:
        kind = self.typer.type_of(expr, self.lookup)
        if kind is not None and kind.axes:
            self.source.report(
                expr.span,
                "a curve where one value is needed",
                str(kind),
                "Take one value of it: max(x), at(x, axis = value).",
            )
            return None
        return kind

    # --- verbs -------------------------------------------------------------------------------------------------------

    def _set(self, statement: nodes.Set) -> None:
        for assignment in statement.assignments:
            self._assignment(assignment)
            self.program.set_points.append(SetPoint(assignment, tuple(self.sweeps)))

    def _assignment(self, assignment: nodes.Assignment) -> None:
        known = self._role(assignment.role, assignment.span)
        kind = self._scalar(assignment.value)
        if known is None:
            return
        feature = known.settings.get(assignment.setting)
        start = assignment.span.start + len(assignment.role) + 1
        span = Span(start, assignment.span.end)
        if feature is None:
            what = "a reading, not a setting" if assignment.setting in known.readings else ""
            self.source.report(
                span,
                f"unknown setting {assignment.setting!r}",
                what,
                f"{_a(known.name)} has none of this name. {did_you_mean(assignment.setting, known.settings)}",
            )
        elif kind is not None and not self._fits(feature, kind):
            same = [f.name for f in known.settings.values() if self._fits(f, kind)]
            takes = units.describe(feature.dimension) if feature.dimension else "on or off"
            hint = f" Did you mean {assignment.role}.{same[0]}?" if same else ""
            self.source.report(
                assignment.value.span,
                "wrong unit" if feature.dimension else "not on or off",
                str(kind),
                f"{assignment.role}.{assignment.setting} takes {takes}.{hint}",
            )

    @staticmethod
    def _fits(feature: Feature, kind: Type) -> bool:
        if feature.dimension is None:
            return kind.kind == "yes_no"
        return kind.kind == "quantity" and kind.dimension == feature.dimension

    def _read(self, statement: nodes.Read) -> None:
        for reading in statement.readings:
            kind = self._signal(reading) if reading.role is None else self._role_reading(reading)
            if kind is None:
                self.broken.add(reading.name)
            else:
                self._bind(reading.name, "read", replace(kind, axes=self._here), reading.span)

    def _signal(self, reading: nodes.Reading) -> Type | None:
        need = self.program.needs.get(reading.source)
        signals = [n.name for n in self.program.sequence.needs if n.unit is not None]
        if need is None:
            self.source.report(
                reading.span, f"unknown signal {reading.source!r}", "", did_you_mean(reading.source, signals)
            )
            return None
        if need.unit is None:
            known = instrument_classes().get(need.class_name or "")
            which = next(iter(known.readings), "reading") if known else "reading"
            self.source.report(
                reading.span,
                f"'{reading.source}' is a role, not a signal",
                "",
                f"Write: read name = {reading.source}.{which}",
            )
            return None
        is_bare = need.unit.symbol == units.symbol_of(need.unit.dimension) and need.unit.dimension.kind == "linear"
        return Type("quantity", need.unit.dimension, shown=None if is_bare else need.unit.symbol)

    def _role_reading(self, reading: nodes.Reading) -> Type | None:
        for _, value in reading.arguments:
            self._scalar(value)
        self.program.role_readings.append(reading)
        known = self._role(reading.role or "", reading.span)
        if known is None:
            return None
        feature = known.readings.get(reading.source)
        if feature is None:
            self.source.report(
                Span(reading.span.end - len(reading.source), reading.span.end),
                f"unknown reading {reading.source!r}",
                "",
                f"{_a(known.name)} has none of this name. {did_you_mean(reading.source, known.readings)}",
            )
            return None
        assert feature.dimension is not None
        return Type("quantity", feature.dimension)

    def _let(self, statement: nodes.Let) -> None:
        kind = self.typer.type_of(statement.value, self.lookup)
        if kind is None:
            self.broken.add(statement.name)
            return
        if self._here and (kind.axes or kind.kind == "text"):
            what = "a curve inside a sweep" if kind.axes else "a text inside a sweep"
            self.source.report(statement.value.span, what, str(kind), "Compute it after the sweep.")
            self.broken.add(statement.name)
            return
        if statement.shown is not None and (kind.kind != "quantity" or statement.shown.dimension != kind.dimension):
            self.source.report(
                statement.value.span, "wrong unit", str(kind), f"It cannot be shown in {statement.shown.symbol}."
            )
        elif statement.shown is not None:
            kind = replace(kind, shown=statement.shown.symbol)
        self._bind(statement.name, "let", replace(kind, axes=self._here + kind.axes), statement.span)

    def _check(self, statement: nodes.Check) -> None:
        if self.block == "after unit":
            self.source.report(
                statement.span, "a check after the verdict", "", "Judge in a test; after unit only cleans up."
            )
        kind = self.typer.type_of(statement.value, self.lookup)
        criterion = statement.criterion
        if kind is not None and kind.kind != "quantity":
            self.source.report(
                statement.value.span, "not a number", str(kind), "These limits judge numbers with units."
            )
            kind = None
        limits = [criterion.a] if criterion.kind == "within" else [e for e in (criterion.a, criterion.b) if e]
        for limit in limits:
            self._limit(kind, limit)
        if criterion.kind == "within":
            self._tolerance(kind, criterion)
        if statement.where is not None:
            self._where(kind, statement.where)

    def _limit(self, kind: Type | None, limit: nodes.Expr) -> None:
        found = self.typer.type_of(limit, self.lookup)
        if kind is None or found is None:
            return
        if found.kind != "quantity" or found.dimension != kind.dimension:
            self.source.report(limit.span, "wrong unit", str(found), f"The value to be judged is {kind}.")
        elif not set(found.axes) <= set(kind.axes):
            self.source.report(limit.span, "a limit over other axes", str(found), f"The value to be judged is {kind}.")

    def _tolerance(self, kind: Type | None, criterion: nodes.Criterion) -> None:
        assert criterion.b is not None
        nominal, found = self.program.types.get(criterion.a), self.typer.type_of(criterion.b, self.lookup)
        if kind is None or found is None or nominal is None:
            return
        in_percent = found.dimension.is_plain and found.shown in ("%", "ppm")
        if in_percent and (kind.dimension.kind != "linear"):
            self.source.report(
                criterion.b.span,
                f"{found.shown} of {units.describe(kind.dimension)}",
                "",
                f"Give the tolerance in {units.symbol_of(units.difference(kind.dimension))}.",
            )
        elif in_percent and "%" in (nominal.shown, kind.shown):
            self.source.report(
                criterion.b.span,
                "per cent of what?",
                "",
                "The nominal value is in % itself. Write: between 83 % and 87 %",
            )
        elif in_percent:
            self.program.tolerances[criterion] = "relative"
        elif found.dimension == units.difference(kind.dimension) or _is_degrees(criterion.b, kind):
            self.program.tolerances[criterion] = "absolute"
        else:
            self.source.report(
                criterion.b.span,
                "wrong unit",
                str(found),
                f"The tolerance is {units.describe(units.difference(kind.dimension))} or in %.",
            )

    def _where(self, kind: Type | None, where: nodes.Expr) -> None:
        found = self.typer.type_of(where, self.lookup)
        if found is None or kind is None:
            return
        if found.kind != "yes_no":
            self.source.report(where.span, "not a condition", str(found), "Write, for example: where iload >= 140 mA")
        elif not set(found.axes) <= set(kind.axes):
            extra = ", ".join(a for a in found.axes if a not in kind.axes)
            self.source.report(
                where.span, "a condition over other axes", f"over {extra}", f"The value to be judged is {kind}."
            )

    def _wait(self, statement: nodes.Wait) -> None:
        kind = self._scalar(statement.time)
        value = constants.number(statement.time, self.program.params)
        if kind is not None and (kind.kind != "quantity" or kind.dimension != units.SECOND):
            self.source.report(statement.time.span, "wrong unit", str(kind), "A wait takes a time, such as 200 ms.")
        elif value is not None and value < 0:
            self.source.report(statement.time.span, "a negative time")

    def _sweep(self, sweep: nodes.Sweep) -> None:
        kind = self._sweep_type(sweep)
        known = self.program.params
        at_hand = kind is not None and not self.source.has_mistakes
        self.program.points[sweep] = (
            constants.report_points(self.source, sweep, known, kind.dimension, kind.shown) if kind and at_hand else None
        )
        if kind is None:
            self.broken.add(sweep.name)
        else:  # while it runs the name is a value; after it, an axis over itself alone
            self._bind(sweep.name, "sweep", replace(kind, axes=(sweep.name,)), sweep.span)
        self.sweeps.append(sweep)
        self.check_block(sweep.body)
        self.sweeps.pop()

    def _sweep_type(self, sweep: nodes.Sweep) -> Type | None:
        ends = list(sweep.values)
        for segment in sweep.segments:
            ends += [e for e in (segment.start, segment.end) if e is not None]
        kinds = [(expr, self._scalar(expr)) for expr in ends]
        first = kinds[0][1]
        if first is None:
            return None
        for expr, kind in kinds[1:]:
            if kind is not None and (kind.kind, kind.dimension) != (first.kind, first.dimension):
                self.source.report(expr.span, "wrong unit", str(kind), f"The sweep began with {first}.")
                return None
        if first.kind != "quantity":
            self.source.report(sweep.span, "only numbers with units can be swept", str(first))
            return None
        for segment in sweep.segments:
            self._amount(segment, first)
        return first

    def _amount(self, segment: nodes.Segment, kind: Type) -> None:
        found = self._scalar(segment.amount)
        if found is None:
            return
        wanted = units.difference(kind.dimension) if segment.spacing == "step" else units.PLAIN
        is_degrees = segment.spacing == "step" and _is_degrees(segment.amount, kind)
        if found.kind != "quantity" or (found.dimension != wanted and not is_degrees):
            self.source.report(segment.amount.span, "wrong unit", str(found), f"Here belongs {units.describe(wanted)}.")
        if segment.spacing == "log" and kind.dimension.kind != "linear":
            self.source.report(segment.span, f"logarithmic points of {kind}", "", "Levels are logarithmic already.")

    def _show(self, statement: nodes.Show) -> None:
        self._text(statement.text, statement.span)

    def _askconfirm(self, statement: nodes.AskConfirm) -> None:
        self._text(statement.text, statement.span)

    def _text(self, text: str, span: Span) -> None:
        for gap in fill.gaps(text):
            place = Span(span.start + 1 + gap.start, span.start + 1 + gap.end)
            kind = self.lookup(nodes.Name(place, gap.name))
            if kind is None or not gap.unit:
                continue
            try:
                if units.parse_unit(gap.unit).dimension != kind.dimension or kind.kind != "quantity":
                    self.source.report(place, "wrong unit", str(kind))
            except UnitError as error:
                self.source.report(place, error.what, "", error.remedy)

    def _plot(self, statement: nodes.Plot) -> None:
        axes = [name for name in (statement.x, statement.by) if name]
        for y in statement.ys:
            binding = self.names.get(y)
            if binding is None:
                self._report_unknown(nodes.Name(statement.span, y))
                return
            for axis in axes:
                if axis not in binding.type.axes:
                    self.source.report(
                        statement.span,
                        f"'{y}' is not a curve over {axis}",
                        "",
                        f"It has {', '.join(binding.type.axes) or 'no axes'}.",
                    )
                    return


def _names_made(body: tuple[nodes.Statement, ...]) -> list[tuple[str, Span]]:
    made: list[tuple[str, Span]] = []
    for statement in body:
        match statement:
            case nodes.Read(readings=readings):
                made += [(r.name, r.span) for r in readings]
            case nodes.Let(name=name, span=span):
                made.append((name, span))
            case nodes.Sweep(name=name, span=span, body=inner):
                made += [(name, span), *_names_made(inner)]
    return made


def _is_degrees(expr: nodes.Expr, kind: Type) -> bool:
    """True for a tolerance or step of a temperature that is written as a number in degC: it is a difference."""
    return kind.dimension == units.CELSIUS and isinstance(expr, nodes.Literal) and expr.quantity.unit.symbol == "degC"


def _a(class_name: str) -> str:
    text = class_name.replace("_", " ")
    return ("An " if text[0] in "aeiou" else "A ") + text
