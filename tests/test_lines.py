"""Serial ports and programs: what only a line without a connection does, and what only a process does."""

import contextlib
import os
import stat
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from ibexite.errors import InstrumentError, LinkError
from ibexite.instruments.link import Link, LinkOptions
from ibexite.instruments.open_link import open_link
from ibexite.instruments.profile import load_profile
from ibexite.instruments.serial_stream import SerialStream
from ibexite.instruments.session import Session
from ibexite.instruments.user import User
from tests.link_peers import Peer


@pytest.fixture
def peer() -> Iterator[Peer]:
    """A stand-in behind a serial port."""
    made = Peer("serial")
    yield made
    made.close()


def opened(address: str, timeout: float = 0.4, **keys: object) -> Link:
    """A link with these keys."""
    return open_link(address, LinkOptions("psu", timeout, keys=keys))


def test_the_keys_of_a_port_are_those_of_the_line(peer, monkeypatch) -> None:
    made: list[dict] = []
    serial = pytest.importorskip("serial")
    monkeypatch.setattr(serial, "Serial", lambda port, baud, **how: made.append({"baud": baud, **how}) or serial.serial_for_url("loop://"))
    opened(peer.address, baud=19_200, bits=7, parity="even", stop_bits=2, flow="rts_cts").close()
    opened(peer.address, flow="xon_xoff").close()
    how = {"bytesize": 7, "parity": "E", "stopbits": 2, "rtscts": True, "xonxoff": False, "baud": 19_200, "exclusive": True, "write_timeout": 0.4}
    assert {key: made[0][key] for key in how} == how
    assert (made[1]["baud"], made[1]["bytesize"], made[1]["parity"], made[1]["xonxoff"]) == (9_600, 8, "N", True)


def test_a_port_is_used_by_one_at_a_time(peer) -> None:
    link = opened(peer.address)
    with pytest.raises(LinkError, match="is in use"):
        opened(peer.address)
    link.close()
    opened(peer.address).close()


@pytest.mark.skipif(os.geteuid() == 0, reason="root may use every port")
def test_without_rights_it_is_said_what_to_do(peer) -> None:
    peer.front._name.chmod(0)
    with pytest.raises(LinkError, match="no right to use"):
        opened(peer.address)


def test_an_echo_is_taken_off_and_a_wrong_one_told(peer) -> None:
    peer.script.replies[:] = [b"A?\n1\n"]
    link = opened(peer.address, echo=True)
    assert link.exchange(b"A?\n") == b"1"
    for reply, what in ((b"B!\n1\n", "it repeated b'B!"), (b"", "it did not repeat b'B")):
        peer.script.replies[:] = [reply]
        with pytest.raises(LinkError, match=what):
            link.exchange(b"B?\n")
        link.reopen()
    link.close()


def test_the_pace_between_messages_and_characters_is_kept(peer, monkeypatch) -> None:
    slept: list[float] = []
    link = opened(peer.address, pace=0.05, character_pace=0.002)
    monkeypatch.setattr("ibexite.instruments.serial_stream.time.sleep", slept.append)
    for text in (b"ABC\n", b"DE\n"):
        link.send(text)
    long = [pause for pause in slept if pause > 0.003]
    assert slept.count(0.002) == 7 and len(long) == 1 and 0.03 < long[0] <= 0.05
    link.close()


def test_a_slow_line_has_the_time_that_so_many_bytes_need(peer) -> None:
    link = opened(peer.address, baud=300)
    peer.script.replies[:] = [(b"1234", 0.3, b"5678", 0.3, b"\n")]
    assert link.exchange(b"A?\n") == b"12345678", "each byte takes a twentieth of a second"
    link.close()


def test_the_handle_of_a_port_is_there_for_the_guardian(peer) -> None:
    link = opened(peer.address)
    handle = link.rescue().handle
    assert handle is not None and os.ttyname(handle) == os.path.realpath(peer.front._name)
    link.close()
    assert SerialStream.is_fresh is False


# --- a late reply is never taken for the answer to the next query ------------------------------------------------------


@pytest.mark.parametrize("kind", ["socket", "hislip", "vxi11", "serial", "program", "usb"])
@pytest.mark.parametrize("late", [0.12, 0.21, 0.33, 0.45])
def test_a_late_reply_is_never_taken_for_the_next(kind: str, late: float, tmp_path: Path) -> None:
    peer = Peer(kind)
    profile = load_profile("scpi-power-supply", tmp_path)
    session = Session("psu", profile, opened(peer.address, 0.15), User())
    session.take_identity("Firnline,PS")
    peer.script.answers["*IDN?"] = b"Firnline,PS\n"
    peer.script.replies[:] = [(late, b"17\n"), *[b"5\n"] * 4]
    values = []
    for _ in range(2):
        try:
            values.append(session.query("VOLT?"))
        except (LinkError, InstrumentError):
            values.append("error")
    assert values[1] in ("5", "error") and values[0] in ("17", "5", "error")
    session.link.close()
    peer.close()


