"""Bare instruments for the benchmarks: the least that answers, so that the cost measured is that of the caller.

python benchmarks/instruments.py DELAY_IN_S        prints three ports, serves until standard input is closed
"""

from __future__ import annotations

import heapq
import select
import socket
import sys
import time

IDENTITIES = (b"Firnline,PS-0,1,1\n", b"Firnline,EL-0,1,1\n", b"Firnline,DM-0,1,1\n")
VALUE = b"+1.2345678E+00"


always: dict[bytes, bytes] = {}  # lines whose reply never changes, found once: several questions cost as little as one


def reply(line: bytes, identity: bytes, scan: list[int], held: dict[bytes, bytes]) -> bytes | None:
    """The reply to a line, None for a command. What was set is held, and told when it is asked."""
    if (known := always.get(line)) is not None:
        return known
    if b";" in line:
        questions = [part.removeprefix(b":") for part in line.split(b";")]
        parts = [reply(question, identity, scan, held) for question in questions]
        whole = b";".join(part[:-1] for part in parts if part is not None) + b"\n"
        if all(question.startswith((b"MEAS", b"STAT")) for question in questions):
            always[line] = whole
        return whole
    if line.startswith(b"ROUT:SCAN"):
        scan[0] = line.count(b",") + 1
        return None
    if not line.endswith(b"?") and b"? " not in line:
        header, _, value = line.partition(b" ")
        held[header] = value
        return None
    if line[:-1] in held:
        return held[line[:-1]] + b"\n"
    if line.endswith(b"TRIP?"):
        return b"0\n"
    if line == b"*IDN?":
        return identity
    if line == b"SYST:ERR?":
        return b'0,"No error"\n'
    if line in (b"*OPC?", b"STAT:QUES?", b"INP?") or line.startswith(b"OUTP"):
        return b"1\n" if line == b"*OPC?" else b"0\n"
    return b",".join([VALUE] * scan[0]) + b"\n" if line == b"READ?" else VALUE + b"\n"


def main() -> None:
    """Serves."""
    delay = float(sys.argv[1]) if len(sys.argv) > 1 else 0.0
    listeners = [socket.create_server(("127.0.0.1", 0)) for _ in IDENTITIES]
    print(*(listener.getsockname()[1] for listener in listeners), flush=True)
    poll = select.epoll()
    waiting = {listener.fileno(): (listener, i) for i, listener in enumerate(listeners)}
    clients: dict[int, tuple[socket.socket, bytes, list[int], dict[bytes, bytes]]] = {}
    for fd in [*waiting, sys.stdin.fileno()]:
        poll.register(fd, select.EPOLLIN)
    timers: list[tuple[float, int, bytes]] = []
    while True:
        for fd, _ in poll.poll(max(0.0, timers[0][0] - time.monotonic()) if timers else -1):
            if fd == sys.stdin.fileno():
                return
            if fd in waiting:
                connection, _address = waiting[fd][0].accept()
                connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                clients[connection.fileno()] = (connection, IDENTITIES[waiting[fd][1]], [1], {})
                poll.register(connection.fileno(), select.EPOLLIN)
                continue
            connection, identity, scan, held = clients[fd]
            data = connection.recv(65536)
            if not data:
                poll.unregister(fd)
                connection.close()
                continue
            for line in data.split(b"\n"):
                answer = reply(line, identity, scan, held) if line else None
                if answer is None:
                    continue
                if delay:
                    heapq.heappush(timers, (time.monotonic() + delay, fd, answer))
                else:
                    connection.send(answer)
        while timers and timers[0][0] <= time.monotonic():
            _, fd, answer = heapq.heappop(timers)
            clients[fd][0].send(answer)


if __name__ == "__main__":
    main()
