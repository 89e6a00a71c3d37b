"""Links on real sockets: each way to fail has its message, nothing hangs, a late reply is never taken for the next."""

import socket
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from ibexite import units
from ibexite.bench.file import read_bench
from ibexite.bench.query import Item
from ibexite.bench.read_line import ReadLine
from ibexite.errors import InstrumentError, LinkError
from ibexite.instruments.link import LinkOptions
from ibexite.instruments.open_link import open_link
from ibexite.instruments.profile import SHIPPED, load_profile
from ibexite.instruments.session import Session
from ibexite.instruments.user import User
from tests.runs import lines


@pytest.fixture
def instrument(tmp_path) -> Iterator[Callable[..., Session]]:
    """A session with a small server whose replies are given: bytes, "silent", "close", or (seconds, bytes)."""
    listeners, sessions, threads = [], [], []

    def start(*replies: object) -> Session:
        listener = socket.create_server(("127.0.0.1", 0))
        listeners.append(listener)
        waiting = list(replies)

        def serve() -> None:
            while True:
                try:
                    connection = listener.accept()[0]
                except OSError:
                    return
                threads.append(threading.Thread(target=talk, args=(connection,), daemon=True))
                threads[-1].start()

        def talk(connection: socket.socket) -> None:
            with connection, suppress(ConnectionError):  # whoever opens a link anew resets the old one
                answer(connection)

        def answer(connection: socket.socket) -> None:
            while (data := connection.recv(4096)) and waiting:
                for _ in range(data.count(b"?")):
                    reply = waiting.pop(0)
                    if reply == "close":
                        return
                    if isinstance(reply, tuple):
                        time.sleep(reply[0])
                        reply = reply[1]
                    if isinstance(reply, bytes):
                        connection.sendall(reply)

        threading.Thread(target=serve, daemon=True).start()
        profile = load_profile("scpi-power-supply", tmp_path)
        address = f"TCPIP::127.0.0.1::{listener.getsockname()[1]}::SOCKET"
        session = Session("psu", profile, open_link(address, LinkOptions("psu", 0.25)), User())
        sessions.append(session)
        return session

    yield start
    for session in sessions:
        session.link.close()
    for listener in listeners:
        listener.close()
    for thread in threads:
        thread.join(2)


def test_a_query_is_answered_and_told(instrument) -> None:
    session = instrument(b"+5.0\n")
    assert session.query("VOLT?") == "+5.0"
    assert lines(session.user.said) == ["psu> VOLT?", "psu< +5.0"]
    assert session.link._stream.socket.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)


@pytest.mark.parametrize(("replies", "what"), [
    (["silent", "silent"], "silent for 0.25 s after 'VOLT?'"), (["close", "close"], "closed the connection instead of answering"),
    ([b"+5.", "close"] * 2, "silent for 0.25 s in the middle of a reply: b'+5.'"),
    ([b"5\n6\n", b"5\n6\n"], "sent what nobody had asked for: b'6\\n'")])  # fmt: skip
def test_each_failure_has_its_message_after_one_reconnect(instrument, replies, what) -> None:
    session = instrument(*replies)
    with pytest.raises(LinkError) as error:
        session.query("VOLT?")
        session.query("VOLT?")
    assert what in " / ".join([error.value.what, *session.recoveries])
    assert "psu at TCPIP::127.0.0.1" in str(error.value)
    assert len(session.recoveries) >= 1


@pytest.mark.parametrize("trouble", ["silent", "close", b"+5.", b"1\n2\n"])
def test_one_failure_is_mended_by_connecting_anew(instrument, trouble) -> None:
    session = instrument(trouble, b"+7\n", b"+8\n")
    assert session.query("VOLT?") == "+7"
    assert session.query("CURR?") == "+8"
    assert any(line.startswith("psu! ") and line.endswith("connecting anew") for line in lines(session.user.said))


def test_a_late_reply_is_not_taken_for_the_next_one(instrument) -> None:
    session = instrument((0.4, b"late\n"), b"first\n", b"second\n")
    assert session.query("A?") == "first"
    time.sleep(0.3)
    assert session.query("B?") == "second"


def test_a_query_that_clears_what_it_reads_is_not_repeated(instrument) -> None:
    session = instrument("silent", b"1\n")
    with pytest.raises(LinkError, match="after 'STAT:QUES[?]'"):
        session.query("STAT:QUES?", may_repeat=False)
    assert len(session.recoveries) == 1 and lines(session.user.said).count("psu> STAT:QUES?") == 1
    assert session.query("VOLT?") == "1", "the link is fit for the next one"


