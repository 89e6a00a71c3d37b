"""Parsers of protocols, without sockets: what was written is read back however it is cut, and what is none of it is an error of
the protocol, never anything else. Bytes that a standard prints are taken as they stand there."""

import struct
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.protocols import hislip, onc_rpc, usbtmc, vxi11
from ibexite.protocols.framing import LONG, BlockInPlace, NoBlock, TooLong, definite_block, is_long_block
from ibexite.protocols.hislip import HislipError, Message
from ibexite.protocols.onc_rpc import Accepted, Arguments, Records, RpcError
from ibexite.protocols.usbtmc import DeviceSide, UsbtmcError

BODIES = st.binary(max_size=40)
WORDS = st.integers(0, 0xFFFF_FFFF)
MESSAGES = st.builds(Message, st.integers(0, 255), st.integers(0, 255), WORDS, BODIES)


def fragmented(bodies: list[bytes]) -> bytes:
    """One record in several fragments."""
    marks = [len(body) | (onc_rpc.LAST_FRAGMENT if body is bodies[-1] else 0) for body in bodies]
    return b"".join(struct.pack("!I", mark) + body for mark, body in zip(marks, bodies, strict=True))


STREAMS: dict[str, tuple[Callable, st.SearchStrategy]] = {  # a reader, and things as (what is read, its bytes)
    "hislip": (hislip.Reader, MESSAGES.map(lambda message: (message, message.encoded()))),
    "record": (Records, st.lists(BODIES.filter(bool), min_size=1, max_size=3, unique=True).map(lambda bodies: (b"".join(bodies), fragmented(bodies)))),
}


@pytest.mark.parametrize("name", STREAMS)
@given(data=st.data(), cuts=st.integers(1, 50), rest=st.integers(0, 3))
def test_messages_are_read_back_whole_in_pieces_and_with_a_rest_behind(name: str, data: st.DataObject, cuts: int, rest: int) -> None:
    reader, things = STREAMS[name]
    wanted = data.draw(st.lists(things, max_size=4))
    stream = b"".join(encoded for _, encoded in wanted)
    behind = (hislip.PROLOGUE if name == "hislip" else bytes(3))[:rest]
    one, found = reader(), []
    for start in range(0, len(stream + behind), cuts):
        one.feed((stream + behind)[start : start + cuts])
        while (message := one.next()) is not None:
            found.append(message)
    assert found == [thing for thing, _ in wanted] and one.pending == behind


def answers(parse: Callable[[bytes], object]) -> Callable[[bytes], None]:
    """Takes a value or an error of the protocol."""

    def taken(data: bytes) -> None:
        try:
            parse(data)
        except (HislipError, RpcError, UsbtmcError, NoBlock, TooLong):
            pass

    return taken


def fed(reader: Callable) -> Callable[[bytes], object]:
    """Feeds a reader, and takes until nothing more comes."""

    def parse(data: bytes) -> None:
        one = reader()
        one.feed(data)
        while one.next() is not None:
            pass

    return parse


MAPPER = onc_rpc.port_mapper({(vxi11.CORE, 1, onc_rpc.TCP): 1024})
PARSERS = {
    "hislip": fed(hislip.Reader), "header": lambda data: hislip.header(data[:16].ljust(16, b"\0"), 100), "size": hislip.size,
    "record": fed(Records), "call": onc_rpc.read_call, "reply": onc_rpc.read_reply, "port mapper": MAPPER.answer,
    "created": lambda data: vxi11.created(Arguments(data)), "read": lambda data: vxi11.read(Arguments(data)), "data": lambda data: vxi11.data_of(data, 7),
    "usb answer": lambda data: usbtmc.read_answer(data, 1, 64), "usb device": lambda data: DeviceSide().take(data), "long block": is_long_block,
}  # fmt: skip
GOOD = [
    Message(6, 0, 1, b"abc").encoded(), onc_rpc.record(onc_rpc.call(7, onc_rpc.GETPORT, onc_rpc.getport(vxi11.CORE, 1))), onc_rpc.call(7, onc_rpc.GETPORT, onc_rpc.getport(vxi11.CORE, 1)),
    onc_rpc.reply(7, bytes(4)), onc_rpc.record(onc_rpc.reply(7, struct.pack("!II", 0, 4) + onc_rpc.opaque(b"+1.5\n"))), usbtmc.data_out(1, b"*IDN?", is_end=True), b"#800100000ab",
]  # fmt: skip


@pytest.mark.parametrize("name", PARSERS)
@given(data=st.data())
def test_anything_is_a_value_or_an_error_of_the_protocol(name: str, data: st.DataObject) -> None:
    good = data.draw(st.sampled_from(GOOD))
    place, bad = data.draw(st.integers(0, len(good) - 1)), data.draw(st.binary(max_size=3))
    for spoilt in (good[:place] + bad + good[place + len(bad) :], good[:place], data.draw(st.binary(max_size=64))):
        answers(PARSERS[name])(spoilt)


