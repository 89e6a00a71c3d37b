"""The guardian beside a run, as the run sees it. The process itself is in guardian_process.py.

It cannot help against a power cut or a pulled cable; against those stands the protection inside the instruments.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import subprocess
import sys
from collections.abc import Callable, Iterable
from functools import partial
from pathlib import Path

from ibexite.bench.heartbeat import Heartbeat
from ibexite.bench.safety import powers
from ibexite.bench.state import BenchState
from ibexite.errors import BenchError
from ibexite.instruments.link import Link, Rescue
from ibexite.untyped import Fields

READY_WITHIN = 10.0  # s


class Guardian:
    """Starts with the run; `watch` once the bench is connected, `dismiss` when it has been made safe."""

    def __init__(self, journal_handle: int) -> None:
        """Starts the process.

        Raises:
            BenchError: it cannot be started; then nothing may be switched on.
        """
        self._journal_handle = journal_handle
        self._is_needed = True
        try:
            self._heart = Heartbeat()
            with contextlib.ExitStack() as unfinished:
                self._control, other = map(unfinished.enter_context, socket.socketpair())
                self._process = _start(other.fileno())
                other.close()
                unfinished.pop_all()
            self._control.settimeout(READY_WITHIN)
        except OSError as error:
            raise BenchError(
                f"the guardian process cannot be started ({error.strerror})",
                remedy="Nothing was switched on. Is the computer short of memory, processes or open files?",
            ) from None

    def watch(self, bench: BenchState, began: float) -> None:
        """Hands over the safe commands and copies of the connections; returns when the guardian is ready. May be done
        again when more is connected.

        Args:
            began: monotonic time in s at which the run began, for the times in the journal.

        Raises:
            BenchError: it does not answer; then nothing may be switched on.
        """
        rescues = {name: session.link.rescue() for name, session in bench.sessions.items()}
        handles = {name: rescue.handle for name, rescue in rescues.items() if rescue.handle is not None}
        handles |= {"journal": self._journal_handle, "heartbeat": self._heart.handle}
        handles |= {f"lock {n}": handle for n, handle in enumerate(bench.pool.locks.handles())}
        plan = {"deeds": _deeds(bench, rescues), "handles": list(handles), "began": began, "paths": sys.path,
                "silence": _silence(bench), "run": os.getpid()}  # fmt: skip
        self.beat()
        self._tell({"watch": plan}, list(handles.values()))
        for name, session in bench.sessions.items():
            session.link.before_reopening = partial(self._release, name)
            session.link.after_reopening = partial(self._adopt, name, session.link)

    @property
    def beat(self) -> Callable[..., None]:
        """What says that the run is alive (Heartbeat.beat), more often than the bench file has it as `heartbeat`."""
        return self._heart.beat

    def _release(self, name: str) -> None:
        self._tell({"release": name})

    def _adopt(self, name: str, link: Link) -> None:
        handle = link.rescue().handle
        if handle is not None:
            self._tell({"adopt": name}, [handle])

    def look(self) -> None:
        """Whether it is there and answers; looked at before each test.

        Raises:
            BenchError: it is not; nothing goes on without it.
        """
        self._tell({"are you there": True})

    def stand_back(self) -> None:
        """The bench is being made safe now: from here on that must not depend on the guardian."""
        self._is_needed = False
        self._control.settimeout(1.0)

    def _tell(self, message: Fields, handles: list[int] | None = None) -> None:
        data = json.dumps(message).encode() + b"\n"
        try:
            if handles:
                sent = socket.send_fds(self._control, [data], handles)
                self._control.sendall(data[sent:])
            else:
                self._control.sendall(data)
            answer = self._control.recv(16)
        except OSError:
            answer = b""
        if answer != b"ok\n" and self._is_needed:
            raise BenchError("the guardian process does not answer", remedy="Nothing goes on without it; run again.")

    def dismiss(self, not_safe: Iterable[str] = ()) -> bool:
        """Ends it: the bench is safe. Roles that are not are left to it: it goes on trying by itself, and writes into
        the journal when it has managed. False if it had ended before."""
        left = list(not_safe)
        message = {"take over": left} if left else {"bye": True}
        is_there = self._process.poll() is None
        try:
            self._control.sendall(json.dumps(message).encode() + b"\n")
        except OSError:
            is_there = False
        self._control.close()
        self._heart.close()
        if left:
            return is_there
        try:
            return self._process.wait(READY_WITHIN) == 0
        except subprocess.TimeoutExpired:  # cleaning up must not fail because of it
            self._process.kill()
            self._process.wait()
            return False


def _start(handle: int) -> subprocess.Popen[bytes]:
    program = Path(__file__).with_name("guardian_process.py")
    return subprocess.Popen(
        [sys.executable, "-I", "-S", str(program), str(handle)],
        pass_fds=[handle],
        start_new_session=True,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.DEVNULL,  # a reader of the run's output must not have to wait for it
        stderr=subprocess.DEVNULL,
    )


def _silence(bench: BenchState) -> float:
    """How long the run may give no sign of life, in s. While a link is opened nothing beats."""
    waits = [max(s.profile.timeout, s.profile.waits.connecting) for s in bench.sessions.values()]
    return bench.file.heartbeat + max(waits, default=0.0)


def _deeds(bench: BenchState, rescues: dict[str, Rescue]) -> list[Fields]:
    """What makes each role safe, in the order of the bench file."""
    deeds = []
    for role, session in bench.safe_roles():
        safe = session.profile.safe.items()
        deeds.append(
            {
                "role": role.name,
                "instrument": role.instrument,
                "link": rescues[role.instrument].plan,
                "identity": (session.signed(session.profile.identity.query), session.identity_pattern),
                "simulated": session.is_simulated,
                "behind": powers(bench, role),
                "pace": session.profile.pace,
                "commands": [
                    session.signed(session.profile.speech.at(text, role.channel))
                    for text in session.profile.safe_actions
                ] + [
                    session.signed(session.profile.settings[setting].encoder(channel)(value))
                    for channel in role.safe_channels for setting, value in safe
                ],
                "questions": [
                    (session.signed(session.question(setting, channel)),
                     *session.switch_patterns(setting, channel, value))
                    for channel in role.safe_channels for setting, value in safe if session.can_ask(setting)
                ],
            }
        )  # fmt: skip
    return deeds
