"""The guardian's own process: waits beside a run; if that dies without a good-bye, or gives
no sign of life any more, it switches everything off.

Run as a file by itself, with nothing but the standard library, so that it is ready within milliseconds; what links
other than raw sockets need is loaded when it is told of the bench, before anything is switched on. It holds copies of
the open connections, handed over by the operating system. When the run has died it sends the safe commands on the
copies at once; then it closes them, so that instruments which take one client only are free, connects anew (where no
reply to the dead run can be on its way) and asks whether they are off. It goes on trying for PATIENCE.

What always holds: nothing in here waits without a bound; nothing ends it before it has tried to make the bench safe.

Messages from the run are lines of JSON on a local socket, each but the last two answered by "ok":
  {"watch": plan}          the deeds in order, and the journal; their handles come with the message
  {"release": name}        the run is about to open this connection anew: let go of the copy
  {"adopt": name}          the copy of the new connection comes with the message
  {"are you there": true}
  {"take over": roles}     the run has ended, these roles are not off: go on trying
  {"bye": true}            all is off and recorded: end
"""

from __future__ import annotations

import json
import os
import re
import select
import signal
import socket
import stat
import struct
import sys
import time
from collections.abc import Callable
from typing import Any

MOST_HANDLES = 250
PATIENCE = 600.0  # s; how long it is tried to reach an instrument
LOOK = 0.25  # s between two looks at the sign of life of the run
FIRST_PATIENCE = 3.0  # s; how long one instrument may keep the others waiting
Plan = dict[str, Any]  # as JSON brings it
MOST_BYTES = 1_000_000  # that are read while waiting for one answer: an instrument may chatter without end


def main() -> None:
    """Serves one run; the number of the local socket is the only argument."""
    for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGPIPE"):
        signal.signal(getattr(signal, name), signal.SIG_IGN)
    control = socket.socket(fileno=int(sys.argv[1]))
    plan: Plan = {}
    handles: dict[str, int] = {}
    only: list[str] | None = None
    buffer, silence = b"", Silence()
    while True:
        try:
            if plan and not select.select([control], [], [], LOOK)[0]:
                if silence.seen(beat_of(handles), time.monotonic()) > plan["silence"]:
                    end_run(plan, handles)
                    break
                continue
            data, fds, _, _ = socket.recv_fds(control, 1 << 20, MOST_HANDLES)
            if not data:
                break
            buffer += data
            if not buffer.endswith(b"\n"):
                continue
            message, buffer = json.loads(buffer), b""
            if "bye" in message:
                os._exit(0)
            if "take over" in message:
                only = message["take over"]
                break
            if "watch" in message:
                plan = message["watch"]
                for copy in handles.values():  # of a watch before: more instruments were connected since
                    os.close(copy)
                if any(deed["link"]["kind"] == "link" for deed in plan["deeds"]):
                    load_links(plan["paths"])
                handles = dict(zip(plan["handles"], fds, strict=True))
            elif "release" in message:
                handle = handles.pop(message["release"], None)
                if handle is not None:
                    os.close(handle)
            elif "adopt" in message:
                handles[message["adopt"]] = fds[0]
            control.sendall(b"ok\n")
        except Exception:  # the run has died in the middle of something: what it was does not matter any more
            break
    if plan:
        make_safe(plan, handles, only)


class Silence:
    """For how long the run has given no sign of life while it could have. Between two looks no more than two of them
    count: where so much passes that this process got no time either, the computer stood still and the run did not."""

    def __init__(self) -> None:
        self._beat = self._looked = self._seconds = 0.0

    def seen(self, beat: float, now: float) -> float:
        """For how many s, of the time of its last sign of life."""
        is_same, passed = beat == self._beat, min(now - self._looked, 2 * LOOK)
        self._seconds = self._seconds + passed if is_same else min(now - beat, 2 * LOOK)
        self._beat, self._looked = beat, now
        return self._seconds


def beat_of(handles: dict[str, int]) -> float:
    """The last sign of life of the run, in monotonic s; see ibexite.bench.heartbeat."""
    return float(struct.unpack("d", os.pread(handles["heartbeat"], 8, 0))[0])


def end_run(plan: Plan, handles: dict[str, int]) -> None:
    """Ends a run that hangs: it must not wake up and switch on again, and its locks go with it. Whether it heeds even
    this or not, the bench is made safe."""
    text = f"the run gave no sign of life for {plan['silence']:g} s; the guardian has ended it"
    write_entry(plan, handles, {"e": "Problem", "text": text})
    try:
        if os.getppid() == plan["run"]:
            os.kill(plan["run"], signal.SIGKILL)
        deadline = time.monotonic() + 2.0
        while os.getppid() == plan["run"] and time.monotonic() < deadline:
            time.sleep(0.01)
    except OSError:
        pass