def test_set_ups_of_readings_are_sent_again_when_they_may_be_lost(instrument, tmp_path) -> None:
    session = instrument(b"1\n", b"2\n", b"3\n")
    commands = load_profile("scpi-scanning-multimeter", tmp_path).readings["dc_voltage"]
    item = Item("v", session, commands, 101, {"range": 10.0}, 1.0, units.VOLT, None)
    line = ReadLine([item], together=False, averaging=1, bad=[])
    values, sent = [], []
    for is_lost in (False, False, True):
        if is_lost:
            session.forget()
        values += line()
        sent.append(sum("CONF" in text for text in lines(session.user.said)))
    assert values == [1, 2, 3] and sent == [1, 1, 2]


def test_a_broken_connection_is_mended_before_a_setting(instrument) -> None:
    session = instrument(b"9\n")
    session.link._stream.socket.shutdown(socket.SHUT_RDWR)
    session.send("VOLT 9")
    assert session.query("VOLT?") == "9"
    assert session.recoveries


def test_another_instrument_at_the_address_is_refused(instrument) -> None:
    session = instrument(b"Firnline,DM-65S,1,1\n")
    with pytest.raises(InstrumentError) as error:
        session.identify("Firnline,PS-36.*")
    assert "another instrument answers: 'Firnline,DM-65S,1,1'" in str(error.value)
    assert "expects identity 'Firnline,PS-36.*'" in error.value.remedy


def test_errors_of_the_instrument_are_read_until_its_queue_is_empty(instrument) -> None:
    session = instrument(b'-222,"Data out of range"\n', b'-113,"Undefined header"\n', b'+0,"No error"\n')
    assert session.errors_after(session.query("SYST:ERR?")) == ['-222,"Data out of range"', '-113,"Undefined header"']


@pytest.mark.parametrize(("held", "read"), [(70, 70), (1000, 200)])
def test_the_errors_of_a_whole_sweep_are_read_and_those_without_end_are_not(instrument, held: int, read: int) -> None:
    session = instrument(*[b'-222,"Data out of range"\n'] * held, b'0,"No error"\n')
    assert len(session.errors_after(session.query("SYST:ERR?"))) == read


def test_nothing_listens() -> None:
    with socket.create_server(("127.0.0.1", 0)) as listener:
        port = listener.getsockname()[1]
    with pytest.raises(LinkError) as error:
        open_link(f"TCPIP::127.0.0.1::{port}::SOCKET", LinkOptions("psu", 0.3))
    assert "nothing listens there" in error.value.what


def test_an_instrument_with_other_manners(tmp_path: Path) -> None:
    """CR LF at the end of lines, no error queue, no completion query: all said in the profile."""
    from ibexite.bench.bench import Bench

    heard = bytearray()
    listener = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        with listener, listener.accept()[0] as link:
            while data := link.recv(4096):
                heard.extend(data)
                for line in data.split(b"\r\n"):
                    if line.endswith(b"?"):
                        link.sendall(b"Odd,X,1,1\r\n" if line == b"*IDN?" else b"1.5\r\n")

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    text = (SHIPPED / "scpi-power-supply.toml").read_text()
    text = text.replace('error_query    = "SYST:ERR?"', 'error_query = ""\ncomplete = ""')
    text = text.replace('limiting       = "STAT:QUES?"', 'limiting = ""').replace('"25 ms"', '"25 ms"\nterminator = "\\r\\n"')
    (tmp_path / "odd.toml").write_text(text)
    (tmp_path / "bench.toml").write_text(
        f'[bench]\nname = "odd"\n[instruments.psu]\nprofile = "odd.toml"\naddress = "TCPIP::127.0.0.1::'
        f'{listener.getsockname()[1]}::SOCKET"\n[roles.supply]\ninstrument = "psu"\n'
    )
    bench = Bench(read_bench(tmp_path / "bench.toml"))
    bench.connect(["psu"])
    bench.set_line([("supply", "voltage"), ("supply", "current_limit")])(1.25, 0.5)
    bench.complete()
    assert bench.read_errors() == bench.take_limiting() == []
    assert bench.read_line([bench.role_item("x", "supply", "voltage", {})], together=False, averaging=2)() == [1.5]
    bench.close()
    thread.join(5)
    assert bytes(heard) == (b"*IDN?\r\n*CLS\r\n*RST\r\nSOUR1:VOLT 1.25\r\nSOUR1:CURR 0.5\r\n" + 2 * b"MEAS1:VOLT?\r\n")
