"""Questions to the operator, and files that are attached."""

from __future__ import annotations

import math
from functools import partial

from ibexite import events, units
from ibexite.engine.frame_gaps import Gaps
from ibexite.engine.keeping import keep_file
from ibexite.engine.runtime import Runtime
from ibexite.engine.services import Question
from ibexite.language import fill, nodes
from ibexite.untyped import Measured
from ibexite.values import Quantity


def ask(frame: Gaps, statement: nodes.Ask, bounds: tuple[Measured, ...], *values: Measured) -> Measured:
    """Asks a question and returns the answer as a value in base units."""
    runtime = frame.runtime
    picture = str(runtime.folder / statement.picture) if statement.picture else ""
    kind = statement.type
    unit = kind.written if isinstance(kind, Quantity) and kind.written.symbol else None
    low, high = (bounds[0], bounds[1]) if bounds else (-math.inf, math.inf)
    question = Question(
        statement.kind, frame.filled(statement.text, values), statement.choices, statement.pattern, unit,
        (float(low), float(high)), picture,
    )  # fmt: skip
    if runtime.held_back is not None and statement.kind in ("confirm", "button"):
        runtime.held_back.append(partial(_answered, frame, question, unit))  # until everything is off
        return None
    if statement.kind == "adjust":
        answer: Measured = _adjust(frame, statement, question)
    elif statement.kind == "button" and runtime.bench.file.button:
        answer = runtime.operator.press(question, _Button(frame, runtime.bench.file.button).is_pressed)
    else:
        return _answered(frame, question, unit)
    _told(frame, question, unit, answer)
    return answer


def _answered(frame: Gaps, question: Question, unit: units.Unit | None) -> Measured:
    answer = frame.runtime.operator.ask(question)
    _told(frame, question, unit, answer)
    return answer


class _Button:
    """A button of the bench. It is pressed when it was seen released before: one that hangs presses nothing."""

    def __init__(self, frame: Gaps, signal: str) -> None:
        self._runtime, bench = frame.runtime, frame.runtime.bench
        self._line = bench.read_line([bench.signal_item(signal, signal)], together=False, averaging=1)
        self._was_released = False

    def is_pressed(self) -> bool:
        """Looks at it."""
        (value,) = self._line()
        _looked(self._runtime)
        is_pressed = value == 1.0  # a bad reading is neither
        self._was_released = self._was_released or value == 0.0
        return is_pressed and self._was_released


def _looked(runtime: Runtime) -> None:
    """A signal was looked at beside the lines."""
    runtime.flush()
    runtime.tick()


def _told(frame: Gaps, question: Question, unit: units.Unit | None, answer: Measured) -> None:
    runtime = frame.runtime
    if runtime.operator.trial_reason:
        runtime.mark_trial("confirmed", runtime.operator.trial_reason)
    told = units.format_value(answer, unit.dimension, shown=unit.symbol) if unit is not None else _said(answer)
    runtime.emit(events.Answered(runtime.now(), question.text, told, answer))


def _said(answer: Measured) -> str:
    return ("yes" if answer else "no") if isinstance(answer, bool) else str(answer)


def _adjust(frame: Gaps, statement: nodes.Ask, question: Question) -> str:
    """Shows the live value until the operator says that it is done and it lies within its limits."""
    runtime = frame.runtime
    kind = frame.scope.needs[statement.name].type
    assert kind is not None
    line = runtime.bench.read_line(
        [runtime.bench.signal_item(statement.name, frame.played_by(statement.name))], together=False, averaging=1
    )
    low, high = question.bounds

    def live() -> tuple[str, bool]:
        (value,) = line()
        _looked(runtime)
        is_inside = low <= value <= high
        return units.format_value(value, kind.dimension, shown=kind.word), is_inside

    said = runtime.operator.adjust(question, live)
    return f"adjusted to {said}"


def attach(frame: Gaps, statement: nodes.Attach, *values: Measured) -> None:
    """Takes a copy of a file into the records.

    Raises:
        SequenceError: it is not there, or too large.
    """
    gaps = fill.gaps(statement.file)
    name = fill.fill(statement.file, [frame.bare(g, v) for g, v in zip(gaps, values, strict=True)])
    keep_file(frame.runtime, frame.block, name)
