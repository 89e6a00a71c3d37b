"""What every kind of link promises (ibexite.instruments.link), tried on each kind against a peer that does as it is told."""

import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from ibexite.errors import LinkError, StopRun
from ibexite.instruments.link import Link, LinkOptions, Reply, StrayError
from ibexite.instruments.open_link import MAKERS, open_link
from ibexite.instruments.traffic_file import TrafficFile
from ibexite.protocols.framing import definite_block
from ibexite.simulate.server import FRONTS
from tests.link_peers import Peer

TIMEOUT = 0.3
KINDS: dict[str, dict] = {
    "socket": {}, "hislip": {}, "hislip overlapped": {"overlapped": True}, "vxi11": {}, "vxi11 gateway": {"device": "gpib0,5"}, "serial": {}, "program": {},
    "usb": {}, "socket traced": {}}  # fmt: skip


def test_every_kind_of_link_and_of_stand_in_is_tried() -> None:
    assert {kind.split()[0] for kind in KINDS} == set(FRONTS) and len(FRONTS) == len(MAKERS)


@pytest.fixture(params=KINDS)
def peer(request: pytest.FixtureRequest) -> Iterator[Peer]:
    """The other side of a link of each kind."""
    made = Peer(request.param.split()[0], **KINDS[request.param])
    made.is_traced = request.param.endswith("traced")
    made.timeout = 1.5 if request.param == "program" else TIMEOUT  # it must start first
    yield made
    made.close()


@pytest.fixture
def opened(peer: Peer, tmp_path: Path) -> Iterator[Callable[..., Link]]:
    """Opens links to the peer, which has these replies ready."""
    links: list[Link] = []
    file = TrafficFile(tmp_path / "traffic", "contract", open_link)
    opening = file.open if peer.is_traced else open_link

    def start(*replies: object, heed: Callable[[], None] = lambda: None) -> Link:
        peer.script.replies[:] = replies  # type: ignore[assignment]
        keys = {"overlapped": True} if peer.instrument.stand_in.overlapped else {}
        links.append(opening(peer.address, LinkOptions("psu", peer.timeout, b"\n", heed, keys=keys)))
        return links[-1]

    yield start
    for link in links:
        link.close()
    file.close()


def test_a_reply_may_be_allowed_a_time_of_its_own(opened, peer) -> None:
    late = (peer.timeout + 0.3, b"late\n")
    link = opened(late, b"", b"soon\n")
    link.allow(peer.timeout + 5)
    assert link.exchange(b"A?\n") == b"late" and link.timeout == peer.timeout + 5
    link.allow(0.2)
    with pytest.raises(LinkError, match=r"silent for 0\.2 s"):
        link.exchange(b"B?\n")
    link.reopen()
    assert link.timeout == 0.2, "connecting has its own"


ANYTHING = bytes(range(256)) * 3


@pytest.mark.parametrize(("kind", "sent", "taken"), [
    (Reply.LINE, b"+5.0\n", b"+5.0"), (Reply.LINE, (b"+5", 0.05, b".0\n"), b"+5.0"), (Reply.LINE, b"\n", b""), (Reply.LINE, b"#3ab\n", b"#3ab"),
    (Reply.MESSAGE, b"1;" + definite_block(b"a\nb") + b";2\n", b"1;" + definite_block(b"a\nb") + b";2"), (Reply.MESSAGE, b"5,6\n", b"5,6"),
    (Reply.BLOCK, definite_block(ANYTHING) + b"\n", ANYTHING), (Reply.BLOCK, definite_block(b"") + b"\n", b""),
    (Reply.BLOCK, (b"#", 0.02, b"2", 0.02, b"10\n\nx", 0.02, b"\n\n\n\n\n\n\n\n"), b"\n\nx" + b"\n" * 7),
    (Reply.BLOCK, definite_block(b"x\n" * 300_000) + b"\n", b"x\n" * 300_000)])  # fmt: skip
def test_a_reply_is_taken_whole_as_it_is_framed(opened, kind: Reply, sent, taken: bytes) -> None:
    link = opened(sent, sent, b"next\n")
    assert link.exchange(b"A?\n", kind) == taken and not link.is_waiting
    link.ask(b"B?\n")
    assert link.is_waiting and link.receive(kind) == taken and not link.is_waiting
    assert link.exchange(b"C?\n") == b"next", "and nothing of it is left"


