"""Edges of use: interruption at each kind of moment, odd instruments, odd files, several processes at a time."""

from __future__ import annotations

import contextlib
import json
import os
import pty
import re
import select
import signal
import socket
import subprocess
import sys
import threading
import time
from pathlib import Path
from typing import NoReturn

import pytest

from ibexite import events
from ibexite.bench.file import read_bench
from ibexite.cli.lasting import LastingStream
from ibexite.cli.signals import Signals
from ibexite.engine.preview import preview
from ibexite.errors import MistakeError, RecordsError
from ibexite.instruments.profile import SHIPPED
from ibexite.language.check import vet
from ibexite.language.source import Source, decode_text, read_source
from ibexite.records.gateway import open_lookup
from ibexite.records.journal import Journal
from ibexite.station.project import find_project
from ibexite.station.simulated_bench import SimulatedBench
from ibexite.station.stand_ins import make_plan
from ibexite.stop import Stop
from tests.conftest import GOOD, HEADER, IBEXITE, Recorded, own_addresses
from tests.runs import emitted
from tests.test_records import EVENTS


class Terminal:
    """A run in a pseudo-terminal: read what it shows until some text comes, type, send keys."""

    def __init__(self, project: Path, *arguments: str) -> None:
        self._main, terminal = pty.openpty()
        self.process = subprocess.Popen([*IBEXITE, *arguments], cwd=project, stdin=terminal, stdout=terminal,
                                        stderr=terminal, start_new_session=True)  # fmt: skip
        os.close(terminal)
        self.seen = ""

    def until(self, text: str) -> None:
        deadline = time.monotonic() + 110
        while text not in self.seen:
            if time.monotonic() > deadline:
                self._give_up(f"{text!r} does not come")
            if select.select([self._main], [], [], 0.1)[0]:
                self.seen += os.read(self._main, 65536).decode(errors="replace")

    def rest(self) -> int:
        """Reads to the end; the exit code."""
        deadline = time.monotonic() + 110
        try:
            while time.monotonic() < deadline:
                if select.select([self._main], [], [], 0.1)[0]:
                    self.seen += os.read(self._main, 65536).decode(errors="replace")
        except OSError:
            pass
        if self.process.poll() is None and time.monotonic() > deadline:
            self._give_up("it does not end")
        os.close(self._main)
        return self.process.wait(120)

    def _give_up(self, why: str) -> NoReturn:
        stands = Path(f"/proc/{self.process.pid}/wchan").read_text()
        os.killpg(self.process.pid, signal.SIGKILL)
        self.process.wait()
        os.close(self._main)
        pytest.fail(f"{why}; it waits in {stands}; so far: {self.seen}")


def test_ctrl_c_at_a_question_ends_the_run_in_good_order(project: Path) -> None:
    terminal = Terminal(project, "run", "fm2_final.ibx", "--serial", GOOD, "--simulate", "--real-time", "--no-report")
    terminal.until("Press Enter when it is done")
    os.killpg(terminal.process.pid, signal.SIGINT)  # as a terminal does: to every process of the group
    assert terminal.rest() == 4
    assert "outputs off: load, supply" in terminal.seen and "ABORTED" in terminal.seen
    assert "stopped by Ctrl-C" in terminal.seen


HANG = "import time, signal\nsignal.signal(signal.SIGINT, signal.SIG_IGN)\ntime.sleep(60)\n"
FUNCTION = '@ibexite.function(returns="V", timeout="60 s", x="V")\ndef hang(x):\n    import time\n    time.sleep(60)\n'


