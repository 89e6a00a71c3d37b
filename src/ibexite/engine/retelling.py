"""Carries out the blocks of a program once more on values that were stored, without instruments: the same generated
code, formulas and checks, bound to what was read then. Nothing is set, waited for or recorded."""

from __future__ import annotations

import datetime
import math
from collections.abc import Callable, Iterable, Iterator, Mapping
from functools import partial
from types import SimpleNamespace, TracebackType
from typing import Any, Protocol

from ibexite import events
from ibexite.bench.interface import Key
from ibexite.engine.blocks import bound_of, scope_of
from ibexite.engine.compile import Compiler
from ibexite.engine.frame import Frame
from ibexite.engine.frame_base import FrameBase
from ibexite.engine.judge import Tally
from ibexite.engine.leaving import Leaving
from ibexite.engine.limit_errors import wrong_way_round
from ibexite.engine.loops import Turns
from ibexite.engine.measuring import run_measurement
from ibexite.engine.runtime import Runtime
from ibexite.engine.services import Consenting, Services
from ibexite.engine.tables import Axis, LoopTable
from ibexite.engine.watch import Watching
from ibexite.errors import SequenceError
from ibexite.language import nodes
from ibexite.language.carrying import SUFFIX
from ibexite.language.constants import Value
from ibexite.language.program import MeasurementFacts, Program
from ibexite.untyped import Measured
from ibexite.values import Quantity
from ibexite.verdicts import FAULTS_OF_UNIT, Reason, Verdict

At = tuple[float | str, ...]


class NeverReadError(SequenceError):
    """A line needs what was never read."""


class StoredValues(Protocol):
    """The values of one test or block of a run, by the names that they were recorded under."""

    def value(self, name: str) -> Measured:
        """What came outside of loops: a number, yes or no, a text, a curve; None if there is none."""

    def turn(self, name: str, at: At) -> Measured:
        """What came in a turn of loops that were at these values; where there were several, each is given once, in
        their order. None if there is none."""

    def has_turn(self, name: str, at: At) -> bool:
        """Whether there was such a turn."""

    def take_log(self, name: str) -> Iterable[tuple[float, float]]:
        """The next log of this name that was kept beside the lines: times and values. Nothing if there is none."""

    @property
    def bad(self) -> Iterable[tuple[str, Reason]]:
        """The readings that were bad, and why."""

    @property
    def conditions(self) -> Mapping[str, Mapping[str, str]]:
        """Under which conditions each value came to be."""


class _Clock:
    """Time that stands still."""

    def now(self) -> float:
        return 0.0

    def wait(self, seconds: float, heed: Callable[[], None]) -> None:
        """Over at once."""


class Retold(Runtime):
    """What the blocks share while they are retold. `values` are those of the block that is carried out, `heard` what
    was judged."""

    values: StoredValues

    def __init__(self, program: Program, serial: str, started: datetime.datetime) -> None:
        nobody = SimpleNamespace(bad=[], state={}, expects_limiting=False, file=None, has_time_limits=False)
        super().__init__(
            program, nobody, Services(_Clock(), Consenting()), lambda event: None, serial=serial, started=started,
            trial=[], earlier_results=None,
        )  # fmt: skip
        self.heard: list[events.Judged] = []

    def wait(self, seconds: float) -> None:
        """Over at once."""

    pause = wait

    def tick(self) -> None:
        """Nothing is watched."""

    def judged(self, event: events.Judged) -> None:
        """A check is done."""
        self.found.append((event.verdict, event.reason))
        self.heard.append(event)

    def begin(self, block: str, corner_text: str, values: StoredValues) -> None:
        """A block begins, with its stored values."""
        self.begin_block(block, corner_text)
        self.begin_judging()
        self.values, self.heard = values, []
        for name, reason in values.bad:
            self.bad_reasons.setdefault(name, []).append(reason)
        for name, conditions in values.conditions.items():
            self.told_conditions[self.block, name] = dict(conditions)


