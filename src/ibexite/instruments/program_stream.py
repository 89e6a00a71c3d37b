"""Lines to and from a program: the product's own tool, or that of a vendor, on its standard input and output.

What always holds: the program is in a session of its own, so that Ctrl-C leaves it alone; what it says on its error
stream is kept bounded and told when it ends; it ends with the link, and it is started anew when the link is reopened.
"""

from __future__ import annotations

import os
import select
import signal
import subprocess
import threading
import time

from ibexite.instruments.address import Program
from ibexite.instruments.failures import Failures
from ibexite.instruments.link import LinkOptions, Rescue, plan_of
from ibexite.instruments.patience import PatientStream
from ibexite.surroundings import environment_for_others

MOST_ERRORS = 2_000  # bytes of its error stream that are kept
LEAVE = 1.0  # s that it has to end by itself when its input is closed


class ProgramStream(PatientStream):
    """One program that runs."""

    is_fresh, seconds_per_byte = True, 0.0

    def __init__(self, address: str, place: Program, options: LinkOptions, failures: Failures) -> None:
        super().__init__(options)
        self._address, self._place, self._failures = address, place, failures
        self._process: subprocess.Popen[bytes] | None = None
        self._errors = b""

    def open(self) -> None:
        """Starts it. Raises LinkError: it is not there, or may not be executed."""
        self.close()
        command, self._errors = list(self._place.command), b""
        try:
            self._process = subprocess.Popen(
                command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, bufsize=0,
                start_new_session=True, env=environment_for_others(), cwd=self._options.keys.get("folder"),
            )  # fmt: skip
        except OSError as error:
            name = command[0]
            what = {FileNotFoundError: "there is no program", PermissionError: "no right to execute"}.get(type(error))
            raise self._failures.error(
                f"{what} {name!r}" if what else f"{name!r} cannot be started ({error.strerror})",
                f"Make it executable: chmod +x {name}" if isinstance(error, PermissionError)
                else "Write it as program = [\"./gauge\", \"--port\", \"3\"], seen from the folder of the bench file.",
            ) from None  # fmt: skip
        assert self._process.stdin is not None
        os.set_blocking(self._process.stdin.fileno(), False)
        self._listener = threading.Thread(target=self._take_errors, args=(self._process,), daemon=True)
        self._listener.start()

    def _take_errors(self, process: subprocess.Popen[bytes]) -> None:
        assert process.stderr is not None
        while data := process.stderr.read(4096):
            if process is self._process:
                self._errors = (self._errors + data)[-MOST_ERRORS:]
        process.stderr.close()

    def close(self) -> None:
        """Closes its input, and kills it with all that it has started if it does not end then."""
        process, self._process = self._process, None
        if process is None:
            return
        assert process.stdin and process.stdout
        process.stdin.close()
        try:
            process.wait(LEAVE)
        except subprocess.TimeoutExpired:
            pass
        end_of(process.pid)
        process.wait()
        process.stdout.close()

    def rescue(self, end: bytes) -> Rescue:
        """A copy of its input, its number, and how it is started anew."""
        assert self._process is not None and self._process.stdin is not None
        plan = plan_of(self._address, self._options) | {"process": self._process.pid}
        return Rescue(plan, self._process.stdin.fileno())

    # --- bytes -------------------------------------------------------------------------------------------------------

    def send(self, data: bytes) -> None:
        """Sends all of it. Raises OSError: it has ended, or takes nothing for the time-out."""
        deadline = time.monotonic() + self._options.to_send
        out = self._file("stdin")
        while data:
            left = deadline - time.monotonic()
            if left <= 0 or not select.select([], [out], [], min(left, self._turn))[1]:
                if left <= 0:
                    raise TimeoutError
                self._options.heed()
                continue
            try:
                data = data[os.write(out, data) :]
            except BrokenPipeError:
                raise OSError(0, self.why_ended()) from None

    def receive(self, most: int) -> bytes:
        """Some bytes; none if it has ended. Raises OSError: TimeoutError if none come within a turn."""
        if not self.poll(round(self._turn * 1000)):
            raise TimeoutError
        return os.read(self._file("stdout"), most)

    def poll(self, ms: int) -> bool:
        """Whether bytes wait, or come within so many ms; also true of its end."""
        return self._process is not None and bool(select.select([self._file("stdout")], [], [], ms / 1000)[0])

    def _file(self, name: str) -> int:
        if self._process is None:
            raise OSError(0, "it is closed")
        number: int = getattr(self._process, name).fileno()
        return number

    def why_ended(self) -> str:
        """How it has ended, with the last line of its error stream."""
        assert self._process is not None
        try:
            code = self._process.wait(0.2)
        except subprocess.TimeoutExpired:
            return "it has closed its output"
        self._listener.join(0.2)
        told = self._errors.decode("utf-8", "replace").strip().splitlines()
        how = f"was ended by signal {-code}" if code < 0 else f"ended with exit code {code}"
        return f"the program {how}" + (f": {told[-1][:200]}" if told else "")


def end_of(process: int) -> None:
    """Kills a process with all that it has started: its session."""
    if hasattr(os, "killpg"):
        try:
            os.killpg(process, signal.SIGKILL)
        except OSError:
            pass
