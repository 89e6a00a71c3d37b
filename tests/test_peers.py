"""Our protocols beside programs of others: what a dissector makes of a capture, port mappers and their client, serial lines.
Each is skipped where its program is not installed (`.ci/run` installs them)."""

import contextlib
import fcntl
import os
import shutil
import signal
import socket
import subprocess
import tempfile
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from ibexite.errors import LinkError
from ibexite.instruments.failures import Failures
from ibexite.instruments.link import LinkOptions, Reply
from ibexite.instruments.open_link import open_link
from ibexite.instruments.rpc_client import RpcClient, port_of
from ibexite.protocols import onc_rpc, vxi11
from ibexite.protocols.framing import definite_block
from ibexite.protocols.onc_rpc import Procedure
from ibexite.protocols.vxi11 import Core, core
from tests.link_peers import Peer

pytestmark = pytest.mark.peers
OPTIONS = LinkOptions("peer", 5.0)
FAILURES = Failures("peer", "here", 5.0)


def needs(*programs: str) -> pytest.MarkDecorator:
    """Skips a test where one of some programs is missing, and says which."""
    missing = [name for name in programs if shutil.which(name) is None]
    return pytest.mark.skipif(bool(missing), reason=f"{' and '.join(missing)} not installed")


# --- a dissector looks at what both sides said -------------------------------------------------------------------------


@contextlib.contextmanager
def captured(path: Path) -> Iterator[None]:
    """What goes over loopback meanwhile, in a file."""
    capture = subprocess.Popen(["tshark", "-q", "-n", "-i", "lo", "-B", "64", "-f", "tcp or udp", "-w", str(path)], stderr=subprocess.PIPE, text=True)
    try:
        for line in capture.stderr:  # it says so when it has begun
            if "Capturing" in line:
                break
        beacon = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        for _ in range(500):  # until the first packet is in the file
            beacon.sendto(b"begin", ("127.0.0.1", 9))
            time.sleep(0.02)
            if path.exists() and path.stat().st_size > 1_000:
                break
        beacon.close()
        yield
        time.sleep(1.0)  # the last packets are written
    finally:
        capture.send_signal(signal.SIGINT)
        capture.wait(30)
        capture.stderr.close()


def dissected(path: Path, *more: str, fields: tuple[str, ...], only: str) -> list[list[str]]:
    """Some fields of the packets that a filter lets through."""
    names = [word for field in fields for word in ("-e", field)]
    done = subprocess.run(
        ["tshark", "-n", "-r", path, *more, "-Y", only, "-T", "fields", "-E", "occurrence=a", *names], capture_output=True, text=True, timeout=60, check=True
    )
    return [line.split("\t") for line in done.stdout.splitlines()]


def talk(peer: Peer, **keys: object) -> None:
    """A session in which everything comes about that a link can do."""
    peer.script.replies[:] = [b"1\n", (b"ab", 0.05, b"c\n"), definite_block(b"x" * 2_500_000) + b"\n", b"3\n", (1.0, b"late\n"), b"4\n"]
    link = open_link(peer.address, LinkOptions("psu", 0.5, keys=keys))
    assert [link.exchange(b"A?\n"), link.exchange(b"B?\n")] == [b"1", b"abc"] and len(link.exchange(b"C?\n", Reply.BLOCK)) == 2_500_000
    link.send(b"X" * 200_000 + b"\n")
    link.status_byte()
    assert link.exchange(b"D?\n") == b"3"
    link.trigger()  # nothing else is on its way: it is a packet of its own
    link.status_byte()
    with pytest.raises(LinkError):
        link.exchange(b"E?\n")
    link.reopen()
    assert link.exchange(b"F?\n") == b"4"
    link.look()
    link.close()


WRONG = "_ws.malformed || _ws.unreassembled || hislip.wrongprologue || hislip.msgnotnull || rpc.unknown_body"


@needs("tshark")
@pytest.mark.parametrize("overlapped", [False, True])
def test_a_dissector_finds_nothing_wrong_with_hislip(tmp_path: Path, overlapped: bool) -> None:
    peer, path = Peer("hislip", overlapped=overlapped), tmp_path / "hislip.pcap"
    port = peer.address.split(",")[1].split(":")[0]
    with captured(path):
        talk(peer, overlapped=overlapped)
        with contextlib.closing(socket.create_connection(("127.0.0.1", int(port)))) as stranger:
            stranger.sendall(b"*IDN?\n" * 4)
            stranger.recv(4096)
    peer.close()
    how = ("-d", f"tcp.port=={port},hislip")
    seen = {int(kind, 0) for (kinds,) in dissected(path, *how, fields=("hislip.messagetype",), only="hislip") for kind in kinds.split(",")}
    assert {2, *range(25)} - {3, 10, 11, 13, 14, 20, 24} <= seen
    wrong = dissected(path, *how, fields=("frame.number", "_ws.col.Info"), only=f"({WRONG}) && tcp.port == {port}")
    assert all("*IDN?" in info or "Data" not in info for _, info in wrong) and len(wrong) <= 1, wrong  # that of the stranger
    lengths = dissected(path, *how, fields=("hislip.payloadlength",), only=f"hislip.messagetype == 7 && tcp.srcport == {port}")
    assert len(lengths) >= 4