@pytest.mark.parametrize("line", [
    "wait 120 s", "sweep u from 0 to 900000 step 1\n        read again = v_out", "repeat n 900 times every 120 s\n        read again = v_out",
    "search u from 9 V to 4 V resolution 1 mV until u < 4 V\n        wait 5 s", 'call "hang.py" timeout 50 s', "let x = hang(1 V)",
    "wait reading x = v_in every 9 s until x > 90 V timeout 1 h", 'ask look = yes_no "Is it lit?"', 'ask adjust v_in within 99 V +/- 1 V "Turn."',
    "watch v_in between 0 V and 20 V every 100 ms\n        wait 120 s",
])  # fmt: skip
def test_ctrl_c_is_heard_at_once_wherever_the_run_is(project: Path, line: str) -> None:
    (project / "hang.py").write_text(HANG)
    (project / "maths.py").write_text("import ibexite\n" + FUNCTION)
    use = HEADER.replace("needs\n", 'use python "maths.py"\n\nneeds\n', 1)
    (project / "long.ibx").write_text(
        use + f'test t "T"\n    show "now"\n    {line}\n    read v_in\n    check v_in >= 1 V\n'
    )
    terminal = Terminal(project, "run", "long.ibx", "--serial", GOOD, "--simulate", "--real-time", "--no-report")
    terminal.until("now")
    time.sleep(0.3)
    terminal.process.send_signal(signal.SIGINT)
    assert terminal.rest() == 4  # long before the line would have ended by itself
    assert "outputs off: load, supply" in terminal.seen


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM])
@pytest.mark.parametrize("moment", ["margin", "PASS (trial)"])  # while `after unit` waits; when it has ended
@pytest.mark.parametrize("units", [1, 2])
def test_a_signal_at_the_end_changes_no_verdict_and_no_further_unit_is_run(
    project: Path, units: int, moment: str, number: int
) -> None:
    body = (
        'test t "T"\n    read v_in\n    check v_in >= 1 V\nafter unit\n    call "mark.py" timeout 20 s\n    wait 2 s\n'
    )
    (project / "mark.py").write_text("open('cleaning', 'w').close()\nprint('{}')")
    (project / "short.ibx").write_text(HEADER + body)
    (project / "units.csv").write_text(f"serial\n{GOOD}\nFC00413\n")
    which = ["--serial", GOOD] if units == 1 else ["--table", "units.csv"]
    terminal = Terminal(project, "run", "short.ibx", *which, "--simulate", "--real-time")
    terminal.until(moment)
    while not (project / "cleaning").exists():
        time.sleep(0.01)
    terminal.process.send_signal(number)
    assert terminal.rest() == (5 if units == 1 else 4), terminal.seen
    assert terminal.seen.count("PASS (trial)") == 1 and "outputs off: load, supply" in terminal.seen
    with contextlib.closing(open_lookup(project / "records")) as lookup:
        assert [run["serial"] for run in lookup.runs() if run["verdict"] == "pass"] == [GOOD]


def test_ctrl_c_ends_with_its_code_also_where_python_would_die_of_it(tmp_path: Path) -> None:
    (tmp_path / "begin.py").write_text(
        "from ibexite.cli import main\nmain.program = lambda **_: exec('raise KeyboardInterrupt')\nmain.main()"
    )
    done = subprocess.run([sys.executable, "-m", "begin"], cwd=tmp_path, capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (4, "interrupted\n")


@pytest.mark.parametrize("module", ["ibexite.simulate.server", "ibexite.station.report_helper"])
def test_a_helper_whose_run_has_gone_says_nothing(project: Path, module: str) -> None:  # noqa: ANN001
    plan = make_plan(read_bench(project / "bench.toml"), GOOD, own_ports=True).as_data()
    request = {"records": str(project), "run": "none", "report": "r.html"}
    order = json.dumps(plan if "server" in module else request) + "\n"
    for said in (order, ""):
        reader, writer = os.pipe()
        process = subprocess.Popen(
            [sys.executable, "-m", module], stdin=subprocess.PIPE, stdout=writer, stderr=subprocess.PIPE, text=True
        )
        os.close(reader)
        os.close(writer)
        assert process.communicate(said, timeout=120) == (None, "") and process.returncode == 0, said


def test_a_run_whose_output_nobody_reads_can_be_stopped(project: Path) -> None:
    reader, writer = os.pipe()
    os.set_blocking(writer, False)
    with contextlib.suppress(BlockingIOError):
        while True:
            os.write(writer, b"x" * 4096)
    os.set_blocking(writer, True)
    process = subprocess.Popen([*IBEXITE, "run", "fm2_final.ibx", "--serial", GOOD, "--yes", "--simulate", "--real-time", "--no-report"],
                               cwd=project, stdout=writer, stderr=subprocess.PIPE)  # fmt: skip
    journals = project / "records" / "journals"
    while not any(journals.glob("*.jsonl")):
        time.sleep(0.05)
    process.send_signal(signal.SIGINT)
    _, said = process.communicate(timeout=60)
    assert process.returncode == 4, said
    os.close(reader)
    os.close(writer)
    with contextlib.closing(open_lookup(project / "records")) as lookup:
        assert lookup.runs()[0]["verdict"] == "aborted"


def test_a_signal_while_a_row_is_recorded_does_not_lose_it(perform) -> None:  # noqa: ANN001
    rows: list[events.Row] = []

    def journal(event: events.Event) -> None:
        if isinstance(event, events.Row):
            if len(rows) == 2:
                signal.raise_signal(signal.SIGINT)
            rows.append(event)

    numbers = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)
    before = [signal.getsignal(number) for number in numbers]
    wish = Stop()
    Signals().stop_the_run(wish)
    try:
        text = 'test t "T"\n    repeat turn 100 times\n        wait 5 ms\n        read v_in\n    check v_in >= 1 V\n'
        run = perform(text, journal=journal, stop=wish)
    finally:
        LastingStream.waits_for_readers = True
        for number, handler in zip(numbers, before, strict=True):
            signal.signal(number, handler)
    assert run.outcome.verdict == "aborted" and len(rows) == 3
    assert [row.x for row in rows] == [(float(i),) for i in range(1, len(rows) + 1)]


