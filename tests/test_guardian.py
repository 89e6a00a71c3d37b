"""The guardian: what it switches off when a run has died, over which connection, and whom it believes."""

import contextlib
import json
import os
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path

import numpy as np
import pytest

from ibexite.analysis.curve import ArrayCurve, Sampling, StreamedCurve
from ibexite.bench import guardian_process
from ibexite.bench.guardian import Guardian
from ibexite.demo.project import make_project
from ibexite.engine.long_work import MUCH, announced
from ibexite.simulate.server import FRONTS
from ibexite.stop import Stop
from tests.conftest import HEADER, bench_on_links, children_of
from tests.test_commands import begun, change, settled


class Instrument:
    """A listener that notes what it is told and answers questions with `state`."""

    def __init__(self, state: bytes = b"0\n", greeting: bytes = b"") -> None:
        self.heard = b""
        self._state, self._greeting = state, greeting
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        while True:
            try:
                link = self._listener.accept()[0]
            except OSError:
                return
            with link, contextlib.suppress(OSError):
                link.sendall(self._greeting)
                rest = b""
                while data := link.recv(4096):
                    self.heard += data
                    *lines, rest = (rest + data).split(b"\n")
                    for line in lines:
                        if line.endswith(b"?"):
                            link.sendall(b"Firnline,PS\n" if line == b"*IDN?" else self._state)

    def close(self) -> None:
        self._listener.close()


def guarded(
    tmp_path: Path, instrument: Instrument, *, farewell: bytes, connected: bool = True, signals: tuple[int, ...] = (), more: dict | None = None
) -> list[dict]:
    """What the guardian wrote into the journal after the run ended with a farewell (b"" for a sudden death), and what
    signals it was sent before."""
    ours, theirs = socket.socketpair()
    program = [sys.executable, "-I", "-S", guardian_process.__file__, str(theirs.fileno())]
    process = subprocess.Popen(program, pass_fds=[theirs.fileno()])
    theirs.close()
    journal = os.open(tmp_path / "journal", os.O_CREAT | os.O_WRONLY | os.O_APPEND)
    link = socket.create_connection(("127.0.0.1", instrument.port))
    deed = {"role": "supply", "instrument": "psu", "link": {"kind": "socket", "host": "127.0.0.1", "port": instrument.port, "timeout": 0.5, "end": "\n"},
            "identity": ["*IDN?", "firnline,PS"], "simulated": True,
            "commands": ["OUTP OFF"], "questions": [["OUTP?", ["0|OFF"], ["1|ON"]]]} | (more or {})  # fmt: skip
    plan = {"deeds": [deed], "handles": ["psu", "journal"], "began": 0.0}
    socket.send_fds(ours, [json.dumps({"watch": plan}).encode() + b"\n"], [link.fileno(), journal])
    assert ours.recv(10) == b"ok\n"
    if not connected:
        ours.sendall(b'{"release": "psu"}\n')
        assert ours.recv(10) == b"ok\n"
    link.sendall(b"MEAS:VO")  # a half-sent line
    link.close()
    os.write(journal, b'{"e":"Row","t":')  # and a torn one in the journal
    for number in signals:
        process.send_signal(number)
    ours.sendall(farewell) if farewell else None
    ours.close()
    process.wait(120)
    os.close(journal)
    return [json.loads(line) for line in (tmp_path / "journal").read_text().splitlines()[1:] if line]


@pytest.mark.parametrize("connected", [True, False])
def test_the_guardian_switches_off_over_the_open_connection_or_a_new_one(tmp_path: Path, connected: bool) -> None:
    instrument = Instrument()
    entries = guarded(tmp_path, instrument, farewell=b"", connected=connected)
    instrument.close()
    assert [(e["e"], e["by"], e["roles"]) for e in entries] == [("MadeSafe", "guardian", [{"role": "supply", "problem": ""}])]
    at_once = b"MEAS:VO\nOUTP OFF\n" if connected else b"MEAS:VO"
    assert instrument.heard == at_once + b"\nOUTP OFF\n\n*IDN?\n\nOUTP OFF\n\nOUTP?\n"


