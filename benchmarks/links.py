"""Links against a bare socket, side by side: round trips of a query, and blocks of 10 MB. What the other side costs is
kept small and alike: a process that answers at once, with as little work as it can. Medians of paired ratios.

    python benchmarks/links.py            all of it, some 40 s
"""

import multiprocessing
import os
import socket
import statistics
import struct
import time
from collections.abc import Callable
from functools import partial

from ibexite.instruments.link import Link, LinkOptions, Reply
from ibexite.instruments.open_link import open_link
from ibexite.instruments.tcp_stream import set_timeouts
from ibexite.protocols import hislip, onc_rpc, vxi11
from ibexite.protocols.framing import definite_block
from ibexite.protocols.hislip import Message, Type
from ibexite.protocols.onc_rpc import LAST_FRAGMENT
from ibexite.protocols.vxi11 import Core

CORES = sorted(os.sched_getaffinity(0))
PAIRS, QUERIES, BLOCKS = 9, 2_000, 5
TIMEOUT = 2.0
ANSWER = b"+1.2345678E+00\n"
BLOCK = definite_block(b"\x5a" * 10_000_000) + b"\n"
QUERY, QUERY_BLOCK = b"MEAS:VOLT?\n", b"CURV?\n"


def serving(peer: Callable[[socket.socket], None]) -> int:
    """Runs the other side of a link in a process of its own; its port."""
    listener = socket.create_server(("127.0.0.1", 0))
    kept_to(-1)
    multiprocessing.Process(target=peer, args=(listener,), daemon=True).start()
    kept_to(0)
    return int(listener.getsockname()[1])


def kept_to(place: int) -> None:
    """Keeps this process, and those that it starts from here on, to one core: the two sides to two, as two computers
    are. A system that puts them on one or on two as it likes doubles and halves the time of a bare socket."""
    os.sched_setaffinity(0, {CORES[place]})


def accepted(listener: socket.socket) -> socket.socket:
    """The next connection, without delay."""
    connection, _ = listener.accept()
    connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
    return connection


def lines(listener: socket.socket) -> None:
    """A raw socket, for as many clients as come one after the other."""
    while True:
        connection = accepted(listener)
        while data := connection.recv(4096):
            connection.sendall(BLOCK if data == QUERY_BLOCK else ANSWER)


def messages(listener: socket.socket) -> None:
    """HiSLIP."""
    while True:
        sync = accepted(listener)
        sync.recv(4096)
        sync.sendall(Message(Type.INITIALIZE_RESPONSE, 0, hislip.VERSION << 16 | 1).encoded())
        other = accepted(listener)
        other.recv(4096)
        other.sendall(Message(Type.ASYNC_INITIALIZE_RESPONSE).encoded())
        most = int.from_bytes(other.recv(4096)[16:], "big")
        other.sendall(Message(Type.ASYNC_MAXIMUM_MESSAGE_SIZE_RESPONSE, payload=(1 << 20).to_bytes(8, "big")).encoded())
        other.recv(4096)
        other.sendall(Message(Type.ASYNC_LOCK_RESPONSE, 1).encoded())
        parts = [BLOCK[i : i + most] for i in range(0, len(BLOCK), most)]
        pack, end, part_of = hislip.HEADER.pack, int(Type.DATA_END), int(Type.DATA)
        while data := sync.recv(4096):
            number = int.from_bytes(data[4:8], "big")
            if data[16:] == QUERY_BLOCK:
                for part in parts:
                    sync.sendall(pack(b"HS", end if part is parts[-1] else part_of, 0, number, len(part)))
                    sync.sendall(part)
            else:
                sync.sendall(pack(b"HS", end, 0, number, len(ANSWER)) + ANSWER)


