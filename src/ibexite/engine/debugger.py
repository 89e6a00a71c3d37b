"""Stepping through a sequence: where to halt, and what can be looked at there. What is asked is the work of a
service."""

from __future__ import annotations

from collections.abc import Callable, Iterable

from ibexite.engine.formula import HELPERS, Formulas, variable
from ibexite.engine.services import Halt, Halts
from ibexite.errors import MistakeError, StopRun, did_you_mean
from ibexite.language import nodes
from ibexite.language.build_expr import ExprBuilder
from ibexite.language.check_names import own_axis
from ibexite.language.grammar import line_parser
from ibexite.language.program import Program
from ibexite.language.source import Source
from ibexite.language.types import Typer
from ibexite.untyped import Fields, Measured
from ibexite.values import Quantity, Type, YesNo


class Debugger:
    """Halts at each line (stepping), or at the lines and tests that were named; `tell` is told of each halt: the line,
    the answer, and the values of that moment."""

    def __init__(
        self, program: Program, halts: Halts, tell: Callable[[int, str, Fields], None],
        from_file: Callable[[str, str], Measured],
    ) -> None:  # fmt: skip
        """`from_file` gives what lies in files, as lines have it: engine.files.ProjectFiles."""
        self._program, self._prompt, self._tell, self._from_file = program, halts.prompt, tell, from_file
        self._stepping, self._stops = halts.is_stepping, halts.stops
        self._block = ""
        self._was_asked = False  # the halt at the present line was the one behind the line before

    def entering(self, block: str) -> None:
        """A block begins; halts at its first line if it was named."""
        self._block = block
        if block.partition(" [")[0] in self._stops:
            self._stepping = True

    def at_line(self, line: int, file: str, names: Fields) -> None:
        """Before a line. Nobody is asked where the halt behind the line before was this one."""
        was_asked, self._was_asked = self._was_asked, False
        is_named = str(line) in self._stops and file == self._program.source.name
        if was_asked or not (self._stepping or is_named):
            return
        self._stepping = True
        self._ask(line, file, names, is_after=False)

    def again(self, following: int, file: str, names: Fields) -> bool:
        """Behind a line that can be run again: whether it shall be. `following` is the line that comes next, 0 if the
        block ends."""
        if not self._stepping:
            return False
        self._was_asked = bool(following)
        return self._ask(following, file, names, is_after=True) == "again"

    def _ask(self, line: int, file: str, names: Fields, *, is_after: bool) -> str:
        values = {key[2:].replace("_DOT_", "."): v for key, v in names.items() if key.startswith("v_")}
        source = next((s for s in self._program.sources if s.name == file), self._program.source)
        text = source.line_text(line).strip() if line else "(the end of these lines)"
        answer = self._prompt(Halt(file, line, text, values, is_after), lambda given: self.evaluate(given, values))
        self._tell(line, answer, {name: _plain(value) for name, value in values.items()})
        if answer == "stop":
            raise StopRun("stopped at a halt")
        if answer == "continue":
            self._stepping = False
        return answer

    def evaluate(self, text: str, values: Fields) -> str:
        """The value of a formula over the names that have one now, in words.

        Raises:
            MistakeError: the formula is not understood.
        """
        from ibexite import units
        from ibexite.analysis.catalog import find

        source = Source("formula", f"let it = {text}")
        program = self._program
        bindings = program.names.get(self._block.partition(" [")[0], {})
        try:
            tree: Measured = line_parser().parse(source.text, start="deed_line")
        except Exception:
            raise MistakeError(f"{text!r} is not a formula", remedy="Write, for example: v_out * i_out") from None
        expr: nodes.Expr = ExprBuilder(source).expr(tree.children[1])
        shown = str(tree.children[2]) if tree.children[2] is not None else None

        def lookup(name: nodes.Name | nodes.ResultOf) -> Type | None:
            key = name.name if isinstance(name, nodes.Name) else f"{name.test}.{name.name}"
            if key in program.main.types:
                return program.main.types[key]
            if key in values and key in bindings:
                kind = bindings[key].type
                return kind if hasattr(values[key], "axes") else kind.single()
            raise MistakeError(
                f"{key!r} has no value here", remedy=f"There is: {', '.join(sorted(values)) or 'nothing yet'}."
            )

        def axis_of(axis: str) -> Type | None:
            return bindings[axis].type if axis in bindings else program.axes.get(axis, own_axis(axis))

        typer = Typer(
            source, program.types, program.tolerances, {}, known=program.main.known, axis_of=axis_of,
            from_file=self._type_in_file, stimuli=program.stimuli,
        )  # fmt: skip
        kind = typer.type_of(expr, lookup)
        if kind is None or source.findings:
            raise MistakeError("\n".join(f.title + (f": {f.mark}" if f.mark else "") for f in source.findings))
        formulas = Formulas(program.types, program.main.known, set(values), (), program.tolerances)
        code = formulas.source(expr)
        from ibexite.holes import decide

        helpers = {**HELPERS, "logic": decide, "INF": float("inf"), "from_file": self._from_file}
        bound = {**helpers, **{variable(k): v for k, v in values.items()}}
        bound |= {name: find(target) for name, target in formulas.used.items()}
        value = eval(code, bound)
        if hasattr(value, "values"):
            return f"a curve of {value.values.size} values over {', '.join(value.axes)}"
        if not isinstance(kind, Quantity):
            return ("yes" if value else "no") if isinstance(kind, YesNo) else str(value)
        return (
            units.format_value(value, kind.dimension, shown=shown or kind.shown)
            if not isinstance(value, complex)
            else str(value)
        )

    def _type_in_file(self, expr: nodes.FromFile) -> Type | None:
        """The type of what a file holds. Raises MistakeError for a file that no line takes it from."""
        for known, kind in self._program.types.items():
            if isinstance(known, nodes.FromFile) and (known.kind, known.name) == (expr.kind, expr.name):
                return kind
        what = f'no line of this sequence takes {expr.kind}("{expr.name}")'
        raise MistakeError(what, remedy="What lies in files was read before the run.")


def check_stops(program: Program, stops: Iterable[str]) -> None:
    """Refuses a halt at what is neither a test nor a line with something on it. Raises MistakeError."""
    names = [case.test.name for case in program.cases]
    lines = program.source.text.count("\n") + 1
    for stop in stops:
        if stop.isdigit() and 0 < int(stop) <= lines and program.source.line_text(int(stop)).split("#")[0].strip():
            continue
        if stop not in names:
            what = f"line {stop} has nothing to halt at" if stop.isdigit() else f"there is no test {stop!r}"
            raise MistakeError(what, where="--break", remedy="" if stop.isdigit() else did_you_mean(stop, names))


def _plain(value: Measured) -> Measured:
    """A value for an event."""
    if hasattr(value, "values"):
        return f"a curve of {value.values.size} values"
    if isinstance(value, complex):
        return str(value)
    return None if isinstance(value, float) and value != value else value