def test_a_guardian_keeps_the_pace_of_an_instrument(tmp_path: Path) -> None:
    """Each command is a message of its own then."""
    instrument = Instrument()
    guarded(tmp_path, instrument, farewell=b"", more={"pace": 0.05, "commands": ["OUTP OFF", "VOLT 0"]})
    instrument.close()
    assert instrument.heard == b"MEAS:VO" + b"\nOUTP OFF\nVOLT 0\n" + b"\nOUTP OFF\nVOLT 0\n\n*IDN?\n\nOUTP OFF\nVOLT 0\n\nOUTP?\n"


def test_the_guardian_says_what_did_not_go_off(tmp_path: Path) -> None:
    instrument = Instrument(state=b"1\n")
    entries = guarded(tmp_path, instrument, farewell=b"")
    instrument.close()
    assert entries[0]["roles"] == [{"role": "supply", "problem": "OUTP? answered 1"}]


@pytest.mark.parametrize(("farewell", "told"), [
    (b"", [["supply"], ["supply"]]),  # at once, for this process may be ended too; and when it gives up
    (b'{"take over": ["supply"]}\n', [["supply"]]), (b'{"take over": ["load"]}\n', [[]])])  # fmt: skip
def test_the_guardian_goes_on_with_what_a_run_could_not_switch_off(tmp_path: Path, farewell: bytes, told: list[list[str]]) -> None:
    instrument = Instrument(state=b"1\n")
    entries = guarded(tmp_path, instrument, farewell=farewell)
    instrument.close()
    assert [[role["role"] for role in entry["roles"]] for entry in entries] == told


def test_the_guardian_leaves_a_run_alone_that_said_good_bye(tmp_path: Path) -> None:
    instrument = Instrument()
    assert guarded(tmp_path, instrument, farewell=b'{"bye": true}\n') == []
    instrument.close()
    assert b"OUTP" not in instrument.heard


def test_a_guardian_that_is_left_something_to_do_was_there(tmp_path: Path) -> None:
    with (tmp_path / "journal").open("ab") as journal:
        for left in ([], ["supply"]):
            guardian = Guardian(journal.fileno())
            assert guardian.dismiss(left) is True
            guardian._process.wait(60)


def test_a_link_that_takes_nothing_does_not_keep_the_guardian_from_the_others() -> None:
    full, unread = socket.socketpair()
    free, heard = socket.socketpair()
    full.setblocking(False)
    with contextlib.suppress(BlockingIOError):
        while True:
            full.send(b"x" * 65536)
    full.setblocking(True)
    deed = {"link": {"kind": "socket", "host": "127.0.0.1", "port": 1, "timeout": 0.1, "end": "\n"}, "identity": ["*IDN?", "F"], "simulated": True, "commands": ["OUTP OFF"],
            "questions": []}  # fmt: skip
    plan = {"deeds": [{**deed, "role": "load", "instrument": "eload"}, {**deed, "role": "supply", "instrument": "psu"}], "began": 0.0}
    handles = {"eload": full.detach(), "psu": free.detach()}
    guardian = threading.Thread(target=guardian_process.make_safe, args=(plan, handles, None), daemon=True)
    guardian.start()
    heard.settimeout(20)
    with unread, heard:
        assert heard.recv(100) == b"\nOUTP OFF\n"
        guardian.join(20)


def test_a_guardian_that_cannot_answer_any_more_makes_safe_all_the_same(tmp_path: Path) -> None:
    instrument = Instrument()
    entries = guarded(tmp_path, instrument, farewell=b'{"are you there": true}\n')  # and dies before the answer comes
    instrument.close()
    assert [e["roles"] for e in entries] == [[{"role": "supply", "problem": ""}]]


def test_signals_do_not_end_a_guardian(tmp_path: Path) -> None:
    instrument = Instrument()
    entries = guarded(tmp_path, instrument, farewell=b"", signals=(signal.SIGINT, signal.SIGTERM, signal.SIGHUP))
    instrument.close()
    assert [e["roles"] for e in entries] == [[{"role": "supply", "problem": ""}]]


