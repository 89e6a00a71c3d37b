"""Runs reusable measurements: those in the language as blocks of their own, those in Python and in programs as a
conversation in which every setting goes through the ceilings of the bench."""

from __future__ import annotations

from ibexite import events
from ibexite.engine.calling import as_data, outside_of, tell_data, telling_failure, told_of, typed_value
from ibexite.engine.frame_values import Values
from ibexite.errors import IbexiteError, ProgramError, SequenceError
from ibexite.holes import Counts
from ibexite.language import nodes
from ibexite.language.points import exact
from ibexite.language.program import VettedMeasure
from ibexite.untyped import Fields, Measured
from ibexite.values import NUMBER, column_of

MOST_REQUESTS = 1_000_000


def run_measurement(
    frame: Values, statement: nodes.Measure, axes: tuple[str, ...], at: tuple[float | str, ...], *inputs: Measured
) -> tuple[Measured, ...]:
    """Carries out one call of a measurement, where loops over `axes` are at; its outputs in the order of their
    declaration."""
    frame.in_turn(axes, at)
    use = frame.program.measures[statement]
    roles = {name: frame.played_by(role) for name, role in use.roles.items()}
    if use.measurement.kind == "sequence":
        return _in_the_language(frame, statement, use, roles, inputs)
    outputs = _outside_the_language(frame, use, roles, inputs)
    for name, kind in use.measurement.outputs.items():
        if not axes:
            frame.computed(f"{statement.name}.{name}")(outputs[name])
        elif kind.axes:  # single values are columns of the loop
            frame.whole_curve(f"{statement.name}.{name}", axes)(outputs[name], at)
    return tuple(outputs[name] for name in use.measurement.outputs)


def _in_the_language(
    frame: Values, statement: nodes.Measure, use: VettedMeasure, roles: dict[str, str], inputs: tuple[Measured, ...]
) -> tuple[Measured, ...]:
    """A block of its own, compiled at the first call of the line and renewed for each further one."""
    made = frame.measurements.get(statement)
    if made is None:
        made = frame.compile_measurement(frame, use.measurement, statement.name, roles)
        frame.measurements[statement] = made
    else:
        made[0].renew()
    inner, run = made
    for name, value in zip(use.measurement.inputs, inputs, strict=True):
        problem = use.measurement.refusal(name, exact(value) if isinstance(value, float) else value)
        if problem:
            raise SequenceError(f"{use.measurement.name}: {problem[0]}", remedy=problem[1])
    results: tuple[Measured, ...] = run(*inputs)
    for name in use.measurement.outputs:
        counts = Counts(0, 0, inner.bad_behind(name))
        frame.left_bad(f"{statement.name}.{name}", counts)
    return results


