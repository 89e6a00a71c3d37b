"""The process that holds what `ibexite instruments set` and `send` have switched on, one for each bench.

It carries out one deed after another that commands ask for over a local socket, and ends as soon as nothing is on that
it has switched on. When whoever switched something on goes away (the shell or program that called the command) it
switches off and ends; when it is killed, its guardian does.

A request is one line of JSON. Two lines answer it: that it was taken, and what came of it. Without the first it was not
carried out, and may be sent again.
"""

from __future__ import annotations

import contextlib
import json
import math
import os
import select
import signal
import socket
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.guardian import Guardian
from ibexite.bench.hand import Hand
from ibexite.bench.pool import Pool
from ibexite.errors import IbexiteError
from ibexite.file_lock import try_lock
from ibexite.instruments.link import Link, LinkOptions
from ibexite.instruments.open_link import open_link
from ibexite.instruments.traffic_file import TrafficFile, traced
from ibexite.records.relays_by_hand import note_closings
from ibexite.station.by_hand import bench_of_one, reading_of, what_to_read
from ibexite.station.hand_place import HandPlace
from ibexite.station.whole_readings import is_whole, whole_reading_of
from ibexite.untyped import Fields

LOOK = 0.2  # s between two looks at what it depends on
GUARDIAN_LOOK = 2.0  # s between two looks at the guardian
IDLE = 10.0  # s that it waits for whoever has started it
PATIENCE = 5.0  # s; for a request that was begun


class Owners:
    """The processes that have switched something on: when one goes away, all goes off."""

    def __init__(self) -> None:
        self._handles: dict[int, int] = {}  # by their numbers, where the system has such; -1: it is gone

    def add(self, process: int) -> None:
        """One more; one that is gone already counts as gone."""
        if process not in self._handles:
            try:
                self._handles[process] = os.pidfd_open(process) if hasattr(os, "pidfd_open") else 0
            except ProcessLookupError:
                self._handles[process] = -1
            except OSError:  # a sandbox that does not let it
                self._handles[process] = 0

    def is_one_gone(self) -> bool:
        """Whether any of them has ended."""
        try:
            for process, handle in self._handles.items():
                if not handle:
                    os.kill(process, 0)
        except OSError:
            return True
        handles = [handle for handle in self._handles.values() if handle]
        return -1 in handles or bool(handles and select.select(handles, [], [], 0)[0])


class Traffic:
    """Opens links of which everything is told to the file of the request that is carried out, if it has one."""

    def __init__(self) -> None:
        self.file: TrafficFile | None = None

    def open(self, address: str, options: LinkOptions) -> Link:
        """A link, opened."""
        return traced(open_link, address, options, self)

    def tell(self, name: str, direction: str, text: str, took: float | None = None) -> None:
        """Writes a line."""
        if self.file is not None:
            self.file.tell(name, direction, text, took)


