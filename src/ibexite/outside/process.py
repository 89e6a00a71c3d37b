"""A child process that speaks JSON: one object in and one out, or a line each in a conversation.

What always holds: no call returns later than its time limit; what a child writes is bounded; a child that has gone
wrong is killed with its whole process group; nothing it does can stop the run from making the bench safe.
"""

from __future__ import annotations

import json
import os
import queue
import signal
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import IO

from ibexite.errors import ProgramError
from ibexite.surroundings import environment_for_others
from ibexite.untyped import Fields

MAX_REPLY = 4_000_000  # bytes of one reply; a curve of 100,000 points fits
MAX_ERRORS = 2_000  # bytes of its standard error that are kept, for the message
TURN = 0.1  # s; waiting is done in turns, so that a stop is heard at once


def command_for(program: Path) -> list[str]:
    """How a program is started: Python files by this Python, all else by itself."""
    return [sys.executable, str(program)] if program.suffix == ".py" else [str(program)]


class Conversation:
    """A child that is asked and answers in lines of JSON on its standard input and output."""

    def __init__(self, name: str, command: list[str], folder: Path, heed: Callable[[], None] = lambda: None) -> None:
        """`heed` is called at each turn of waiting; what it raises ends the wait."""
        self.name, self._heed = name, heed
        try:
            self._process = subprocess.Popen(
                command, cwd=folder, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE,
                start_new_session=True, env=environment_for_others(),
            )  # fmt: skip
        except OSError as error:
            raise ProgramError(
                f"{name} cannot be started ({error.strerror})", remedy="Is it there, and may it be executed?"
            ) from None
        assert self._process.stdout and self._process.stderr
        self._lines: queue.Queue[bytes | None] = queue.Queue()
        self._errors = b""
        self._flooded = False
        self._readers = [
            threading.Thread(target=self._take_lines, args=(self._process.stdout,), daemon=True),
            threading.Thread(target=self._take_errors, args=(self._process.stderr,), daemon=True),
        ]
        for reader in self._readers:
            reader.start()

    def _take_lines(self, stream: IO[bytes]) -> None:
        waiting = 0
        while line := stream.readline(MAX_REPLY + 1):
            waiting += len(line)
            if len(line) > MAX_REPLY or waiting > 50 * MAX_REPLY:
                self._flooded = True
                break
            self._lines.put(line)
        self._lines.put(None)

    def _take_errors(self, stream: IO[bytes]) -> None:
        while part := os.read(stream.fileno(), 65536):
            self._errors = (self._errors + part)[-MAX_ERRORS:]

    def send(self, message: Fields) -> None:
        """Sends a message. A child that does not read is noticed when it does not answer."""
        assert self._process.stdin
        try:
            self._process.stdin.write(json.dumps(message).encode() + b"\n")
            self._process.stdin.flush()
        except (BrokenPipeError, OSError):
            pass

    def end_of_input(self) -> None:
        """Tells the child that nothing more will come."""
        assert self._process.stdin
        try:
            self._process.stdin.close()
        except (BrokenPipeError, OSError):
            pass

    def receive(self, seconds: float) -> Fields:
        """The next message.

        Raises:
            ProgramError: none within the time, it ended, it flooded its output, or it is not a JSON object.
        """
        deadline = time.monotonic() + seconds
        line: bytes | None = b""
        while True:
            try:
                line = self._lines.get(timeout=max(0.001, min(TURN, deadline - time.monotonic())))
                break
            except queue.Empty:
                self._heed()
                if time.monotonic() >= deadline:
                    raise self._error(
                        f"gave no answer within {seconds:g} s", "Raise its timeout, or look why it hangs."
                    ) from None
        if line is None:
            raise self._ended()
        try:
            message = json.loads(line)
        except ValueError:
            message = None
        if not isinstance(message, dict):
            shown = line.decode("utf-8", "replace").strip()[:80]
            raise self._error(f"answered {shown!r}, which is not a JSON object", "It must write one object a line.")
        return message

    def _ended(self) -> ProgramError:
        if self._flooded:
            return self._error(
                f"flooded its output (over {MAX_REPLY:,} bytes in one answer)", "It must answer in short."
            )
        try:
            code = self._process.wait(2)
        except subprocess.TimeoutExpired:
            return self._error("closed its output instead of answering", "")
        self._readers[1].join(1)  # what it said last may be on its way; a program that it has started may hold the pipe
        how = f"was ended by signal {-code}" if code < 0 else f"ended with exit code {code}"
        return self._error(f"{how} instead of answering", "")

    def _error(self, what: str, remedy: str) -> ProgramError:
        said = self._errors.decode("utf-8", "replace").strip().splitlines()
        more = f"It said: {said[-1][:200]}" if said else ""
        return ProgramError(f"{self.name} {what}", remedy=" ".join(part for part in (more, remedy) if part))

    def exit_code(self, seconds: float) -> int:
        """Waits for its end. Raises ProgramError: it does not end."""
        deadline = time.monotonic() + seconds
        while self._process.poll() is None:
            if time.monotonic() >= deadline:
                raise self._error(f"did not end within {seconds:.2g} s", "")
            self._heed()
            time.sleep(0.005)
        return int(self._process.returncode)

    def close(self) -> None:
        """Ends it, with all that it has started."""
        process = self._process
        self.end_of_input()
        if process.poll() is None:
            try:
                process.wait(0.2)
            except subprocess.TimeoutExpired:
                pass
        try:
            if hasattr(os, "killpg"):
                os.killpg(process.pid, signal.SIGKILL)
            else:
                process.kill()
        except (ProcessLookupError, PermissionError):
            pass
        process.wait()
        for reader in self._readers:  # they see the end now; a stream must not be closed under them
            reader.join(2)
        for stream in (process.stdout, process.stderr):
            assert stream
            stream.close()

    def __enter__(self) -> Conversation:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


def run_once(
    name: str, program: Path, given: Fields, seconds: float, heed: Callable[[], None] = lambda: None
) -> Fields:
    """Runs a program: `given` as JSON on its standard input, one JSON object from its standard output.

    Raises:
        ProgramError: it fails, hangs, floods its output, or answers something else.
    """
    with Conversation(name, command_for(program.absolute()), program.absolute().parent, heed) as child:
        child.send(given)
        child.end_of_input()
        began = time.monotonic()
        answer = child.receive(seconds)
        code = child.exit_code(max(0.5, seconds - (time.monotonic() - began)))
        if code:
            raise child._error(f"ended with exit code {code}", "What it answered was not used.")
        return answer
