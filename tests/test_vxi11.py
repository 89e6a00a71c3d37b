"""VXI-11 beyond what every link promises: locks, abort, errors by name, and devices that do things in their own way."""

import contextlib
import socket
import struct
import threading
import time
from collections.abc import Iterator

import pytest

from ibexite.errors import LinkError, StopRun
from ibexite.instruments.failures import Failures
from ibexite.instruments.link import Link, LinkOptions, Reply
from ibexite.instruments.open_link import open_link
from ibexite.instruments.rpc_client import RpcClient
from ibexite.protocols import vxi11
from ibexite.protocols.framing import definite_block
from ibexite.protocols.onc_rpc import Arguments, Call, opaque
from ibexite.protocols.vxi11 import END, WAIT_LOCK, Core, Error, core
from ibexite.simulate.fronts.vxi11 import _Core
from tests.link_peers import Peer


@pytest.fixture
def peer() -> Iterator[Peer]:
    """A stand-in behind a VXI-11 server; replies are given by the test."""
    made = Peer("vxi11")
    yield made
    made.close()


def opened(peer: Peer, timeout: float = 0.3, **keys: object) -> Link:
    """A link to it."""
    return open_link(peer.address, LinkOptions("psu", timeout, keys=keys))


@pytest.fixture
def client(peer: Peer) -> Iterator[RpcClient]:
    """A client that calls what it likes."""
    options = LinkOptions("client", 5.0)
    made = RpcClient(options, Failures("client", peer.address, 5.0))
    made.open("127.0.0.1", peer.front._core.number)
    yield made
    made.close()


def created(client: RpcClient, device: str = "inst0", lock: float | None = None) -> vxi11.Created:
    """A new link."""
    return vxi11.created(client.call(core(Core.CREATE_LINK), vxi11.create_link(1, device, lock)))


def error_of(client: RpcClient, procedure: Core, arguments: bytes) -> int:
    """The error of a call."""
    return client.call(core(procedure), arguments).word()


def test_each_call_says_what_is_wrong_by_its_number(client) -> None:
    assert [created(client, device).error for device in ("inst0", "INST0", "gpib0,5")] == [Error.NONE, Error.NONE, Error.NOT_ACCESSIBLE]
    nobody = vxi11.generic(99, 1.0)
    with_link = {
        Core.DEVICE_WRITE: vxi11.device_write(99, b"x", 1.0, is_end=True),
        Core.DEVICE_READ: vxi11.device_read(99, 5, 1.0),
        Core.DEVICE_LOCK: vxi11.device_lock(99, 0.0),
    }
    for procedure in (Core.DEVICE_WRITE, Core.DEVICE_READ, Core.DEVICE_READSTB, Core.DEVICE_TRIGGER, Core.DEVICE_CLEAR, Core.DEVICE_REMOTE, Core.DEVICE_LOCAL, Core.DEVICE_LOCK,
                      Core.DEVICE_UNLOCK, Core.DESTROY_LINK):  # fmt: skip
        assert error_of(client, procedure, with_link.get(procedure, nobody)) == Error.NO_LINK, procedure
    for procedure in (Core.DEVICE_ENABLE_SRQ, Core.DEVICE_DOCMD, Core.CREATE_INTR_CHAN, Core.DESTROY_INTR_CHAN):
        assert error_of(client, procedure, b"") == Error.NOT_SUPPORTED
    link = created(client).link
    assert [error_of(client, p, link.to_bytes(4, "big")) for p in (Core.DEVICE_UNLOCK, Core.DESTROY_LINK, Core.DESTROY_LINK)] == [
        Error.NO_LOCK,
        Error.NONE,
        Error.NO_LINK,
    ]


