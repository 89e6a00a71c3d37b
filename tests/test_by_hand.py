"""Instruments by hand: set, send, talk. What they switch on goes off again, however it ends."""

import contextlib
import fcntl
import os
import pty
import re
import select
import signal
import socket
import subprocess
import termios
import threading
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import NamedTuple

import pytest

from ibexite.bench.file import read_bench
from ibexite.errors import BenchError
from ibexite.records.gateway import open_store
from ibexite.simulate.device import ScpiDevice
from ibexite.station.hand_place import HandPlace
from ibexite.station.kept import NotThere, ask
from tests.conftest import IBEXITE, bench_on_links, children_of
from tests.runs import troubled
from tests.test_routes import MATRIX

RAW = ("[roles.supply]\n", "[roles.supply]\nraw = true\n")


class Hand(NamedTuple):
    """A served bench and the commands at the desk."""

    project: Path
    psu: ScpiDevice
    eload: ScpiDevice
    last: ScpiDevice
    do: Callable[..., subprocess.CompletedProcess[str]]

    def are_off(self) -> bool:
        return not self.psu.source.is_on and not self.eload.sink.is_on


@contextlib.contextmanager
def served(project: Path, ibexite, kinds: dict[str, str], *changes: tuple[str, str]) -> Iterator[Hand]:
    path = project / "bench.toml"
    for old, new in changes:
        assert old in path.read_text()
        path.write_text(path.read_text().replace(old, new))
    with bench_on_links(project, kinds) as server:
        psu, eload, *others = (one.device for one in server.instruments)
        yield Hand(project, psu, eload, others[-1], lambda *words, **options: ibexite("instruments", *words, **options))


@pytest.fixture
def hand(project: Path, ibexite) -> Iterator[Hand]:
    with served(project, ibexite, {"psu": "hislip", "eload": "socket"}, RAW) as found:
        yield found


def until(is_so: Callable[[], bool]) -> bool:
    """Waits for it."""
    deadline = time.monotonic() + 60
    while not is_so() and time.monotonic() < deadline:
        time.sleep(0.02)
    return is_so()


def keeper_of(project: Path) -> int:
    """The process that holds what is on."""
    path = str(HandPlace.of(read_bench(project / "bench.toml")).socket)
    listening = [line.split()[6] for line in Path("/proc/net/unix").read_text().splitlines() if line.endswith(path)]
    for number in (int(path.name) for path in Path("/proc").iterdir() if path.name.isdigit()):
        with contextlib.suppress(OSError):
            if any(str(handle.readlink()) == f"socket:[{listening[0]}]" for handle in Path(f"/proc/{number}/fd").iterdir()):
                return number
    raise AssertionError("nobody holds it")


# --- set and send ------------------------------------------------------------------------------------------------------


def test_what_is_set_on_stays_on_for_all_that_is_done_by_hand_and_goes_off(hand: Hand, ibexite) -> None:
    told = [hand.do("set", "supply", *words) for words in (("current_limit", "1.2 A"), ("voltage", "9", "V"), ("output", "on"))]
    assert hand.psu.source.is_on and [one.stdout.splitlines()[0] for one in told] == [
        "supply.current_limit = 1.2 A",
        "supply.voltage = 9 V",
        "supply.output = on",
    ]
    assert "it goes off with: ibexite instruments set supply output off, or when " in told[2].stderr and [one.stdout.count("\n") for one in told] == [1, 1, 1]
    assert hand.do("send", "supply", "SOUR1:VOLT:PROT?").stdout == "+1.8000000E+01\n", "its protection is written before it goes on"
    read = [hand.do("read", *words, "--traffic", "t.txt") for words in (("supply", "voltage"), ("v_in",), ("supply", "current", "--count", "2"))]
    assert [float(re.search(r"= ([\d.]+) V", one.stdout)[1]) for one in read[:2]] == pytest.approx([9, 9], abs=0.05)
    assert read[2].returncode == 0 and "psu > MEAS1:CURR?" in (hand.project / "t.txt").read_text()
    run = ibexite("run", "fm2_final.ibx", "--serial", "FC00400")
    assert run.returncode == 3 and "psu is in use by somebody by hand (process" in run.stdout and hand.psu.source.is_on
    assert hand.do("talk", "supply").returncode == 3
    assert hand.do("send", "supply", "SOUR1:VOLT?").stdout.startswith("+9.0")
    off = hand.do("set", "supply", "output", "off")
    assert off.stdout == "supply.output = off\n" and hand.are_off()
    assert hand.do("list").returncode == 0, "all are free again"


