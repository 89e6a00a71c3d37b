"""Calls of programs and Python functions: values out in base units, values back checked against their types."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Iterator
from pathlib import Path

from ibexite import events
from ibexite.analysis.single_values import finite
from ibexite.compound import picture_text
from ibexite.engine.frame_base import FrameBase
from ibexite.engine.keeping import keep_file
from ibexite.engine.runtime import Runtime
from ibexite.errors import ProgramError
from ibexite.holes import NEVER_MEASURED
from ibexite.instruments.exchanges import MOST_TOLD, failure_text
from ibexite.language import nodes
from ibexite.language.python_function import PythonFunction
from ibexite.outside.children import Outside, as_number
from ibexite.units import Unit
from ibexite.untyped import Fields, Measured
from ibexite.values import Compound, Picture, Type, Words, YesNo

PROGRAM = "program "  # before its name, where it stands beside instruments


def call_executable(
    frame: FrameBase, statement: nodes.CallExecutable, given: Fields, seconds: float
) -> tuple[Measured, ...]:
    """Runs the program of a `call` line; its results in the order of the line."""
    runtime = frame.runtime
    program = runtime.folder / statement.program
    data = {name: as_data(value) for name, value in given.items()}
    began = runtime.now()
    with telling_failure(runtime, program.name):
        tell_data(runtime, program.name, ">", data)
        answer = outside_of(runtime).call_executable(program, data, seconds)
        tell_data(runtime, program.name, "<", answer)
    gave = {typed.name: typed_value(frame, answer, typed.name, typed.type, program.name)
            for typed in statement.gives}  # fmt: skip
    told = {typed.name: told_of(typed.type, gave[typed.name]) for typed in statement.gives}
    now = runtime.now()
    runtime.emit(events.Called(now, frame.block, statement.program, data, told, round(now - began, 6)))
    return tuple(gave.values())


def typed_value(frame: FrameBase, answer: Fields, name: str, kind: Type, who: str) -> Measured:
    """One result of a program, as its type says. Of a picture it gives the name of a file, of which a copy is kept.

    Raises:
        ProgramError: it is missing, or of another type or shape.
        SequenceError: there is no such file.
    """
    if name not in answer:
        raise ProgramError(f"{who} gave no {name}", remedy=f"It gave: {', '.join(map(str, answer)) or 'nothing'}.")
    value = answer[name]
    if kind.axes:
        return _curve(answer, name, kind, who)
    try:
        match kind:
            case YesNo():
                if not isinstance(value, bool):
                    raise ProgramError(f"{who} gave {value!r:.60} for {name}, not true or false")
                return value
            case Compound():
                return kind.form.text(value)
            case Words():
                if not isinstance(value, str):
                    raise ProgramError(f"{who} gave {value!r:.60} for {name}, not a text")
                return _picture(frame, value) if isinstance(kind, Picture) else value
            case _:
                return as_number(value, name, who)
    except ValueError as error:
        raise ProgramError(f"{who} gave {name}, {error}") from None


def _picture(frame: FrameBase, file: str) -> str:
    kept = keep_file(frame.runtime, frame.block, file)
    return picture_text(Path(file).name, kept.path, kept.sha256, kept.data)


def _curve(answer: Fields, name: str, kind: Type, who: str) -> Measured:
    """A curve: a list of numbers, nested for several axes; its axes are results of the same answer, lists of
    numbers."""
    import numpy as np

    from ibexite.analysis.curve import ArrayCurve

    axes = {}
    for axis in kind.axes:
        points = answer.get(axis)
        if not isinstance(points, list) or not points:
            raise ProgramError(
                f"{who} gave no points for the axis {axis} of {name}", remedy=f'Give "{axis}": [..., ...].'
            )
        axes[axis] = np.array([as_number(p, axis, who) for p in points])
        if np.isnan(axes[axis]).any():
            raise ProgramError(f"{who} gave a point of the axis {axis} that is no number")
    shape = tuple(len(points) for points in axes.values())

    def numbers(entry: Measured) -> Measured:
        return [numbers(e) for e in entry] if isinstance(entry, list) else as_number(entry, name, who)

    try:
        values = np.array(numbers(answer[name]), dtype=float)
    except ValueError:
        values = np.empty(0)
    if values.shape != shape:
        raise ProgramError(
            f"{who} gave {name} in another shape than its axes {shape}", remedy="One value for each point."
        )
    return ArrayCurve(axes, values)


def as_data(value: Measured) -> Measured:
    """A value as JSON; a hole is null."""
    if hasattr(value, "values") and hasattr(value, "axes"):
        return {
            "axes": {name: points.tolist() for name, points in value.axes.items()},
            "values": [None if v != v else v for v in value.values.ravel().tolist()],
        }
    return None if isinstance(value, float) and value != value else value


def told_of(kind: Type, value: Measured) -> Measured:
    """What a program gave, for the event of its call: a value of several parts in short, for it has an event itself."""
    return kind.said(value) if isinstance(kind, Compound | Picture) else as_data(value)


def call_function(runtime: Runtime, function: PythonFunction, values: tuple[Measured, ...]) -> Measured:
    """A Python function; for curves where it takes single values, once for each point. It gets and gives numbers in
    the units that it declares."""
    from ibexite.analysis.curve import is_curve

    wanted = [(name, is_whole) for name, _, is_whole in function.arguments if name != "axis"]
    wants_axis = any(name == "axis" for name, _, _ in function.arguments)
    if any(is_whole for _, is_whole in wanted):
        curve = next(v for v, (_, is_whole) in zip(values, wanted, strict=True) if is_whole)
        given = [v.values.tolist() if is_whole else v for v, (_, is_whole) in zip(values, wanted, strict=True)]
        points = next(iter(curve.axes.values())).tolist()
        return _call(runtime, function, _with_axis(function, points, given) if wants_axis else given)
    if any(map(is_curve, values)):
        return _at_each_point(runtime, function, values)
    return _call(runtime, function, list(values))


def _with_axis(function: PythonFunction, points: list[float], given: list[Measured]) -> list[Measured]:
    """The arguments in their order, the points of the axis at the place of that of its name."""
    rest = iter(given)
    return [points if name == "axis" else next(rest) for name, _, _ in function.arguments]


def _call(runtime: Runtime, function: PythonFunction, arguments: list[Measured]) -> float:
    for argument in arguments:
        if isinstance(argument, float) and argument != argument:
            return argument
    given = [_in_unit(value, unit) for value, unit in zip(arguments, function.takes, strict=True)]
    result = outside_of(runtime).call_function(function.file, function.name, given, function.timeout)
    number = as_number(result, "its result", function.name)
    found: float = finite(number * float(function.gives.factor) + float(function.gives.offset))
    return found


def _in_unit(value: Measured, unit: Unit) -> Measured:
    if isinstance(value, list):
        return [unit.from_base(x) for x in value]
    return unit.from_base(value) if isinstance(value, float) else value


def _at_each_point(runtime: Runtime, function: PythonFunction, values: tuple[Measured, ...]) -> Measured:
    import numpy as np

    from ibexite.analysis.curve import ArrayCurve, joined_axes, never, spread

    axes = joined_axes(*values)
    shape = tuple(len(points) for points in axes.values())
    flat = [np.broadcast_to(np.asarray(spread(v, axes), dtype=float), shape).ravel() for v in values]
    unmeasured = np.logical_or.reduce([never(x) for x in flat])
    results = [
        NEVER_MEASURED if unmeasured[i] else _call(runtime, function, [float(x[i]) for x in flat])
        for i in range(len(unmeasured))
    ]
    return ArrayCurve(axes, np.array(results).reshape(shape))


def outside_of(runtime: Runtime) -> Outside:
    """What runs programs and Python files."""
    if runtime.outside is None:
        runtime.outside = runtime.outside_from(runtime.stop.check)
    return runtime.outside


def tell_data(runtime: Runtime, who: str, direction: str, data: Fields) -> None:
    """Something is said to a program (">") or by it ("<"), as JSON."""
    text = json.dumps(data)
    runtime.bench.tell(PROGRAM + who, direction, text if len(text) <= MOST_TOLD else text.encode())


@contextlib.contextmanager
def telling_failure(runtime: Runtime, who: str) -> Iterator[None]:
    """Within it a program that fails is told."""
    try:
        yield
    except ProgramError as error:
        runtime.bench.tell(PROGRAM + who, "!", failure_text(error))
        raise