def test_a_lock_keeps_others_out_until_it_is_given_back(peer, client) -> None:
    link = opened(peer)
    other = created(client).link
    calls = {Core.DEVICE_WRITE: vxi11.device_write(other, b"X\n", 1.0, is_end=True), Core.DEVICE_READ: vxi11.device_read(other, 5, 1.0), Core.DEVICE_READSTB: vxi11.generic(other, 1.0),
             Core.DEVICE_LOCK: vxi11.device_lock(other, 0.05), Core.DEVICE_CLEAR: vxi11.generic(other, 1.0)}  # fmt: skip
    assert [error_of(client, procedure, arguments) for procedure, arguments in calls.items()] == [Error.LOCKED] * 5 and peer.script.heard == []
    assert created(client, lock=0.01).error == Error.LOCKED
    threading.Timer(0.1, link.close).start()
    assert error_of(client, Core.DEVICE_LOCK, struct.pack("!3I", other, WAIT_LOCK, 5_000)) == Error.NONE, "as soon as it is free"
    with pytest.raises(LinkError, match="locked by another client"):
        opened(peer, 0.1)
    client.close()
    opened(peer).close()  # the lock has gone with its connection


def test_a_device_that_cannot_lock_is_used_without(peer, monkeypatch) -> None:
    create = _Core._create

    def without_lock(self: _Core, call: Call) -> bytes | None:
        wants_lock = struct.unpack_from("!I", call.arguments._data, call.arguments._at + 4)[0]
        return struct.pack("!I", Error.NOT_SUPPORTED) + bytes(12) if wants_lock else create(self, call)

    monkeypatch.setattr(_Core, "_create", without_lock)
    peer.script.replies[:] = [b"1\n"]
    link = opened(peer)
    assert link.exchange(b"A?\n") == b"1" and peer.instrument.lock.count == 0
    link.close()


def test_a_read_that_is_given_up_is_aborted_over_its_own_channel(peer) -> None:
    aborted: list[int] = []
    abort = peer.front._abort
    peer.front._abort = lambda call: aborted.append(1) or abort(call)

    def heed() -> None:
        raise StopRun("stopped")

    link = open_link(peer.address, LinkOptions("psu", 5.0, heed=heed))
    peer.script.replies[:] = [b"", b"fresh\n"]
    with pytest.raises(StopRun):
        link.exchange(b"A?\n")
    link.reopen()
    assert link.exchange(b"B?\n") == b"fresh" and aborted == [1]
    link.close()


def test_long_commands_are_written_in_what_the_device_takes_and_partly_taken_ones_go_on(peer, monkeypatch) -> None:
    monkeypatch.setattr("ibexite.simulate.fronts.vxi11.MOST_WRITTEN", 100)
    link = opened(peer, lock=False, local=True)
    link.send(b"X" * 450 + b"\n")
    link._most_written = 1_000  # more than it takes at a time
    link.send(b"Y" * 450 + b"\n")
    link.status_byte()
    assert [len(heard) for heard in peer.script.heard] == [450, 450]
    link.close()


def test_a_device_that_tells_no_end_is_read_to_its_terminator(peer, monkeypatch) -> None:
    monkeypatch.setattr("ibexite.simulate.fronts.vxi11.vxi11.REASON_END", 0)
    peer.script.replies[:] = [b"1\n", definite_block(b"a\nb") + b"\n", b"2\n"]
    link = opened(peer, reads_to_terminator=True)
    monkeypatch.setattr("ibexite.simulate.fronts.vxi11._Link.read", reading_on)
    assert [link.exchange(b"A?\n"), link.exchange(b"B?\n", Reply.BLOCK), link.exchange(b"C?\n")] == [b"1", b"a\nb", b"2"]
    link.close()


def reading_on(self, most: int, stop: int | None, seconds: float, answer) -> None:
    """A read of a device that gives what it has, and says nothing of an end."""
    place = -1 if stop is None else self._output.find(stop)
    data = bytes(self._output[: place + 1 if place >= 0 else most])
    del self._output[: len(data)]
    answer(struct.pack("!II", 0, vxi11.REASON_TERMCHAR if place >= 0 else 0) + opaque(data))


@pytest.mark.parametrize(("result", "what"), [
    (struct.pack("!II", 17, 0) + opaque(b""), "cannot read: I/O error (VXI-11 error 17)"), (struct.pack("!II", 99, 0) + opaque(b""), "cannot read: error 99"),
    (b"\0\0", "a reply of VXI-11 that ends 2 bytes too early"), (struct.pack("!II", 0, 4) + opaque(b"1\n") + b"more", "has 4 bytes too many"),
    (struct.pack("!II", 11, 0) + opaque(b""), "locked by another client")])  # fmt: skip
