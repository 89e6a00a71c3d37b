"""Makes functions of blocks: of tests, of what stands around them, of measurements in the language; each with the frame
that it is bound to."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

from ibexite.analysis.propagation import carried
from ibexite.engine.compile import Compiler
from ibexite.engine.frame import Frame
from ibexite.engine.frame_base import FrameBase
from ibexite.engine.leaving import Leaving, TestOver, UnitOver
from ibexite.engine.runtime import Runtime
from ibexite.engine.tallies import ReportedTally
from ibexite.errors import SequenceError
from ibexite.holes import NEVER_MEASURED, decide
from ibexite.language import nodes
from ibexite.language.constants import Value
from ibexite.language.program import MeasurementFacts, Scope
from ibexite.untyped import Bindings
from ibexite.verdicts import Reason, Verdict

Corner = tuple[str, Value] | None
"""The variable of a group that is repeated, with its value."""


def block_of(
    runtime: Runtime,
    block: str,
    body: tuple[nodes.Statement, ...],
    guard: Callable[[Exception], None] | None = None,
    *,
    corner: Corner = None,
    corner_text: str = "",
) -> Callable[[], None]:
    """The function of a block, which begins now; see Compiler.compile for the guard."""
    runtime.begin_block(block, corner_text)
    if any(isinstance(statement, nodes.Expect) for statement in body):  # wherever it stands, of the whole test
        runtime.expect_limiting()
    return _compiler(_frame(runtime, block, corner, runtime.block, body)).compile(body, guard=guard)


def condition_holds(runtime: Runtime, block: str, expr: nodes.Expr, corner: Corner, corner_text: str) -> bool:
    """Whether the condition of a test holds. Raises SequenceError: it cannot be decided."""
    runtime.corner = f" [{corner_text}]" if corner_text else ""
    return _compiler(_frame(runtime, block, corner, block)).condition(expr)


def _frame(
    runtime: Runtime, block: str, corner: Corner, name: str, body: tuple[nodes.Statement, ...] = ()
) -> Frame:  # fmt: skip
    program = runtime.program
    known = {**program.main.known, **(dict([corner]) if corner else {})}
    return Frame(runtime, scope_of(runtime, corner), program.names[block], known, name, _measurement_of, body=body)


def scope_of(runtime: Runtime, corner: Corner) -> Scope:
    """The main scope, in a corner with the type of its variable."""
    program = runtime.program
    if corner is None:
        return program.main
    group = next(p for p in program.sequence.parts if isinstance(p, nodes.Group) and p.corner == corner[0])
    return program.main.inner(program.main.needs, {}, {corner[0]: program.types[group.values[0]]})


def _measurement_of(
    frame: FrameBase, facts: MeasurementFacts, called: str, roles: dict[str, str]
) -> tuple[FrameBase, Callable[..., Any]]:
    """The frame and the function of a measurement in the language, as a line of `frame` uses it."""
    assert facts.node is not None and facts.scope is not None
    outputs = tuple(facts.outputs)
    inner = Frame(
        frame.runtime, facts.scope, facts.names, facts.scope.known, frame.block, _measurement_of, roles=roles,
        prefix=f"{frame.prefix}{called}.", outputs=outputs, body=facts.node.body, caller=(frame, called),
    )  # fmt: skip
    return inner, _compiler(inner).compile(facts.node.body, inputs=tuple(facts.inputs), outputs=outputs)


def _compiler(frame: Frame) -> Compiler:
    return Compiler(frame, bound_of(frame))


def bound_of(frame: Frame) -> Bindings:
    """What the code of every block can call."""
    runtime = frame.runtime
    bound: Bindings = {
        "result_of": runtime.result_of,
        "call_python": frame.call_python,
        "from_file": runtime.from_file,
        "wait": runtime.wait,
        "tick": runtime.tick,
        "heed": runtime.stop.check,
        "leave": frame.leave,
        "Leaving": Leaving,
        "SequenceError": SequenceError,
        "end_test": _end_test,
        "end_unit": _end_unit,
        "expect_limiting": runtime.expect_limiting,
        "holds": lambda condition: condition == condition and bool(condition),
        "counted": frame.counted,
        "reading_at": frame.reading_at,
        "carried": carried,
        "left_bad": frame.left_bad,
        "broken_off": _close_early,
        "logic": decide,
        "v_serial": runtime.serial,
        "INF": math.inf,
        "NEVER": NEVER_MEASURED,
    }
    if runtime.debugger is not None:
        bound |= {"at_line": runtime.debugger.at_line, "again": runtime.debugger.again}
    if runtime.timing is not None:
        bound |= {"took": runtime.timing.took, "clock": runtime.timing.clock}
    return bound


def _close_early(*tallies: ReportedTally) -> None:
    """The loop around some checks was left by something else than its end."""
    for tally in tallies:
        tally.close_early()


def _end_test(why: str) -> None:
    raise TestOver(Verdict.SKIPPED, Reason("line", why))


def _end_unit(why: str) -> None:
    raise UnitOver(why)
