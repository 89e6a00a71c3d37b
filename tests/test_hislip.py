"""HiSLIP beyond what every link promises: what each side makes of messages that are unusual or wrong (IVI-6.1)."""

import socket
import threading
import time
from collections.abc import Iterator

import pytest

from ibexite.errors import LinkError
from ibexite.instruments.hislip_link import HislipLink
from ibexite.instruments.link import LinkOptions
from ibexite.instruments.open_link import open_link
from ibexite.protocols.hislip import ANY_ID, FIRST_ID, HEADER, Fatal, Lock, Message, Nonfatal, Reader, Type, initialize
from tests.link_peers import Peer

IDN = b"*IDN?\n"


@pytest.fixture
def peer() -> Iterator[Peer]:
    """A stand-in behind a HiSLIP server; replies are given by the test."""
    made = Peer("hislip")
    yield made
    made.close()


@pytest.fixture
def link(peer: Peer) -> Iterator[HislipLink]:
    """A link to it."""
    opened = open_link(peer.address, LinkOptions("psu", 0.4))
    assert isinstance(opened, HislipLink)
    yield opened
    opened.close()


class Channel:
    """One connection of a client that says what it likes."""

    def __init__(self, peer: Peer) -> None:
        self._socket = socket.create_connection(("127.0.0.1", int(peer.address.split(",")[1].split(":")[0])))
        self._socket.settimeout(5)
        self._reader = Reader()

    def say(self, *messages: Message | bytes) -> "Channel":
        """Sends messages, or bare bytes."""
        self._socket.sendall(b"".join(m if isinstance(m, bytes) else m.encoded() for m in messages))
        return self

    def hear(self) -> Message | None:
        """The next message; None if the connection was closed."""
        while (message := self._reader.next()) is None:
            data = self._socket.recv(65536)
            if not data:
                return None
            self._reader.feed(data)
        return message

    def close(self) -> None:
        """Closes it."""
        self._socket.close()


@pytest.fixture
def client(peer: Peer) -> Iterator[tuple[Channel, Channel]]:
    """Both channels of a session."""
    sync, other = Channel(peer), Channel(peer)
    sync.say(initialize("hislip0"))
    session = sync.hear().parameter & 0xFFFF
    other.say(Message(Type.ASYNC_INITIALIZE, 0, session))
    assert other.hear().type == Type.ASYNC_INITIALIZE_RESPONSE
    yield sync, other
    sync.close()
    other.close()


def told(message: Message | None) -> tuple[int, int]:
    """Type and control code."""
    assert message is not None
    return message.type, message.control


# --- what the server makes of a client ---------------------------------------------------------------------------------


@pytest.mark.parametrize(("said", "code"), [
    (b"*IDN?\n", Fatal.BAD_HEADER), (Message(Type.DATA_END, 0, FIRST_ID, IDN), Fatal.NO_CHANNELS), (initialize("hislip7"), Fatal.BAD_INITIALIZATION),
    (Message(Type.ASYNC_INITIALIZE, 0, 999), Fatal.BAD_INITIALIZATION)])  # fmt: skip
def test_a_wrong_beginning_is_fatal(peer, said, code: Fatal) -> None:
    channel = Channel(peer).say(said)
    assert told(channel.hear()) == (Type.FATAL_ERROR, code) and channel.hear() is None
    channel.close()


def test_a_message_before_the_other_channel_is_there_is_fatal_and_so_is_one_client_too_many(peer) -> None:
    channels = [Channel(peer).say(initialize("")) for _ in range(17)]
    answers = [told(channel.hear()) for channel in channels]
    assert answers == [(Type.INITIALIZE_RESPONSE, 0)] * 16 + [(Type.FATAL_ERROR, Fatal.TOO_MANY_CLIENTS)]
    channels[0].say(Message(Type.DATA_END, 0, FIRST_ID, IDN))
    assert told(channels[0].hear()) == (Type.FATAL_ERROR, Fatal.NO_CHANNELS)
    for channel in channels:
        channel.close()


def test_what_is_not_known_is_refused_and_the_session_goes_on(peer, client) -> None:
    sync, other = client
    peer.script.replies[:] = [b"1\n"]
    sync.say(Message(77), Message(200), HEADER.pack(b"HS", Type.DATA_END, 0, FIRST_ID, 3_000_000), bytes(3_000_000), Message(Type.DATA_END, 0, FIRST_ID, b"A?"))
    refused = [(Type.ERROR, code) for code in (Nonfatal.UNKNOWN_TYPE, Nonfatal.UNKNOWN_VENDOR_MESSAGE, Nonfatal.TOO_LONG)]
    assert [told(sync.hear()) for _ in range(3)] == refused and sync.hear() == Message(Type.DATA_END, 0, FIRST_ID, b"1\n")
    other.say(Message(Type.DATA), Message(Type.ASYNC_LOCK, 9), Message(Type.ASYNC_STATUS_QUERY, 1, FIRST_ID))
    assert [told(other.hear()) for _ in range(3)] == [refused[0], (Type.ERROR, Nonfatal.UNKNOWN_CONTROL), (Type.ASYNC_STATUS_RESPONSE, 0)]


