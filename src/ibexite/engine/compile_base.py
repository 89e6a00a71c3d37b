"""What all parts of the compiler share: writing lines, binding things, columns of loops."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ibexite.engine.formula import Formulas, variable
from ibexite.language import nodes
from ibexite.language.source import Span
from ibexite.language.types import Type

if TYPE_CHECKING:
    from ibexite.engine.frame import Frame


@dataclass(slots=True)
class Loop:
    """A loop that is being compiled: the table of its rows and the columns met so far."""

    node: nodes.Loop
    axis: str
    columns: list[str] = field(default_factory=list)
    inner: list[Loop] = field(default_factory=list)
    table: str = ""
    points: Any = None  # known before the run, else None
    is_ragged: bool = False


class CompilerBase:
    """Writes the lines of one block; a frame gives what they are bound to."""

    _nowhere = Span(0, 0)

    def __init__(self, frame: Frame, bound: dict[str, Any]) -> None:
        self.frame, self.program = frame, frame.program
        self.bound = dict(bound)
        self.formulas = Formulas(self.program.types, frame.known, frame.names, frame.scope.functions)
        self.formulas.tolerances = self.program.tolerances
        self.behind: dict[str, frozenset[str]] = {}
        self._lines: list[str] = []
        self._line_of: list[int] = [0]
        self._depth = 1
        self._loops: list[Loop] = []
        self._finished: list[tuple[str, int]] = []  # what to run when the outermost loop has ended, with its line
        self._count = 0
        self._watches = 0

    def _emit(self, text: str, line: int, *, depth: int | None = None) -> None:
        self._lines.append("    " * (self._depth if depth is None else depth) + text)
        self._line_of.append(line)

    def _bind(self, prefix: str, thing: Any) -> str:
        self._count += 1
        name = f"{prefix}_{self._count}"
        self.bound[name] = thing
        return name

    def _line(self, statement: Any) -> int:
        return self.frame.source.line_of(statement.span.start)

    def _type(self, expr: nodes.Expr) -> Type:
        return self.program.types[expr]

    def _column(self, name: str) -> None:
        if name not in self._loops[-1].columns:
            self._loops[-1].columns.append(name)

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
            if self._watches and not nodes.inner_bodies(statement):
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
    if prefix == "v_":
        return "".join(f"{variable(name)}, " for name in names)
    return "".join(f"{prefix}{name}, " for name in names)
