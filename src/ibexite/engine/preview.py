"""What a program will do: its steps, the points of its sweeps, how many rows, how long. Nothing is connected."""

from __future__ import annotations

from dataclasses import dataclass
from decimal import Decimal

from ibexite.bench.file import BenchFile
from ibexite.language import constants, nodes
from ibexite.language.program import Program

ANSWER_TIME = 0.005  # s; what a query takes where the bench file does not say it


@dataclass(frozen=True, slots=True)
class Step:
    """One line of the preview: its depth in the tree, its text, how many times it is carried out, seconds in all."""

    depth: int
    line: int
    text: str
    times: int
    seconds: float


@dataclass(frozen=True, slots=True)
class Block:
    """A block (before unit, a test, after unit) with its steps; `rows` counts rows of its tables."""

    name: str
    title: str
    steps: list[Step]
    rows: int
    seconds: float
    questions: int
    is_exact: bool  # false when the points of a sweep are known only at run time


def preview(program: Program, bench: BenchFile | None) -> list[Block]:
    """The blocks of a program in the order in which they run."""
    sequence = program.sequence
    blocks = [("before unit", "", sequence.before_unit), *((t.name, t.title, t.body) for t in sequence.tests)]
    blocks.append(("after unit", "", sequence.after_unit))
    return [_Walk(program, bench).block(name, title, body) for name, title, body in blocks if body]


class _Walk:
    def __init__(self, program: Program, bench: BenchFile | None) -> None:
        self.program, self.bench = program, bench
        self.steps: list[Step] = []
        self.rows = 0
        self.questions = 0
        self.is_exact = True

    def block(self, name: str, title: str, body: tuple[nodes.Statement, ...]) -> Block:
        seconds = self._body(body, 0, 1)
        return Block(name, title, self.steps, self.rows, seconds, self.questions, self.is_exact)

    def _body(self, body: tuple[nodes.Statement, ...], depth: int, times: int) -> float:
        total = 0.0
        for statement in body:
            if isinstance(statement, nodes.Sweep):
                total += self._sweep(statement, depth, times)
                continue
            seconds = self._seconds(statement) * times
            self.questions += isinstance(statement, nodes.AskConfirm)
            self._add(statement, depth, self._text(statement), times, seconds)
            total += seconds
        return total

    def _sweep(self, sweep: nodes.Sweep, depth: int, times: int) -> float:
        points = self.program.points.get(sweep)
        count = len(points) if points is not None else 1
        self.is_exact &= points is not None
        place = len(self.steps)
        inner = self._body(sweep.body, depth + 1, times * count)
        if not any(isinstance(statement, nodes.Sweep) for statement in sweep.body):
            self.rows += times * count
        text = f"sweep {sweep.name}: {self._points(sweep, points)}"
        self.steps.insert(place, Step(depth, self._line(sweep), text, times, inner))
        return inner

    def _points(self, sweep: nodes.Sweep, points: list[Decimal] | None) -> str:
        if points is None:
            return "points known when it begins"
        kind = self.program.types[sweep.values[0] if sweep.values else sweep.segments[0].end]
        texts = [constants.written(point, kind.dimension, kind.shown) for point in points]
        shown = texts if len(texts) <= 7 else [*texts[:4], "…", *texts[-2:]]
        return f"{len(points)} points: {', '.join(shown)}"

    def _seconds(self, statement: nodes.Statement) -> float:
        if isinstance(statement, nodes.Wait):
            return float(constants.number(statement.time, self.program.params) or 0)
        if isinstance(statement, nodes.Read):
            each = [self._answer_time(reading) for reading in statement.readings]
            return (max(each) if statement.together else sum(each)) * statement.averaging
        return 0.0

    def _answer_time(self, reading: nodes.Reading) -> float:
        if self.bench is None:
            return ANSWER_TIME
        role = reading.role or self.bench.signals[reading.source].role
        simulated = self.bench.instruments[self.bench.roles[role].instrument].simulated
        return simulated.answer_time if simulated and simulated.answer_time else ANSWER_TIME

    def _line(self, statement: nodes.Statement) -> int:
        return self.program.source.line_of(statement.span.start)

    def _add(self, statement: nodes.Statement, depth: int, text: str, times: int, seconds: float) -> None:
        self.steps.append(Step(depth, self._line(statement), text, times, seconds))

    def _text(self, statement: nodes.Statement) -> str:
        return " ".join(self.program.source.line_text(self._line(statement)).split("#")[0].split())