def test_a_query_before_the_answer_to_the_last_one_interrupts_it(peer, client) -> None:
    sync, other = client
    peer.script.replies[:] = [b"1\n", b"2\n", b"3\n"]
    sync.say(Message(Type.DATA_END, 0, FIRST_ID, b"A?\n"))
    assert sync.hear().payload == b"1\n"
    other.say(Message(Type.ASYNC_STATUS_QUERY, 0, FIRST_ID))
    assert told(other.hear()) == (Type.ASYNC_STATUS_RESPONSE, 16), "the client has not said that it has it"
    sync.say(Message(Type.DATA_END, 0, FIRST_ID + 2, b"B?\n"))
    assert sync.hear() == Message(Type.INTERRUPTED, 0, FIRST_ID + 2) and other.hear() == Message(Type.ASYNC_INTERRUPTED, 0, FIRST_ID + 2)
    assert sync.hear() == Message(Type.DATA_END, 0, FIRST_ID + 2, b"2\n")
    sync.say(Message(Type.DATA_END, 1, FIRST_ID + 4, b"C?\n"))
    assert sync.hear() == Message(Type.DATA_END, 0, FIRST_ID + 4, b"3\n"), "it has said so: nothing is interrupted"


def test_long_responses_come_in_parts_of_what_the_client_takes(peer, client) -> None:
    sync, other = client
    other.say(Message(Type.ASYNC_MAXIMUM_MESSAGE_SIZE, payload=(4).to_bytes(8, "big")))
    assert other.hear().type == Type.ASYNC_MAXIMUM_MESSAGE_SIZE_RESPONSE
    peer.script.replies[:] = [b"123456789\n"]
    sync.say(Message(Type.DATA, 0, FIRST_ID, b"A"), Message(Type.DATA_END, 0, FIRST_ID + 2, b"?\n"))
    parts = [sync.hear() for _ in range(3)]
    assert [(m.type, m.parameter, m.payload) for m in parts] == [(6, FIRST_ID + 2, b"1234"), (6, FIRST_ID + 2, b"5678"), (7, FIRST_ID + 2, b"9\n")]
    assert peer.script.heard == ["A?"]


def test_device_clear_throws_away_what_comes_before_its_end(peer, client) -> None:
    sync, other = client
    peer.script.replies[:] = [b"1\n"]
    other.say(Message(Type.ASYNC_DEVICE_CLEAR))
    assert told(other.hear()) == (Type.ASYNC_DEVICE_CLEAR_ACKNOWLEDGE, 0)
    sync.say(Message(Type.DATA_END, 0, FIRST_ID, b"LOST?\n"), Message(Type.DEVICE_CLEAR_COMPLETE, 1), Message(Type.DATA_END, 0, FIRST_ID, b"A?\n"))
    assert told(sync.hear()) == (Type.DEVICE_CLEAR_ACKNOWLEDGE, 1), "overlapped from here on, as the client wishes"
    assert sync.hear() == Message(Type.DATA_END, 0, FIRST_ID, b"1\n") and peer.script.heard == ["A?"]


# --- locks -------------------------------------------------------------------------------------------------------------


def locked(channel: Channel, key: bytes = b"", ms: int = 0) -> int:
    """The answer to the request for a lock."""
    return channel.say(Message(Type.ASYNC_LOCK, Lock.REQUEST, ms, key)).hear().control


def test_a_lock_keeps_others_out_until_it_is_given_back(peer, client, link) -> None:
    sync, other = client
    peer.script.replies[:] = [b"1\n"]
    assert locked(other, ms=20) == Lock.FAILED, "the link has it"
    assert other.say(Message(Type.ASYNC_LOCK_INFO)).hear() == Message(Type.ASYNC_LOCK_INFO_RESPONSE, 1, 1)
    assert other.say(Message(Type.ASYNC_LOCK, Lock.RELEASE)).hear().control == Lock.IMPOSSIBLE, "it is not this client's"
    sync.say(Message(Type.DATA_END, 0, FIRST_ID, b"A?\n"))
    other.say(Message(Type.ASYNC_LOCK, Lock.REQUEST, 5_000))
    assert peer.script.heard == []
    link.close()
    assert told(other.hear()) == (Type.ASYNC_LOCK_RESPONSE, Lock.SUCCESS) and sync.hear().payload == b"1\n"
    with pytest.raises(LinkError, match="locked by another client"):
        open_link(peer.address, LinkOptions("psu", 0.1))
    assert other.say(Message(Type.ASYNC_LOCK, Lock.RELEASE)).hear().control == Lock.SUCCESS
    open_link(peer.address, LinkOptions("psu", 0.4)).close()