def test_a_block_without_a_length_goes_to_the_end_of_the_message(opened, peer) -> None:
    """Where the protocol tells no end there is none to be found."""
    link = opened(b"#0a\nb\n")
    if peer.instrument.stand_in.link in ("socket", "serial", "program"):
        with pytest.raises(LinkError, match="no definite length block|nobody had asked for"):
            link.exchange(b"A?\n", Reply.BLOCK)
    else:
        assert link.exchange(b"A?\n", Reply.BLOCK) == b"a\nb"


@pytest.mark.parametrize("reply", [b"5.0\n", b"#15abc\n", b"#1xabc\n"])
def test_what_is_no_block_is_not_taken_for_one(opened, reply: bytes) -> None:
    with pytest.raises(LinkError) as error:
        opened(reply).exchange(b"A?\n", Reply.BLOCK)
    assert "block" in error.value.what or "silent for" in error.value.what


@pytest.mark.parametrize(("sent", "what"), [
    (b"", "silent for {} s"), ((b"+5.", 0.0), "silent for {} s in the middle of a reply: b'+5.'"), (None, "closed the connection instead of answering"),
    ((b"+5.", 0.05, b"0", 0.05, b"1", 0.4), "silent for {} s in the middle of a reply: b'+5.01'"), (b"1\n2\n", "sent what nobody had asked for: b'2\\n'")])  # fmt: skip
def test_each_failure_is_named_and_after_reopening_nothing_of_it_is_left(opened, peer, sent, what: str) -> None:
    link = opened(sent)
    with pytest.raises(LinkError) as error:
        link.exchange(b"A?\n")
    assert what.format(peer.timeout) in error.value.what and error.value.where == f"psu at {peer.address}"
    peer.script.replies[:] = [b"fresh\n"]
    link.reopen()
    link.allow(10.0)  # a busy machine may need longer than the short time that was to run out above
    assert not link.is_waiting and link.ask_known(b"B?\n", b"fresh") == b"fresh"


def test_what_nobody_asked_for_is_found_before_and_after_a_query(opened, peer) -> None:
    link = opened(b"1\n", (b"2\n", 0.05, b"hello\n"), b"3\n", (b"4\n", 0.0, b"again\n"), b"5\n")
    assert link.exchange(b"A?\n") == b"1"
    link.look()
    assert link.exchange(b"B?\n") == b"2"
    with pytest.raises(StrayError):
        link.look(0.2)
    link.reopen()
    assert link.exchange(b"C?\n") == b"3"
    with pytest.raises(StrayError):
        assert link.exchange(b"D?\n") == b"4"
        time.sleep(0.05)
        link.exchange(b"E?\n")


@pytest.mark.parametrize("sent", [b"", (b"half", 0.0)])
def test_whoever_is_to_end_does_not_wait_for_a_reply(opened, sent) -> None:
    def heed() -> None:
        raise StopRun("stopped")

    link = opened(sent, heed=heed)
    with pytest.raises(StopRun):
        link.exchange(b"A?\n")
    assert link.is_waiting, "its reply may be on its way"
    with pytest.raises(LinkError, match="may still be on its way"):
        link.ask(b"B?\n")


def test_whoever_holds_a_copy_is_told_before_and_after_reopening(opened) -> None:
    link, told = opened(), []
    link.before_reopening, link.after_reopening = lambda: told.append("before"), lambda: told.append("after")
    link.reopen()
    assert told == ["before", "after"]


def test_the_plan_of_rescue_is_plain_data_with_what_a_guardian_needs(opened) -> None:
    import json

    from ibexite.bench.guardian_process import CONNECT, left

    link = opened(b"1\n")
    rescue = link.rescue()
    plan = json.loads(json.dumps(rescue.plan))
    assert rescue.handle is None or rescue.handle > 2
    link.close()
    deadline = time.monotonic() + 5
    with CONNECT[plan["kind"]](plan, deadline) as wire:
        wire.send(b"A?\n")
        assert wire.receive(deadline) == b"1\n" and left(deadline) > 0


def test_device_clear_trigger_and_status_byte(opened, peer) -> None:
    says_status = peer.instrument.stand_in.link in ("socket", "serial", "program")
    link = opened((0.2, b"late\n"), b"fresh\n", *([b"32\n"] if says_status else []), b"fresh\n")
    link.ask(b"A?\n")
    while not peer.script.heard:
        time.sleep(0.001)
    link.clear()
    assert not link.is_waiting and link.ask_known(b"B?\n", b"fresh") == b"fresh"
    peer.device.event_status = 1
    assert link.status_byte() == 32
    link.trigger()
    assert link.exchange(b"C?\n") == b"fresh" and "*TRG" in peer.script.heard
