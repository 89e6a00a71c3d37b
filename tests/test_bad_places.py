"""What stands at an address and is not what the bench file takes it for: one message, exit code 3, nothing switched on."""

import http.server
import re
import socket
import threading
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import own_addresses
from tests.link_peers import Peer


class Quiet(http.server.SimpleHTTPRequestHandler):
    """A web server that does not tell what it does."""

    def log_message(self, *_: object) -> None:
        """Nothing."""


@pytest.fixture
def web() -> Iterator[int]:
    """The port of a web server."""
    server = http.server.ThreadingHTTPServer(("127.0.0.1", 0), Quiet)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    yield server.server_port
    server.shutdown()
    thread.join()
    server.server_close()


@pytest.fixture
def peers() -> Iterator[dict[str, Peer]]:
    """Instruments behind a raw socket, HiSLIP and VXI-11."""
    made = {kind: Peer(kind) for kind in ("socket", "hislip", "vxi11")}
    for peer in made.values():
        peer.script.replies[:] = [b"Firnline,X-1,1,1\n"] * 9
    yield made
    for peer in made.values():
        peer.close()


def port_of(peer: Peer) -> str:
    """The number in its address."""
    return "".join(c for c in peer.address.replace("hislip0", "").replace("inst0", "").partition("127.0.0.1")[2] if c.isdigit())


@pytest.mark.parametrize(("place", "told"), [
    ('address = "TCPIP::127.0.0.1::{web}::SOCKET"', "A web server answers"), ('address = "TCPIP::127.0.0.1::hislip0,{web}::INSTR"', "Does it speak HiSLIP"),
    ('address = "TCPIP::127.0.0.1:{web}::inst0::INSTR"', "web server|Does it speak VXI-11"), ('address = "TCPIP::127.0.0.1::{hislip}::SOCKET"', "It speaks HiSLIP: write "),
    ('address = "TCPIP::127.0.0.1::hislip0,{socket}::INSTR"', "Does it speak HiSLIP"), ('address = "TCPIP::127.0.0.1:{vxi11}::gpib0,5::INSTR"', "there is no device 'gpib0,5' at this host"),
    ('address = "TCPIP::127.0.0.1::{free}::SOCKET"', "nothing listens there"), ('address = "ASRL/dev/ttyNONE7::INSTR"', "there is no serial port /dev/ttyNONE7"),
    ('program = ["{folder}/plain.txt"]', "no right to execute"), ('program = ["{folder}/nothing"]', "there is no program"),
    ('address = "USB::0x1234::0x5678::NONE::INSTR"', "it is not plugged in")])  # fmt: skip
def test_what_is_no_instrument_is_told_in_one_message(ibexite, project: Path, web: int, peers: dict[str, Peer], place: str, told: str) -> None:
    with socket.create_server(("127.0.0.1", 0)) as taken:
        free = taken.getsockname()[1]
    (project / "plain.txt").write_text("no program")
    text = place.format(web=web, free=free, folder=project, **{kind: port_of(peer) for kind, peer in peers.items()})
    own_addresses(project)
    path = project / "bench.toml"
    path.write_text(re.sub(r'address     = "TCPIP::[\d.]+::50251::SOCKET"', text, path.read_text()))
    done = ibexite("run", "fm2_final.ibx", "--serial", "FC00400", "--yes")
    said = done.stdout + done.stderr
    assert not any("OUTP" in message for peer in peers.values() for message in peer.script.heard), "nothing is sent to a stranger"
    assert done.returncode == 3 and re.search(told, said), said
    assert "internal" not in said and "Traceback (most" not in said and "nothing had been switched on" in said and said.count("psu at ") == 1, said
