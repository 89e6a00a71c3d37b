"""Checks what repeats, what waits and what records meanwhile: sweeps, repeats, searches, waits, recordings."""

from __future__ import annotations

from decimal import Decimal

from ibexite import units
from ibexite.errors import MistakeError
from ibexite.frozen import replaced
from ibexite.language import constants, nodes
from ibexite.language.check_names import NameChecker
from ibexite.language.points import MAX_POINTS
from ibexite.language.program import Binding, RecordUse
from ibexite.language.type_limits import is_degrees
from ibexite.values import NUMBER, Quantity, Type, Words


class LoopChecker(NameChecker):
    """The verbs wait, record, sweep, repeat, search, leave."""

    def check_block(self, body: tuple[nodes.Statement, ...]) -> None:
        """Checks the lines of a block."""
        raise NotImplementedError

    def reading(self, reading: nodes.Reading) -> Type | None:
        """The type of one value of a read line."""
        raise NotImplementedError

    # --- waiting -----------------------------------------------------------------------------------------------------

    def _wait(self, statement: nodes.Wait) -> None:
        self._time(statement.time, "A wait", "200 ms")

    def _time(self, expr: nodes.Expr, what: str, example: str) -> None:
        kind = self.scalar(expr)
        value = constants.number(expr, self.scope.known)
        if kind is not None and (not isinstance(kind, Quantity) or kind.dimension != units.SECOND):
            what = what[0].upper() + what[1:]
            self.source.report(expr.span, "wrong unit", str(kind), f"{what} takes a time, such as {example}.")
        elif value is not None and value < 0:
            self.source.report(expr.span, "a negative time")

    def _record(self, statement: nodes.Record) -> None:
        self._time(statement.every, "A recording", "20 us")
        every = constants.number(statement.every, self.scope.known)
        if every == 0:
            self.source.report(statement.every.span, "no time", "", "'every' takes a time above 0.")
        self.recordings.append(RecordUse(statement, self.source, float(every) if every else None))
        kinds = [(reading, self.recorded(reading)) for reading in statement.readings]
        for number, reading in enumerate(statement.readings):
            if reading.source in [before.source for before in statement.readings[:number]]:
                self.source.report(reading.span, f"{reading.source} stands here twice", "", "Name each signal once.")
                return
        self.check_block(statement.body)
        for reading, kind in kinds:  # behind its lines: within them it has no end yet
            if kind is None:
                self.broken.add(reading.name)
            else:
                self.bind_in_turn(reading.name, "read", kind, reading.span)

    def _waitreading(self, statement: nodes.WaitReading) -> None:
        self._time(statement.every, "'every'", "2 s")
        self._time(statement.timeout, "A time-out", "25 min")
        before = self.names
        self.names = dict(before)
        for reading in statement.read.readings:
            kind = self.reading(reading)
            if kind is None:
                self.broken.add(reading.name)
                continue
            if kind.axes:
                self.source.report(reading.span, "a curve in a wait", str(kind), "Wait for single values.")
            self.names.pop(reading.name, None)
            self.names[reading.name] = Binding(reading.name, "read", kind, reading.span)
        self.typer.is_in_wait = True
        self.condition(statement.until, "until t_board > 30 degC")
        self.typer.is_in_wait = False
        self.names = before  # what is read while waiting is logged, but does not become a name of the test

    # --- loops -------------------------------------------------------------------------------------------------------

    def _within(self, loop: nodes.Loop) -> None:
        self.loops.append(loop)
        self.check_block(loop.body)

    def _sweep(self, sweep: nodes.Sweep) -> None:
        before = len(self.source.findings)
        kind = self._file_type(sweep) if sweep.file else self._sweep_type(sweep)
        if not sweep.file:  # its points are made unless something of its own is wrong
            is_right = kind is not None and len(self.source.findings) == before
            self.program.points[sweep] = self._points(sweep, kind) if kind is not None and is_right else None
        if kind is None:
            self.broken.add(sweep.name)
        else:  # while it runs the name is a value; after it, an axis over itself alone
            self.bind(sweep.name, "sweep", kind.over((sweep.name,)), sweep.span)
        self._within(sweep)
        if sweep.refine is not None and kind is not None:
            self._refined(sweep, sweep.refine, kind)
        self.loops.pop()

    def _points(self, sweep: nodes.Sweep, kind: Type) -> list[Decimal] | None:
        if isinstance(kind, Words):
            values = [constants.evaluate(v, self.scope.known) for v in sweep.values]
            if not all(isinstance(v, str) for v in values):
                self.source.report(sweep.span, "texts must be known before the run", "", "Write them in quotes.")
                return None
            self.program.labels[sweep] = tuple(map(str, values))
            return [Decimal(i) for i in range(len(values))]
        return constants.report_points(self.source, sweep, self.scope.known, kind.dimension, kind.shown)

    def _file_type(self, sweep: nodes.Sweep) -> Type | None:
        if self.companions is None:
            return None
        try:
            points, kind = self.companions.points(sweep.file, sweep.name)
        except MistakeError as error:
            self.source.report(
                sweep.span, f"{error.where}: {error.what}" if error.where else error.what, "", error.remedy
            )
            return None
        self.program.points[sweep] = points
        return kind

    def _sweep_type(self, sweep: nodes.Sweep) -> Type | None:
        ends = list(sweep.values)
        for segment in sweep.segments:
            ends += [e for e in (segment.start, segment.end) if e is not None]
        kinds = [(expr, self.scalar(expr)) for expr in ends]
        first = kinds[0][1]
        if first is None:
            return None
        for expr, kind in kinds[1:]:
            if kind is not None and not kind.fits(first):
                self.source.report(expr.span, "wrong unit", str(kind), f"The sweep began with {first}.")
                return None
        if first.is_complex or (not isinstance(first, Quantity) and sweep.segments):
            self.source.report(sweep.span, "only numbers with units can be swept", str(first))
            return None
        for segment in sweep.segments:
            self._amount(segment, first)
        return first

    def _amount(self, segment: nodes.Segment, kind: Type) -> None:
        found = self.scalar(segment.amount)
        if found is None:
            return
        wanted = units.difference(kind.dimension) if segment.spacing == "step" else units.PLAIN
        is_difference = segment.spacing == "step" and is_degrees(segment.amount, kind)
        if not isinstance(found, Quantity) or (found.dimension != wanted and not is_difference):
            self.source.report(segment.amount.span, "wrong unit", str(found), f"Here belongs {units.describe(wanted)}.")
        if segment.spacing in ("log", "decade", "octave") and kind.dimension.kind != "linear":
            self.source.report(segment.span, f"logarithmic points of {kind}", "", "Levels are logarithmic already.")

    def _refined(self, sweep: nodes.Sweep, refine: nodes.Refine, kind: Type) -> None:
        binding = self.names.get(refine.column)
        lines = [s for s in sweep.body if isinstance(s, nodes.Read | nodes.Let)]
        mine = {name for line in lines for name, _ in nodes.names_made(line)}
        if binding is None or refine.column not in mine:
            self.source.report(
                refine.span, f"'{refine.column}' is not read or computed in this sweep", "",
                "Refine where a reading or a let of the sweep's own lines bends.",
            )  # fmt: skip
        elif not isinstance(binding.type, Quantity) or binding.type.is_complex or not isinstance(kind, Quantity):
            self.source.report(refine.span, "only curves of real numbers are refined", str(binding.type))
        points = self.program.points.get(sweep)
        if points is not None and (len(points) < 5 or refine.most <= len(points)):
            self.source.report(
                refine.span, "too few points to refine", f"the sweep has {len(points)}",
                "Begin with 5 points or more, and allow more than that.",
            )  # fmt: skip

    def _repeat(self, repeat: nodes.Repeat) -> None:
        if repeat.every is not None:
            self._time(repeat.every, "'every'", "5 s")
        if repeat.timeout is not None:
            self._time(repeat.timeout, "A time-out", "10 min")
        if repeat.kind == "for":
            self._time(repeat.amount, "'for'", "10 min")
        elif repeat.kind == "times":
            found, value = self.scalar(repeat.amount), constants.number(repeat.amount, self.scope.known)
            is_count = found is None or (isinstance(found, Quantity) and found.dimension.is_plain)
            if not is_count or (value is not None and (value < 1 or value != int(value))):
                self.source.report(repeat.amount.span, "not a whole number", str(found), "Write, for example: 6 times")
            elif value is not None and value > MAX_POINTS:
                self.source.report(repeat.amount.span, "too many turns", "", f"A loop makes at most {MAX_POINTS:,}.")
        self.bind(repeat.name, "sweep", NUMBER.over((repeat.name,)), repeat.span)
        self.loops.append(repeat)
        self.bind(repeat.elapsed, "elapsed", Quantity(self.here, units.SECOND), repeat.span)
        self.check_block(repeat.body)
        if repeat.kind == "until":
            self.condition(repeat.amount, "until v_out < 4.5 V")
        self.loops.pop()

    def _search(self, search: nodes.Search) -> None:
        start, end = self.scalar(search.start), self.scalar(search.end)
        kind = start
        if start is not None and end is not None and (not end.fits(start) or not isinstance(start, Quantity)):
            self.source.report(search.end.span, "wrong unit", str(end), f"The search begins with {start}.")
        for expr in (search.resolution, search.step):
            found = self.scalar(expr) if expr is not None else None
            if found is not None and kind is not None and isinstance(kind, Quantity) and expr is not None:
                if not self.typer.is_difference(expr, found, kind):
                    wanted = units.describe(units.difference(kind.dimension))
                    self.source.report(expr.span, "wrong unit", str(found), f"Here belongs {wanted}.")
                elif (value := constants.number(expr, self.scope.known)) is not None and value <= 0:
                    self.source.report(expr.span, "not above zero", "", "Write, for example: resolution 20 mV")
        if kind is None or not isinstance(kind, Quantity):
            self.broken.add(search.name)
        else:
            self.bind(search.name, "search", kind.single(), search.span)
        self._within(search)
        self.condition(search.until, "until v_out < 4.75 V")
        self.loops.pop()
        binding = self.names.get(search.name)
        if binding is not None and self.here:  # within another loop what it found is a column of that one
            self.names[search.name] = replaced(binding, type=binding.type.over(self.here))

    def _leave(self, statement: nodes.Leave) -> None:
        if not any(isinstance(loop, nodes.Sweep | nodes.Repeat) for loop in self.loops[-1:]):
            self.source.report(statement.span, "nothing to leave", "", "'leave' ends the innermost sweep or repeat.")