class Keeper:
    """Serves the deeds on one bench."""

    def __init__(self, file: BenchFile, place: HandPlace) -> None:
        self._log, told = place.take_log()
        self._traffic, self._owners = Traffic(), Owners()
        self.hand = Hand(file, Pool(self._traffic.open, starts=False), lambda: Guardian(self._log))
        self.hand.told += told
        self._lines: dict[str, Callable[[], list[float]]] = {}
        self._on: list[str] = []
        self.is_to_end = False

    def serve(self, listener: socket.socket) -> None:
        """Until nothing is on any more, or whoever switched it on is gone."""
        looked = asked = time.monotonic()
        while not self.is_to_end:
            if select.select([listener], [], [], LOOK)[0]:
                asked = time.monotonic()
                with contextlib.suppress(OSError), listener.accept()[0] as client:
                    self._answer(client)
            self.hand.beat()
            if self._owners.is_one_gone() or (not self._on and time.monotonic() - asked > IDLE):
                break
            if time.monotonic() - looked > GUARDIAN_LOOK:
                looked = time.monotonic()
                if not self.hand.is_watched():
                    break

    def _answer(self, client: socket.socket) -> None:
        client.settimeout(PATIENCE)
        with client.makefile("rb") as lines:
            request: Fields = json.loads(lines.readline() or b"{}")
        if not request:
            return
        client.sendall(b'{"taken": true}\n')
        answer = self._carried_out(request)
        if not answer["on"]:  # off before it is told, so that the next command finds the instruments free
            self.is_to_end = True
            problems = [f"{deed.role} is not off: {deed.problem}" for deed in self.hand.end() if deed.problem]
            if problems and answer["error"] is None:
                answer["error"] = ["BenchError", "; ".join(problems), "", "The guardian goes on trying."]
        try:
            client.sendall(json.dumps(answer).encode() + b"\n")
        except OSError:  # whoever asked does not know what is on
            self.is_to_end = True

    def _carried_out(self, request: Fields) -> Fields:
        answer: Fields = {"error": None, "reply": None}
        before = self._on
        try:
            with self._traced(request.get("traffic", "")):
                answer["reply"] = getattr(self, f"_do_{request['do']}")(request)
        except IbexiteError as error:
            answer["error"] = [type(error).__name__, error.what, error.where, error.remedy]
        except Exception as error:  # a mistake of ours: told, and all goes off
            answer["error"] = ["BenchError", f"internal error: {error!r}", "", "Please report it."]
            self.is_to_end = True
        answer["on"] = self._on = self.hand.on()
        answer["fresh"] = [role for role in self._on if role not in before]
        answer["told"], answer["reported"] = self.hand.take_told(), self.hand.has_reported
        if answer["on"] and request.get("owner"):
            self._owners.add(request["owner"])
        return answer

    @contextlib.contextmanager
    def _traced(self, path: str) -> Iterator[None]:
        if not path:
            yield
            return
        with contextlib.closing(TrafficFile(Path(path), "by hand", open_link)) as file:
            self._traffic.file = file
            try:
                yield
            finally:
                self._traffic.file = None

    # --- deeds -------------------------------------------------------------------------------------------------------

    def _do_set(self, request: Fields) -> None:
        self.hand.set(request["role"], request["setting"], request["value"])

    def _do_connect(self, request: Fields) -> None:
        try:
            self.hand.connect(request["routes"])
        finally:
            self._note(Path(request["records"]))

    def _note(self, records: Path) -> None:
        """Counts the relays that have closed; where that cannot be written it is told, and nothing goes off for it."""
        try:
            note_closings(records, self.hand.take_closings())
        except OSError as error:
            self.hand.told.append(f"closings of relays could not be counted in {records} ({error.strerror})")

    def _do_disconnect(self, request: Fields) -> None:
        self.hand.disconnect(request["routes"])

    def _do_send(self, request: Fields) -> str | None:
        reply = self.hand.send(request["instrument"], request["text"])
        return None if reply is None else bytes(reply).decode("latin-1")

    def _do_holds(self, _: Fields) -> list[str]:
        return list(self.hand.bench.sessions)

    def _do_read(self, request: Fields) -> Fields:
        asked = what_to_read(self.hand.file, tuple(request["words"]), request["given"])
        self.hand.reach(asked.instrument)
        key = json.dumps([request["words"], request["given"]])
        if key not in self._lines:
            self._lines[key] = asked.prepare(self.hand.bench)
        self.hand.settle()
        is_simulated = self.hand.bench.sessions[asked.instrument].is_simulated
        if is_whole(asked.kind):
            whole, reason = whole_reading_of(self.hand.bench, self._lines[key])
            return {"value": whole, "reason": reason, "is_simulated": is_simulated}
        value, reason = reading_of(self.hand.bench, self._lines[key])
        return {"value": None if math.isnan(value) else value, "reason": reason, "is_simulated": is_simulated}


def main() -> None:
    """Serves the bench that the only argument names, as JSON. Says on standard output when it is ready."""
    for name in ("SIGINT", "SIGHUP", "SIGPIPE"):
        signal.signal(getattr(signal, name), signal.SIG_IGN)
    asked: Fields = json.loads(sys.argv[1])
    try:
        file = bench_of(asked)
        place = HandPlace.of(file)
    except IbexiteError as error:
        print(json.dumps({"error": [type(error).__name__, error.what, error.where, error.remedy]}), flush=True)
        return
    lock = os.open(place.lock, os.O_RDWR | os.O_CREAT, 0o600)
    if not try_lock(lock):
        print(json.dumps({"ready": "another"}), flush=True)
        return
    place.socket.unlink(missing_ok=True)
    with socket.socket(socket.AF_UNIX, socket.SOCK_STREAM) as listener:
        listener.bind(str(place.socket))
        listener.listen()
        keeper = Keeper(file, place)
        signal.signal(signal.SIGTERM, lambda *_: setattr(keeper, "is_to_end", True))
        print(json.dumps({"ready": "here"}), flush=True)
        try:
            keeper.serve(listener)
        finally:
            keeper.hand.end()
            place.socket.unlink(missing_ok=True)
    os.close(lock)


def bench_of(asked: Fields) -> BenchFile:
    """The bench that a request means: a file, or an address with a profile. Raises MistakeError."""
    if "bench" in asked:
        return read_bench(Path(asked["bench"]))
    return bench_of_one(asked["address"], asked["profile"], Path(asked["folder"]))


if __name__ == "__main__":
    main()