class _Axis(Axis):
    """An axis that knows where its loop is just now."""

    current: float | str = math.nan

    def _here(self, pairs: Iterable[tuple[int, float]]) -> Iterator[tuple[int, float]]:
        for place, value in pairs:
            self.current = self.labels[int(value)] if self.labels else value
            yield place, value

    def run(self, points: Iterable[float]) -> Iterable[tuple[int, float]]:
        """As in a run."""
        return self._here(super().run(points))

    def visit(self, points: Iterable[float]) -> Iterator[tuple[int, float]]:
        """As in a run."""
        return self._here(super().visit(points))


class _Table(LoopTable):
    """A table that keeps its rows and tells nobody of them."""

    def __call__(self, place: tuple[int, ...], x: tuple[float, ...], values: tuple[float, ...]) -> None:
        """Keeps a row."""
        numbers = self._numbers(values) if self._texts else values
        self._values.extend(numbers)
        if self._places is not None:
            self._places.append(place)
        if sum(numbers) != sum(numbers):
            self._holes(values)


class _Turns(Turns):
    """The turns of a repeat as there were."""

    def __init__(self, find: Callable[[float], float | None], times: float) -> None:
        super().__init__(lambda: 0.0, lambda seconds: None)
        self._find, self._count = find, times

    def __iter__(self) -> Iterator[float]:
        count = 0
        while count < self._count:
            elapsed = self._find(float(count + 1))
            if elapsed is None and self._count == math.inf:
                return
            count += 1
            self.elapsed = elapsed if elapsed is not None else 0.0
            yield float(count)


