"""What compiled blocks call: prepared lines of the bench, tables, tallies, texts; and the events they emit."""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from functools import partial
from typing import Any

from ibexite import events, units
from ibexite.bench.bench import Bench
from ibexite.bench.read_line import FAULT_OF_UNIT
from ibexite.engine.compile import Binder, Compiler
from ibexite.engine.formula import divided
from ibexite.engine.judge import Tally
from ibexite.engine.services import Clock, Operator
from ibexite.engine.tables import Axis, Table
from ibexite.errors import MistakeError, SequenceError
from ibexite.language import constants, fill, nodes, points
from ibexite.language.program import Binding, Program
from ibexite.language.types import Type


def base_unit(kind: Type) -> str:
    """The symbol in which values of a type are stored."""
    return units.base_symbol(kind.dimension) if kind.kind == "quantity" else ""


class Runtime(Binder):
    """One run's dealings with the bench, the operator and the readers of events."""

    def __init__(
        self, program: Program, bench: Bench, clock: Clock, operator: Operator, emit: Callable[[Any], None]
    ) -> None:
        self.program, self.bench, self.clock, self.operator, self.emit = program, bench, clock, operator, emit
        self.began = clock.now()
        self.serial = ""
        self.block = ""  # the test that is running, or "before unit"
        self.results: dict[tuple[str, str], Any] = {}  # of finished tests; a column is a function that makes its curve
        self._fresh: dict[tuple[str, str], Any] = {}  # of the test that is running
        self.verdicts: list[tuple[str, str]] = []  # of the checks of this test
        self.bad_reasons: dict[str, list[str]] = {}  # of this test, by reading
        self.trial: list[str] = []  # why a pass would not count, as found on the way
        self._tables = 0

    def now(self) -> float:
        """Seconds since the run began."""
        return round(self.clock.now() - self.began, 6)

    def wait(self, seconds: float) -> None:
        """Waits, beginning when the settings before have been carried out: settling is counted from then."""
        if not 0 <= seconds < math.inf:
            raise SequenceError("the time to wait is not a number of seconds", remedy="What it depends on is bad.")
        self.bench.complete()
        self.clock.wait(seconds)

    # --- blocks ------------------------------------------------------------------------------------------------------

    def compile(
        self, block: str, body: tuple[nodes.Statement, ...], guard: Callable[[Exception], None] | None = None
    ) -> Callable[[], None]:
        """The function of a block, bound to this runtime; see Compiler.compile for the guard."""
        bound: dict[str, Any] = {
            "result_of": self._result_of,
            "wait": self.wait,
            "v_serial": self.serial,
            "div": divided,
            "INF": math.inf,
        }
        self.block, self._fresh = block, {}
        return Compiler(self.program, self, self.program.names[block], bound).compile(body, guard)

    def function(self, name: str) -> Callable[..., Any]:
        """A function of ibexite.analysis.curve; NumPy is loaded with the first one."""
        from ibexite.analysis import curve

        found: Callable[..., Any] = getattr(curve, name)
        return found

    def keep_results(self) -> None:
        """The test has come to its end: from now on other tests may use its results."""
        self.results |= self._fresh

    def _result_of(self, test: str, name: str) -> Any:
        if (test, name) not in self.results:
            raise SequenceError(
                f"{test}.{name} has no value: that test was not run to its end", remedy=f"Run {test} as well."
            )
        found = self.results[test, name]
        return found() if callable(found) else found

    # --- what compiled code is bound to ------------------------------------------------------------------------------

    def set_line(self, statement: nodes.Set) -> Any:
        """A set line made ready."""
        return self.bench.set_line([(a.role, a.setting) for a in statement.assignments])

    def read_line(self, statement: nodes.Read) -> Any:
        """A read line made ready."""
        items = []
        for reading in statement.readings:
            if reading.role is None:
                items.append(self.bench.signal_item(reading.name, reading.source))
            else:
                arguments = {key: self._constant(value) for key, value in reading.arguments}
                items.append(self.bench.role_item(reading.name, reading.role, reading.source, arguments))
        return self.bench.read_line(items, together=statement.together, averaging=statement.averaging)

    def _constant(self, expr: nodes.Expr) -> float:
        value = constants.number(expr, self.program.params)
        if value is None:
            raise SequenceError(
                "an argument of a reading must be known before the run",
                where=self._place(expr),
                remedy="Use a number or a parameter.",
            )
        return float(value)

    def _place(self, node: Any) -> str:
        source = self.program.source
        return f"{source.name}:{source.line_of(node.span.start)}"

    def axis(self, name: str) -> Axis:
        """A new axis."""
        return Axis(name)

    def table(self, axes: tuple[Any, ...], columns: tuple[str, ...]) -> Table:
        """A new table."""
        self._tables += 1
        table = Table(self._tables, axes, columns, self)
        for column in columns:
            self._fresh[self.block, column] = partial(table.curve, column)
        return table

    def sweep_started(self, name: str, tables: list[tuple[Table, list[Any]]]) -> Callable[[], None]:
        """Announces a sweep and its tables."""
        block = self.block
        rows = (
            0 if any(None in sizes for _, sizes in tables) else sum(math.prod(map(len, sizes)) for _, sizes in tables)
        )

        def tell() -> None:
            for table, _ in tables:
                self.emit(
                    events.TableStarted(
                        self.now(),
                        block,
                        table.number,
                        [self._meta(a.name) for a in table.axes],
                        [self._meta(c) for c in table.columns],
                    )
                )
            self.emit(events.SweepStarted(self.now(), block, name, rows))

        return tell

    def _meta(self, name: str) -> dict[str, str]:
        binding = self.program.names[self.block][name]
        return {
            "name": name,
            "unit": base_unit(binding.type),
            "shown": binding.type.shown or "",
            "origin": binding.origin,
        }

    def readings(self, names: tuple[str, ...]) -> Callable[[list[float]], list[float]]:
        """Passes the values of a read line on and tells of them."""
        metas = [self._meta(name) for name in names]
        block = self.block

        def tell(values: list[float]) -> list[float]:
            bad, io = self.take_bad(), self.take_traffic()
            for meta, value in zip(metas, values, strict=True):
                mine = [b for b in bad if b[0] == meta["name"]]
                self.emit(
                    events.Value(
                        self.now(), block, meta["name"], "read", meta["unit"], meta["shown"], _or_none(value), mine, io
                    )
                )
                self._fresh[block, meta["name"]] = value
                io = []
            return values

        return tell

    def computed(self, binding: Binding) -> Callable[[Any], None]:
        """Tells of a value or curve that was computed outside of sweeps."""
        block, name, kind = self.block, binding.name, binding.type
        unit, shown = base_unit(kind), kind.shown or ""

        def tell(value: Any) -> None:
            self._fresh[block, name] = value
            if isinstance(value, bool | str | float | int):
                number = value if isinstance(value, bool | str) else _or_none(value)
                self.emit(events.Value(self.now(), block, name, "let", unit, shown, number, [], []))
                return
            axes = [self._meta(axis) for axis in value.axes]
            grid = value.grid()
            flat = value.values.astype(float).ravel().tolist()
            self.emit(
                events.Computed(
                    self.now(),
                    block,
                    name,
                    unit,
                    shown,
                    axes,
                    [g.ravel().tolist() for g in grid],
                    [_or_none(v) for v in flat],
                )
            )

        return tell

    def tally(self, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str]) -> _ReportedTally:
        """The tally of a check line."""
        return _ReportedTally(self, statement, axes, readings)

    def text(self, statement: nodes.Show | nodes.AskConfirm) -> tuple[Callable[..., None], list[str]]:
        """Shows or asks a text; the values of the returned names are filled in."""
        gaps = fill.gaps(statement.text)
        names = [gap.name for gap in gaps]
        is_question = isinstance(statement, nodes.AskConfirm)

        def tell(*values: Any) -> None:
            shown = fill.fill(statement.text, [self._written(g, v) for g, v in zip(gaps, values, strict=True)])
            if is_question:
                answer = self.operator.confirm(shown)
                if self.operator.trial_reason and self.operator.trial_reason not in self.trial:
                    self.trial.append(self.operator.trial_reason)
                self.emit(events.Answered(self.now(), shown, answer))
            else:
                self.operator.show(shown)
                self.emit(events.Shown(self.now(), shown))

        return tell, names

    def _written(self, gap: fill.Gap, value: Any) -> str:
        if isinstance(value, bool | str):
            return value if isinstance(value, str) else ("yes" if value else "no")
        if gap.unit:
            return units.plain_number(units.parse_unit(gap.unit).from_base(value), 9)
        binding = self.program.names[self.block].get(gap.name)
        kind = binding.type if binding else self.program.param_types[gap.name]
        return units.format_value(value, kind.dimension, shown=kind.shown)

    def plot(self, statement: nodes.Plot) -> Callable[[], None]:
        """Tells of a figure."""
        block = self.block
        return lambda: self.emit(
            events.Figure(self.now(), block, list(statement.ys), statement.x, statement.by or "", statement.title or "")
        )

    def points(self, sweep: nodes.Sweep) -> Callable[..., list[float]]:
        """Makes the points of a sweep whose ends are known only when it begins."""

        def make(*ends: float) -> list[float]:
            given = [points.exact(end) for end in ends]
            if not all(end.is_finite() for end in given):
                raise SequenceError(
                    f"an end of sweep {sweep.name} is not a number", remedy="What it depends on is bad."
                )
            if sweep.values:
                return [float(end) for end in given]
            values = iter(given)
            segments, start = [], None
            for segment in sweep.segments:
                start = next(values) if segment.start is not None else start
                end, amount = next(values), constants.as_difference(segment.amount, next(values))
                assert start is not None
                try:
                    segments.append(constants.segment_points(segment, start, end, amount))
                except MistakeError as error:
                    raise SequenceError(f"sweep {sweep.name}: {error.what}", remedy=error.remedy) from None
                start = end
            return [float(point) for point in points.joined(segments)]

        return make

    # --- what is collected between events ----------------------------------------------------------------------------

    def take_traffic(self) -> list[str]:
        """What was said to instruments since last asked."""
        traffic = self.bench.traffic
        if not traffic:
            return []
        taken = traffic.copy()
        traffic.clear()
        return taken

    def take_bad(self) -> list[tuple[str, str, str]]:
        """The bad readings since last asked; their reasons are kept for the checks of this test."""
        bad = self.bench.bad
        if not bad:
            return []
        taken = [(b.name, b.reason, b.raw) for b in bad]
        for name, reason, _ in taken:
            self.bad_reasons.setdefault(name, []).append(reason)
        bad.clear()
        return taken


