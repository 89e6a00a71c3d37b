"""What names mean in one block: those it made, parameters, results of other tests and of measurements."""

from __future__ import annotations

from ibexite import connections
from ibexite.classes import InstrumentClass
from ibexite.errors import did_you_mean
from ibexite.functions import AXES
from ibexite.language import nodes
from ibexite.language.program import (
    Binding,
    Companions,
    LimitTable,
    MeasurementFacts,
    PlayUse,
    Program,
    RecordUse,
    RoleUse,
    Scope,
    SetPoint,
)
from ibexite.language.source import Span
from ibexite.language.types import Typer
from ibexite.values import NUMBER, TEXT, Connections, Quantity, Type, Waveform, YesNo


def own_axis(name: str) -> Type | None:
    """The type of an axis that no line brings into being."""
    if name in connections.AXES:
        return TEXT
    return NUMBER if name == "crossing" else None


class NameChecker:
    """The names of one block; `names` grows with what its lines bring into being."""

    def __init__(
        self, program: Program, scope: Scope, block: str, companions: Companions | None, limits: LimitTable | None,
        measurement: MeasurementFacts | None = None,
    ) -> None:  # fmt: skip
        """A checker of one block; of a measurement, whose set points and uses are kept with what is known of it."""
        self.program, self.scope, self.source, self.block = program, scope, scope.source, block
        self.companions, self.limit_table = companions, limits
        self.typer = Typer(
            scope.source, program.types, program.tolerances, scope.functions, known=scope.known, axis_of=self.axis_of,
            from_file=self.from_file, stimuli=program.stimuli,
        )  # fmt: skip
        self.names: dict[str, Binding] = {}
        self.body: tuple[nodes.Statement, ...] = ()  # the whole block
        self.loops: list[nodes.Loop] = []
        self.later: dict[str, Span] = {}
        self.broken: set[str] = set()  # names whose line was reported; their uses are not reported as well
        self.foreign_axes: dict[str, Type] = {}  # of curves that come from elsewhere
        home = measurement if measurement is not None else program
        self.set_points: list[SetPoint] = home.set_points
        self.uses: list[RoleUse] = home.uses
        self.plays: list[PlayUse] = home.plays
        self.recordings: list[RecordUse] = home.recordings

    def from_file(self, expr: nodes.FromFile) -> Type | None:
        """The type of what a file holds."""
        raise NotImplementedError

    @property
    def here(self) -> tuple[str, ...]:
        """The axes of the loops that are running."""
        return tuple(loop.name for loop in self.loops)

    def axis_of(self, name: str) -> Type | None:
        """The type of an axis."""
        if name in self.names:
            return self.names[name].type
        if name in AXES and name not in self.foreign_axes:  # of what functions give
            self.foreign_axes[name] = self.program.axes[name] = Quantity((name,), AXES[name])
        return self.foreign_axes.get(name, own_axis(name))

    def lookup(self, name: nodes.Name | nodes.ResultOf) -> Type | None:
        """The type of a name as seen from the present line: a sweep that is still running is no axis of it."""
        if isinstance(name, nodes.ResultOf):
            return self._lookup_result(name)
        if name.name == "serial":
            return TEXT
        self.scope.used.add(name.name)
        if name.name in self.scope.types:
            return self.scope.types[name.name]
        binding = self.names.get(name.name)
        if binding is not None:
            return self._seen_from_here(binding)
        if name.name not in self.broken and name.name != nodes.REPORTED:
            self.report_unknown(name)
        return None

    def _seen_from_here(self, binding: Binding) -> Type:
        return binding.type.over(tuple(a for a in binding.type.axes if a not in self.here))

    def report_unknown(self, name: nodes.Name) -> None:
        """Reports a name that means nothing here, with the most helpful remedy."""
        need = self.scope.needs.get(name.name)
        if name.name in self.later:
            line = self.source.line_of(self.later[name.name].start)
            here = self.source.line_of(name.span.start)
            when = "by this very line" if line == here else f"on line {line}"
            self.source.report(name.span, f"'{name.name}' has no value yet", "", f"It gets one {when}.")
        elif need is not None and need.is_signal:
            self.source.report(
                name.span, f"'{name.name}' has no value yet", "a signal", f"First write: read {name.name}"
            )
        elif need is not None and need.is_route:
            self.source.report(name.span, f"'{name.name}' is a route, not a value", "", f"Write: connect {name.name}")
        elif need is not None:
            self.source.report(
                name.span,
                f"'{name.name}' is a role, not a value",
                "",
                f"Read one of its readings first: read x = {name.name}.…",
            )
        else:
            owners = [test for test, names in self.program.names.items() if name.name in names and " " not in test]
            known = [*self.names, *self.later, *self.scope.known, *self.scope.needs]
            hint = (
                f"It belongs to another test: write {owners[0]}.{name.name}."
                if owners
                else did_you_mean(name.name, [n for n in known if "." not in n])
            )
            self.source.report(name.span, f"unknown name {name.name!r}", "", hint)

    def _lookup_result(self, name: nodes.ResultOf) -> Type | None:
        key = f"{name.test}.{name.name}"
        if key in self.names:
            return self._seen_from_here(self.names[key])
        mine = [n.partition(".")[2] for n in self.names if n.startswith(name.test + ".")]
        if mine:
            self.source.report(
                name.span, f"'{name.test}' has no result {name.name!r}", "", did_you_mean(name.name, mine)
            )
            return None
        names = self.program.names.get(name.test)
        if names is None or " " in name.test:
            later = any(test.name == name.test for test in self.program.sequence.tests)
            hint = (
                "It runs later; move it up."
                if later
                else did_you_mean(name.test, [test for test in self.program.names if " " not in test])
            )
            if name.test not in self.broken:
                self.source.report(name.span, f"no test {name.test!r} before this one", "", hint)
        elif name.name not in names:
            self.source.report(
                name.span, f"'{name.test}' has no result {name.name!r}", "", did_you_mean(name.name, names)
            )
        elif self._corner_of(name.test) not in ("", self._corner_of(self.block)):
            self.source.report(
                name.span, f"'{name.test}' runs several times", f"over {self._corner_of(name.test)}",
                "Its results can be used in its own group only.",
            )  # fmt: skip
        else:
            found = names[name.name].type
            self.foreign_axes |= {axis: names[axis].type for axis in found.axes if axis in names}
            return found
        return None

    def _corner_of(self, test: str) -> str:
        """The group and corner variable of a test that is repeated, "" for any other."""
        for part in self.program.sequence.parts:
            if isinstance(part, nodes.Group) and part.corner and any(t.name == test for t in part.tests):
                return f"{part.corner} in group {part.name}"
        return ""

    def bind(self, name: str, origin: str, kind: Type, span: Span) -> None:
        """Gives a name its meaning; reports a name that has one already."""
        earlier = self.names.get(name)
        if earlier is not None or name in self.scope.types:
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
        if isinstance(kind, Connections) and "." not in name:
            for part, part_type in kind.parts().items():
                self.names[f"{name}.{part}"] = Binding(f"{name}.{part}", "let", part_type, span)

    def bind_in_turn(self, name: str, origin: str, kind: Type, span: Span) -> None:
        """Gives a name its meaning that gets a value, or a curve, in each turn of the loops around: after them it is
        over their axes too. Reports a curve with an axis that is called like one of them."""
        met = [axis for axis in kind.axes if axis in self.here]
        if met:
            what = f"{name} is over {', '.join(kind.axes)}"
            self.source.report(span, f"two axes are called {met[0]}", what, "Give the loop another name.")
            self.broken.add(name)
            return
        self.bind(name, origin, kind.over(self.here + kind.axes), span)

    # --- roles and signals -------------------------------------------------------------------------------------------

    def role(self, role: str, span: Span) -> InstrumentClass | None:
        """The class of a role; reports a name that is none."""
        need = self.scope.needs.get(role)
        self.scope.used.add(role)
        if need is None or not need.is_role:
            roles = [n.name for n in self.scope.needs.values() if n.is_role]
            kind = "route" if need is not None and need.is_route else "signal"
            what = f"is a {kind}, not a role" if need else "is not among the needs"
            self.source.report(
                Span(span.start, span.start + len(role)),
                f"'{role}' {what}",
                "",
                did_you_mean(role, roles) or "Declare it below needs, as: supply : power_supply",
            )
            return None
        return self.program.class_of(need)

    def signal(self, name: str, span: Span) -> nodes.Need | None:
        """The need of a signal; reports a name that is none."""
        need = self.scope.needs.get(name)
        self.scope.used.add(name)
        if need is None:
            signals = [n.name for n in self.scope.needs.values() if n.is_signal]
            self.source.report(span, f"unknown signal {name!r}", "", did_you_mean(name, signals))
            return None
        if need.is_route:
            self.source.report(span, f"'{name}' is a route, not a signal", "", f"Write: connect {name}")
            return None
        if not need.is_signal:
            known = self.program.class_of(need)
            which = next(iter(known.readings), "reading") if known else "reading"
            self.source.report(span, f"'{name}' is a role, not a signal", "", f"Write: read name = {name}.{which}")
            return None
        return need

    def recorded(self, reading: nodes.Reading) -> Waveform | None:
        """The type of the curve over time that is recorded of a signal; reports one of which there is none."""
        need = self.signal(reading.source, reading.span)
        if need is None:
            return None
        if not isinstance(need.type, Quantity):
            self.source.report(reading.span, "not a number", str(need.type), "Signals with a unit can be recorded.")
            return None
        self.axis_of("time")
        return Waveform(("time",), need.type.dimension, need.type.shown)

    def scalar(self, expr: nodes.Expr) -> Type | None:
        """The type of an expression that must be one value."""
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

    def condition(self, expr: nodes.Expr, example: str) -> None:
        """Checks an expression that must be a condition of single values."""
        kind = self.scalar(expr)
        if kind is not None and not isinstance(kind, YesNo):
            self.source.report(expr.span, "not a condition", str(kind), f"Write, for example: {example}")