@pytest.mark.parametrize("greeting, told", [
    (b"0\n" * 3, {"OUTP? answered 1"}),  # late answers to somebody else, which say that it is off
    (b"+1.25\n" * 200_000, {"it talks without end", "it does not answer"})])  # fmt: skip  # as fast as both are
def test_a_guardian_believes_no_answer_that_it_has_not_asked_for(tmp_path: Path, greeting: bytes, told: set[str]) -> None:
    instrument = Instrument(state=b"1\n", greeting=greeting)
    entries = guarded(tmp_path, instrument, farewell=b"")
    instrument.close()
    assert {role["problem"] for entry in entries for role in entry["roles"]} <= told
    assert instrument.heard.count(b"OUTP OFF") >= 2


@pytest.mark.parametrize("kind", sorted(FRONTS))
def test_whatever_the_link_a_run_that_is_killed_leaves_nothing_on(project: Path, kind: str) -> None:
    with bench_on_links(project, {"psu": kind, "eload": kind}) as server:
        psu, eload, _ = (one.device for one in server.instruments)
        process, journal = begun(project, simulate=False)
        assert psu.source.is_on and eload.sink.is_on
        process.kill()
        process.communicate()
        settled(journal)
        assert not psu.source.is_on and not eload.sink.is_on
    (entry,) = [json.loads(line) for line in journal.read_text().splitlines() if '"MadeSafe"' in line]
    assert [(role["role"], role["problem"]) for role in entry["roles"]] == [("load", ""), ("supply", "")]


@pytest.mark.parametrize("number", [signal.SIGSTOP, signal.SIGKILL])
def test_a_run_that_hangs_or_dies_is_ended_and_the_bench_made_safe(project: Path, number: int) -> None:
    change(project, "bench.toml", 'name       = "FM-2 line, position 1"', 'name = "FM-2 line, position 1"\nheartbeat = "1 s"')
    with bench_on_links(project, {"psu": "hislip", "eload": "vxi11"}) as server:
        psu, eload, _ = (one.device for one in server.instruments)
        process, journal = begun(project, simulate=False)
        process.send_signal(number)
        settled(journal)
        assert not psu.source.is_on and not eload.sink.is_on
        process.communicate(timeout=60)
    assert process.returncode == -signal.SIGKILL
    told = [json.loads(line) for line in journal.read_text().splitlines() if '"Problem"' in line]
    assert ["the run gave no sign of life for" in entry["text"] for entry in told] == [True] * (number == signal.SIGSTOP)


@pytest.mark.parametrize(("looks", "seconds"), [
    ([(10.0, 10.2), (10.4, 10.45), (10.4, 10.7), (10.4, 10.95)], 0.55),  # (the last sign of life, the look at it)
    ([(10.0, 10.2), (10.0, 60.2)], 0.2 + 2 * guardian_process.LOOK),  # the computer stood still
    ([(10.0, 10.2), (10.0, 60.2), (60.3, 60.45)], 0.15), ([(10.0, 60.2)], 2 * guardian_process.LOOK),
    ([(10.0, 10.0 + 0.25 * look) for look in range(1, 41)], 10.0), ([(30.0, 10.0 + 0.25 * look) for look in range(1, 41)], -10.0)])  # fmt: skip
def test_a_run_is_silent_only_while_it_could_have_given_a_sign_of_life(looks: list[tuple[float, float]], seconds: float) -> None:
    silence = guardian_process.Silence()
    assert [silence.seen(*look) for look in looks][-1] == pytest.approx(seconds)


