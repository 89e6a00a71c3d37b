"""What all parts of the compiler share: writing lines, binding things, columns of loops."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ibexite import connections
from ibexite.engine.formula import Formulas, variable
from ibexite.engine.frame import Frame
from ibexite.functions import FUNCTIONS
from ibexite.language import constants, nodes
from ibexite.language.source import Span
from ibexite.untyped import Bindings
from ibexite.values import Connections, Type


@dataclass(slots=True)
class Loop:
    """A loop that is being compiled: the table of its rows and the columns met so far. Whatever belongs to it is bound
    under its number: two loops in two branches may have one name."""

    node: nodes.Loop
    axis: str
    number: int
    columns: list[str] = field(default_factory=list)
    inner: list[Loop] = field(default_factory=list)
    curves: dict[str, str] = field(default_factory=dict)  # those that are used after it, and what keeps them
    table: str = ""
    points: Sequence[float] | None = None  # known before the run, else None
    is_ragged: bool = False

    @property
    def axis_key(self) -> str:
        """The name under which its axis is bound."""
        return f"axis_{self.number}"


class CompilerBase:
    """Writes the lines of one block; a frame gives what they are bound to."""

    _nowhere = Span(0, 0)

    def __init__(self, frame: Frame, bound: Bindings) -> None:
        self.frame, self.program = frame, frame.program
        self.bound = dict(bound)
        self.formulas = Formulas(
            self.program.types, frame.known, frame.names, frame.scope.functions, self.program.tolerances
        )
        self.carried: set[str] = set()  # names of which it is carried along by how much they may be off
        self.behind: dict[str, frozenset[str]] = {}  # the readings behind each name
        self.several: set[str] = (
            set()
        )  # names whose values were made of several, so that bad ones may have been left out
        self._lines: list[str] = []
        self._line_of: list[int] = [0]
        self._depth = 1
        self._loops: list[Loop] = []
        self._tallies: list[tuple[str, int]] = []  # of the checks within the outermost loop, with their lines
        self._finished: list[tuple[str, int]] = []  # what to run when the outermost loop has ended, with its line
        self._count = 0
        self._watches = 0

    def _emit(self, text: str, line: int, *, depth: int | None = None) -> None:
        self._lines.append("    " * (self._depth if depth is None else depth) + text)
        self._line_of.append(line)

    def _number(self) -> int:
        self._count += 1
        return self._count

    def _bind(self, prefix: str, thing: object) -> str:
        name = f"{prefix}_{self._number()}"
        self.bound[name] = thing
        return name

    def _line(self, statement: nodes.Statement) -> int:
        return self.frame.source.line_of(statement.span.start)

    def _type(self, expr: nodes.Expr) -> Type:
        return self.program.types[expr]

    def _told_in_turn(self, name: str, line: int) -> None:
        """A value of a turn is a column of its row; a curve is told of at once, and kept where the lines after the loop
        use those of all turns."""
        here = tuple(loop.axis for loop in self._loops)
        own = tuple(axis for axis in self.frame.names[name].type.axes if axis not in here)
        if not own:
            self._column(name)
            return
        at = "".join(f"v_{axis}, " for axis in here)
        self._emit(f"{self._bind('told', self.frame.whole_curve(name, here))}({variable(name)}, ({at}))", line)
        self._keep_curve(name, own)

    def _measured_of(self, name: str, line: int) -> None:
        """Of connections what was measured of them, as names of their own, as far as any line uses it."""
        for key, kind in self._parts_of(name).items():
            target = variable(key)
            self._emit(f"{target} = {self.formulas.function('wiring.measured')}({variable(name)}, {kind!r})", line)
            self.behind[key] = self.behind.get(name, frozenset({name}))
            if self._loops:
                self._told_in_turn(key, line)
            else:
                self._emit(f"{self._bind('told', self.frame.computed(key))}({target})", line)

    def _parts_of(self, name: str) -> dict[str, str]:
        """The names of what was measured of connections that any line uses, and its kinds; nothing of other values."""
        binding = self.frame.names.get(name)
        if binding is None or not isinstance(binding.type, Connections):
            return {}
        return {key: kind for kind in connections.KINDS if (key := f"{name}.{kind}") in self.frame.curves_used}

    def _keep_curve(self, name: str, own: tuple[str, ...]) -> None:
        """Has the turns of a loop keep their curves, where any line needs all of them."""
        loop = self._loops[-1]
        if name not in loop.curves and self.frame.is_used_over(name, loop.axis):
            axes = tuple(self.bound[outer.axis_key] for outer in self._loops)
            loop.curves[name] = self._bind("rows", self.frame.curve_rows(name, axes, own))

    def _column(self, name: str) -> None:
        if name not in self._loops[-1].columns:
            self._loops[-1].columns.append(name)

    def _stands_on(self, *exprs: nodes.Expr | None) -> str:
        """Source of how many values a result was made of, and how many bad ones were left out: Counts; "" where
        nothing was left out for certain."""
        given = [expr for expr in exprs if expr is not None]
        counts = []
        for call in (call for expr in given for call in constants.calls_in(expr)):
            function, first = FUNCTIONS.get(call.function), call.arguments[0] if call.arguments else None
            if function is None or function.kind != "consume" or function.name == "count":
                continue
            assert first is not None and not isinstance(first, nodes.Pair | nodes.Window | nodes.UnitArgument)
            axis = call.along or self._type(first).axes[0]
            counts.append(f"{self.formulas.function('catalog.statistics_n')}({self.formulas.source(first)}, {axis!r})")
        names = sorted({name for expr in given for name in constants.names_in(expr)})
        names = [name for name in names if name in self.several or self.frame.bad_behind(name)]
        if not counts and not names:
            return ""
        return f"counted([{', '.join(counts)}], {names!r})"

    def _is_complex(self, name: str) -> bool:
        binding = self.frame.names.get(name)
        return binding is not None and binding.type.is_complex

    def _block(self, body: tuple[nodes.Statement, ...]) -> None:
        for number, statement in enumerate(body):
            line = self._line(statement)
            before = len(self._lines)
            if self.frame.runtime.debugger is not None:
                self._emit(f"at_line({line}, {self.frame.source.name!r}, locals())", line)
            getattr(self, f"_{type(statement).__name__.lower()}")(statement, line)
            if self.frame.runtime.debugger is not None and isinstance(statement, nodes.Set | nodes.Read | nodes.Let):
                again = self._lines[before + 1 :]
                following = self._line(body[number + 1]) if number + 1 < len(body) else 0
                self._emit(f"while again({following}, {self.frame.source.name!r}, locals()):", line)
                for text in again:
                    self._emit("    " + text.strip(), line)
            if self.frame.runtime.timing is not None:
                self._time(statement, line, before)
            if (self._watches or self.frame.runtime.bench.has_time_limits) and not nodes.inner_bodies(statement):
                self._emit("tick()", line)

    def _time(self, statement: nodes.Statement, line: int, before: int) -> None:
        """Notes how long a line took; lines with a block are told by those within it."""
        if nodes.inner_bodies(statement):
            return
        self._lines.insert(before, "    " * self._depth + "begun = clock()")
        self._line_of.insert(before + 1, line)
        self._emit(f"took({line}, {self.frame.source.name!r}, clock() - begun)", line)


def commas(prefix: str, names: list[str]) -> str:
    """Names in a row, each with a comma behind it."""
    return "".join(f"{prefix}{name}, " for name in names)
