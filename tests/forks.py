"""The installed program, started from a process that has loaded its modules already: hundreds of tests run it, and most
of what they would cost is loading. Each command is a process of its own all the same, with its own arguments, folder,
environment and pipes. What has to do with how the program starts or ends is tried with one that is started by itself."""

from __future__ import annotations

import atexit
import contextlib
import importlib
import json
import os
import pkgutil
import runpy
import select
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

LOADED = ("language", "engine", "bench", "instruments", "protocols", "records", "station", "cli")  # packages of ibexite
LEFT = ("report", "figure", "table", "page", "helper", "__main__")  # in names of modules that are not loaded: what draws


class Forks:
    """Starts commands. The process that they come from is begun with the first one."""

    def __init__(self) -> None:
        self._control: socket.socket | None = None

    def run(self, arguments: list[str], folder: Path, environment: dict[str, str], typed: str, timeout: float) -> subprocess.CompletedProcess[str]:
        """As subprocess.run does. Raises subprocess.TimeoutExpired."""
        control, deadline = self._control or self._begin(), time.monotonic() + timeout
        pipes = [os.pipe() for _ in range(3)]  # the ends for reading, and those for writing
        (given, write_given), (read_out, out), (read_err, err) = pipes
        ours, theirs = socket.socketpair()
        request = json.dumps({"arguments": arguments, "folder": str(folder), "environment": environment})
        socket.send_fds(control, [request.encode()], [given, out, err, theirs.fileno()])
        for handle in (given, out, err):
            os.close(handle)
        theirs.close()
        with ours, os.fdopen(write_given, "wb", 0) as stdin, contextlib.suppress(BrokenPipeError):
            number = int(ours.recv(20))
            ours.sendall(b"go")
            stdin.write(typed.encode())
            stdin.close()
            try:
                texts = [text.decode().replace("\r\n", "\n") for text in _read([read_out, read_err], deadline)]
                ours.settimeout(max(0.1, deadline - time.monotonic()))
                return subprocess.CompletedProcess(arguments, int(ours.recv(20)), *texts)
            except TimeoutError:
                os.kill(number, signal.SIGKILL)
        raise subprocess.TimeoutExpired(arguments, timeout)

    def _begin(self) -> socket.socket:
        self._control, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        command = [sys.executable, "-m", "tests.forks", str(theirs.fileno())]
        self._process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL, cwd=Path(__file__).parents[1])
        theirs.close()
        atexit.register(self._end)
        return self._control

    def _end(self) -> None:
        assert self._control is not None
        self._control.close()
        self._process.wait()


def _read(handles: list[int], deadline: float) -> list[bytes]:
    """All that comes out of pipes, which are closed then. Raises TimeoutError."""
    found = dict.fromkeys(handles, b"")
    left = set(handles)
    while left:
        ready = select.select(left, [], [], max(0.0, deadline - time.monotonic()))[0]
        if not ready:
            raise TimeoutError
        for handle in ready:
            data = os.read(handle, 1 << 16)
            found[handle] += data
            if not data:
                left.remove(handle)
                os.close(handle)
    return list(found.values())


def serve(control: socket.socket) -> None:
    """Forks for each request, and tells how each of those processes ended."""
    load()
    running: dict[int, socket.socket] = {}  # by their numbers whom to tell
    awake, wake = socket.socketpair()
    wake.setblocking(False)
    signal.signal(signal.SIGCHLD, lambda number, frame: None)
    signal.set_wakeup_fd(wake.fileno())
    while True:
        ready = select.select([control, awake], [], [])[0]
        if awake in ready:
            awake.recv(4096)
            tell_ends(running)
        if control in ready:
            data, handles, _, _ = socket.recv_fds(control, 1 << 17, 4)
            if not data:
                return
            *streams, result = handles
            answer = socket.socket(fileno=result)
            number = os.fork()
            if number == 0:
                signal.set_wakeup_fd(-1)
                signal.signal(signal.SIGCHLD, signal.SIG_DFL)
                answer.recv(2)  # it is known by its number before it does anything
                for end in (control, awake, wake, answer, *running.values()):
                    end.close()
                carry_out(json.loads(data), streams)
            for handle in streams:
                os.close(handle)
            running[number] = answer
            answer.sendall(str(number).encode())


def tell_ends(running: dict[int, socket.socket]) -> None:
    """Tells the exit codes of those that have ended."""
    for number in list(running):
        ended, status = os.waitpid(number, os.WNOHANG)
        if ended:
            with running.pop(number) as answer, contextlib.suppress(OSError):
                answer.sendall(str(os.waitstatus_to_exitcode(status)).encode())


def load() -> None:
    """Loads what commands need, but for what takes long and few need."""
    import ibexite
    from ibexite.surroundings import ONE_THREAD

    os.environ[ONE_THREAD] = "1"
    for package in LOADED:
        path = Path(ibexite.__file__).with_name(package)
        for module in pkgutil.walk_packages([str(path)], f"ibexite.{package}."):
            if not any(word in module.name.rpartition(".")[2] for word in LEFT):
                importlib.import_module(module.name)


def carry_out(request: dict, streams: list[int]) -> None:
    """Becomes the program."""
    for number, handle in enumerate(streams):
        os.dup2(handle, number)
        os.close(handle)
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["environment"])
    sys.argv = ["", *request["arguments"]]
    code: object = 0
    try:
        runpy.run_module("ibexite", run_name="__main__", alter_sys=True)
    except SystemExit as end:
        code = end.code
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError):
            stream.flush()
    os._exit(code if isinstance(code, int) else 1)


FORKS = Forks()

if __name__ == "__main__":
    serve(socket.socket(fileno=int(sys.argv[1])))