@pytest.mark.parametrize(("parse", "data"), [
    (fed(hislip.Reader), struct.pack("!2sBBIQ", b"HS", 7, 0, 0, 1 << 62)), (fed(hislip.Reader), b"HTTP/1.1"), (fed(Records), b"\xff\xff\xff\xff"), (fed(Records), b"HTTP/1.1"),
    (onc_rpc.read_call, bytes(24) + b"\xff" * 8), (lambda data: usbtmc.read_answer(data, 1, 64), usbtmc.HEADER.pack(2, 1, 254, 0xFFFF_FFFF, 1, 0)),
    (lambda data: BlockInPlace(data, b"\n"), b"#9999999999")])  # fmt: skip
def test_a_length_beyond_what_is_taken_is_refused_before_it_is_read(parse: Callable, data: bytes) -> None:
    with pytest.raises((HislipError, RpcError, UsbtmcError, TooLong)):
        parse(data)


# --- VXI-11 and its calls ------------------------------------------------------------------------------------------------


@given(xid=WORDS, link=WORDS, data=st.binary(max_size=50), ms=st.integers(0, 100_000), most=WORDS)
def test_the_calls_made_in_one_go_are_those_made_in_general(xid: int, link: int, data: bytes, ms: int, most: int) -> None:
    plain = onc_rpc.record(onc_rpc.call(xid, vxi11.core(vxi11.Core.DEVICE_WRITE), vxi11.device_write(link, data, ms / 1000, is_end=True)))
    assert vxi11.write_record(xid, link, data, ms) == (plain, onc_rpc.record(onc_rpc.reply(xid, struct.pack("!II", 0, len(data)))))
    assert vxi11.read_record(xid, link, most, ms) == onc_rpc.record(
        onc_rpc.call(xid, vxi11.core(vxi11.Core.DEVICE_READ), vxi11.device_read(link, most, ms / 1000))
    )


@given(
    xid=st.integers(0, 3),
    asked=st.integers(0, 3),
    error=st.sampled_from([0, 15]),
    reason=st.integers(0, 7),
    data=st.binary(max_size=9),
    status=st.sampled_from([0, 0, 1]),
)
def test_a_read_in_one_go_gives_what_the_general_one_gives(xid: int, asked: int, error: int, reason: int, data: bytes, status: int) -> None:
    reply = onc_rpc.record(onc_rpc.reply(xid, struct.pack("!II", error, reason) + onc_rpc.opaque(data), Accepted(status)))
    is_plain = xid == asked and not error and reason & vxi11.REASON_END and not status
    assert vxi11.data_of(reply, asked) == (data if is_plain else None)


def test_bytes_of_the_standards() -> None:
    # RFC 4506, 4.10; RFC 5531, 9 and 11: GETPORT of the core channel of VXI-11 over TCP.
    getport = onc_rpc.record(onc_rpc.call(0x11223344, onc_rpc.GETPORT, onc_rpc.getport(vxi11.CORE, 1)))
    words = "80000038 11223344 00000000 00000002 000186a0 00000002 00000003 00000000 00000000 00000000 00000000 000607af 00000001 00000006 00000000"
    assert getport == bytes.fromhex(words)
    # VXI-11, appendix C: create_link for inst0 with a lock within 2 s.
    assert vxi11.create_link(1, "inst0", 2.0) == bytes.fromhex("00000001 00000001 000007d0 00000005 696e7374 30000000")
    assert vxi11.device_lock(3, 0.5) == bytes.fromhex("00000003 00000001 000001f4") and vxi11.generic(3, 1.0) == bytes.fromhex(
        "00000003 00000000 00000000 000003e8"
    )
    assert [vxi11.words_of(code) for code in (4, 11, 15, 23, 99)] == [
        "invalid link identifier",
        "device locked by another link",
        "I/O time-out",
        "aborted",
        "error 99",
    ]
    # IVI-6.1, 6.1: Initialize of hislip0, version 1.1.
    assert hislip.initialize("hislip0").encoded() == bytes.fromhex("4853 00 00 0101 4942 0000000000000007") + b"hislip0"


def asked(service: onc_rpc.Service, procedure: tuple[int, int, int], body: bytes = b"", rpc_version: int = 2) -> bytes:
    """What a service answers to a call."""
    call = bytearray(onc_rpc.call(5, onc_rpc.Procedure(*procedure), body))
    call[8:12] = struct.pack("!I", rpc_version)
    answer = service.answer(bytes(call))
    assert answer is not None and answer[:8] == struct.pack("!II", 5, 1)
    return answer[8:]