class RetoldFrame(Frame):
    """The surroundings of a block that is retold."""

    runtime: Retold

    def __init__(self, *given: Any, **more: Any) -> None:
        super().__init__(*given, **more)
        self._axes: dict[str, _Axis] = {}  # of the loops that were compiled last, by name
        self._around = _loops_around(self.body)

    # --- what was read -----------------------------------------------------------------------------------------------

    def found(self, name: str, axes: tuple[_Axis, ...]) -> Measured:
        """What was stored for a name at the present turn of these loops. Raises NeverReadError."""
        at = self.around().at + tuple(axis.current for axis in axes)
        values, name = self.runtime.values, self.prefix + name
        value = values.turn(name, at) if at else values.value(name)
        if value is None:
            where = f" at {', '.join(map(str, at))}" if at else ""
            raise NeverReadError(f"{name} was never read{where}", remedy="It takes the product again: ibexite run.")
        return value

    def _axes_around(self, statement: nodes.Statement) -> tuple[_Axis, ...]:
        return tuple(self._axes[name] for name in self._around.get(statement, ()))

    def read_line(self, statement: nodes.Read) -> Measured:
        """A read line: what it read then."""
        axes, names = self._axes_around(statement), [reading.name for reading in statement.readings]
        return lambda given=None: [self.found(name, axes) for name in names]

    def readings(self, names: tuple[str, ...]) -> Callable[[list[Measured]], list[Measured]]:
        """Keeps the values of a read line for other tests."""
        keys = [(self.block, self.prefix + name) for name in names]

        def keep(values: list[Measured]) -> list[Measured]:
            self.runtime.fresh.update(zip(keys, values, strict=True))
            return values

        return keep

    def computed(self, name: str) -> Callable[..., None]:
        """Keeps a value for other tests."""
        key = (self.block, self.prefix + name)
        return lambda value, counts=None: self.runtime.fresh.__setitem__(key, value)

    def whole_curve(self, name: str, outer: tuple[str, ...]) -> Callable[..., None]:
        """Nobody is told."""
        return _nothing

    def conditions(
        self, statement: nodes.Read, changing: set[Key] | None, behind: Mapping[str, frozenset[str]]
    ) -> Callable[[], None]:
        """They are those that were stored."""
        return _nothing

    def corrected_at(self, statement: nodes.Read) -> list[str]:
        """What was stored is corrected."""
        return []

    def accuracy(self, reading: nodes.Reading, line: nodes.Read) -> Callable[[float], float]:
        """By how much a reading may have been off."""
        axes, name = self._axes_around(line), reading.name + SUFFIX
        return lambda value: self.found(name, axes)

    def executable_call(self, statement: nodes.CallExecutable) -> Callable[..., tuple[Measured, ...]]:
        """What a program gave."""
        axes, names = self._axes_around(statement), [typed.name for typed in statement.gives]
        return lambda given, seconds: tuple(self.found(name, axes) for name in names)

    def measurement(self, statement: nodes.Measure, axes: tuple[str, ...]) -> Callable[..., tuple[Measured, ...]]:
        """A measurement: one in the language is retold as well, of another what it gave."""
        use = self.program.measures[statement]
        if use.measurement.kind == "sequence":
            return partial(run_measurement, self, statement, axes)
        mine, names = self._axes_around(statement), [f"{statement.name}.{n}" for n in use.measurement.outputs]

        def given(at: At, *inputs: Measured) -> tuple[Measured, ...]:
            found = tuple(self.found(name, mine) for name in names)
            if not axes:
                for name, value in zip(names, found, strict=True):
                    self.runtime.fresh[self.block, self.prefix + name] = value
            return found

        return given

    def question(self, statement: nodes.Ask) -> tuple[Callable[..., Any], list[str]]:
        """What was answered."""
        axes = self._axes_around(statement)
        if not statement.name or statement.kind == "adjust":
            return _nothing, self.gap_names(statement.text)
        return lambda bounds, *values: self.found(statement.name, axes), self.gap_names(statement.text)

    # --- loops and checks --------------------------------------------------------------------------------------------

    def axis(self, name: str, labels: tuple[str, ...] = ()) -> Axis:
        """A new axis."""
        axis = self._axes[name] = _Axis(name, labels)
        self._stateful.append(axis)
        return axis

    def table(self, axes: tuple[Axis, ...], columns: tuple[str, ...], is_ragged: bool) -> LoopTable:
        """A new table."""
        made = super().table(axes, columns, is_ragged)
        made.__class__ = _Table
        return made

    def turns(self, repeat: nodes.Repeat) -> Callable[..., Turns]:
        """As many turns as there were; of `repeat … times` as many as it says."""
        outer, name = self._axes_around(repeat), self.prefix + repeat.elapsed

        def make(amount: float | None, every: float | None, timeout: float | None) -> Turns:
            before = self.around().at + tuple(axis.current for axis in outer)

            def find(count: float) -> float | None:
                at = (*before, count)
                return self.runtime.values.turn(name, at) if self.runtime.values.has_turn(name, at) else None

            is_counted = repeat.kind == "times" and amount is not None
            return _Turns(find, amount if is_counted and amount is not None else math.inf)

        return make

    def watch(self, statement: nodes.Watch) -> Any:
        """A watch: judged by what it saw."""
        return partial(_Watching, self, statement)

    def waiting(self, statement: nodes.WaitReading) -> Callable[..., None]:
        """It was waited."""
        return _nothing

    def leave(self, axis: str, why: str) -> None:
        """Leaves the innermost loop."""
        raise Leaving

    # --- what does nothing -------------------------------------------------------------------------------------------

    def set_line(self, statement: nodes.Set) -> Measured:
        """Nothing is set."""
        return _nothing

    def action(self, statement: nodes.Do) -> Callable[[], None]:
        """Nothing is done."""
        return _nothing

    def routes(self, statement: nodes.Connect) -> Callable[[], None]:
        """Nothing is switched."""
        return _nothing

    def raw(self, statement: nodes.Send) -> tuple[Callable[..., None], list[str]]:
        """Nothing is sent."""
        return _nothing, []

    def text(self, statement: nodes.Show) -> tuple[Callable[..., None], list[str]]:
        """Nobody is shown anything."""
        return _nothing, []

    def attachment(self, statement: nodes.Attach) -> tuple[Callable[..., None], list[str]]:
        """What was attached is."""
        return _nothing, []

    def teaching(self, statement: nodes.Teach) -> Callable[[], None]:
        """Nothing is taught."""
        return _nothing

    def tone(self, statement: nodes.Tone) -> Callable[[], None]:
        """Silence."""
        return _nothing

    def plot(self, statement: nodes.Plot) -> Callable[[], None]:
        """Nothing is drawn."""
        return _nothing


