"""Troubles on demand: which messages are meant, and what becomes of each."""

import fcntl
import re
import socket
import struct
import termios
import time

import pytest

from ibexite.simulate.device import ScpiDevice
from ibexite.simulate.plan import Trouble
from ibexite.simulate.troubles import WAYS, Troubles, begun
from tests.link_peers import Peer
from tests.runs import troubled


class Gauge(ScpiDevice):
    """Notes the numbers that are written to it, and answers 1.5."""

    def __init__(self) -> None:
        super().__init__("Firnline,G-1", "gauge")
        self.noted: list[str] = []
        self.on("NOTE", lambda command, suffix: self.noted.append(command.parameters[0]), lambda command, suffix: "1.5")


def happened(how: str, line: str, message: str = "", pause: float | None = None) -> list[object]:
    """What was sent, done and waited for, in its order; at last what the instrument has noted."""
    told: list[object] = []
    gauge = Gauge()
    ends = (told.append, lambda reset: told.append("reset" if reset else "closed"), lambda seconds: told.append(f"refused {seconds} s"))
    for seconds in begun(Trouble("any", how, pause=pause, message=message), line, gauge, *ends):
        told.append(f"{seconds} s")
    return [entry for entry in told if entry != b""] + gauge.noted


@pytest.mark.parametrize(("how", "line", "more", "found"), [
    ("silent", "NOTE?", {}, []), ("silent", "NOTE 7", {}, ["7"]), ("lost", "NOTE 7", {}, []), ("drop", "NOTE 7", {}, ["closed"]), ("close", "NOTE 7", {}, ["closed", "7"]),
    ("reset", "NOTE 7", {}, ["reset"]), ("close", "NOTE?", {}, ["closed"]), ("cut", "NOTE?", {}, [b"1.", "closed"]), ("close behind", "NOTE?", {}, [b"1.5\n", "closed"]),
    ("late", "NOTE?", {"pause": 0.5}, ["0.5 s", b"1.5\n"]), ("late", "NOTE?", {}, ["4.0 s", b"1.5\n"]), ("twice", "NOTE?", {"pause": 0.0}, [b"1.5\n", "0.0 s", b"1.5\n"]),
    ("slow", "NOTE?", {}, [b"1", "0.002 s", b".", "0.002 s", b"5", "0.002 s", b"\n", "0.002 s"]), ("comma", "NOTE?", {}, [b"1,5\n"]), ("two values", "NOTE?", {}, [b"1.5,1\n"]), ("no end", "NOTE?", {}, [b"1.5"]),
    ("unasked", "NOTE?", {}, [b"+1.0000000E+00\n", b"1.5\n"]), ("unasked behind", "NOTE?", {}, [b"1.5\n", "0.03 s", b"READY\n"]), ("repeated", "NOTE 7", {}, ["7", "7"]),
    ("stalled", "NOTE 7", {"pause": 2.0}, ["2.0 s", "7"]), ("refuse", "NOTE 7", {}, ["refused 0.25 s", "reset"]), ("restart", "NOTE 7", {}, ["closed"]),
    ("different", "NOTE?", {}, [b"+1.6510000E+00\n"]), ("half-open", "NOTE?", {}, ["inf s"]), ("errors", "NOTE?", {}, [b"1.5\n"]),
    ("before", "NOTE 7", {"message": "NOTE 8"}, ["8", "7"]), ("instead", "NOTE 7", {"message": "NOTE 8"}, ["8"]), ("behind", "NOTE 7", {"message": "NOTE 8"}, ["7", "8"]),
])  # fmt: skip
def test_what_becomes_of_a_message(how: str, line: str, more: dict, found: list) -> None:
    assert happened(how, line, **more) == found


OF_COMMANDS = ("before", "behind", "errors")  # a query is answered as always


@pytest.mark.parametrize("how", [how for how in WAYS if how not in OF_COMMANDS])
def test_something_goes_wrong_in_each_way(how: str) -> None:
    assert happened(how, "NOTE?", "NOTE 8") != [b"1.5\n"]


@pytest.mark.parametrize(("trouble", "at"), [
    (Trouble("NOTE", "lost", nth=2), [1]), (Trouble("NOTE", "lost", times=2), [0, 1]), (Trouble("", "lost", command="NOTE", nth=1, times=9), [2]),
    (Trouble("any", "lost", times=9), [0, 1]), (Trouble("", "lost", command="any", times=9), [2, 4]), (Trouble("*IDN?", "lost"), [3])])  # fmt: skip
def test_which_messages_are_meant(trouble: Trouble, at: list[int]) -> None:
    troubles = Troubles([trouble])
    assert [
        i for i, line in enumerate(["NOTE?", "NOTE?;*OPC?", "NOTE 7", "*IDN?", "OUTP ON", "*RST"]) if troubles.at(line, is_question="?" in line)
    ] == at and troubles.done == len(at)