def test_the_port_mapper_knows_what_is_there_and_says_what_is_not() -> None:
    good, where = bytes(16), lambda *key: asked(MAPPER, onc_rpc.GETPORT, struct.pack("!4I", *key, 0))
    assert where(vxi11.CORE, 1, onc_rpc.TCP) == good + struct.pack("!I", 1024) == where(vxi11.CORE, 2, onc_rpc.TCP)
    assert where(vxi11.CORE, 1, onc_rpc.UDP) == good + bytes(4) == where(vxi11.ABORT, 1, onc_rpc.TCP)
    itself = struct.pack("!10I", 1, 100_000, 2, 6, 111, 1, 100_000, 2, 17, 111)
    assert asked(MAPPER, onc_rpc.DUMP) == good + itself + struct.pack("!6I", 1, vxi11.CORE, 1, 6, 1024, 0)
    assert [where(100_000, 2, protocol) for protocol in (onc_rpc.TCP, onc_rpc.UDP)] == [good + struct.pack("!I", 111)] * 2
    assert asked(MAPPER, (onc_rpc.PORT_MAPPER, 2, 0)) == good
    assert asked(MAPPER, (onc_rpc.PORT_MAPPER, 2, 77)) == struct.pack("!4I", 0, 0, 0, Accepted.NO_PROCEDURE)
    assert asked(MAPPER, (onc_rpc.PORT_MAPPER, 4, 3)) == struct.pack("!6I", 0, 0, 0, Accepted.OTHER_VERSION, 2, 2)
    assert asked(MAPPER, (vxi11.CORE, 1, 3)) == struct.pack("!4I", 0, 0, 0, Accepted.NO_PROGRAM)
    assert asked(MAPPER, onc_rpc.GETPORT, b"\0") == struct.pack("!4I", 0, 0, 0, Accepted.BAD_ARGUMENTS)
    assert asked(MAPPER, onc_rpc.GETPORT, rpc_version=3) == struct.pack("!4I", 1, 0, 2, 2)


@pytest.mark.parametrize(
    ("status", "words"), [(1, "it has no such service"), (3, "it does not know this call"), (4, "it cannot read the arguments"), (9, "it answers status 9")]
)
def test_what_a_call_came_to_is_told_in_words(status: int, words: str) -> None:
    with pytest.raises(RpcError, match=words):
        onc_rpc.read_reply(onc_rpc.reply(1)[:-4] + struct.pack("!I", status))


# --- USBTMC --------------------------------------------------------------------------------------------------------------


@given(parts=st.lists(st.binary(min_size=1, max_size=9), min_size=1, max_size=3), response=st.binary(min_size=1, max_size=30), most=st.integers(1, 40))
def test_what_one_side_of_usbtmc_says_the_other_understands(parts: list[bytes], response: bytes, most: int) -> None:
    device, tag = DeviceSide(), 254
    for i, part in enumerate(parts):
        tag = usbtmc.next_tag(tag)
        content = device.take(usbtmc.data_out(tag, part, is_end=i == len(parts) - 1))
        assert content == (b"".join(parts) if i == len(parts) - 1 else None) and tag != 0
    device.respond(response, is_whole=True)
    got = b""
    while device.has_output:
        tag = usbtmc.next_tag(tag)
        assert device.take(usbtmc.request_in(tag, most)) is None
        part = usbtmc.read_answer(device.give() or b"", tag, most)
        got += part.data
        assert part.is_end == (got == response) and device.give() is None
    assert got == response


def test_bytes_of_the_tables_of_usbtmc() -> None:
    assert usbtmc.data_out(0x81, b"*RST\n", is_end=True) == bytes.fromhex("01 81 7e 00 05000000 01 000000") + b"*RST\n\0\0\0"
    assert usbtmc.request_in(1, 0x1000, ord("\n")) == bytes.fromhex("02 01 fe 00 00100000 02 0a 0000") and usbtmc.trigger(255) == bytes.fromhex(
        "80 ff 00 00 00000000 00000000"
    )
    answer = bytes.fromhex("02 01 fe 00 03000000 03 000000") + b"12\n\0"
    assert usbtmc.read_answer(answer, 1, 64) == usbtmc.Part(b"12\n", True, True)
    for tag, most, words in ((2, 64, "response to request 1"), (1, 2, "3 bytes")):
        with pytest.raises(UsbtmcError, match=words):
            usbtmc.read_answer(answer, tag, most)
    device = DeviceSide()
    assert device.take(usbtmc.trigger(1)) == b"*TRG\n"
    device.take(usbtmc.request_in(7, 99, ord(";")))
    device.respond(b"1;2\n", is_whole=True)
    assert usbtmc.read_answer(device.give() or b"", 7, 99) == usbtmc.Part(b"1;", False, True)


# --- long blocks ---------------------------------------------------------------------------------------------------------


@given(cuts=st.lists(st.integers(1, LONG), max_size=4), has_end=st.booleans(), more=st.sampled_from([b"", b"x", b"\n\n"]))
def test_a_long_block_is_what_was_sent_or_an_error(cuts: list[int], has_end: bool, more: bytes) -> None:
    content = bytes(range(256)) * (LONG // 256 + 1)
    left = definite_block(content) + b"\n" * has_end + more
    assert is_long_block(left[:20]) and not is_long_block(definite_block(b"x" * (LONG - 1))[:20])
    block, left = BlockInPlace(left[:20], b"\n"), left[20:]
    try:
        for cut in [*cuts, len(left)]:
            part, left = left[:cut], left[cut:]
            with block.room(len(part)) as room:
                room[:] = part
        assert block.content() == content and more in (b"", b"\n\n"[has_end:][:1])
    except NoBlock:
        assert more