@pytest.mark.parametrize(("words", "code", "told"), [
    ("set supply voltage 17.1 V", 3, "beyond 17 V (the ceiling of supply.voltage)"), ("set supply voltage 5 A", 2, "It is a voltage"), ("set supply voltage five", 2, "five"),
    ("set supply output yes", 2, "on or off"), ("set suply output on", 2, "Did you mean supply?"), ("set supply outputs on", 2, "Did you mean output?"),
    ("set supply voltage 1e400 V", 2, ""), ("set load current -1 A", 3, "beyond 0 A"),
    ("send load|INP ON", 2, "Write raw = true into [roles.load]"), ("send load|*IDN?", 0, "Firnline,EL-45"), ("send eload|INP?", 0, "0"), ("send supply|MEAS1:VOLT?;CURR?", 0, ";"),
    ("send supply|FOO", 3, "psu reports -113,\"Undefined header;FOO\""), ("send supply|FOO?", 3, "silent for 2 s after 'FOO?'"), ("send suply|*IDN?", 2, "Did you mean supply?"), ("send supply|A\nB", 2, "no line of"),
    ("talk suply", 2, "Did you mean supply?"), ("talk ASRL", 2, "is not an address")])  # fmt: skip
def test_what_is_not_done_is_told_and_nothing_is_on(hand: Hand, words: str, code: int, told: str) -> None:
    command, _, text = words.partition("|")
    done = hand.do(*command.split(), *([text] if text else []))
    assert done.returncode == code and told in done.stdout + done.stderr and "internal" not in done.stderr, done.stdout + done.stderr
    assert hand.are_off() and hand.psu.source.voltage <= 17


def test_a_ceiling_holds_before_an_output_goes_on_and_after_raw_commands(hand: Hand) -> None:
    hand.psu.receive("SOUR1:VOLT 17.5")
    refused = hand.do("set", "supply", "output", "on")
    assert refused.returncode == 3 and "supply.voltage is at 17.5 V, beyond its ceiling of 17 V" in refused.stderr and not hand.psu.source.is_on
    beyond = hand.do("send", "supply", "OUTP1 ON")
    assert beyond.returncode == 3 and "was found at 17.5 V" in beyond.stderr and not hand.psu.source.is_on
    assert hand.do("send", "supply", "SOUR1:VOLT 9;:OUTP1 ON").returncode == 0 and hand.psu.source.is_on
    tripped = hand.do("send", "supply", "SOUR1:VOLT:PROT 5")
    assert "supply is off now: a protection has tripped" in tripped.stdout and not hand.psu.source.is_on


def test_what_others_have_switched_on_stays_on_until_it_is_switched_from_here(hand: Hand) -> None:
    hand.psu.receive("SOUR1:VOLT 5;:OUTP1 ON;:FOO")
    first = hand.do("set", "supply", "voltage", "6 V")
    assert "supply is on already" in first.stdout and 'in its error queue: -113,"Undefined header;FOO"' in first.stdout
    assert hand.psu.source.is_on and hand.psu.source.voltage == 6 and "supply is on;" not in first.stderr
    assert hand.do("list").returncode == 0, "nobody holds it"
    subprocess.run([*IBEXITE, "instruments", "talk", "supply"], cwd=hand.project, input="voltage 7 V", capture_output=True, text=True, timeout=60, check=True)
    assert hand.psu.source.is_on and hand.psu.source.voltage == 7
    hand.do("set", "supply", "output", "on")
    hand.do("set", "supply", "output", "off")
    assert hand.are_off()


