"""What every kind of link promises (ibexite.instruments.link), tried on each kind against a peer that does as it is told."""

import socket
import threading
import time
from collections.abc import Callable, Iterator

import pytest

from ibexite.errors import LinkError, StopRun
from ibexite.instruments.link import Link, LinkOptions, Reply, StrayError
from ibexite.instruments.open_link import open_link
from ibexite.protocols.framing import definite_block

TIMEOUT = 0.3


class SocketPeer:
    """Listens on a port; to each line that asks it sends what is next in `replies`: bytes, or bytes with pauses between."""

    def __init__(self) -> None:
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.address = f"TCPIP::127.0.0.1::{self._listener.getsockname()[1]}::SOCKET"
        self.replies: list[bytes | tuple[float | bytes, ...] | None] = []
        self.heard: list[bytes] = []
        self._connections: list[socket.socket] = []
        self._accepting = threading.Thread(target=self._accept, daemon=True)
        self._accepting.start()

    def _accept(self) -> None:
        while True:
            try:
                connection = self._listener.accept()[0]
            except OSError:
                return
            self._connections.append(connection)
            threading.Thread(target=self._talk, args=(connection,), daemon=True).start()

    def _talk(self, connection: socket.socket) -> None:
        buffer = b""
        while True:
            try:
                data = connection.recv(65536)
            except OSError:
                return
            if not data:
                return
            *lines, buffer = (buffer + data).split(b"\n")
            self.heard += lines
            for line in lines:
                if b"?" in line:
                    self._reply(connection, self.replies.pop(0))

    def _reply(self, connection: socket.socket, reply: bytes | tuple[float | bytes, ...] | None) -> None:
        """None closes the connection; numbers in a tuple are pauses in s."""
        try:
            if reply is None:
                connection.close()
            for part in reply if isinstance(reply, tuple) else (reply or b"",):
                if isinstance(part, bytes):
                    connection.sendall(part)
                else:
                    time.sleep(part)
        except OSError:
            pass  # the link was given up meanwhile

    def chatter(self, data: bytes) -> None:
        """Sends what nobody asked for."""
        self._connections[-1].sendall(data)

    def close(self) -> None:
        """Ends it."""
        self._listener.shutdown(socket.SHUT_RDWR)
        self._accepting.join(5)
        for connection in (self._listener, *self._connections):
            connection.close()


KINDS: dict[str, type] = {"socket": SocketPeer}


@pytest.fixture(params=KINDS)
def peer(request: pytest.FixtureRequest) -> Iterator[SocketPeer]:
    """The other side of a link of each kind."""
    made = KINDS[request.param]()
    yield made
    made.close()


@pytest.fixture
def opened(peer: SocketPeer) -> Iterator[Callable[..., Link]]:
    """Opens links to the peer, which has these replies ready."""
    links: list[Link] = []

    def start(*replies: object, heed: Callable[[], None] = lambda: None) -> Link:
        peer.replies[:] = replies  # type: ignore[assignment]
        links.append(open_link(peer.address, LinkOptions("psu", TIMEOUT, b"\n", heed)))
        return links[-1]

    yield start
    for link in links:
        link.close()


ANYTHING = bytes(range(256)) * 3


@pytest.mark.parametrize(("kind", "sent", "taken"), [
    (Reply.LINE, b"+5.0\n", b"+5.0"), (Reply.LINE, (b"+5", 0.05, b".0\n"), b"+5.0"), (Reply.LINE, b"\n", b""), (Reply.LINE, b"#3ab\n", b"#3ab"),
    (Reply.MESSAGE, b"1;" + definite_block(b"a\nb") + b";2\n", b"1;" + definite_block(b"a\nb") + b";2"), (Reply.MESSAGE, b"5,6\n", b"5,6"),
    (Reply.BLOCK, definite_block(ANYTHING) + b"\n", ANYTHING), (Reply.BLOCK, definite_block(b"") + b"\n", b""),
    (Reply.BLOCK, (b"#", 0.02, b"2", 0.02, b"10\n\n\n", 0.02, b"\n\n\n\n\n\n\n\n"), b"\n" * 10),
    (Reply.BLOCK, definite_block(b"x\n" * 300_000) + b"\n", b"x\n" * 300_000)])  # fmt: skip
def test_a_reply_is_taken_whole_as_it_is_framed(opened, kind: Reply, sent, taken: bytes) -> None:
    link = opened(sent, sent, b"next\n")
    assert link.exchange(b"A?\n", kind) == taken and not link.is_waiting
    link.ask(b"B?\n")
    assert link.is_waiting and link.receive(kind) == taken and not link.is_waiting
    assert link.exchange(b"C?\n") == b"next", "and nothing of it is left"


@pytest.mark.parametrize("reply", [b"5.0\n", b"#0ab\n", b"#15abc\n", b"#1xabc\n"])
def test_what_is_no_block_is_not_taken_for_one(opened, reply: bytes) -> None:
    with pytest.raises(LinkError) as error:
        opened(reply).exchange(b"A?\n", Reply.BLOCK)
    assert "block" in error.value.what or "silent for 0.3 s" in error.value.what


@pytest.mark.parametrize(("sent", "what"), [
    (b"", "silent for 0.3 s"), ((b"+5.", 0.0), "silent for 0.3 s in the middle of a reply: b'+5.'"), (None, "closed the connection instead of answering"),
    ((b"+5.", 0.05, b"0", 0.05, b"1", 9.0), "silent for 0.3 s in the middle of a reply: b'+5.01'"), (b"1\n2\n", "sent what nobody had asked for: b'2\\n'")])  # fmt: skip
def test_each_failure_is_named_and_after_reopening_nothing_of_it_is_left(opened, peer, sent, what: str) -> None:
    link = opened(sent)
    with pytest.raises(LinkError) as error:
        link.exchange(b"A?\n")
    assert what in error.value.what and error.value.where == f"psu at {peer.address}"
    peer.replies[:] = [b"fresh\n"]
    link.reopen()
    assert not link.is_waiting and link.exchange(b"B?\n") == b"fresh"


def test_what_nobody_asked_for_is_found_before_and_after_a_query(opened, peer) -> None:
    link = opened(b"1\n")
    assert link.exchange(b"A?\n") == b"1"
    link.look()
    peer.chatter(b"hello\n")
    with pytest.raises(StrayError):
        link.look(0.2)
    peer.chatter(b"again\n")
    time.sleep(0.05)
    with pytest.raises(StrayError):
        link.exchange(b"B?\n")


@pytest.mark.parametrize("sent", [b"", (b"half", 0.0)])
def test_whoever_is_to_end_does_not_wait_for_a_reply(opened, sent) -> None:
    def heed() -> None:
        raise StopRun("stopped")

    link = opened(sent, heed=heed)
    with pytest.raises(StopRun):
        link.exchange(b"A?\n")
    assert link.is_waiting, "its reply may be on its way"


def test_whoever_holds_a_copy_is_told_before_and_after_reopening(opened) -> None:
    link, told = opened(), []
    link.before_reopening, link.after_reopening = lambda: told.append("before"), lambda: told.append("after")
    link.reopen()
    assert told == ["before", "after"]


def test_the_plan_of_rescue_is_plain_data_with_what_a_guardian_needs(opened) -> None:
    import json

    from ibexite.bench.guardian_process import CONNECT

    rescue = opened().rescue()
    plan = json.loads(json.dumps(rescue.plan))
    assert plan["kind"] in CONNECT and plan["timeout"] == TIMEOUT and plan["end"] == "\n"
    assert rescue.handle is None or rescue.handle > 2