class _Requests:
    """What a measurement from outside asks of the bench."""

    def __init__(self, frame: Values, use: VettedMeasure, roles: dict[str, str]) -> None:
        self._frame, self._use, self._roles = frame, use, roles
        self._runtime = frame.runtime
        self._tables: dict[tuple[str, ...], list[int]] = {}  # number and rows of each

    def answer(self, request: Fields) -> Fields:
        """Carries out one request."""
        if "set" in request:
            self._set(request["set"])
        elif "read" in request:
            return {"values": self._read(request["read"])}
        elif "do" in request:
            role, _, action = str(request["do"]).partition(".")
            self._runtime.bench.do(self._role(role), action)
        elif "wait" in request:
            self._runtime.wait(float(request["wait"]))
        elif "note" in request:
            text = str(request["note"])[:1000]
            self._runtime.emit(events.Shown(self._runtime.now(), text, self._frame.block, "note"))
        else:
            raise ProgramError(f"{self._use.measurement.name} asked for {', '.join(request) or 'nothing'}",
                               remedy="It can ask for: set, read, do, wait, note; it ends with result.")  # fmt: skip
        return {"ok": True}

    def _role(self, name: str) -> str:
        if name not in self._roles:
            known = ", ".join(self._roles)
            raise ProgramError(f"{self._use.measurement.name} has no role {name!r}", remedy=f"It declares: {known}.")
        return self._roles[name]

    def _set(self, settings: Fields) -> None:
        targets, values = [], []
        for key, value in settings.items():
            role, _, setting = str(key).partition(".")
            fact = self._runtime.bench.file.roles[self._role(role)]
            profile = self._runtime.bench.file.instruments[fact.instrument].profile
            if setting not in profile.settings:
                raise ProgramError(f"{self._use.measurement.name} set {key!r}", remedy=f"{role} has no such setting.")
            targets.append((fact.name, setting))
            values.append(bool(value) if profile.settings[setting].feature.dimension is None else float(value))
        self._runtime.bench.set_line(targets)(*values)

    def _read(self, names: list[str]) -> list[float | None]:
        bench, items = self._runtime.bench, []
        for name in names:
            role, dot, reading = str(name).partition(".")
            played = self._role(role)
            items.append(bench.role_item(name, played, reading, {}) if dot else bench.signal_item(name, played))
        values = bench.read_line(items, together=len(items) > 1, averaging=1)()
        self._log(tuple(map(str, names)), values)
        return [None if value != value else value for value in values]

    def _log(self, names: tuple[str, ...], values: list[float]) -> None:
        """What was read, as rows of a table: one for each combination of names, over the number of the reading."""
        runtime, block = self._runtime, self._frame.block
        if names not in self._tables:
            self._tables[names] = [runtime.next_table(), 0]
            metas = [column_of(f"{self._use.measurement.name}.{n}", NUMBER) for n in names]
            axis = column_of("reading", NUMBER, "sweep")
            turn = self._frame.turn_of_calls()
            runtime.emit(events.TableStarted(runtime.now(), block, self._tables[names][0], [axis], metas, *turn))
        table = self._tables[names]
        table[1] += 1
        row = (float(table[1]),)
        runtime.emit(
            events.Row(runtime.now(), table[0], row, tuple(values), runtime.take_bad(), runtime.take_traffic())
        )


def _outside_the_language(
    frame: Values, use: VettedMeasure, roles: dict[str, str], inputs: tuple[Measured, ...]
) -> Fields:
    facts, runtime = use.measurement, frame.runtime
    outside = outside_of(runtime)
    given = {name: as_data(value) for name, value in zip(facts.inputs, inputs, strict=True)}
    began = runtime.now()
    with telling_failure(runtime, facts.name):
        tell_data(runtime, facts.name, ">", given)
        child, ends_with_it = outside.measurement(facts.origin, facts.name, facts.kind, given)
    requests = _Requests(frame, use, roles)
    is_done = False
    try:
        for _ in range(MOST_REQUESTS):
            with telling_failure(runtime, facts.name):
                message = child.receive(facts.timeout)
            tell_data(runtime, facts.name, "<", message)
            if "error" in message:
                raise ProgramError(f"{facts.name} failed: {message['error']}", remedy=f"It is in {facts.origin}.")
            if "result" in message:
                is_done = True
                outputs = _outputs(frame, message["result"], use)
                break
            try:
                child.send(requests.answer(message))  # which is not told: it follows from what is told already
            except (TypeError, ValueError, KeyError, AttributeError, OverflowError) as error:
                raise ProgramError(f"{facts.name} asked for something that cannot be understood: {error}") from None
            except IbexiteError as error:
                child.send({"error": error.what})
                raise
        else:
            raise ProgramError(f"{facts.name} does not come to an end")
    finally:
        if ends_with_it:
            child.close()
        elif not is_done:
            outside.drop(facts.origin)
    told = {name: told_of(facts.outputs[name], value) for name, value in outputs.items()}
    now = runtime.now()
    runtime.emit(events.Called(now, frame.block, facts.name, given, told, round(now - began, 6)))
    return outputs


def _outputs(frame: Values, result: Measured, use: VettedMeasure) -> Fields:
    facts = use.measurement
    if not isinstance(result, dict):
        raise ProgramError(f"{facts.name} gave {result!r:.60}", remedy="It must give an object with its outputs.")
    return {name: typed_value(frame, result, name, kind, facts.name) for name, kind in facts.outputs.items()}