def test_an_address_without_a_bench_file_can_be_asked_and_with_a_profile_switched(hand: Hand, tmp_path: Path) -> None:
    address = read_bench(hand.project / "bench.toml").instruments["psu"].address

    def run(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run([*IBEXITE, "instruments", "send", address, *words], cwd=tmp_path, capture_output=True, text=True, timeout=60, check=False)

    assert run("*IDN?").stdout.startswith("Firnline,PS-36")
    assert run("OUTP1 ON").returncode == 2 and not hand.psu.source.is_on, "nobody would know how to switch it off"
    assert run("OUTP1 ON", "--profile", "scpi-power-supply").returncode == 0 and hand.psu.source.is_on
    assert run("OUTP1 OFF", "--profile", "scpi-power-supply").returncode == 0 and hand.are_off()
    assert hand.do("send", address, "SOUR1:VOLT 99;:OUTP1 ON").returncode == 3, "an address that the bench file knows has its ceilings"
    assert hand.are_off()


@pytest.mark.parametrize(
    ("how", "kind"), [("the caller ends", "vxi11"), ("killed", "serial"), ("terminated", "hislip"), ("hung", "socket"), ("guardian killed", "usb")]
)
def test_what_was_set_on_goes_off_when(project: Path, ibexite, how: str, kind: str) -> None:
    heartbeat = ('position 1"', 'position 1"\nheartbeat = "1 s"')
    with served(project, ibexite, {"psu": kind, "eload": "vxi11"}, heartbeat) as hand:
        if how == "the caller ends":
            script = f"{' '.join(IBEXITE)} instruments set supply output on; {' '.join(IBEXITE)} instruments set load input on; echo done"
            shell = subprocess.run(["bash", "-c", script], cwd=project, capture_output=True, text=True, timeout=60, check=False)
            assert "load.input = on" in shell.stdout
        else:
            assert "is on" in hand.do("set", "supply", "output", "on").stderr and hand.psu.source.is_on
            assert "is on" in hand.do("set", "load", "input", "on").stderr and hand.eload.sink.is_on
            keeper = keeper_of(project)
            process = type("Process", (), {"pid": keeper})
            number = {"killed": signal.SIGKILL, "terminated": signal.SIGTERM, "hung": signal.SIGSTOP, "guardian killed": signal.SIGKILL}[how]
            os.kill(children_of(process, "guardian_process")[0] if how == "guardian killed" else keeper, number)
        assert until(hand.are_off)
        assert until(lambda: hand.do("list").returncode == 0), "and all instruments are free"
        after = hand.do("set", "supply", "voltage", "5 V").stdout
    assert ("the guardian switched off supply" in after) == (how in ("killed", "hung"))


@pytest.mark.parametrize(("said", "error"), [(b"", NotThere), (b'{"taken": true}\n', BenchError), (b'{"taken": true}\n{"told": [', BenchError)])
def test_what_was_taken_is_never_sent_again(project: Path, said: bytes, error: type[Exception]) -> None:
    """Also if it was killed with bytes on their way to it, which resets the connection."""
    place = HandPlace.of(read_bench(project / "bench.toml"))
    with socket.socket(socket.AF_UNIX) as listener:
        listener.bind(str(place.socket))
        listener.listen()

        def take() -> None:
            client, _ = listener.accept()
            client.recv(1 if said else 4096)
            client.sendall(said)
            client.close()

        thread = threading.Thread(target=take)
        thread.start()
        with pytest.raises(error):
            ask(place, {"do": "send", "text": "x" * 100})
        thread.join()
    place.socket.unlink()


def test_two_at_once_share_the_bench_and_it_goes_off_in_its_order(hand: Hand) -> None:
    words = [
        ("set", "supply", "output", "on"),
        ("set", "load", "current", "100 mA"),
        ("set", "load", "input", "on"),
        ("send", "supply", "*IDN?"),
        ("set", "supply", "voltage", "7 V"),
    ]
    started = [
        subprocess.Popen([*IBEXITE, "instruments", *one], cwd=hand.project, text=True, stdout=subprocess.PIPE, stderr=subprocess.STDOUT) for one in words
    ]
    told = [one.communicate(timeout=60)[0] for one in started]
    assert [one.returncode for one in started] == [0] * len(words), told
    assert hand.psu.source.is_on and hand.eload.sink.is_on and hand.psu.source.voltage == 7
    hand.do("set", "supply", "output", "off")
    assert hand.eload.sink.is_on, "each by itself"
    hand.do("set", "load", "input", "off")
    assert hand.are_off()


def test_an_output_that_does_not_go_off_is_told_and_the_guardian_goes_on(project: Path, ibexite) -> None:
    path = project / "bench.toml"
    path.write_text(troubled('command = "OUTP1 OFF", how = "lost", nth = 1, times = 4', "psu")(path.read_text()))
    with served(project, ibexite, {}) as hand:
        hand.do("set", "supply", "output", "on")
        first = hand.do("set", "supply", "output", "off")
        assert first.returncode == 3 and "output did not go off" in first.stderr and "supply is on" in first.stderr
        assert until(lambda: hand.do("set", "supply", "output", "off").returncode == 0) and hand.are_off()


def test_what_is_found_on_at_the_end_alone_is_told_too(project: Path, ibexite) -> None:
    path = project / "bench.toml"
    path.write_text(troubled('query = "OUTP1?;*IDN?", how = "different", times = 999', "psu")(path.read_text()))
    with served(project, ibexite, {}) as hand:
        done = hand.do("set", "supply", "voltage", "5 V")
    assert done.returncode == 3 and "supply is not off: output did not go off" in done.stderr and done.stdout.endswith("supply.voltage = 5 V\n")


# --- talk --------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(("lines", "told"), [
    ("voltage 5 V\nset voltage", ["supply.voltage = 5 V"] * 2), ("output on\nread voltage\non", ["supply.output = on", "supply.voltage = ", "supply is on", "supply was switched off"]),
    ("set voltage = 4 V\nOUTP ON\nv_in\nOUTP1 OFF", ["supply.voltage = 4 V", "v_in = ", "supply is off now"]), ("load.input on\noff\non", ["load.input = on", "all is off", "nothing is on"]),
    ('meter.dc_voltage range="10 V" channel=103\nmeter.dc_voltage range', ["meter.dc_voltage = ", "meter has no"]), ("reset\ndo clear", ["supply: reset is done", "supply: clear is done"]),
    ("? voltage\n?\n? reset\n? volt", ["writes SOUR1:VOLT {value}", "ceiling 17 V", "sends *RST", "Did you mean voltage?"]), ("voltge 3\nvoltage 99 V\nvoltage 5 A", ["Did you mean voltage?", "beyond 17 V", "It is a voltage"]),
    ("send SOUR1:VOLT?;CURR?\n*IDN?\nFOO", [";", "Firnline,PS-36", "psu reports -113"]), ("over_voltage\n\nnothing.voltage 3\nread\nread v_in x", ["supply.over_voltage = ", "there is no role 'nothing'", "read what?", "not NAME=VALUE"])])  # fmt: skip