def calls(listener: socket.socket) -> None:
    """The core channel of VXI-11. The answers to the two calls that are timed are made once, but for their numbers."""
    accept = (1).to_bytes(4, "big") + bytes(16)  # a reply: accepted, no verifier, success
    write, read = Core.DEVICE_WRITE.to_bytes(4, "big"), Core.DEVICE_READ.to_bytes(4, "big")
    took = accept + bytes(4)
    part_of = lambda part, is_end: onc_rpc.record(  # noqa: E731
        bytes(4) + accept + struct.pack("!II", 0, vxi11.REASON_END if is_end else 0) + onc_rpc.opaque(part)
    )
    one = part_of(ANSWER, True)[8:]
    mark, mark_of_one = (LAST_FRAGMENT | 32).to_bytes(4, "big"), (LAST_FRAGMENT | len(one) + 4).to_bytes(4, "big")
    ask_block = QUERY_BLOCK + bytes(-len(QUERY_BLOCK) % 4)
    while True:
        connection = accepted(listener)
        left = b""  # of a block
        while data := connection.recv(1 << 17):
            procedure = data[24:28]
            if procedure == write:
                left = BLOCK if data.endswith(ask_block) else b""
                connection.sendall(mark + data[4:8] + took + data[60:64])
            elif procedure == read and not left:
                connection.sendall(mark_of_one + data[4:8] + one)
            elif procedure == read:
                part, left = left[: 1 << 20], left[1 << 20 :]
                answer = part_of(part, not left)
                connection.sendall(answer[:4] + data[4:8] + answer[8:])
            else:
                made = procedure == Core.CREATE_LINK.to_bytes(4, "big")
                result = struct.pack("!4I", 0, 1, 1, 1 << 20) if made else bytes(4)
                connection.sendall(onc_rpc.record(data[4:8] + accept + result))


class Bare:
    """What a tidy script does: a socket with the same time-out, the terminator looked for at the end."""

    def __init__(self, port: int) -> None:
        self._socket = socket.create_connection(("127.0.0.1", port))
        self._socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        set_timeouts(self._socket, receiving=TIMEOUT, sending=TIMEOUT)

    def exchange(self, data: bytes) -> bytes:
        """A line."""
        self._socket.sendall(data)
        found = self._socket.recv(65536)
        while not found.endswith(b"\n"):
            found += self._socket.recv(65536)
        return found[:-1]

    def block(self, data: bytes) -> bytearray:
        """A block of known length, received in place."""
        self._socket.sendall(data)
        digits = self._socket.recv(2, socket.MSG_WAITALL)
        length = int(self._socket.recv(int(digits[1:]), socket.MSG_WAITALL)) + 1
        content = bytearray(length)
        view, got = memoryview(content), 0
        while got < length:
            got += self._socket.recv_into(view[got:])
        return content


def timed(deed: Callable[[], object], times: int) -> float:
    """Seconds for doing it so often."""
    began = time.perf_counter()
    for _ in range(times):
        deed()
    return time.perf_counter() - began


def compared(what: str, bare: Callable[[], object], link: Callable[[], object], times: int) -> None:
    """Prints the ratio of a link to the bare socket."""
    for deed in (bare, link):
        timed(deed, max(1, times // 10))
    ratios, plain = [], []
    for _ in range(PAIRS):
        first = timed(bare, times)
        ratios.append(timed(link, times) / first)
        plain.append(first)
    one = statistics.median(plain) / times
    print(f"{what:<28}{statistics.median(ratios):6.2f} times the bare socket ({one * 1e6:,.0f} us)", flush=True)


def main() -> None:
    """All of it."""
    bare = Bare(serving(lines))
    options = LinkOptions("psu", TIMEOUT)
    vxi = serving(calls)
    links: dict[str, Link] = {
        "raw socket": open_link(f"TCPIP::127.0.0.1::{serving(lines)}::SOCKET", options),
        "HiSLIP": open_link(f"TCPIP::127.0.0.1::hislip0,{serving(messages)}::INSTR", options),
        "VXI-11": open_link("TCPIP::127.0.0.1::inst0::INSTR", LinkOptions("psu", TIMEOUT, keys={"port": vxi})),
    }
    for name, link in links.items():
        compared(f"query, {name}", lambda: bare.exchange(QUERY), partial(link.exchange, QUERY), QUERIES)
    for name, link in links.items():
        assert bytes(link.exchange(QUERY_BLOCK, Reply.BLOCK)) == bytes(bare.block(QUERY_BLOCK))[:-1]
        compared(
            f"block of 10 MB, {name}",
            lambda: bare.block(QUERY_BLOCK),
            lambda link=link: link.exchange(QUERY_BLOCK, Reply.BLOCK),
            BLOCKS,
        )
        link.close()


if __name__ == "__main__":
    main()
