"""The simulated bench in a process of its own, started and stopped with a run."""

from __future__ import annotations

import contextlib
import json
import subprocess
import sys
from collections.abc import Mapping
from types import TracebackType

from ibexite.bench.file import BenchFile
from ibexite.errors import BenchError
from ibexite.events import Emitted, TestStarted
from ibexite.station.prepared import Readings
from ibexite.station.stand_ins import make_plan, raw_presets
from ibexite.untyped import Fields


class SimulatedBench:
    """A running simulated bench; as a context manager it gives the bench file moved to its addresses."""

    def __init__(
        self, file: BenchFile, serial: str, presets: Readings | None = None,
        of_tests: Mapping[str, Readings] | None = None,
    ) -> None:  # fmt: skip
        """`presets` are readings that were prepared, `of_tests` those of single tests."""
        self.file = file
        self._plan = make_plan(file, serial, own_ports=True, presets=presets)
        self._of_tests = {name: raw_presets(file, given, presets) for name, given in (of_tests or {}).items()}
        # A session of its own: a Ctrl-C in the terminal must not take the instruments away before they are safe.
        try:
            self._process = subprocess.Popen(
                [sys.executable, "-m", "ibexite.simulate.server"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                text=True,
                start_new_session=True,
            )
        except OSError as error:
            raise BenchError(
                f"the simulated bench did not start: {error.strerror}",
                remedy="Is the computer short of memory, processes or open files?",
            ) from None

    def __enter__(self) -> BenchFile:
        process = self._process
        assert process.stdin and process.stdout
        with contextlib.suppress(OSError):  # it has ended: told by its missing answer
            process.stdin.write(json.dumps(self._plan.as_data()) + "\n")
            process.stdin.flush()
        line = process.stdout.readline()
        answer: Fields = json.loads(line) if line else {"error": "its process ended"}
        if "error" in answer:
            self._stop()
            raise BenchError(f"the simulated bench did not start: {answer['error']}")
        return self.file.moved_to(answer["addresses"], is_private=True)

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._stop(is_safe=error is None)

    def advance(self, seconds: float) -> None:
        """Lets the time of the simulated world jump ahead; returns when it has."""
        self._ask({"advance": seconds})

    def hear(self, emitted: Emitted) -> None:
        """At the begin of a test it has the readings that were prepared for it; in each corner of its group."""
        event = emitted.event
        if isinstance(event, TestStarted) and self._of_tests:
            name = event.test if event.test in self._of_tests else event.test.partition(" [")[0]
            self._ask({"presets": self._of_tests.get(name, {})})

    def _ask(self, message: Fields) -> None:
        process = self._process
        assert process.stdin and process.stdout
        try:
            process.stdin.write(json.dumps(message) + "\n")
            process.stdin.flush()
            answer = process.stdout.readline()
        except OSError:
            answer = ""
        if not answer:
            raise BenchError("the simulated bench ended while the run went on")

    def _stop(self, *, is_safe: bool = True) -> None:
        assert self._process.stdin and self._process.stdout
        try:
            if is_safe:
                self._process.stdin.write(json.dumps({"end": True}) + "\n")
            self._process.stdin.close()
        except OSError:
            pass  # it has ended already
        try:
            self._process.wait(5)
        except subprocess.TimeoutExpired:
            self._process.kill()
            self._process.wait()
        self._process.stdout.close()