def make_safe(plan: Plan, handles: dict[str, int], only: list[str] | None) -> None:
    """Switches off in the order of the plan, asks whether it is off, and writes that into the journal."""
    deeds = [deed for deed in plan["deeds"] if only is None or deed["role"] in only]
    for deed in deeds:  # at once, on the copies; whether it helped is asked below
        if deed.get("behind"):  # relays that must not move under power: when that is known to be off
            continue
        try:
            for message in _messages(deed):
                write(handles[deed["instrument"]], message)
                time.sleep(deed.get("pace", 0.0))
        except (OSError, KeyError):
            pass
    for deed in deeds:
        handle = handles.pop(deed["instrument"], None)
        if handle is not None:
            close(handle)
    for process in {deed["link"].get("process") for deed in deeds} - {None}:
        end(process)
    problems = {deed["role"]: "it was not reached" for deed in deeds}
    deadline = time.monotonic() + PATIENCE
    patience = FIRST_PATIENCE
    while True:
        for deed in deeds:
            if problems[deed["role"]]:
                problems[deed["role"]] = held_back(deed, problems) or try_to_switch_off(deed, patience)
        if not any(problems.values()):
            break
        if patience == FIRST_PATIENCE and only is None:
            note(plan, handles, problems)  # what is off by now is known, even if this process is ended too
        if time.monotonic() > deadline or all(deed["simulated"] for deed in deeds):
            break  # a stand-in that is not there any more has nothing on
        patience = 10.0
        time.sleep(0.5)
    note(plan, handles, problems)


def write(handle: int, data: bytes, seconds: float = 0.5) -> None:
    """Writes to a socket, a port or a pipe, as long as it takes something within so many seconds. Raises OSError."""
    os.set_blocking(handle, False)
    while data and select.select([], [handle], [], seconds)[1]:
        data = data[os.write(handle, data) :]


def close(handle: int) -> None:
    """Closes a copy of a connection, for the instrument as well: it may take one client only."""
    try:
        if stat.S_ISSOCK(os.fstat(handle).st_mode):
            with socket.socket(fileno=os.dup(handle)) as link:
                link.shutdown(socket.SHUT_RDWR)
    except OSError:
        pass
    try:
        os.close(handle)
    except OSError:
        pass


def end(process: int) -> None:
    """Waits a moment until a program has ended by itself, its input being closed; then kills it with its session."""
    deadline = time.monotonic() + 0.5
    try:
        while time.monotonic() < deadline:
            os.kill(process, 0)
            time.sleep(0.01)
        os.killpg(process, signal.SIGKILL)
    except OSError:  # it is not there any more
        pass


def note(plan: Plan, handles: dict[str, int], problems: dict[str, str]) -> None:
    """Writes into the journal what is off and what is not. The line before it may be torn: it is ended first."""
    roles = [{"role": role, "problem": problem} for role, problem in problems.items()]
    write_entry(plan, handles, {"e": "MadeSafe", "roles": roles, "by": "guardian"})


def write_entry(plan: Plan, handles: dict[str, int], entry: Plan) -> None:
    """Writes an event into the journal."""
    entry["t"] = round(time.monotonic() - plan["began"], 6)
    try:
        os.write(handles["journal"], b"\n" + json.dumps(entry).encode() + b"\n")
        os.fsync(handles["journal"])
    except (OSError, KeyError):
        pass


def held_back(deed: Plan, problems: dict[str, str]) -> str:
    """Why relays may not be opened yet: what must be off before is not."""
    on = [role for role in deed.get("behind", ()) if problems.get(role)]
    return f"it was left as it is: {', '.join(on)} must be off before" if on else ""


def try_to_switch_off(deed: Plan, patience: float) -> str:
    """What hinders that a role is off, "" if it is and says so."""
    try:
        return switch_off(deed, time.monotonic() + min(patience, 2 * deed["link"]["timeout"] + 1))
    except Exception as error:  # also those of links; whatever it is, it is tried again
        return str(error) or type(error).__name__


