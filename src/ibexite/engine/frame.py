"""What the compiled code of one block is bound to. The parts: frame_lines (the bench), frame_values (what is read and
computed), frame_loops (loops and checks), frame_texts (the operator and the report), frame_gaps (values in texts)."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

from ibexite.engine.asking import ask, attach
from ibexite.engine.calling import call_executable, call_function
from ibexite.engine.frame_lines import BenchLines
from ibexite.engine.frame_loops import Loops
from ibexite.engine.frame_texts import Texts
from ibexite.engine.frame_values import Values
from ibexite.engine.measuring import run_measurement
from ibexite.engine.recording import Recording
from ibexite.engine.tallies import ReportedTally
from ibexite.engine.text_tallies import ComparingTally, TextTally
from ibexite.engine.watch import Waiting, Watching
from ibexite.language import nodes
from ibexite.untyped import Measured


class Frame(BenchLines, Values, Loops, Texts):
    """The surroundings of one block; see FrameBase."""

    def call_python(self, name: str, *values: Measured) -> Measured:
        """Calls a Python function that a `use python` line brought."""
        return call_function(self.runtime, self.scope.functions[name], values)

    def executable_call(self, statement: nodes.CallExecutable) -> Callable[..., tuple[Measured, ...]]:
        """A program that takes values and gives some."""
        return partial(call_executable, self, statement)

    def measurement(self, statement: nodes.Measure, axes: tuple[str, ...]) -> Callable[..., tuple[Measured, ...]]:
        """A reusable measurement that is called within loops over some axes; it is given where they are, and its
        inputs."""
        return partial(run_measurement, self, statement, axes)

    def waiting(self, statement: nodes.WaitReading) -> Callable[..., None]:
        """A wait for readings."""
        return Waiting(self, statement)

    def watch(self, statement: nodes.Watch) -> Callable[..., Watching]:
        """A watch."""
        return partial(Watching, self, statement)

    def record(self, statement: nodes.Record, axes: tuple[str, ...]) -> Recording:
        """A recording, within loops over some axes."""
        return Recording(self, statement, axes)

    def tally(
        self, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str], *, is_fixed: bool
    ) -> ReportedTally:
        """The tally of a check line."""
        tally = ReportedTally(self, statement, axes, readings, is_fixed=is_fixed)
        self._stateful.append(tally)
        return tally

    def text_tally(self, statement: nodes.Check, axes: tuple[str, ...], readings: frozenset[str]) -> TextTally:
        """The tally of a check line that judges texts."""
        criterion = statement.criterion
        kind = ComparingTally if criterion is not None and criterion.kind == "same_as" else TextTally
        tally = kind(self, statement, axes, readings, is_fixed=True)
        self._stateful.append(tally)
        return tally

    def question(self, statement: nodes.Ask) -> tuple[Callable[..., Any], list[str]]:
        """Asks the operator."""
        return partial(ask, self, statement), self.gap_names(statement.text)

    def attachment(self, statement: nodes.Attach) -> tuple[Callable[..., None], list[str]]:
        """Takes a file into the records."""
        return partial(attach, self, statement), self.gap_names(statement.file)