@pytest.mark.parametrize(("counts", "told"), [((5,), 0.0), ((MUCH,), 0.0), ((MUCH + 1,), 5.0), ((MUCH, 2 * MUCH), 15.0)])
def test_a_run_says_before_it_computes_much_that_it_may_take_longer(counts: tuple[int, ...], told: float) -> None:
    curves = [ArrayCurve({"time": np.arange(n)}, np.full(n, 2.0)) for n in counts]
    recordings = [StreamedCurve(Sampling("time", 0.0, 1e-6), n, lambda begin, end: np.full(end - begin, 2.0)) for n in counts]
    for given in (curves, recordings):
        stop, beats = Stop(), [0.0]
        stop.beat = beats.append
        assert announced(lambda *curves, add: sum(c.values[0] for c in curves) + add, stop)(*given, add=1) == 2 * len(counts) + 1
        assert max(beats) == pytest.approx(told, abs=1e-4) and beats[-1] == 0, "and what hangs behind it has no longer"


def test_a_run_goes_on_after_the_computer_stood_still(project: Path) -> None:
    change(project, "bench.toml", 'name       = "FM-2 line, position 1"', 'name = "FM-2 line, position 1"\nheartbeat = "1 s"')
    with bench_on_links(project, {"psu": "hislip", "eload": "vxi11"}):
        process, _ = begun(project, simulate=False)
        (guardian,) = children_of(process, "guardian_process")
        for number in (signal.SIGSTOP, signal.SIGCONT):
            os.kill(guardian, number)
            time.sleep(1.5 * guardian_process.LOOK)  # it looks before the run has come to itself
            process.send_signal(number)
            time.sleep(8.0 if number == signal.SIGSTOP else 0.0)
        process.send_signal(signal.SIGTERM)
        out, _ = process.communicate(timeout=60)
    assert process.returncode == 4 and "outputs off: load, supply" in out, out


def test_waits_questions_and_slow_instruments_beat_on(ibexite, project: Path) -> None:
    lines = 'test t "T"\n    wait 2.5 s\n    read v = v_out, u = v_in, w = v_out\n    check v >= 1 V\n'
    (project / "slow.ibx").write_text(HEADER + lines)
    text = (project / "bench.toml").read_text().replace("[bench]", '[bench]\nheartbeat = "1 s"')
    (project / "bench.toml").write_text(text.replace('identity = "Firnline,DM-65S"', 'identity = "Firnline,DM-65S"\nanswer_time = "1.3 s"'))
    done = ibexite("run", "slow.ibx", "--serial", "FC00400", "--simulate", "--real-time")
    assert done.returncode == 5 and "PASS" in done.stdout, done.stdout + done.stderr


def test_without_its_guardian_a_run_does_not_go_on_but_is_made_safe(project: Path) -> None:
    """The guardian is killed; at the next broken connection the run notices, ends, and switches off by itself."""
    change(project, "bench.toml", "[instruments.dmm.simulated]", "[instruments.dmm.simulated]\ntrouble = "
           '[{ query = "READ?", how = "close", nth = 40, times = 9 }]')  # fmt: skip
    process, _ = begun(project)
    (guardian,) = children_of(process, "guardian_process")
    os.kill(guardian, signal.SIGKILL)
    out, _ = process.communicate(timeout=120)
    assert "the guardian process does not answer" in out and "outputs off: load, supply" in out
    assert "the guardian process had ended before the run did" in out
    assert process.returncode == 3


def test_two_runs_have_two_guardians(project: Path, tmp_path: Path) -> None:
    second = tmp_path / "second"
    make_project(second)
    with bench_on_links(project, {"psu": "hislip"}) as one, bench_on_links(second, {"eload": "vxi11"}) as other:
        first, journal = begun(project, simulate=False, pause="500 ms")  # both are there until they are ended
        beside, _ = begun(second, simulate=False, pause="500 ms")
        guardians = [children_of(process, "guardian_process") for process in (first, beside)]
        first.kill()
        first.communicate()
        settled(journal)
        is_on = [server.instruments[0].device.source.is_on for server in (one, other)]
        beside.terminate()
        beside.communicate(timeout=60)
        assert not other.instruments[0].device.source.is_on and beside.returncode == 4
    assert is_on == [False, True] and [len(found) for found in guardians] == [1, 1] and guardians[0] != guardians[1]
