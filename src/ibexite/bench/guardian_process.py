"""The guardian's own process: waits beside a run; if that dies without a good-bye, it switches everything off.

Run as a file by itself, with nothing but the standard library, so that it is ready within milliseconds. It holds copies
of the open connections, handed over by the operating system, so that instruments which take one client only can be
reached too; where a copy fails it connects anew.

Messages from the run are lines of JSON on a local socket, each answered by "ok":
  {"watch": plan}          the deeds in order, and the journal; their handles come with the message
  {"release": name}        the run is about to open this connection anew: let go of the copy
  {"adopt": name}          the copy of the new connection comes with the message
  {"bye": true}            all is off and recorded: end
"""

from __future__ import annotations

import json
import os
import signal
import socket
import sys
import time

MOST_HANDLES = 250
QUIET = 0.1  # s without a byte: nothing is on its way any more


def main() -> None:
    """Serves one run; the number of the local socket is the only argument."""
    for name in ("SIGINT", "SIGTERM", "SIGHUP"):
        signal.signal(getattr(signal, name), signal.SIG_IGN)
    control = socket.socket(fileno=int(sys.argv[1]))
    plan: dict = {}
    handles: dict[str, int] = {}
    buffer = b""
    while True:
        try:
            data, fds, _, _ = socket.recv_fds(control, 1 << 20, MOST_HANDLES)
        except OSError:
            data, fds = b"", []
        if not data:
            break
        buffer += data
        if not buffer.endswith(b"\n"):
            continue
        message, buffer = json.loads(buffer), b""
        if "bye" in message:
            os._exit(0)
        if "watch" in message:
            plan = message["watch"]
            handles = dict(zip(plan["handles"], fds, strict=True))
        elif "release" in message:
            handle = handles.pop(message["release"], None)
            if handle is not None:
                os.close(handle)
        elif "adopt" in message:
            handles[message["adopt"]] = fds[0]
        control.sendall(b"ok\n")
    if plan:
        make_safe(plan, handles)


def make_safe(plan: dict, handles: dict[str, int]) -> None:
    """Switches off in the order of the plan, asks whether it is off, and writes that into the journal."""
    roles = []
    for deed in plan["deeds"]:
        problem = "it was not reached"
        for connect in (lambda d: socket.socket(fileno=os.dup(handles[d["instrument"]])), open_anew):
            try:
                problem = switch_off(connect(deed), deed)
                break
            except (OSError, KeyError) as error:
                problem = str(error) or type(error).__name__
        roles.append({"role": deed["role"], "problem": problem})
    t = round(time.monotonic() - plan["began"], 6)
    entry = {"e": "MadeSafe", "t": t, "roles": roles, "by": "guardian"}
    os.write(handles["journal"], json.dumps(entry).encode() + b"\n")
    os.fsync(handles["journal"])


def open_anew(deed: dict) -> socket.socket:
    """A new connection to the instrument of a deed."""
    return socket.create_connection((deed["host"], deed["port"]), deed["timeout"])


def switch_off(link: socket.socket, deed: dict) -> str:
    """Sends the safe commands and asks for the result; "" if it is off. A half-sent line is ended first."""
    end = deed["end"].encode("latin-1")
    with link:
        link.settimeout(QUIET)
        link.sendall(end + b"".join(command.encode("latin-1") + end for command in deed["commands"]))
        try:
            while link.recv(65536):  # replies that the run did not take any more
                pass
            return "the connection was closed"
        except TimeoutError:
            pass
        link.settimeout(deed["timeout"])
        for question, wanted in deed["questions"]:
            link.sendall(question.encode("latin-1") + end)
            reply = b""
            while not reply.endswith(end):
                data = link.recv(65536)
                if not data:
                    raise ConnectionError("the connection was closed")
                reply += data
            if reply.decode("latin-1").strip().upper() not in wanted:
                return f"{question} answered {reply.decode('latin-1').strip()}"
    return ""


if __name__ == "__main__":
    main()