@needs("tshark")
def test_a_dissector_finds_nothing_wrong_with_vxi11_and_the_port_mapper(tmp_path: Path) -> None:
    peer, path = Peer("vxi11"), tmp_path / "vxi11.pcap"
    mapper = int(peer.address.split(":")[3])
    with captured(path):
        talk(peer, local=True)
        assert port_of("127.0.0.1", mapper, core(Core.CREATE_LINK), OPTIONS, FAILURES) == peer.front._core.number
    peer.close()
    ours = f"(tcp.port in {{{mapper}, {peer.front._core.number}}} || udp.port == {mapper})"  # other tests talk on loopback as well
    calls = {name for (names,) in dissected(path, fields=("vxi11_core.procedure_v1",), only=f"vxi11_core && {ours}") for name in names.split(",")}
    assert {"10", "11", "12", "13", "14", "15", "17", "19", "23"} <= calls
    assert dissected(path, fields=("portmap.prog", "portmap.port"), only=f"portmap && {ours}")[0][0] == str(vxi11.CORE)
    assert dissected(path, fields=("frame.number", "_ws.col.Info"), only=f"({WRONG}) && {ours}") == []
    assert {"0", "15"} <= {error for (error,) in dissected(path, fields=("vxi11_core.error",), only=f"vxi11_core.error && {ours}")}


# --- port mappers ------------------------------------------------------------------------------------------------------


def rpcinfo(*arguments: str) -> str:
    """What the client of others says."""
    return subprocess.run(["rpcinfo", *arguments], capture_output=True, text=True, timeout=60, check=False).stdout


@pytest.fixture
def usual_port() -> Iterator[None]:
    """The port of port mappers, for one test at a time."""
    if os.geteuid() != 0:
        pytest.skip("only root may listen at port 111")
    with (Path(tempfile.gettempdir()) / "ibexite-tests-port-111").open("w") as turn:
        fcntl.flock(turn, fcntl.LOCK_EX)
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", 111)):
            pytest.skip("something listens at port 111 already")
        yield


@pytest.fixture
def rpcbind(usual_port) -> Iterator[None]:
    """A port mapper of others, at the usual port."""
    process = subprocess.Popen(["rpcbind", "-f", "-i"], stderr=subprocess.DEVNULL)
    for _ in range(500):
        with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", 111)):
            break
        time.sleep(0.02)
    yield
    process.terminate()
    process.wait(30)


@needs("rpcbind", "rpcinfo")
def test_our_client_finds_a_port_through_a_port_mapper_of_others(rpcbind) -> None:
    peer = Peer("vxi11")
    port = peer.front._core.number
    register = onc_rpc.getport(vxi11.CORE, 1)[:12] + port.to_bytes(4, "big")
    client = RpcClient(OPTIONS, FAILURES)
    client.open("127.0.0.1", 111)
    assert client.call(Procedure(onc_rpc.PORT_MAPPER, 2, 1), register).word() == 1  # SET
    assert f"{vxi11.CORE}" in rpcinfo("-p", "127.0.0.1")
    peer.script.replies[:] = [b"1\n"]
    link = open_link("TCPIP::127.0.0.1::inst0::INSTR", OPTIONS)
    assert link.exchange(b"A?\n") == b"1"
    link.close()
    with pytest.raises(LinkError, match="knows of no VXI-11"):
        port_of("127.0.0.1", 111, Procedure(vxi11.ABORT, 1, 1), OPTIONS, FAILURES)
    with pytest.raises(LinkError, match="it has another version of this service"):
        client.call(Procedure(onc_rpc.PORT_MAPPER, 77, 3))
    client.close()
    peer.close()


@needs("rpcinfo")
def test_a_client_of_others_understands_our_port_mapper(usual_port) -> None:
    peer = Peer("vxi11", port=111)
    listed = [line.split() for line in rpcinfo("-p", "127.0.0.1").splitlines()[1:]]
    assert [str(vxi11.CORE), "1", "tcp", str(peer.front._core.number)] in [line[:4] for line in listed]
    for protocol in ("-t", "-u"):
        assert "program 100000 version 2 ready and waiting" in rpcinfo(protocol, "127.0.0.1", "100000", "2"), protocol
    assert f"program {vxi11.CORE} version 1 ready and waiting" in rpcinfo("-t", "127.0.0.1", str(vxi11.CORE), "1")
    peer.close()


# --- serial lines ------------------------------------------------------------------------------------------------------


@needs("socat")
@pytest.mark.parametrize("baud", [1_200, 9_600, 115_200, 921_600])
def test_a_serial_link_over_a_line_of_others(tmp_path: Path, baud: int) -> None:
    ends = tmp_path / "near", tmp_path / "far"
    process = subprocess.Popen(["socat", *(f"PTY,link={end},raw,echo=0" for end in ends)])
    while not all(end.exists() for end in ends):
        assert process.poll() is None
        time.sleep(0.01)
    instrument = os.open(ends[1], os.O_RDWR | os.O_NOCTTY)

    def serve() -> None:
        with contextlib.suppress(OSError):
            while question := os.read(instrument, 1_000):
                os.write(instrument, b"told " + question)

    thread = threading.Thread(target=serve)
    thread.start()
    link = open_link(f"ASRL{ends[0]}::INSTR", LinkOptions("psu", 5.0, keys={"baud": baud, "stop_bits": 2}))
    assert [link.exchange(f"Q{i}?\n".encode()) for i in range(20)] == [f"told Q{i}?".encode() for i in range(20)]
    process.terminate()
    process.wait(30)
    thread.join(30)
    os.close(instrument)
    with pytest.raises(LinkError, match="closed the connection|broke"):
        link.exchange(b"A?\n")
    link.close()