def test_a_run_that_is_interrupted_while_it_connects_has_switched_nothing_on(project: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as silent:
        own_addresses(project)
        text = re.sub(
            r"127[.0-9]+::50251::", f"127.0.0.1::{silent.getsockname()[1]}::", (project / "bench.toml").read_text()
        )
        (project / "bench.toml").write_text(text)
        process = subprocess.Popen([*IBEXITE, "run", "fm2_final.ibx", "--serial", GOOD, "--yes", "--no-report"], cwd=project,
                                   stdout=subprocess.PIPE, text=True)  # fmt: skip
        silent.settimeout(20)
        link = silent.accept()[0]
        link.recv(100)
        process.send_signal(signal.SIGTERM)
        out, _ = process.communicate(timeout=120)
        link.close()
    assert process.returncode == 4
    assert "a request to terminate" in out and "ABORTED" in out


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
    text = text.replace('error_query    = "SYST:ERR?"', 'error_query = ""\ncomplete_query = ""')
    text = text.replace('limiting_query = "STAT:QUES?"', 'limiting_query = ""').replace(
        '"25 ms"', '"25 ms"\nterminator = "\\r\\n"'
    )
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


def test_the_simulated_bench_ends_with_the_program_that_started_it(project: Path) -> None:
    code = ("import sys; from ibexite.bench.file import read_bench; from ibexite.station.simulated_bench import SimulatedBench\n"
            "s = SimulatedBench(read_bench('bench.toml'), 'FC00400'); s.__enter__()\n"
            "print(s._process.pid, flush=True); sys.stdin.read()")  # fmt: skip
    parent = subprocess.Popen(
        [sys.executable, "-c", code], cwd=project, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
    )
    assert parent.stdout
    child = int(parent.stdout.readline())
    parent.kill()
    parent.communicate()
    deadline = time.monotonic() + 110
    while Path(f"/proc/{child}/stat").exists() and Path(f"/proc/{child}/stat").read_text().split()[2] != "Z":
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_two_runs_on_two_simulated_benches_do_not_disturb_each_other(project: Path) -> None:
    command = [*IBEXITE, "run", "fm2_final.ibx", "--simulate", "--yes", "--no-report", "--serial"]
    runs = [
        subprocess.Popen([*command, serial], cwd=project, stdout=subprocess.PIPE, text=True)
        for serial in ("FC00400", "FC00427")
    ]
    codes = [run.wait(120) for run in runs]
    for run in runs:
        run.communicate()
    assert codes == [5, 1]
    assert sorted((r["serial"], r["verdict"]) for r in open_lookup(project / "records").runs()) == [
        ("FC00400", "pass"), ("FC00427", "fail")]  # fmt: skip


def test_many_processes_may_store_into_a_new_store_at_once(tmp_path: Path) -> None:
    code = ("import sys; from pathlib import Path; from ibexite.records.gateway import open_store\n"
            "open_store(Path(sys.argv[1])).take_in(Path(sys.argv[2]))")  # fmt: skip
    paths = []
    for number in range(4):
        path = tmp_path / "journals" / f"{number}.jsonl"
        journal = Journal(path)
        for event in EVENTS:
            named = (
                event._replace(run=f"20261123-09000{number}-aaaaaa") if isinstance(event, events.RunStarted) else event
            )
            journal(emitted(named))
        journal.close()
        paths.append(path)
    writers = [subprocess.Popen([sys.executable, "-c", code, str(tmp_path), str(path)]) for path in paths]
    assert [writer.wait(30) for writer in writers] == [0, 0, 0, 0]
    assert len(open_lookup(tmp_path).runs()) == 4 and not list((tmp_path / "journals").glob("*.jsonl"))


def test_a_disk_that_fails_while_syncing_is_told_at_the_next_event(tmp_path: Path, monkeypatch) -> None:  # noqa: ANN001
    journal = Journal(tmp_path / "j.jsonl")
    monkeypatch.setattr(os, "fsync", lambda handle: (_ for _ in ()).throw(OSError(5, "Input/output error")))
    journal(emitted(EVENTS[1]))
    journal._syncer.join(5)
    with pytest.raises(RecordsError, match="Input/output error"):
        journal(emitted(EVENTS[1]))
    journal.close()


def test_no_half_report_is_left_and_the_run_stays(ibexite, project: Path) -> None:  # noqa: ANN001
    (project / "in_the_way").write_text("")
    assert ibexite("run", "fm2_final.ibx", "--serial", GOOD, "--simulate", "--yes", "--no-report").returncode == 5
    done = ibexite("report", "last", "--out", "in_the_way/r.html")
    assert done.returncode == 3 and "the report cannot be written" in done.stderr
    done = ibexite("export", "last", "--to", "csv", "--out", "in_the_way/x")
    assert done.returncode == 3 and "Name another folder with --out." in done.stderr
    assert ibexite("show", "last").returncode == 0


@pytest.mark.parametrize("text", ['sequence "T"\r\n    product "P"\r\n', '\ufeffsequence "T"\n    product "P"\n'])
def test_line_ends_and_marks_of_other_systems_are_understood(tmp_path: Path, text: str) -> None:
    body = '    serial "X"\ntest t "T"\n    let x = 1\n    check x >= 1\n'.replace(
        "\n", "\r\n" if "\r" in text else "\n"
    )
    (tmp_path / "t.ibx").write_bytes((text + body).encode())
    source = read_source(tmp_path / "t.ibx")
    program = vet(source)
    assert source.findings == [] and program.sequence.product == "P"
    with pytest.raises(MistakeError):
        decode_text(b"\xff\xfes\0e\0", "utf16.ibx")


def test_nesting_has_an_end() -> None:
    lines = [f"{'    ' * (depth + 1)}sweep n{depth} over 1" for depth in range(17)]
    source = Source(
        "deep.ibx", 'sequence "T"\n    product "P"\ntest t "T"\n' + "\n".join(lines) + "\n" + "    " * 18 + "wait 1 s\n"
    )
    vet(source)
    assert {finding.title for finding in source.findings} >= {"nested too deeply"}


def test_preview_knows_times_and_says_what_it_cannot_know(project: Path) -> None:
    text = (
        HEADER
        + """test t "T"
    read v_in
    sweep u from 0 A to 1 A in 5 points
        wait 200 ms
        read i_in, i_out
        read rail_3v3 averaging 4
test later "Later"
    read v_out
    sweep w from 1 V to v_out in 3 points
        wait 10 ms
"""
    )
    blocks = preview(vet(Source("t.ibx", text)), read_bench(project / "bench.toml"))
    assert [(b.name, b.rows, b.is_exact) for b in blocks] == [
        ("before unit", 0, True),
        ("t", 5, True),
        ("later", 1, False),
    ]
    assert blocks[1].seconds == pytest.approx(0.005 + 5 * (0.2 + 2 * 0.005 + 4 * 0.005))
    assert blocks[1].steps[1].text == "sweep u: 5 points: 0 A, 0.25 A, 0.5 A, 0.75 A, 1 A"
    assert preview(vet(Source("t.ibx", text)), None)[1].seconds == blocks[1].seconds


def test_a_project_is_found_from_any_folder_in_it(project: Path) -> None:
    (project / "a" / "b").mkdir(parents=True)
    assert find_project(project / "a" / "b" / "x.ibx").folder == project
    assert find_project(project / "a" / "b").records == project / "records"
    (project / "ibexite.toml").write_text('[project]\nbnech = "bench.toml"\n')
    with pytest.raises(MistakeError, match="bnech"):
        find_project(project)
    (project / "ibexite.toml").unlink()
    assert find_project(project / "a").bench is None


def test_a_simulated_bench_that_cannot_start_says_so(project: Path) -> None:
    (project / "bench.toml").write_text(
        (project / "bench.toml").read_text().replace('wiring = { 1 = "output" }', 'wiring = { 2 = "output" }')
    )
    with pytest.raises(MistakeError, match="channel 1 is not wired"):
        SimulatedBench(read_bench(project / "bench.toml"), GOOD)


def test_what_ran_on_which_bench_is_recorded_with_the_run(perform) -> None:  # noqa: ANN001
    run: Recorded = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n')
    started, connected = run.of(events.RunStarted)[0], run.of(events.BenchConnected)[0]
    assert (started.serial, started.operator, started.sequence["title"]) == (GOOD, "tester", "Test")
    assert len(started.bench["sha256"]) == 64
    psu = connected.instruments[0]
    assert (psu["name"], psu["roles"], psu["certificate"], psu["due"]) == ("psu", ["supply"], "K-1187", "2027-05-01")
    assert psu["identity"].startswith("Firnline,PS-36,SIMULATED-psu") and psu["simulated"] is True


def test_calibration_past_its_date_makes_a_trial(perform) -> None:  # noqa: ANN001
    run = perform(
        'test t "T"\n    read v_in\n    check v_in >= 1 V\n', change=lambda t: t.replace("2027-05-01", "2026-11-22")
    )
    assert run.outcome.trial[1] == ("calibration", "calibration of psu was due on 2026-11-22", "")
    last_day = perform(
        'test t "T"\n    read v_in\n    check v_in >= 1 V\n', change=lambda t: t.replace("2026-11-22", "2026-11-23")
    )
    assert [reason.code for reason in last_day.outcome.trial] == ["simulated"]


def test_a_check_that_fails_before_the_unit_is_an_error_and_no_test_runs(perform) -> None:  # noqa: ANN001
    header = HEADER.replace("    wait 30 ms\n", "    wait 30 ms\n    read v_in\n    check v_in >= 12 V\n")
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', header=header)
    assert (run.outcome.verdict, run.outcome.tests) == ("error", {"t": "skipped"})
    assert "before unit did not pass" in run.outcome.reason.text


@pytest.mark.parametrize(("lines", "title"), [
    ("    check t_board within 31 degC +/- tolerance\n", "wrong unit"), ("    check t_board within 31 degC +/- 1 degC\n", ""),
    ("    check t_board within 31 degC +/- 1 K\n", ""), ("    sweep x from 20 degC to 30 degC step 5 degC\n        wait 1 s\n", ""),
    ("    sweep x from 20 degC to 30 degC step tolerance\n        wait 1 s\n", "wrong unit"),
    ("after unit\n    read last = t_board\n    check last >= 1 degC\n", "a check after the verdict"),
])  # fmt: skip
def test_a_temperature_is_never_taken_for_a_difference(lines: str, title: str) -> None:
    text = HEADER.replace("rail_3v3     : signal in V", "t_board : signal in degC")
    text = (
        text.replace("before unit", "params\n    tolerance = 1 degC\n\nbefore unit") + 'test t "T"\n    read t_board\n'
    )
    source = Source("t.ibx", text + lines)
    vet(source)
    assert [f.title for f in source.findings if f.level == "mistake"] == ([title] if title else [])
