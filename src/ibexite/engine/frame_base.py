"""What all parts of a frame share: names, roles and prefix of one block, and how many bad values were left out of its
results."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, NamedTuple, Protocol

from ibexite import connections
from ibexite.engine.runtime import Runtime
from ibexite.holes import Counts
from ibexite.language import constants, nodes
from ibexite.language.program import Binding, MeasurementFacts, Scope
from ibexite.untyped import Fields
from ibexite.values import NUMBER, TEXT, column_of

MakeMeasurement = Callable[["FrameBase", MeasurementFacts, str, dict[str, str]], tuple["FrameBase", Callable[..., Any]]]
"""Makes the frame and the function of a measurement in the language, as a line of a frame uses it: from that frame, the
measurement, what its result is called there, and what plays its roles."""


class Turn(NamedTuple):
    """A turn of loops: what is told of their axes, and where they are."""

    outer: list[dict[str, str]]
    at: tuple[float | str, ...]


OUTSIDE = Turn([], ())


class Renewed(Protocol):
    """What a block keeps from line to line, and forgets before it is carried out once more."""

    def renew(self) -> None:
        """As if nothing had been carried out."""


class FrameBase:
    """The surroundings of one block: a test, `before unit` and the like, or one call of a measurement.

    `roles` says what plays the roles and signals of a measurement; `prefix` stands before the names that it records.
    """

    def __init__(
        self,
        runtime: Runtime,
        scope: Scope,
        names: dict[str, Binding],
        known: dict[str, constants.Value],
        block: str,
        compile_measurement: MakeMeasurement,
        *,
        roles: dict[str, str] | None = None,
        prefix: str = "",
        outputs: tuple[str, ...] = (),
        body: tuple[nodes.Statement, ...] = (),
        caller: tuple[FrameBase, str] | None = None,
    ) -> None:
        self.runtime, self.scope, self.names, self.known = runtime, scope, names, known
        self.program, self.source, self.block = runtime.program, scope.source, block
        self.roles, self.prefix, self.outputs = roles or {}, prefix, outputs
        self.body, self.caller = body, caller  # the caller of a measurement, and what it calls the result
        self.turn = OUTSIDE  # of the loops of this block, in which it calls a measurement
        self.curves_used = _curves_used(runtime)
        self.left_bad_of: dict[str, int] = {}  # how many bad values were left out of what a name stands for
        self.compile_measurement = compile_measurement
        self.measurements: dict[nodes.Measure, tuple[FrameBase, Callable[..., Any]]] = {}  # those called so far
        self._stateful: list[Renewed] = []

    def renew(self) -> None:
        """Everything as before the first call: the block is carried out once more."""
        for thing in self._stateful:
            thing.renew()
        self.left_bad_of.clear()

    def around(self, own: Iterable[str] = ()) -> Turn:
        """The turn of all loops in which this block is called, as it is told of what has axes of its own: loops that
        are called like one of those are told apart."""
        if self.caller is None:
            return OUTSIDE
        turn, taken = self.caller[0].turn_of_calls(), set(own)
        return Turn([{**axis, "name": _other_than(axis["name"], taken)} for axis in turn.outer], turn.at)

    def turn_of_calls(self) -> Turn:
        """The turn of all loops in which this block calls a measurement just now."""
        before = self.around(axis["name"] for axis in self.turn.outer)
        return Turn(before.outer + self.turn.outer, before.at + self.turn.at)

    def in_turn(self, axes: tuple[str, ...], at: tuple[float | str, ...]) -> None:
        """Notes where the loops of this block are, before it calls a measurement."""
        self.turn = Turn([self.axis_meta(axis) for axis in axes], at)

    # --- of how many values a result was made ------------------------------------------------------------------------

    def bad_behind(self, name: str) -> int:
        """How many bad values were left out of what a name stands for: one of this block, or test.name."""
        if name in self.left_bad_of or name in self.names:
            return self.left_bad_of.get(name, 0)
        owner, _, part = name.partition(".")
        corner = self.runtime.corner
        known = self.runtime.left_bad
        return known.get((owner + corner, part), known.get((owner, part), 0))

    def counted(self, parts: list[tuple[int, int, bool]], names: list[str]) -> Counts:
        """The counts of a result that was made of curves (good and measured values of each) and of other results."""
        bad = sum(of - good for good, of, _ in parts) + sum(map(self.bad_behind, names))
        if len(parts) == 1 and parts[0][2] and not names:
            return Counts(parts[0][0], parts[0][1], bad)
        return Counts(0, 0, bad)

    def left_bad(self, name: str, counts: Counts) -> None:
        """Notes how many bad values were left out of a result; in a loop of all its turns together."""
        if counts.bad:
            self.left_bad_of[name] = self.left_bad_of.get(name, 0) + counts.bad
            self.runtime.fresh_left_bad[self.block, self.prefix + name] = self.left_bad_of[name]

    def is_used_over(self, name: str, axis: str) -> bool:
        """True if any line, also of another test, uses what a name stands for over an axis; or if it is given back."""
        used = (*self.curves_used.get(name, ()), *self.curves_used.get(f"{self.block}.{name}", ()))
        return name in self.outputs or any(axis in axes for axes in used)

    def function(self, target: str) -> Callable[..., Any]:
        """A function of ibexite.analysis; NumPy is loaded with the first one."""
        from ibexite.analysis.catalog import find
        from ibexite.engine.long_work import announced

        return announced(find(target), self.runtime.stop)

    def place(self, node: nodes.Statement | nodes.Expr | nodes.Refine) -> str:
        """File and line of a node."""
        return f"{self.source.name}:{self.source.line_of(node.span.start)}"

    def played_by(self, name: str) -> str:
        """The role or signal of the bench that a name of this block means."""
        return self.roles.get(name, name)

    def meta(self, name: str) -> Fields:
        """What is told of a name with its values: name, base unit, unit to show it in, origin."""
        whole, _, part = name.rpartition(".")
        is_part = part in ("re", "im") and name not in self.names
        binding = self.names[whole if is_part else name]
        return column_of(self.prefix + name, binding.type, binding.origin)

    def axis_meta(self, name: str) -> Fields:
        """What is told of an axis, also of one that came with a curve from elsewhere."""
        if name in self.names:
            return {**self.meta(name), "name": name, "origin": "sweep"}
        for names in (*self.program.names.values(), *(u.measurement.names for u in self.program.measures.values())):
            if name in names:
                return column_of(name, names[name].type, "sweep")
        for use in self.program.measures.values():
            if name in use.measurement.outputs:
                return column_of(name, use.measurement.outputs[name], "sweep")
        return column_of(name, self.program.axes.get(name, TEXT if name in connections.AXES else NUMBER), "sweep")


def _other_than(name: str, taken: set[str]) -> str:
    while name in taken:
        name = f"outer {name}"
    return name


def _curves_used(runtime: Runtime) -> dict[str, list[frozenset[str]]]:
    """By name, the axes over which any line uses it as a curve. Made once for a program."""
    if runtime.curves_used is None:
        cache: dict[str, list[frozenset[str]]] = {}
        for expr, kind in runtime.program.types.items():
            if kind.axes and isinstance(expr, nodes.Name):
                cache.setdefault(expr.name, []).append(frozenset(kind.axes))
            elif kind.axes and isinstance(expr, nodes.ResultOf):
                cache.setdefault(f"{expr.test}.{expr.name}", []).append(frozenset(kind.axes))
        runtime.curves_used = {name: list(dict.fromkeys(axes)) for name, axes in cache.items()}
    return runtime.curves_used
