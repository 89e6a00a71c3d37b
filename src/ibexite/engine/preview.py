"""What a program will do: its steps, the points of its loops, how many rows, how long. Nothing is connected."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import Decimal

from ibexite import units
from ibexite.bench.file import BenchFile
from ibexite.bench.playing_times import LEAD, TAIL, begins_by_trigger
from ibexite.engine.files import samples_of
from ibexite.language import constants, nodes
from ibexite.language.constants import Value
from ibexite.language.program import Program, VettedMeasure
from ibexite.language.source import Source

ANSWER_TIME = 0.005  # s; what a query takes where neither profile nor bench file says it
MOST_MOMENTS = 20_000  # set points of a timeline


@dataclass(frozen=True, slots=True)
class Step:
    """One line of the preview: its depth in the tree, its text, how many times it is carried out, seconds in all."""

    depth: int
    line: int
    text: str
    times: int
    seconds: float


@dataclass(slots=True)
class Block:
    """A block (before unit, a test, after unit) with its steps; `rows` counts rows of its tables. `is_exact` is false
    when something is known only at run time."""

    name: str
    title: str
    steps: list[Step] = field(default_factory=list)
    rows: int = 0
    seconds: float = 0.0
    questions: list[str] = field(default_factory=list)
    is_exact: bool = True
    is_off: bool = False


@dataclass(frozen=True, slots=True)
class Moment:
    """One setting at its expected time: s from the beginning, role.setting, value in base units, unit to show."""

    t: float
    setting: str
    value: float
    unit: str


def preview(program: Program, bench: BenchFile | None) -> list[Block]:
    """The blocks of a program in the order in which they run."""
    return [_Walk(program, bench, known).block(name, title, body, is_off)
            for name, title, body, known, is_off in _blocks(program)]  # fmt: skip


def timeline(program: Program, bench: BenchFile | None) -> list[Moment]:
    """All set points that are known before the run, at the times at which they are expected."""
    moments: list[Moment] = []
    now = 0.0
    for _, _, body, known, is_off in _blocks(program):
        if not is_off:
            walk = _Walk(program, bench, known)
            walk.now = now
            for moment in walk.moments(body, known):
                moments.append(moment)
                if len(moments) >= MOST_MOMENTS:
                    return moments
            now = walk.now
    return moments


def _blocks(program: Program) -> Iterator[tuple[str, str, tuple[nodes.Statement, ...], dict[str, Value], bool]]:
    sequence, known = program.sequence, program.params
    for name, body in (("before lot", sequence.before_lot), ("before unit", sequence.before_unit)):
        if body:
            yield name, "", body, known, False
    for case in program.cases:
        corner = {case.group.corner: case.corner} if case.group is not None and case.corner is not None else {}
        yield case.name, case.title, case.test.body, {**known, **corner}, case.is_off
    for name, body in (("after unit", sequence.after_unit), ("after lot", sequence.after_lot)):
        if body:
            yield name, "", body, known, False


class _Walk:
    def __init__(self, program: Program, bench: BenchFile | None, known: dict[str, Value]) -> None:
        self.program, self.bench, self.known = program, bench, known
        self.source: Source = program.source
        self.made = Block("", "")
        self.now = 0.0
        self.roles: dict[str, str] = {}  # in a measurement: what plays its roles and signals on the bench

    def block(self, name: str, title: str, body: tuple[nodes.Statement, ...], is_off: bool) -> Block:
        self.made = Block(name, title, is_off=is_off)
        self.made.seconds = self._body(body, 0, 1)
        return self.made

    def _body(self, body: tuple[nodes.Statement, ...], depth: int, times: int) -> float:
        return sum(self._statement(statement, depth, times) for statement in body)

    def _statement(self, statement: nodes.Statement, depth: int, times: int) -> float:
        match statement:
            case nodes.Sweep() | nodes.Repeat() | nodes.Search():
                return self._loop(statement, depth, times)
            case nodes.If():
                return self._if(statement, depth, times)
            case nodes.Watch(body=body) | nodes.Record(body=body):
                self._add(statement, depth, self._text(statement), times, 0.0)
                return self._body(body, depth + 1, times)
            case nodes.Measure():
                return self._measure(statement, depth, times)
        seconds = self._seconds(statement) * times
        if isinstance(statement, nodes.Ask):
            self.made.questions.append(statement.text)
        self._add(statement, depth, self._text(statement), times, seconds)
        return seconds

    def _if(self, statement: nodes.If, depth: int, times: int) -> float:
        """The longest branch counts; where the condition is known, the one that is taken."""
        longest, is_decided = 0.0, False
        for number, (condition, body) in enumerate(statement.branches):
            holds = constants.evaluate(condition, self.known)
            text = self.source.text[condition.span.start : condition.span.end]
            word = "if" if not number else "else if"
            never = "   never here" if holds is False or is_decided else ""
            line = self.source.line_of(condition.span.start)
            self.made.steps.append(Step(depth, line, f"{word} {text}{never}", times, 0.0))
            self.made.is_exact &= holds is not None or is_decided
            if not never:
                longest = max(longest, self._body(body, depth + 1, times))
            is_decided |= holds is True
        if statement.otherwise:
            never = "   never here" if is_decided else ""
            self.made.steps.append(Step(depth, self._line(statement.otherwise[0]) - 1, f"else{never}", times, 0.0))
            if not never:
                longest = max(longest, self._body(statement.otherwise, depth + 1, times))
        return longest

    def _measure(self, statement: nodes.Measure, depth: int, times: int) -> float:
        self._add(statement, depth, self._text(statement), times, 0.0)
        use = self.program.measures.get(statement)
        if use is None or use.measurement.node is None or use.measurement.scope is None:
            self.made.is_exact = False
            return 0.0
        inner = self._within(use)
        inner.made, inner.source = self.made, use.measurement.scope.source
        return inner._body(use.measurement.node.body, depth + 1, times)

    def _within(self, use: VettedMeasure) -> _Walk:
        """A walk through the lines of a measurement."""
        inner = _Walk(self.program, self.bench, self._inputs(use))
        inner.roles = {need: self.roles.get(player, player) for need, player in use.roles.items()}
        return inner

    def _inputs(self, use: VettedMeasure) -> dict[str, Value]:
        assert use.measurement.scope is not None
        values = {**use.measurement.scope.known, **use.measurement.defaults}
        for name, expr in use.inputs.items():
            if expr is not None:
                values.pop(name, None)
                value = constants.evaluate(expr, self.known)
                if value is not None:
                    values[name] = value
        return values

    # --- loops -------------------------------------------------------------------------------------------------------

    def _loop(self, loop: nodes.Loop, depth: int, times: int) -> float:
        count, text, is_exact = self._turns(loop)
        self.made.is_exact &= is_exact
        place = len(self.made.steps)
        inner = self._body(loop.body, depth + 1, times * count)
        if isinstance(loop, nodes.Repeat) and loop.every is not None and count:
            every = float(constants.number(loop.every, self.known) or 0)
            inner = max(inner, every * (count - 1) * times + inner / count)
        if not any(isinstance(statement, nodes.Sweep | nodes.Repeat | nodes.Search) for statement in loop.body):
            self.made.rows += times * count
        self.made.steps.insert(place, Step(depth, self._line(loop), text, times, inner))
        return inner

    def _turns(self, loop: nodes.Loop) -> tuple[int, str, bool]:
        """How many turns, in words, and whether that is known."""
        if isinstance(loop, nodes.Search):
            return (*self._search_turns(loop), False)
        if isinstance(loop, nodes.Repeat):
            amount = constants.number(loop.amount, self.known)
            if loop.kind == "times":
                return int(amount or 1), self._text(loop), amount is not None
            every = constants.number(loop.every, self.known) if loop.every is not None else None
            if loop.kind == "for" and amount is not None and every:
                return int(amount / every) + 1, self._text(loop), True  # the first at 0
            return 1, f"{self._text(loop)}: turns known when it ends", False
        points = self._points(loop)
        if loop.refine is not None and points is not None:
            return (
                loop.refine.most,
                f"sweep {loop.name}: {self._shown(loop, points)}, refined to at most {loop.refine.most}",
                False,
            )
        return (
            len(points) if points is not None else 1,
            f"sweep {loop.name}: {self._shown(loop, points)}",
            points is not None,
        )

    def _search_turns(self, loop: nodes.Search) -> tuple[int, str]:
        values = [constants.number(e, self.known) for e in (loop.start, loop.end, loop.resolution)]
        if None in values:
            return 1, f"{self._text(loop)}: points known when it begins"
        span = abs(float(values[1]) - float(values[0]))  # type: ignore[arg-type]
        most = max(2, round(span / float(values[2])) + 1)  # type: ignore[arg-type]
        halvings = max(1, (most - 1).bit_length())
        turns = 2 + halvings if loop.is_halving else 7 + max(1, halvings - 3)
        return turns, f"{self._text(loop)}: up to {most} values, in about {turns} points"

    def _points(self, sweep: nodes.Sweep) -> list[Decimal] | None:
        points = self.program.points.get(sweep)
        if points is None:
            try:
                points = constants.sweep_points(sweep, self.known)
            except Exception:  # reported when the sweep begins, where the values are known
                return None
        rounded = self.program.rounding.get(sweep)
        if rounded is None or points is None:
            return points
        return [Decimal(repr(rounded(float(point)))) for point in points]

    def _shown(self, sweep: nodes.Sweep, points: list[Decimal] | None) -> str:
        if points is None:
            return "points known when it begins"
        labels = self.program.labels.get(sweep)
        first = sweep.values[0] if sweep.values else sweep.segments[0].end if sweep.segments else None
        kind = self.program.types.get(first) if first is not None else None
        if labels:
            texts = [f'"{label}"' for label in labels]
        elif kind is None:
            binding = next((n[sweep.name] for n in self.program.names.values() if sweep.name in n), None)
            texts = [
                constants.written(p, binding.type.dimension, binding.type.shown) if binding else str(p) for p in points
            ]
        else:
            texts = [units.format_value(float(point), kind.dimension, shown=kind.shown) for point in points]
        shown = texts if len(texts) <= 7 else [*texts[:4], "…", *texts[-2:]]
        return f"{len(points)} points: {', '.join(shown)}"

    # --- time --------------------------------------------------------------------------------------------------------

    def _seconds(self, statement: nodes.Statement) -> float:
        match statement:
            case nodes.Wait(time=time):
                return float(constants.number(time, self.known) or 0)
            case nodes.Read(readings=readings, together=together, averaging=averaging):
                each = [self._answer_time(reading) for reading in readings]
                waited = max((self._settling(reading) for reading in readings), default=0.0)
                return waited + (max(each) if together else sum(each)) * averaging
            case nodes.Play():
                return self._playing(statement)
            case nodes.WaitReading(every=every, count=count):
                self.made.is_exact = False
                return float(constants.number(every, self.known) or 0) * count
            case nodes.CallExecutable():
                self.made.is_exact = False
        return 0.0

    def _playing(self, statement: nodes.Play) -> float:
        """How long a play line takes, if nothing is played again."""
        stimulus = self.program.stimuli.get(statement.stimulus)
        self.made.is_exact &= statement.again is None
        if stimulus is None:
            return 0.0
        free = any(self._is_free(reading, statement) for reading in statement.readings)
        return stimulus.seconds + (LEAD if free else 0.0) + (TAIL if statement.readings else 0.0)

    def _is_free(self, reading: nodes.Reading, statement: nodes.Play) -> bool:
        """Whether no trigger begins a record."""
        if self.bench is None:
            return False
        signal = self.bench.signals.get(self.roles.get(reading.source, reading.source))
        player, roles = self.roles.get(statement.role, statement.role), self.bench.roles
        if signal is None or signal.role not in roles or player not in roles:
            return False
        return not begins_by_trigger(roles, signal.role, player)

    def _settling(self, reading: nodes.Reading) -> float:
        """How long is waited before a signal is read, in s."""
        if self.bench is None or reading.role is not None:
            return 0.0
        signal = self.bench.signals.get(self.roles.get(reading.source, reading.source))
        return signal.settling if signal is not None else 0.0

    def _answer_time(self, reading: nodes.Reading) -> float:
        if self.bench is None:
            return ANSWER_TIME
        source = self.roles.get(reading.source, reading.source)
        signal = self.bench.signals.get(source) if reading.role is None else None
        role = self.bench.roles.get(signal.role if signal else self.roles.get(reading.role or "", reading.role or ""))
        if role is None:
            return ANSWER_TIME
        fact = self.bench.instruments[role.instrument]
        simulated = fact.simulated.answer_time if fact.simulated else 0.0
        return simulated or fact.profile.answer_time or ANSWER_TIME

    def moments(self, body: tuple[nodes.Statement, ...], known: dict[str, Value]) -> Iterator[Moment]:
        """The set points of a block one after the other; `now` goes on with them."""
        for statement in body:
            self.known = known
            if isinstance(statement, nodes.Sweep):
                labels = self.program.labels.get(statement)
                for point in self._points(statement) or []:
                    value: Value = labels[int(point)] if labels else point
                    yield from self.moments(statement.body, {**known, statement.name: value})
            elif isinstance(statement, nodes.Repeat):
                count = self._turns(statement)[0]
                every = float(constants.number(statement.every, known) or 0) if statement.every is not None else 0.0
                began = self.now
                for turn in range(min(count, MOST_MOMENTS)):
                    self.now = max(self.now, began + every * turn)
                    yield from self.moments(statement.body, {**known, statement.name: Decimal(turn + 1)})
            elif isinstance(statement, nodes.Search):
                for end in (statement.start, statement.end):
                    reached = constants.number(end, known)
                    inner = {**known, statement.name: reached} if reached is not None else known
                    yield from self.moments(statement.body, inner)
            elif isinstance(statement, nodes.If):
                began = latest = self.now
                for branch in self._possible(statement, known):
                    self.now = began
                    yield from self.moments(branch, known)
                    latest = max(latest, self.now)
                self.now = latest
            elif isinstance(statement, nodes.Measure):
                yield from self._moments_of_measurement(statement)
            elif isinstance(statement, nodes.Watch | nodes.Record):
                yield from self.moments(statement.body, known)
            else:
                if isinstance(statement, nodes.Set):
                    yield from self._settings(statement, known)
                elif isinstance(statement, nodes.Play):
                    yield from self._played(statement)
                self.now += self._seconds(statement)

    def _possible(self, statement: nodes.If, known: dict[str, Value]) -> Iterator[tuple[nodes.Statement, ...]]:
        """The branches that may be taken: up to the first whose condition is known to hold."""
        for condition, branch in statement.branches:
            holds = constants.evaluate(condition, known)
            if holds is not False:
                yield branch
            if holds is True:
                return
        yield statement.otherwise

    def _moments_of_measurement(self, statement: nodes.Measure) -> Iterator[Moment]:
        use = self.program.measures.get(statement)
        if use is not None and use.measurement.node is not None:
            inner = self._within(use)
            inner.now = self.now
            yield from inner.moments(use.measurement.node.body, inner.known)
            self.now = inner.now

    def _settings(self, statement: nodes.Set, known: dict[str, Value]) -> Iterator[Moment]:
        for assignment in statement.assignments:
            value = constants.evaluate(assignment.value, known)
            kind = self.program.types.get(assignment.value)
            role = self.roles.get(assignment.role, assignment.role)
            if isinstance(value, bool):
                yield Moment(self.now, f"{role}.{assignment.setting}", float(value), "")
            elif isinstance(value, Decimal) and kind is not None:
                symbol = kind.shown or units.symbol_of(kind.dimension)
                sent = self._sent(role, assignment.setting, float(value))
                yield Moment(self.now, f"{role}.{assignment.setting}", sent, symbol)

    def _played(self, statement: nodes.Play) -> Iterator[Moment]:
        """What a play line sets: the highest peak while it lasts."""
        stimulus = self.program.stimuli.get(statement.stimulus)
        if stimulus is None:
            return
        role = self.roles.get(statement.role, statement.role)
        peak = float(abs(samples_of(stimulus)).max())
        yield Moment(self.now, f"{role}.amplitude", peak, "V")
        yield Moment(self.now, f"{role}.output", 1.0, "")
        yield Moment(self.now + self._playing(statement), f"{role}.output", 0.0, "")

    def _sent(self, role: str, setting: str, value: float) -> float:
        """The value that reaches the instrument: its profile may send few digits."""
        if self.bench is None or role not in self.bench.roles:
            return value
        commands = self.bench.instruments[self.bench.roles[role].instrument].profile.settings.get(setting)
        return commands.sent(value) if commands is not None and commands.is_rounded else value

    # --- texts -------------------------------------------------------------------------------------------------------

    def _line(self, statement: nodes.Statement) -> int:
        return self.source.line_of(statement.span.start)

    def _add(self, statement: nodes.Statement, depth: int, text: str, times: int, seconds: float) -> None:
        self.made.steps.append(Step(depth, self._line(statement), text, times, seconds))

    def _text(self, statement: nodes.Statement) -> str:
        return " ".join(self.source.line_text(self._line(statement)).split("#")[0].split())