class _ReportedTally(Tally):
    """A tally that becomes an event when its check is done."""

    def __init__(
        self, runtime: Runtime, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str]
    ) -> None:
        super().__init__(is_strict=statement.criterion.kind in ("<", ">"))
        self._runtime, self._statement, self._axes, self._readings = runtime, statement, axes, readings
        self._block = runtime.block

    def close(self) -> None:
        """Emits the result."""
        runtime, statement = self._runtime, self._statement
        reasons = [reason for name in self._readings for reason in runtime.bad_reasons.get(name, [])]
        verdict, reason = self.verdict(reasons, FAULT_OF_UNIT)
        runtime.verdicts.append((verdict, reason))
        kind = runtime.program.types[statement.value]
        limit = runtime.program.types[statement.criterion.a]
        text = source_text(runtime.program, statement)
        subject = statement.value.name if isinstance(statement.value, nodes.Name) else ""
        runtime.emit(
            events.Judged(
                runtime.now(),
                self._block,
                runtime.program.source.line_of(statement.span.start),
                statement.label or subject or text.split(" ", 1)[1].split(" where ")[0],
                text,
                base_unit(kind),
                kind.shown or limit.shown or "",
                _or_none(self.value),
                _or_none(self.low),
                _or_none(self.high),
                _or_none(self.margin),
                dict(zip(self._axes, self.at, strict=False)),
                [runtime._meta(axis) for axis in self._axes],
                self.judged,
                self.failed,
                self.bad,
                [list(point) for point in self.failing],
                {axis: [low, high] for axis, low, high in zip(self._axes, self.least, self.most, strict=False)},
                subject,
                verdict,
                reason,
            )
        )


def source_text(program: Program, statement: nodes.Check) -> str:
    """The text of a line, without comment, in one piece."""
    span = statement.span
    return re.sub(r"\s+", " ", program.source.text[span.start : span.end].split("#")[0]).strip()


def _or_none(value: float) -> float | None:
    return value if math.isfinite(value) else None