def switch_off(deed: Plan, deadline: float) -> str:
    """Connects anew, makes sure who answers, sends the safe commands and asks for the result."""
    with CONNECT[deed["link"]["kind"]](deed["link"], deadline) as link:
        buffer = bytearray()
        for message in _messages(deed):
            link.send(message)
            time.sleep(deed.get("pace", 0.0))
        # The answer is known beforehand: when it comes, nothing that was meant for others is on its way any more.
        question, pattern = deed["identity"]
        if pattern:
            ask(link, buffer, question, [pattern], deed, deadline)
        for message in _messages(deed):
            link.send(message)
            time.sleep(deed.get("pace", 0.0))
        for question, wanted, others in deed["questions"]:
            reply = ask(link, buffer, question, [*wanted, *others], deed, deadline)
            if not fits(reply, wanted):
                return f"{question} answered {reply}"
    return ""


class SocketWire:
    """A raw socket, connected anew."""

    def __init__(self, link: Plan, deadline: float) -> None:
        self._socket = socket.create_connection((link["host"], link["port"]), min(link["timeout"], left(deadline)))

    def __enter__(self) -> SocketWire:
        return self

    def __exit__(self, *_: object) -> None:
        self._socket.close()

    def send(self, data: bytes) -> None:
        """Sends all of it."""
        self._socket.sendall(data)

    def receive(self, deadline: float) -> bytes:
        """Some bytes; none if it was closed."""
        self._socket.settimeout(left(deadline))
        return self._socket.recv(65536)


class LinkWire:
    """Any other link: opened anew, and cleared, so that nothing that was on its way is left."""

    def __init__(self, link: Plan, deadline: float) -> None:
        from ibexite.instruments.link import options_of
        from ibexite.instruments.open_link import open_link

        left(deadline)
        self._end: bytes = link["terminator"].encode("latin-1")
        self._link = open_link(link["address"], options_of(link))
        self._link.clear()

    def __enter__(self) -> LinkWire:
        return self

    def __exit__(self, *_: object) -> None:
        self._link.close()

    def send(self, data: bytes) -> None:
        """Sends all of it."""
        self._link.send(data)

    def receive(self, deadline: float) -> bytes:
        """A whole reply, with its end."""
        left(deadline)
        return bytes(self._link.receive()) + self._end


Wire = SocketWire | LinkWire
# How each kind of link is opened anew; see ibexite.instruments.link.Rescue.
CONNECT: dict[str, Callable[[Plan, float], Wire]] = {"socket": SocketWire, "link": LinkWire}


def load_links(paths: list[str]) -> None:
    """Loads what the links need, from where the run has it."""
    sys.path[:] = paths
    from ibexite.instruments import open_link

    open_link.load()


def ask(link: Wire, buffer: bytearray, question: str, known: list[str], deed: Plan, deadline: float) -> str:
    """The first line after a question that fits one of the patterns of known answers; all else is chatter. Bounded in
    time and in bytes."""
    end = deed["link"].get("terminator", deed["link"]["end"]).encode("latin-1")
    link.send(_message(deed, question))
    read = 0
    while True:
        while (place := buffer.find(end)) >= 0:
            line = bytes(buffer[:place]).decode("latin-1").strip()
            del buffer[: place + len(end)]
            if fits(line, known):
                time.sleep(deed.get("pace", 0.0))
                return line
        data = link.receive(deadline)
        read += len(data)
        if not data or read > MOST_BYTES:
            raise ConnectionError("the connection was closed" if not data else "it talks without end")
        buffer += data


def fits(line: str, patterns: list[str]) -> bool:
    """Whether a line is as one of some regular expressions says, whatever its case."""
    return any(re.fullmatch(pattern, line, re.IGNORECASE | re.DOTALL) for pattern in patterns)


def left(deadline: float) -> float:
    """Seconds until a deadline. Raises TimeoutError: it is over."""
    seconds = deadline - time.monotonic()
    if seconds <= 0:
        raise TimeoutError("it does not answer")
    return seconds


def _messages(deed: Plan) -> list[bytes]:
    """The safe commands: in one, or one by one for an instrument that must be given time."""
    first, *more = deed["commands"] or [""]
    if not more or not deed.get("pace"):
        return [_message(deed, *deed["commands"])]
    end = deed["link"]["end"].encode("latin-1")
    return [_message(deed, first), *(text.encode("latin-1") + end for text in more)]


def _message(deed: Plan, *texts: str) -> bytes:
    """Commands as bytes. A half-sent line is ended first."""
    end = deed["link"]["end"].encode("latin-1")
    data: bytes = end + b"".join(text.encode("latin-1") + end for text in texts)
    return data


if __name__ == "__main__":
    main()