def test_a_shared_lock_is_had_by_all_who_name_its_key(peer, client) -> None:
    _, other = client
    second = Channel(peer).say(initialize("hislip0"))
    third = Channel(peer).say(Message(Type.ASYNC_INITIALIZE, 0, second.hear().parameter & 0xFFFF))
    third.hear()
    assert [locked(other, b"key"), locked(third, b"other"), locked(third, b"key"), locked(third)] == [Lock.SUCCESS, Lock.FAILED, Lock.SUCCESS, Lock.FAILED]
    for channel in (second, third):
        channel.close()


# --- what the link makes of a server -----------------------------------------------------------------------------------


@pytest.mark.parametrize(("said", "what"), [
    (Message(Type.FATAL_ERROR, Fatal.UNIDENTIFIED, 0, b"out of memory"), "an error without a number (out of memory)"), (Message(Type.ERROR, 4), "a message that is too long"),
    (Message(Type.FATAL_ERROR, 77), "error 77"), (Message(Type.INTERRUPTED, 0, FIRST_ID), "was interrupted"), (Message(Type.INITIALIZE_RESPONSE), "belongs nowhere")])  # fmt: skip
@pytest.mark.parametrize("when", ["before", "within"])
def test_what_the_server_complains_of_is_told(peer, link, said: Message, what: str, when: str) -> None:
    (session,) = peer.front.sessions.values()
    peer.script.replies[:] = [(0.2, b"1\n")]
    if when == "before":
        session.tell(said, is_async=said.type != Type.INTERRUPTED)
        time.sleep(0.05)
    else:
        threading.Timer(0.05, lambda: session.tell(said, is_async=False)).start()
    with pytest.raises(LinkError) as error:
        link.exchange(b"A?\n")
    assert what in error.value.what


def test_notices_and_answers_to_other_queries_are_passed_over_and_unknown_messages_refused(peer, link) -> None:
    (session,) = peer.front.sessions.values()
    for message in (Message(Type.ASYNC_SERVICE_REQUEST, 64), Message(99, 0, 0, b"new")):
        session.tell(message, is_async=True)
    time.sleep(0.05)
    said: list[Message] = []
    session._server.from_async = said.append
    peer.script.replies[:] = [b"1\n"]
    respond = session._server.respond

    def late(data: bytes, number: int, *, is_whole: bool) -> None:
        respond(b"old\n", number - 2, is_whole=True)
        respond(b"old", number - 2, is_whole=False)  # of which the end never comes
        respond(data, ANY_ID, is_whole=is_whole)

    session._server.respond = late
    assert link.exchange(b"A?\n") == b"1"
    while not said:
        time.sleep(0.001)
    assert [(message.type, message.control) for message in said] == [(Type.ERROR, Nonfatal.UNKNOWN_TYPE)]


def test_messages_of_the_client_count_by_two_and_begin_again_behind_a_clear(peer, link) -> None:
    (session,) = peer.front.sessions.values()
    numbers: list[int] = []
    command = session.command
    session.command = lambda content, number: numbers.append(number) or command(content, number)
    peer.script.replies[:] = [b"1\n"] * 3
    link.send(b"X\n")
    assert [link.exchange(b"A?\n"), link.exchange(b"B?\n")] == [b"1", b"1"]
    link.clear()
    link.exchange(b"C?\n")
    assert numbers == [FIRST_ID, FIRST_ID + 2, FIRST_ID + 4, FIRST_ID]


@pytest.mark.parametrize("told_size", [b"", bytes(8), b"1234567"])
def test_a_size_that_is_none_ends_the_opening(peer, told_size: bytes, monkeypatch) -> None:
    monkeypatch.setattr("ibexite.protocols.hislip_server.MOST_PAYLOAD", int.from_bytes(told_size, "big") if len(told_size) == 8 else 1 << 16)
    if len(told_size) != 8:
        monkeypatch.setattr(
            "ibexite.protocols.hislip_server.ServerSession._answer", lambda self, m: self._host.tell(m._replace(payload=told_size), is_async=True)
        )
    with pytest.raises(LinkError, match="is no size of a message"):
        open_link(peer.address, LinkOptions("psu", 0.4))


def test_a_long_command_is_split_into_what_the_server_takes(peer, monkeypatch) -> None:
    monkeypatch.setattr("ibexite.protocols.hislip_server.MOST_PAYLOAD", 1000)
    link = open_link(peer.address, LinkOptions("psu", 0.4))
    peer.script.replies[:] = [b"1\n"]
    link.send(b"X" * 4_500 + b"\n")
    assert link.exchange(b"A?\n") == b"1" and [len(heard) for heard in peer.script.heard] == [4_500, 2]
    link.close()