def test_a_flood_of_one_instrument_does_not_silence_another_that_is_waited_for_first(perform) -> None:
    lines = 'test t "T"\n    read u = load.voltage, amps = supply.current together\n    check u >= 1 V\n'
    flooding = troubled('query = "MEAS1:CURR", how = "flood"', "psu")
    run = perform(lines, change=lambda text: flooding(text).replace('wiring = { 1 = "output" }', 'wiring = { 1 = "output" }, answer_time = "60 ms"'))
    mended = [line for line in run.traffic if "! " in line]
    assert len(mended) == 1 and re.match("psu! (cut off in the middle of a reply|a reply without end)", mended[0]) and run.verdict == "pass", mended


LINES = 'test t "T"\n    set supply.voltage = 8 V\n    wait 30 ms\n    read v_in\n    check v_in >= 1 V\n'


@pytest.mark.parametrize(("name", "trouble", "verdict", "told"), [
    ("psu", 'query = "SOUR1:VOLT?", how = "different", nth = 3', "error", "voltage was set to 8 V, but the instrument has 8.801 V"), ("psu", 'command = "SOUR1:VOLT 8", how = "lost"', "error", "voltage was set to 8 V"),
    ("psu", 'command = "SOUR1:VOLT 8", how = "errors"', "error", '-222,"Data out of range;as it was told to"; psu reports '), ("psu", 'query = "SOUR1:VOLT?", how = "half-open"', "pass", ""),
    ("dmm", 'query = "READ?", how = "half-open"', "pass", ""), ("psu", 'query = "OUTP1?", how = "different", nth = 2, times = 99', "error", "output"),
    ("dmm", 'query = "READ?", how = "late", pause = ["0 s", "20 ms"], times = 9', "pass", "")])  # fmt: skip
def test_what_a_run_makes_of_it(perform, name: str, trouble: str, verdict: str, told: str) -> None:
    run = perform(LINES, change=troubled(trouble, name))
    assert run.verdict == verdict and told in run.outcome.reason.text + "".join(reason for _, reason in run.ended.values()), run.ended
    assert "connecting anew" in "".join(run.traffic) or "half-open" not in trouble


def test_a_random_pause_is_another_one_each_time_and_the_same_in_each_run() -> None:
    trouble, gauge = Trouble("NOTE", "late", times=9, pause=0.5, longest=2.0), Gauge()
    ends = (lambda data: None, lambda reset: None, lambda seconds: None)
    first, second = ([list(troubles.begin("NOTE?", gauge, *ends))[0] for _ in range(9)] for troubles in (Troubles([trouble]), Troubles([trouble])))
    assert first == second and len(set(first)) == 9 and 0.5 <= min(first) < 1 and 1.5 < max(first) <= 2


@pytest.mark.parametrize(("text", "told"), [
    ('dmmm: query = "READ?", how = "late"', "Did you mean dmm?"), ('dmm: query = "READ?", how = "latte"', "Did you mean late?"), ("dmm", "Write, for example: --trouble 'dmm:"), ("dmm: how", "Write, for example: --trouble 'dmm:"),
    ('dmm: how = "late"', "either query or command"), ('dmm: query = "R", how = "late", pause = ["2 s", "1 s"]', "the lower end first"), ('dmm: query = "R", how = "late", often = 3', "often")])  # fmt: skip
def test_a_trouble_that_is_none_is_refused(ibexite, text: str, told: str) -> None:
    done = ibexite("simulate", "bench.toml", "--trouble", text)
    assert done.returncode == 2 and told in done.stderr, done.stderr


def test_a_half_open_link_acknowledges_nothing_until_its_pause_is_over() -> None:
    """The system tells how many bytes of a connection are not acknowledged yet (SIOCOUTQ of Linux)."""
    peer = Peer("socket")
    peer.instrument.troubles = Troubles([Trouble("*IDN?", "half-open", pause=1.0)])
    with socket.create_connection(("127.0.0.1", int(peer.address.split("::")[2]))) as link:

        def outstanding() -> int:
            return struct.unpack("i", fcntl.ioctl(link.fileno(), termios.TIOCOUTQ, bytes(4)))[0]

        link.sendall(b"*OPC?\n")
        assert link.recv(100) == b"1\n" and outstanding() == 0
        link.sendall(b"*IDN?\n")
        time.sleep(0.2)
        link.sendall(b"*OPC?\n")
        time.sleep(0.2)
        assert outstanding() == 6, "it is not acknowledged"
        link.settimeout(60)
        assert link.recv(100) == b"1\n" and outstanding() == 0, "the cable is back, and nothing was lost"
    peer.close()