class _Watching(Watching):
    """A watch block: what it saw is judged when its lines are over, or came to what was not read any more for it."""

    def __init__(self, frame: RetoldFrame, statement: nodes.Watch, low: float, high: float, every: float) -> None:
        if low > high:
            raise wrong_way_round(low, high)
        self._frame, self._statement, self._low, self._high = frame, statement, low, high
        need = frame.scope.needs[statement.signal]
        assert isinstance(need.type, Quantity)
        self._type = need.type.as_declared()
        self._name, self._tally = f"{statement.signal}_watched", Tally(allowed=10**9)

    def __enter__(self) -> None:
        """Nothing is looked at."""

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        runtime = self._frame.runtime
        assert isinstance(runtime, Retold)
        in_a_row, reasons = 0, runtime.bad_reasons.get(self._name, [])
        try:
            for at, value in runtime.values.take_log(self._name):
                before = self._tally.failed
                self._tally.judge(value, self._low, self._high, (at,))
                if self._tally.failed > before:
                    self._trip(Verdict.FAIL, f"watch: {self._statement.signal} was {self._type.said(value, 6)}")
                in_a_row = in_a_row + 1 if value != value else 0
                if in_a_row > self._statement.allowing:
                    verdict = Verdict.FAIL if reasons and reasons[-1].code in FAULTS_OF_UNIT else Verdict.ERROR
                    told = reasons[-1].text if reasons else "no value"
                    self._trip(verdict, f"watch: {self._statement.signal} could not be read ({told})")
        finally:
            self._tell()


def _nothing(*given: Measured, **named: Measured) -> None:
    """Does nothing."""


def _loops_around(body: tuple[nodes.Statement, ...]) -> dict[nodes.Statement, tuple[str, ...]]:
    """The names of the loops around each statement of a block, the outermost first."""
    found: dict[nodes.Statement, tuple[str, ...]] = {}

    def walk(lines: tuple[nodes.Statement, ...], around: tuple[str, ...]) -> None:
        for line in lines:
            found[line] = around
            inner = (*around, line.name) if isinstance(line, nodes.Sweep | nodes.Repeat | nodes.Search) else around
            for block in nodes.inner_bodies(line):
                walk(block, inner)

    walk(body, ())
    return found


def frame_of(
    runtime: Retold, block: str, name: str, corner: tuple[str, Value] | None, body: tuple[nodes.Statement, ...]
) -> RetoldFrame:
    """The surroundings of a block of a program; `name` is that under which it records."""
    program = runtime.program
    known = {**program.main.known, **(dict([corner]) if corner else {})}
    return RetoldFrame(
        runtime, scope_of(runtime, corner), program.names[block], known, name, _measurement_of, body=body
    )


def _measurement_of(
    frame: FrameBase, facts: MeasurementFacts, called: str, roles: dict[str, str]
) -> tuple[FrameBase, Callable[..., Any]]:
    assert facts.node is not None and facts.scope is not None
    outputs = tuple(facts.outputs)
    inner = RetoldFrame(
        frame.runtime, facts.scope, facts.names, facts.scope.known, frame.block, _measurement_of, roles=roles,
        prefix=f"{frame.prefix}{called}.", outputs=outputs, body=facts.node.body, caller=(frame, called),
    )  # fmt: skip
    return inner, compiled(inner, facts.node.body, inputs=tuple(facts.inputs), outputs=outputs)


def compiled(frame: RetoldFrame, body: tuple[nodes.Statement, ...], **more: Any) -> Callable[..., Any]:
    """The function of a block that is retold."""
    return Compiler(frame, bound_of(frame)).compile(body, **more)
