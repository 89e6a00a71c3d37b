"""Python files and programs that take part in a run: started when first called, kept, and ended with the run."""

from __future__ import annotations

import math
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any, Protocol

from ibexite.errors import ProgramError, StopRun
from ibexite.outside.process import Conversation, command_for, run_once
from ibexite.untyped import Fields

START_TIME = 20.0  # s; how long a Python file may take to load its libraries


class Talk(Protocol):
    """A conversation with a child, or one that is repeated from a record."""

    def send(self, message: Fields) -> None:
        """Sends a message."""

    def receive(self, seconds: float) -> Fields:
        """The next message. Raises ProgramError: none within the time, or no message."""

    def close(self) -> None:
        """Ends it."""


class Outside:
    """All child processes of a run. `heed` is called while one is waited for; what it raises ends the wait."""

    def __init__(self, heed: Callable[[], None] = lambda: None) -> None:
        self._heed = heed
        self._workers: dict[str, Conversation] = {}

    def call_function(self, file: str, name: str, arguments: list[Any], seconds: float) -> Any:
        """The result of a function of a Python file: a number.

        Raises:
            ProgramError: it fails, hangs, or gives anything but a number.
        """
        child = self._worker(file)
        child.send({"name": name, "arguments": arguments})
        answer = self._answer(child, file, seconds)
        if "error" in answer:
            raise ProgramError(f"{name} of {Path(file).name} failed: {answer['error']}", remedy="Mend the function.")
        return answer.get("result")

    def measurement(self, file: str, name: str, kind: str, inputs: Fields) -> tuple[Talk, bool]:
        """Starts a measurement; what follows is a conversation. True if the child ends with it."""
        if kind == "python":
            child = self._worker(file)
            child.send({"name": name, "inputs": inputs})
            return child, False
        child = Conversation(
            Path(file).name, command_for(Path(file).absolute()), Path(file).absolute().parent, self._heed
        )
        child.send({"measure": name, "inputs": inputs})
        return child, True

    def _answer(self, child: Conversation, file: str, seconds: float) -> Fields:
        try:
            return child.receive(seconds)
        except (ProgramError, StopRun):
            self.drop(file)
            raise

    def drop(self, file: str) -> None:
        """Ends the process of a Python file; the next call starts another one."""
        child = self._workers.pop(file, None)
        if child is not None:
            child.close()

    def _worker(self, file: str) -> Conversation:
        if file not in self._workers:
            path = Path(file).absolute()
            child = Conversation(path.name, [sys.executable, "-m", "ibexite.outside.worker", str(path)], path.parent,
                                 self._heed)  # fmt: skip
            self._workers[file] = child
            ready = self._answer(child, file, START_TIME)
            if "error" in ready:
                self.drop(file)
                raise ProgramError(f"{path.name} cannot be loaded: {ready['error']}", remedy="Mend the file.")
        return self._workers[file]

    def call_executable(self, program: Path, given: Fields, seconds: float) -> Fields:
        """The answer of a program; see ibexite.outside.process.run_once."""
        return run_once(program.name, program, given, seconds, self._heed)

    def close(self) -> None:
        """Ends all processes."""
        for file in list(self._workers):
            self.drop(file)


def as_number(value: object, name: str, who: str) -> float:
    """A number from outside; null and NaN are holes.

    Raises:
        ProgramError: it is none.
    """
    if value is None:
        return math.nan
    if isinstance(value, bool) or not isinstance(value, int | float):
        raise ProgramError(f"{who} gave {value!r:.60} for {name}, not a number", remedy="It must give a number.")
    try:
        number = float(value)
    except OverflowError:
        number = math.inf
    if math.isinf(number):
        raise ProgramError(
            f"{who} gave {name} as {value!r:.30}, too large for a number", remedy="null says that there is none."
        )
    return number