def test_of_two_questions_who_it_is_the_second_answer_is_not_taken_for_the_next_reply(tmp_path: Path) -> None:
    peer = Peer("serial")
    session = Session("psu", load_profile("scpi-power-supply", tmp_path), opened(peer.address, 0.3), User())
    session.take_identity("Firnline,PS")
    peer.script.answers["*IDN?"] = (0.1, b"Firnline,PS\n")
    peer.script.replies[:] = [(0.75, b"17\n"), b"5\n", b"6\n"]
    with pytest.raises(LinkError):
        session.query("VOLT?")  # nor does it say in time who it is
    assert [session.query("VOLT?"), session.query("VOLT?")] == ["5", "6"]
    peer.script.answers["*IDN?"] = b"Firnline,PS\n"
    peer.script.replies[:] = [(0.4, b"7\n"), b"8\n"]
    assert session.query("VOLT?") == "8", "nor is it waited for one that was thrown away"
    session.link.close()
    peer.close()


# --- programs ----------------------------------------------------------------------------------------------------------

GAUGE = """#!/bin/sh
while read line; do
    case "$line" in
        "*IDN?") echo "Firnline,Gauge,1,2" ;;
        "DIE") echo "no more" >&2; exit 7 ;;
        "FLOOD?") yes ;;
        "WHERE?") pwd ;;
        *"?") echo 42 ;;
    esac
done
"""


@pytest.fixture
def gauge(tmp_path: Path) -> str:
    """A program that answers, as an address."""
    path = tmp_path / "gauge"
    path.write_text(GAUGE)
    path.chmod(path.stat().st_mode | stat.S_IXUSR)
    return f"program {path} --port 3"


def test_a_program_is_asked_and_restarted_when_it_has_died(gauge: str, tmp_path: Path) -> None:
    link = opened(gauge, folder=str(tmp_path))
    assert (link.exchange(b"*IDN?\n"), link.exchange(b"WHERE?\n")) == (b"Firnline,Gauge,1,2", os.fsencode(tmp_path))
    link.send(b"DIE\n")
    with pytest.raises(LinkError, match="the program ended with exit code 7: no more"):
        link.exchange(b"A?\n")
        link.exchange(b"B?\n")
    link.reopen()
    assert link.exchange(b"A?\n") == b"42"
    link.close()


def test_a_program_that_talks_without_end_is_bounded_and_ended(gauge: str) -> None:
    link = opened(gauge)
    with pytest.raises(LinkError, match="sent what nobody had asked for|without end"):
        link.exchange(b"FLOOD?\n")
    process = link._stream._process.pid
    link.close()
    with pytest.raises(ProcessLookupError):  # with all that it has started
        for _ in range(1_000):
            os.killpg(process, 0)
            time.sleep(0.01)


@pytest.mark.parametrize(("address", "what"), [
    ("program /nowhere/gauge", "there is no program '/nowhere/gauge'"), ("program {}", "no right to execute"), ("program sh -c 'exit 3'", "exit code 3"),
    ("program sh -c 'kill -9 $$'", "was ended by signal 9")])  # fmt: skip
def test_a_program_that_cannot_be_used_is_told(address: str, what: str, tmp_path: Path) -> None:
    (tmp_path / "plain").write_text("no program")
    with contextlib.ExitStack() as stack, pytest.raises(LinkError, match=what):
        link = opened(address.format(tmp_path / "plain"))
        stack.callback(link.close)
        time.sleep(0.1)
        link.exchange(b"A?\n")


def test_a_program_in_the_bench_file_is_seen_from_its_folder(ibexite, project: Path) -> None:
    (project / "gauge").write_text(GAUGE)
    (project / "gauge").chmod(0o755)
    bench = (project / "bench.toml").read_text()
    (project / "bench.toml").write_text(bench.replace('address     = "TCPIP::127.0.0.1::50251::SOCKET"', 'program = ["./gauge"]'))
    done = ibexite("run", "fm2_final.ibx", "--serial", "FC00400", "--yes")
    assert done.returncode == 3 and "another instrument answers: 'Firnline,Gauge,1,2'" in done.stdout + done.stderr