def test_a_line_at_the_prompt(hand: Hand, lines: str, told: list[str]) -> None:
    done = subprocess.run([*IBEXITE, "instruments", "talk", "supply"], cwd=hand.project, input=lines, capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 0, done.stderr
    place = 0
    for text in told:
        assert text in done.stdout[place:], done.stdout
        place = done.stdout.index(text, place) + len(text)
    assert hand.are_off()


class Terminal:
    """A prompt in a terminal."""

    def __init__(self, project: Path, state: Path, *words: str) -> None:
        environment = {**os.environ, "XDG_STATE_HOME": str(state), "TERM": "dumb"}
        self.handle, other = pty.openpty()
        self.process = subprocess.Popen([*IBEXITE, "instruments", "talk", *words], cwd=project, env=environment, stdin=other, stdout=other, stderr=other,
                                        start_new_session=True, preexec_fn=lambda: fcntl.ioctl(0, termios.TIOCSCTTY))  # fmt: skip
        os.close(other)
        self.seen = ""

    def type(self, text: str, answer: str = "") -> None:
        """Types, and waits until the answer is shown. One that comes before the prompt could be lost with the line."""
        place = len(self.seen)
        os.write(self.handle, text.encode())
        deadline = time.monotonic() + 60
        while not re.search(answer, self.seen[place:], re.DOTALL):
            assert time.monotonic() < deadline, self.seen
            self.listen()

    def listen(self) -> None:
        if select.select([self.handle], [], [], 0.1)[0]:
            with contextlib.suppress(OSError):
                self.seen += os.read(self.handle, 4096).decode()

    def ended(self) -> int:
        """The exit code; what is shown is read until then."""
        deadline = time.monotonic() + 60
        while self.process.poll() is None:
            assert time.monotonic() < deadline, self.seen
            self.listen()
        return self.process.returncode


@pytest.mark.parametrize(
    ("how", "code"),
    [("quit\n", 0), ("\x04", 0), (signal.SIGTERM, 4), (signal.SIGHUP, 4), (signal.SIGKILL, -9), ("the terminal is closed", 4), (signal.SIGSTOP, -9)],
)
def test_the_end_of_a_prompt_switches_off(project: Path, ibexite, tmp_path: Path, how: object, code: int) -> None:
    heartbeat = ('position 1"', 'position 1"\nheartbeat = "1 s"')
    with served(project, ibexite, {"psu": "hislip"}, heartbeat) as hand:
        terminal = Terminal(project, tmp_path, "supply")
        for typed, shown in (
            ("", "supply> "),
            ("outp\t", "output "),
            ("on\n", "output = on.*> "),
            ("voltage 5 V\x03", "> "),
            ("voltage 6 V\n", "voltage = 6 V.*> "),
        ):
            terminal.type(typed, shown)  # Ctrl-C gives up the line, and that alone
        time.sleep(4 if how == "quit\n" else 0)  # somebody thinks, longer than a run may hang
        assert hand.psu.source.is_on and hand.psu.source.voltage == 6
        if how == "the terminal is closed":
            os.close(terminal.handle)
            terminal.process.wait(60)
        elif how == "its guardian is killed":
            os.kill(children_of(terminal.process, "guardian_process")[0], signal.SIGKILL)
        elif isinstance(how, str):
            terminal.type(how)
        else:
            terminal.process.send_signal(how)
        assert (terminal.process.returncode if terminal.process.poll() is not None else terminal.ended()) == code
        assert until(hand.are_off)
        if how == "quit\n":
            assert "supply was switched off" in terminal.seen
            again = Terminal(project, tmp_path, "supply")
            again.type("", "supply> ")
            again.type("\x1b[A\x1b[A", "voltage 6 V")  # the history is kept
            again.type("\x15quit\n")
            assert again.ended() == 0


def test_a_line_that_is_interrupted_leaves_no_reply_behind(project: Path, ibexite, tmp_path: Path) -> None:
    path = project / "bench.toml"
    path.write_text(troubled('query = "MEAS1:VOLT", how = "late", pause = "1.5 s", nth = 1, times = 1', "psu")(path.read_text()))
    with served(project, ibexite, {"psu": "serial"}):
        terminal = Terminal(project, tmp_path, "supply")
        terminal.type("", "supply> ")
        terminal.type("MEAS1:VOLT?\n", "\n")
        time.sleep(0.3)
        terminal.type("\x03", "interrupted.*> ")
        terminal.type("SOUR1:VOLT:PROT?\n", r"\+4.0000000E\+01.*> ")
        terminal.type("quit\n")
        assert terminal.ended() == 0


def test_a_prompt_that_cannot_switch_off_says_so(project: Path, ibexite) -> None:
    path = project / "bench.toml"
    path.write_text(troubled('command = "OUTP1 OFF", how = "lost", nth = 1, times = 999', "psu")(path.read_text()))
    with served(project, ibexite, {}) as hand:
        done = subprocess.run(
            [*IBEXITE, "instruments", "talk", "supply"], cwd=project, input="output on\nload.input on", capture_output=True, text=True, timeout=60, check=False
        )
        assert done.returncode == 3 and "supply is not off: output did not go off" in done.stderr
        assert "load was switched off" in done.stdout and "supply was switched off" not in done.stdout and not hand.eload.sink.is_on


def test_with_simulate_the_stand_ins_end_with_the_command(ibexite) -> None:
    done = ibexite("instruments", "set", "supply", "output", "on", "--simulate")
    assert done.returncode == 0 and "supply is on; the stand-ins end with this command" in done.stderr
    assert "Firnline,PS-36" in ibexite("instruments", "send", "supply", "*IDN?", "--simulate").stdout


def test_what_is_beyond_a_level_for_too_long_is_switched_off_between_two_commands(project: Path, ibexite) -> None:
    change = ('ceiling    = { current = "1.25 A" }', 'ceiling = { current = "1.25 A" }\nno_longer = { current = ["0.5 A", "100 ms"] }')
    with served(project, ibexite, {"eload": "socket"}, change) as hand:
        hand.do("set", "load", "current", "0.4 A")
        assert hand.do("set", "load", "input", "on").returncode == 0 and hand.eload.sink.is_on
        hand.do("set", "load", "current", "0.6 A")
        assert until(lambda: not hand.eload.sink.is_on)
        told = hand.do("set", "load", "current", "0.4 A")
        assert "load.current was beyond 500 mA for 0.1 s. All outputs were switched off" in told.stdout + told.stderr


def closed(matrix: ScpiDevice) -> set[int]:
    """The relays of a simulated switch that are closed."""
    return {channel for (name, channel), value in matrix.values.items() if name == "closed" and value}


def test_routes_are_switched_by_hand_by_the_rules_of_the_bench(project: Path, ibexite) -> None:
    with served(project, ibexite, {"psu": "socket"}, ("\n[simulation]", MATRIX + "\n[simulation]")) as hand:
        matrix = hand.last
        told = hand.do("connect", "fixture", "tap_out")
        assert told.returncode == 0 and told.stdout.splitlines() == ["fixture is connected", "tap_out is connected"], told
        assert "its routes go with: ibexite instruments disconnect" in told.stderr and {201, 202} == closed(matrix)
        refused = hand.do("connect", "bypass")
        assert refused.returncode == 3 and "bypass must not be connected together with fixture" in refused.stderr and {201, 202} == closed(matrix)
        assert hand.do("connect", "tap_in").stdout.splitlines() == ["tap_out is disconnected", "tap_in is connected"]
        store = open_store(project / "records")
        counted = {channel: times for (identity, channel), times in store.closings().items() if "SIMULATED-matrix" in identity}
        store.close()
        assert counted == {201: 1, 202: 1, 203: 1, 204: 1}, "closings by hand wear a relay as those of runs"
        hand.do("set", "supply", "current_limit", "1 A")
        hand.do("set", "supply", "output", "on")
        refused = hand.do("disconnect", "fixture")
        assert refused.returncode == 3 and "fixture may only be switched while supply is off, and it is on" in refused.stderr and 201 in closed(matrix)
        os.kill(keeper_of(project), signal.SIGKILL)  # the guardian switches off, then opens
        assert until(lambda: not closed(matrix)) and hand.are_off()
        assert hand.do("connect", "fixtur").returncode == 2
