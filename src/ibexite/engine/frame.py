"""What the compiled code of one block is bound to: prepared lines of the bench, tables, tallies, texts; and the events
that they emit. A block is a test, `before unit` and the like, or one call of a measurement."""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any

from ibexite import events, units
from ibexite.bench.interface import ItemLike
from ibexite.engine.loops import Refined, Search, Turns
from ibexite.engine.tables import Axis, Table
from ibexite.engine.tallies import ReportedTally, judge_text
from ibexite.errors import MistakeError, SequenceError
from ibexite.holes import Bound, Counts
from ibexite.language import constants, fill, nodes, points
from ibexite.language.program import Binding, Scope
from ibexite.values import TEXT, Quantity, Type, YesNo, declared

if TYPE_CHECKING:
    from ibexite.engine.runtime import Runtime
    from ibexite.engine.watch import Watch


class Frame:
    """The surroundings of one block.

    `roles` says what plays the roles and signals of a measurement; `prefix` stands before the names that it records.
    """

    def __init__(
        self,
        runtime: Runtime,
        scope: Scope,
        names: dict[str, Binding],
        known: dict[str, constants.Value],
        block: str,
        *,
        roles: dict[str, str] | None = None,
        prefix: str = "",
        outputs: tuple[str, ...] = (),
        body: tuple[nodes.Statement, ...] = (),
        caller: tuple[Frame, str] | None = None,
    ) -> None:
        self.runtime, self.scope, self.names, self.known = runtime, scope, names, known
        self.program, self.source, self.block = runtime.program, scope.source, block
        self.roles, self.prefix, self.outputs = roles or {}, prefix, outputs
        self.body, self.caller = body, caller  # the caller of a measurement, and what it calls the result
        self.curves_used = _curves_used(runtime)
        self.left_bad_of: dict[str, int] = {}  # how many bad values were left out of what a name stands for
        self.measurements: dict[nodes.Measure, tuple[Frame, Callable[..., Any]]] = {}  # compiled at their first call
        self._stateful: list[Axis | Table | ReportedTally] = []

    def renew(self) -> None:
        """Everything as before the first call: the block is carried out once more."""
        for thing in self._stateful:
            thing.renew()
        self.left_bad_of.clear()

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

    def function(self, target: str) -> Callable[..., Any]:
        """A function of ibexite.analysis; NumPy is loaded with the first one."""
        from ibexite.analysis.catalog import find

        return find(target)

    def place(self, node: Any) -> str:
        """File and line of a node."""
        return f"{self.source.name}:{self.source.line_of(node.span.start)}"

    def played_by(self, name: str) -> str:
        """The role or signal of the bench that a name of this block means."""
        return self.roles.get(name, name)

    def meta(self, name: str) -> dict[str, Any]:
        """What is told of a name with its values: name, base unit, unit to show it in, origin."""
        whole, _, part = name.rpartition(".")
        is_part = part in ("re", "im") and name not in self.names
        binding = self.names[whole if is_part else name]
        meta: dict[str, Any] = {
            "name": self.prefix + name,
            "unit": binding.type.unit,
            "shown": binding.type.shown or "",
            "origin": binding.origin,
        }
        if not isinstance(binding.type, Quantity):
            meta["kind"] = binding.type.stored
        return meta

    # --- lines of the bench ------------------------------------------------------------------------------------------

    def set_line(self, statement: nodes.Set) -> Any:
        """A set line made ready."""
        settings = [(self.played_by(a.role), a.setting) for a in statement.assignments]
        send = self.runtime.bench.set_line(settings)
        if not statement.is_verified:
            return send

        def send_and_verify(*values: float) -> None:
            send(*values)
            self.runtime.bench.verify(settings, values)

        return send_and_verify

    def read_line(self, statement: nodes.Read) -> Any:
        """A read line made ready."""
        settled = self._settled(statement)
        if not any(reading.query for reading in statement.readings):
            items = [self.item(reading) for reading in statement.readings]
            return self.runtime.bench.read_line(
                items,
                together=statement.together,
                averaging=statement.averaging,
                tries=statement.tries,
                settled=settled,
            )
        parts = [self._single(reading, statement) for reading in statement.readings]

        def read(given: dict[str, Any] | None = None) -> list[Any]:
            return [value for part in parts for value in part(given or {})]

        return read

    def _settled(self, statement: nodes.Read) -> tuple[float, bool] | None:
        if statement.settled is None:
            return None
        known = constants.number(statement.settled, self.known)
        if known is None:
            raise SequenceError("what 'settled' means must be known before the run", where=self.place(statement))
        kind = self.program.types[statement.settled]
        is_relative = kind.dimension.is_plain and kind.shown in ("%", "ppm")
        return float(constants.as_difference(statement.settled, known)), is_relative

    def _single(self, reading: nodes.Reading, statement: nodes.Read) -> Callable[[dict[str, Any]], list[Any]]:
        if not reading.query:
            line = self.runtime.bench.read_line([self.item(reading)], together=False, averaging=statement.averaging,
                                                tries=statement.tries)  # fmt: skip
            return lambda given: line()
        kind = reading.kind
        unit = kind if isinstance(kind, units.Unit) else None
        role = self.played_by(reading.role or "")
        gaps = fill.gaps(reading.query)

        def ask(given: dict[str, Any]) -> list[Any]:
            text = fill.fill(reading.query, [self.bare(gap, given[gap.name]) for gap in gaps])
            return [self.runtime.bench.raw_query(reading.name, role, text, unit, declared(kind), statement.tries)]

        return ask

    def gap_names(self, text: str) -> list[str]:
        """The names in the gaps of a text."""
        return [gap.name for gap in fill.gaps(text)]

    def item(self, reading: nodes.Reading) -> ItemLike:
        """One value of a read line."""
        bench = self.runtime.bench
        name = self.prefix + reading.name
        if reading.role is None:
            return bench.signal_item(name, self.played_by(reading.source))
        arguments = {key: self._constant(value) for key, value in reading.arguments}
        return bench.role_item(name, self.played_by(reading.role), reading.source, arguments)

    def _constant(self, expr: nodes.Expr) -> float:
        value = constants.number(expr, self.known)
        if value is None:
            raise SequenceError(
                "an argument of a reading must be known before the run",
                where=self.place(expr),
                remedy="Use a number or a parameter.",
            )
        return float(value)

    def action(self, statement: nodes.Do) -> Callable[[], None]:
        """An action of a role; afterwards its settings are asked back."""
        role = self.played_by(statement.role)
        return lambda: self.runtime.bench.do(role, statement.action)

    def raw(self, statement: nodes.Send) -> tuple[Callable[..., None], list[str]]:
        """A raw command; afterwards what is known of the role is asked back."""
        gaps = fill.gaps(statement.text)
        role = self.played_by(statement.role)

        def send(*values: Any) -> None:
            text = fill.fill(statement.text, [self.bare(g, v) for g, v in zip(gaps, values, strict=True)])
            self.runtime.bench.raw_send(role, text)

        return send, [gap.name for gap in gaps]

    # --- values ------------------------------------------------------------------------------------------------------

    def readings(self, names: tuple[str, ...]) -> Callable[[list[Any]], list[Any]]:
        """Passes the values of a read line on and tells of them."""
        metas = [self.meta(name) for name in names]
        runtime, block = self.runtime, self.block

        def tell(values: list[Any]) -> list[Any]:
            bad, io = runtime.take_bad(), runtime.take_traffic()
            for meta, value in zip(metas, values, strict=True):
                mine = [b for b in bad if b[0] == meta["name"]]
                runtime.emit(
                    events.Value(
                        runtime.now(), block, meta["name"], "read", meta["unit"], meta["shown"], plain(value), mine, io,
                        meta.get("kind", Quantity.stored),
                    )
                )  # fmt: skip
                runtime.fresh[block, meta["name"]] = value
                io = events.NOTHING_SAID
            return values

        return tell

    def computed(self, name: str) -> Callable[..., None]:
        """Tells of a value or curve that came to be outside of loops."""
        runtime, block, meta = self.runtime, self.block, self.meta(name)

        def tell(value: Any, counts: Counts | None = None) -> None:
            n = (counts.good, counts.of) if counts is not None and counts.of else None
            runtime.fresh[block, meta["name"]] = value
            if isinstance(value, complex):
                for part, number in (("re", value.real), ("im", value.imag)):
                    tell_one(f"{meta['name']}.{part}", number, None)
            elif isinstance(value, bool | str | float | int):
                tell_one(meta["name"], value, n)
            elif value.values.dtype.kind == "c":
                for part, values in (("re", value.values.real), ("im", value.values.imag)):
                    tell_curve(f"{meta['name']}.{part}", value, values)
            else:
                tell_curve(meta["name"], value, value.values)

        def tell_one(called: str, value: Any, n: tuple[int, int] | None) -> None:
            bound = ""
            if isinstance(value, Bound):
                shown = units.format_value(value.limit, self.names[name].type.dimension, shown=meta["shown"] or None)
                bound = f"{value.word} {shown}"
            kind = meta.get("kind", Quantity.stored)
            runtime.emit(
                events.Value(
                    runtime.now(), block, called, meta["origin"], meta["unit"], meta["shown"], plain(value),
                    runtime.take_bad(), runtime.take_traffic(), kind, n, bound,
                )
            )  # fmt: skip

        def tell_curve(called: str, curve: Any, values: Any) -> None:
            axes = [self.axis_meta(axis) for axis in curve.axes]
            runtime.emit(
                events.Computed(
                    runtime.now(), block, called, meta["unit"], meta["shown"], axes,
                    [g.ravel().tolist() for g in curve.grid()],
                    [plain(v) for v in values.astype(float).ravel().tolist()],
                )
            )  # fmt: skip

        return tell

    def axis_meta(self, name: str) -> dict[str, Any]:
        """What is told of an axis, also of one that came with a curve from elsewhere."""
        if name in self.names:
            return {**self.meta(name), "name": name, "origin": "sweep"}
        for names in (*self.program.names.values(), *(u.measurement.names for u in self.program.measures.values())):
            if name in names:
                kind = names[name].type
                return {"name": name, "unit": kind.unit, "shown": kind.shown or "", "origin": "sweep"}
        for use in self.program.measures.values():
            kind_ = use.measurement.outputs.get(name)
            if kind_ is not None:
                return {"name": name, "unit": kind_.unit, "shown": kind_.shown or "", "origin": "sweep"}
        return {"name": name, "unit": "", "shown": "", "origin": "sweep"}

    def call_python(self, name: str, *values: Any) -> Any:
        """Calls a Python function that a `use python` line brought."""
        from ibexite.engine.calling import call_function

        return call_function(self.runtime, self.scope.functions[name], values)

    def program_call(self, statement: nodes.CallProgram) -> Callable[..., tuple[Any, ...]]:
        """A program that takes values and gives some."""
        from ibexite.engine.calling import call_program

        return partial(call_program, self, statement)

    def measurement(self, statement: nodes.Measure, *, in_loop: bool) -> Callable[..., tuple[Any, ...]]:
        """A reusable measurement."""
        from ibexite.engine.measuring import run_measurement

        return partial(run_measurement, self, statement, in_loop)

    # --- loops -------------------------------------------------------------------------------------------------------

    def axis(self, name: str, labels: tuple[str, ...] = ()) -> Axis:
        """A new axis."""
        axis = Axis(name, labels)
        self._stateful.append(axis)
        return axis

    def table(self, axes: tuple[Axis, ...], columns: tuple[str, ...], is_ragged: bool) -> Table:
        """A new table."""
        table = Table(self.runtime.next_table(), axes, columns, self.runtime, is_ragged)
        self._stateful.append(table)
        return table

    def _keep_columns(self, table: Table) -> None:
        """From now on the columns of a table are what other tests get for these names: its loop has begun."""
        for column in table.columns:
            whole = column.removesuffix(".re") if column not in self.names else column
            self.runtime.fresh[self.block, self.prefix + whole] = partial(table.curve, whole)

    def sweep_started(self, name: str, tables: list[tuple[Table, list[Any]]]) -> Callable[[], None]:
        """Announces a loop and its tables."""
        runtime, block = self.runtime, self.block
        rows = (
            0 if any(None in sizes for _, sizes in tables) else sum(math.prod(map(len, sizes)) for _, sizes in tables)
        )

        def tell() -> None:
            for table, _ in tables:
                self._keep_columns(table)
                runtime.emit(
                    events.TableStarted(
                        runtime.now(),
                        block,
                        table.number,
                        [self._axis_of_table(a) for a in table.axes],
                        [self.meta(c) for c in table.columns],
                    )
                )
            runtime.emit(events.SweepStarted(runtime.now(), block, name, rows))

        return tell

    def _axis_of_table(self, axis: Axis) -> dict[str, Any]:
        meta = {**self.meta(axis.name), "name": axis.name, "origin": "sweep"}
        if axis.labels:
            meta["labels"] = list(axis.labels)
        return meta

    def leave(self, axis: str, why: str) -> None:
        """Leaves the innermost loop."""
        from ibexite.engine.runtime import Leaving

        self.runtime.emit(events.LoopLeft(self.runtime.now(), self.block, axis, why))
        raise Leaving

    def rounding(self, loop: nodes.Loop) -> Callable[[float], float]:
        """What becomes of the values of a loop that sets them on an instrument which takes few digits."""
        return self.program.rounding.get(loop, float)

    def points(self, sweep: nodes.Sweep) -> Callable[..., list[float]]:
        """Makes the points of a sweep whose ends are known only when it begins."""
        rounded = self.rounding(sweep)

        def make(*ends: float) -> list[float]:
            given = [points.exact(end) for end in ends]
            if not all(end.is_finite() for end in given):
                raise SequenceError(
                    f"an end of sweep {sweep.name} is not a number", remedy="What it depends on is bad."
                )
            if sweep.values:
                return [rounded(float(end)) for end in given]
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
            return [rounded(float(point)) for point in points.joined(segments)]

        return make

    def known_count(self, repeat: nodes.Repeat) -> range | None:
        """The turns of a `repeat … times` that is known before the run."""
        known = constants.number(repeat.amount, self.known)
        return range(int(known)) if known is not None else None

    def turns(self, repeat: nodes.Repeat) -> Callable[..., Turns]:
        """The turns of a repeat."""
        runtime = self.runtime
        key = {"times": "times", "for": "seconds", "until": ""}[repeat.kind]

        def make(amount: float | None, every: float | None, timeout: float | None) -> Turns:
            given = {key: amount} if key and amount is not None else {}
            limit = math.inf if timeout is None else timeout
            return Turns(runtime.clock.now, runtime.pause, every=every or 0.0, timeout=limit, **given)

        return make

    def search(self, search: nodes.Search) -> Callable[..., Search]:
        """A search."""
        rounded = self.rounding(search)
        return lambda start, end, step, resolution: Search(
            start, end, step, resolution, halving=search.is_halving, rounded=rounded
        )

    def refined(self, sweep: nodes.Sweep) -> Callable[[list[float]], Refined]:
        """The points of a refined sweep."""
        refine = sweep.refine
        assert refine is not None
        is_log = all(segment.spacing in ("log", "decade", "octave") for segment in sweep.segments)
        limits = self._limits_for(refine) if refine.how == "limit" else None
        rounded = self.rounding(sweep)
        return lambda given: Refined(list(given), refine.most, is_log=is_log, limits=limits, rounded=rounded)

    def _limits_for(self, refine: nodes.Refine) -> Callable[[], list[tuple[float, float]]]:
        """The limits of the checks on a column, as far as they are known before the run; in a measurement also those
        of its caller on this output."""
        found = self._limits_on(refine.column)
        if self.caller is not None:
            frame, name = self.caller
            found += frame._limits_on(f"{name}.{refine.column}")
        if not found:
            raise SequenceError(f"there is no known limit for {refine.column}", where=self.place(refine),
                                remedy="Check it in this test against a number, or refine where it bends.")  # fmt: skip
        return lambda: found

    def _limits_on(self, column: str) -> list[tuple[float, float]]:
        found: list[tuple[float, float]] = []
        for check in (s for s in nodes.walk(self.body) if isinstance(s, nodes.Check)):
            if not isinstance(check.value, nodes.Name | nodes.ResultOf) or constants.names_in(check.value) != {column}:
                continue
            if check in self.program.limits:
                row = self.program.limits[check]
                found.append((float(row.low) if row.low is not None else -math.inf,
                              float(row.high) if row.high is not None else math.inf))  # fmt: skip
            elif check.criterion is not None and check.criterion.b is not None:
                kind = self.program.tolerances.get(check.criterion)
                both = constants.both_limits(check.criterion, self.known, kind)
                found += [(float(both[0]), float(both[1]))] if both else []
            elif check.criterion is not None:
                limit = constants.number(check.criterion.a, self.known)
                found += [(float(limit), math.inf)] if limit is not None else []
        return found

    def waiting(self, statement: nodes.WaitReading) -> Callable[..., None]:
        """A wait for readings."""
        from ibexite.engine.watch import Waiting

        return Waiting(self, statement)

    def watch(self, statement: nodes.Watch) -> Callable[..., Watch]:
        """A watch."""
        from ibexite.engine.watch import Watch

        return partial(Watch, self, statement)

    # --- judging -----------------------------------------------------------------------------------------------------

    def tally(
        self, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str], *, is_fixed: bool
    ) -> ReportedTally:
        """The tally of a check line."""
        tally = ReportedTally(self, statement, axes, readings, is_fixed=is_fixed)
        self._stateful.append(tally)
        return tally

    def text_check(self, statement: nodes.Check) -> Callable[[Any, str], None]:
        """Judges a text."""
        return partial(judge_text, self, statement)

    # --- the operator and the report ---------------------------------------------------------------------------------

    def bare(self, gap: fill.Gap, value: Any) -> str:
        """A value for a machine: the bare number in the unit of the gap."""
        if isinstance(value, bool | str):
            return value if isinstance(value, str) else ("1" if value else "0")
        if value != value:
            raise SequenceError(f"{gap.name} has no value to be filled in", remedy="Its reading is bad.")
        number = units.parse_unit(gap.unit).from_base(value) if gap.unit else value
        return f"{number:.15g}"

    def written(self, gap: fill.Gap, value: Any) -> str:
        """A value for people."""
        kind = self._type_of_gap(gap)
        if isinstance(value, str):
            return value
        if isinstance(kind, YesNo):
            return "unknown" if value != value else kind.said(value)
        if gap.unit:
            return units.plain_number(units.parse_unit(gap.unit).from_base(value), 9)
        return units.format_value(value, kind.dimension, shown=kind.shown)

    def _type_of_gap(self, gap: fill.Gap) -> Type:
        if gap.name in self.names:
            return self.names[gap.name].type
        if gap.name in self.scope.types:
            return self.scope.types[gap.name]
        owner, _, part = gap.name.partition(".")
        return self.program.names[owner][part].type if part else TEXT

    def filled(self, text: str, values: tuple[Any, ...]) -> str:
        """A text for people with its gaps filled in."""
        return fill.fill(text, [self.written(g, v) for g, v in zip(fill.gaps(text), values, strict=True)])

    def text(self, statement: nodes.Show) -> tuple[Callable[..., None], list[str]]:
        """Shows a text, or puts it into the report."""
        runtime = self.runtime

        def tell(*values: Any) -> None:
            shown = self.filled(statement.text, values)

            def show() -> None:
                if statement.how == "show":
                    runtime.operator.show(shown)
                runtime.emit(events.Shown(runtime.now(), shown, self.block, statement.how))

            if runtime.held_back is not None and statement.how == "show":
                runtime.held_back.append(show)  # until everything is off
            else:
                show()

        return tell, self.gap_names(statement.text)

    def question(self, statement: nodes.Ask) -> tuple[Callable[..., Any], list[str]]:
        """Asks the operator."""
        from ibexite.engine.asking import ask

        return partial(ask, self, statement), self.gap_names(statement.text)

    def attachment(self, statement: nodes.Attach) -> tuple[Callable[..., None], list[str]]:
        """Takes a file into the records."""
        from ibexite.engine.asking import attach

        return partial(attach, self, statement), self.gap_names(statement.file)

    def tone(self, statement: nodes.Tone) -> Callable[[], None]:
        """A tone."""
        runtime = self.runtime

        def sound() -> None:
            runtime.operator.tone(statement.kind)
            runtime.emit(events.Tone(runtime.now(), statement.kind))

        return sound

    def plot(self, statement: nodes.Plot) -> Callable[[], None]:
        """Tells of a figure."""
        runtime, block, names = self.runtime, self.block, [self.prefix + y for y in statement.ys]
        x, binding = statement.x, self.names.get(statement.x)
        if binding is not None and binding.type.axes not in ((), (x,)):
            own = binding.type.axes
            x = own[0] if x.endswith(f".{own[0]}") else self.prefix + x
        return lambda: runtime.emit(
            events.Figure(runtime.now(), block, names, x, statement.by or "", statement.title or "")
        )


def plain(value: Any) -> Any:
    """A value for an event: a hole is None."""
    if isinstance(value, float):
        return value if math.isfinite(value) else None
    return value


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