def test_what_a_read_answers_wrongly_is_named(peer, monkeypatch, result: bytes, what: str) -> None:
    monkeypatch.setattr("ibexite.simulate.fronts.vxi11._Link.read", lambda self, most, stop, seconds, answer: answer(result))
    peer.script.replies[:] = [b"1\n"]
    link = opened(peer)
    with pytest.raises(LinkError) as error:
        link.exchange(b"A?\n")
    assert what in error.value.what
    link.close()


def test_a_reply_to_another_call_is_none(peer, monkeypatch) -> None:
    link = opened(peer)
    monkeypatch.setattr("ibexite.simulate.fronts.vxi11.reply", lambda xid, result: struct.pack("!6I", xid + 1, 1, 0, 0, 0, 0) + result)
    peer.script.replies[:] = [b"1\n"]
    with pytest.raises(LinkError, match="answered a call that it was not asked"):
        link.exchange(b"A?\n")
    link.close()


def test_the_port_is_asked_by_udp_where_nothing_listens_by_tcp_and_a_port_in_the_bench_file_is_believed(peer) -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as mapper:
        mapper.bind(("127.0.0.1", 0))

        def serve() -> None:
            with contextlib.suppress(OSError):
                data, sender = mapper.recvfrom(512)
                mapper.sendto(peer.front._mapper.answer(data), sender)

        threading.Thread(target=serve, daemon=True).start()
        peer.script.replies[:] = [b"1\n", b"2\n"]
        link = open_link(f"TCPIP::127.0.0.1:{mapper.getsockname()[1]}::inst0::INSTR", LinkOptions("psu", 0.5))
        assert link.exchange(b"A?\n") == b"1"
        link.close()
    link = open_link("TCPIP::127.0.0.1::inst0::INSTR", LinkOptions("psu", 0.5, keys={"port": peer.front._core.number}))
    assert link.exchange(b"B?\n") == b"2"
    link.close()


def test_a_port_mapper_that_knows_no_vxi11_says_so(peer) -> None:
    peer.front._mapper._procedures[3] = lambda call: bytes(4)
    with pytest.raises(LinkError, match="its port mapper knows of no VXI-11"):
        opened(peer)


def test_a_reply_may_come_in_fragments(peer, client) -> None:
    lines = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        connection = lines.accept()[0]
        xid = connection.recv(4096)[4:8]
        body = xid + struct.pack("!5I", 1, 0, 0, 0, 0) + struct.pack("!4I", 0, 7, 1, 64)
        for i in range(0, len(body), 9):
            part = body[i : i + 9]
            connection.sendall(struct.pack("!I", len(part) | (0x8000_0000 if i + 9 >= len(body) else 0)) + part)
            time.sleep(0.005)
        connection.close()

    threading.Thread(target=serve, daemon=True).start()
    client.open("127.0.0.1", lines.getsockname()[1])
    assert created(client) == vxi11.Created(0, 7, 1, 64)
    lines.close()


def test_flags_and_reasons_are_those_of_the_standard(peer, client) -> None:
    peer.script.replies[:] = [b"1;2\n", b"3\n"]
    link = created(client).link

    def read(most: int, termchar: int | None = None) -> tuple[int, bytes]:
        answer = vxi11.read(client.call(core(Core.DEVICE_READ), vxi11.device_read(link, most, 0.1, termchar)))
        return answer.reason, answer.data

    write = struct.pack("!4I", link, 1000, 0, 0) + opaque(b"A")
    assert Arguments(bytes(8)).words(2) == [0, 0] and client.call(core(Core.DEVICE_WRITE), write).words(2) == [0, 1]
    client.call(core(Core.DEVICE_WRITE), struct.pack("!4I", link, 1000, 0, END) + opaque(b"?\n"))
    assert [read(1), read(9, ord(";")), read(9)] == [(vxi11.REASON_COUNT, b"1"), (vxi11.REASON_TERMCHAR, b";"), (vxi11.REASON_END, b"2\n")]
    assert vxi11.read(client.call(core(Core.DEVICE_READ), vxi11.device_read(link, 9, 0.02))).error == Error.IO_TIMEOUT
