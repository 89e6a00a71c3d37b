"""Carries out the blocks of a program once more on values that were stored, without instruments: the same generated
code, formulas and checks, bound to what was read then. Nothing is set, waited for or recorded."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from typing import Any

from ibexite.bench.interface import Key
from ibexite.engine.blocks import bound_of, scope_of
from ibexite.engine.compile import Compiler
from ibexite.engine.frame import Frame
from ibexite.engine.frame_base import FrameBase
from ibexite.engine.judge import At
from ibexite.engine.leaving import Leaving
from ibexite.engine.loops import Turns
from ibexite.engine.measuring import run_measurement
from ibexite.engine.retold_checks import RetoldRecording, RetoldTally, RetoldWatching
from ibexite.engine.retold_runtime import TAKES_PRODUCT, NeverReadError, Retold
from ibexite.engine.tables import Axis, LoopTable
from ibexite.engine.tallies import ReportedTally
from ibexite.language import nodes
from ibexite.language.carrying import SUFFIX
from ibexite.language.constants import Value
from ibexite.language.program import MeasurementFacts
from ibexite.untyped import Measured
from ibexite.values import Quantity


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

    def found(self, own: str, axes: tuple[_Axis, ...]) -> Measured:
        """What was stored for a name of this block at the present turn of these loops. Raises NeverReadError."""
        at = self.around().at + tuple(axis.current for axis in axes)
        values, name = self.runtime.values, self.prefix + own
        value = values.turn(name, at) if at else values.value(name)
        if value is None:
            where = f" at {', '.join(map(str, at))}" if at else ""
            raise NeverReadError(f"{name} was never read{where}", remedy=TAKES_PRODUCT)
        if not at and own in self.names and hasattr(value, "axes") != bool(self.names[own].type.axes):
            then, now = ("a curve", "a single value") if hasattr(value, "axes") else ("a single value", "a curve")
            raise NeverReadError(f"{name} was {then} then, and is {now} now", remedy=TAKES_PRODUCT)
        return value

    def take(self, names: Iterable[str]) -> None:
        """A line takes these of what was stored."""
        taken = self.runtime.taken.setdefault(self.block, {})
        for name in names:
            told = self.meta(name)
            taken[told["name"]] = (told["unit"], told.get("kind", Quantity.stored))

    def tally(
        self, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str], *, is_fixed: bool
    ) -> ReportedTally:
        """The tally of a check line."""
        tally = RetoldTally(self, statement, axes, readings, is_fixed=is_fixed)
        self._stateful.append(tally)
        return tally

    def _axes_around(self, statement: nodes.Statement) -> tuple[_Axis, ...]:
        return tuple(self._axes[name] for name in self._around.get(statement, ()))

    def read_line(self, statement: nodes.Read) -> Callable[..., Sequence[Measured]]:
        """A read line: what it read then, kept for other tests where it stands outside of loops."""
        axes, names = self._axes_around(statement), [reading.name for reading in statement.readings]
        self.take(names)
        if axes:
            return lambda given=None: [self.found(name, axes) for name in names]
        runtime, keys = self.runtime, [self.prefix + name for name in names]
        is_alone = len(keys) == 1 and self.caller is None and not self.names[names[0]].type.axes
        alone = keys[0]
        place = (self.block, alone)

        def outside(given: Measured = None) -> Sequence[Measured]:
            if is_alone:  # the most frequent line by far
                value = runtime.values.singles.get(alone)
                if value is not None:
                    runtime.fresh[place] = value
                    return (value,)
            values = [self.found(name, ()) for name in names]
            runtime.fresh.update(((self.block, key), value) for key, value in zip(keys, values, strict=True))
            return values

        return outside

    def play(self, statement: nodes.Play) -> Callable[..., list[Measured]]:
        """A play line: what was captured then, and how often it was played again."""
        if not statement.readings:
            return list
        axes = self._axes_around(statement)
        names = [*(reading.name for reading in statement.readings), statement.repeats]
        self.take(names)
        place = [(self.block, self.prefix + name) for name in names]

        def captured(is_again: Measured = None) -> list[Measured]:
            values = [self.found(name, axes) for name in names]
            if not axes:
                self.runtime.fresh.update(zip(place, values, strict=True))
            return values

        return captured

    def record(self, statement: nodes.Record, axes: tuple[str, ...]) -> Any:
        """A recording: what was recorded then."""
        mine, names = self._axes_around(statement), [reading.name for reading in statement.readings]
        self.take(names)
        place = [(self.block, self.prefix + name) for name in names]

        def recorded() -> list[Measured]:
            values = [self.found(name, mine) for name in names]
            if not mine:
                self.runtime.fresh.update(zip(place, values, strict=True))
            return values

        return RetoldRecording(recorded)

    def readings(self, names: tuple[str, ...]) -> None:
        """They are kept as they are read."""

    def computed(self, name: str) -> Callable[..., None]:
        """Keeps a value for other tests."""
        key = (self.block, self.prefix + name)
        return lambda value, counts=None: self.runtime.fresh.__setitem__(key, value)

    def whole_curve(self, name: str, outer: tuple[str, ...]) -> Callable[..., None]:
        """Nobody is told."""
        return _nothing

    def conditions(
        self, statement: nodes.Read, changing: set[Key] | None, behind: Mapping[str, frozenset[str]]
    ) -> None:
        """They are those that were stored."""

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
        self.take(names)
        return lambda given, seconds: tuple(self.found(name, axes) for name in names)

    def measurement(self, statement: nodes.Measure, axes: tuple[str, ...]) -> Callable[..., tuple[Measured, ...]]:
        """A measurement: one in the language is retold as well, of another what it gave."""
        use = self.program.measures[statement]
        if use.measurement.kind == "sequence":
            return partial(run_measurement, self, statement, axes)
        mine, names = self._axes_around(statement), [f"{statement.name}.{n}" for n in use.measurement.outputs]
        self.take(names)

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
        self.take([statement.name])
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
        return partial(RetoldWatching, self, statement)

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
