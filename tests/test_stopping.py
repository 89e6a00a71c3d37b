"""Stopping a run: by keys and signals, at any moment, also when nobody reads its output."""

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
import time
from pathlib import Path
from typing import NoReturn

import pytest

from ibexite import events
from ibexite.bench.file import read_bench
from ibexite.cli.lasting import LastingStream
from ibexite.cli.signals import Signals
from ibexite.records.gateway import open_lookup
from ibexite.station.stand_ins import make_plan
from ibexite.stop import Stop
from tests.conftest import GOOD, HEADER, IBEXITE, own_addresses


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
    "watch v_in between 0 V and 20 V every 100 ms\n        wait 120 s"])  # fmt: skip
def test_ctrl_c_is_heard_at_once_wherever_the_run_is(project: Path, line: str) -> None:
    (project / "hang.py").write_text(HANG)
    (project / "maths.py").write_text("import ibexite\n" + FUNCTION)
    use = HEADER.replace("needs\n", 'use python "maths.py"\n\nneeds\n', 1)
    (project / "long.ibx").write_text(use + f'test t "T"\n    show "now"\n    {line}\n    read v_in\n    check v_in >= 1 V\n')
    terminal = Terminal(project, "run", "long.ibx", "--serial", GOOD, "--simulate", "--real-time", "--no-report")
    terminal.until("now")
    time.sleep(0.3)
    terminal.process.send_signal(signal.SIGINT)
    assert terminal.rest() == 4  # long before the line would have ended by itself
    assert "outputs off: load, supply" in terminal.seen


@pytest.mark.parametrize(("units", "moment", "number"), [  # while `after unit` waits; when it has ended
    (1, "margin", signal.SIGINT), (1, "PASS (trial)", signal.SIGTERM), (2, "margin", signal.SIGTERM), (2, "PASS (trial)", signal.SIGINT)])  # fmt: skip
def test_a_signal_at_the_end_changes_no_verdict_and_no_further_unit_is_run(project: Path, units: int, moment: str, number: int) -> None:
    body = 'test t "T"\n    read v_in\n    check v_in >= 1 V\nafter unit\n    call "mark.py" timeout 20 s\n    wait 2 s\n'
    (project / "mark.py").write_text("open('cleaning', 'w').close()\nprint('{}')")
    (project / "short.ibx").write_text(HEADER + body)
    (project / "units.csv").write_text(f"serial\n{GOOD}\nFC00413\n")
    which = ["--serial", GOOD] if units == 1 else ["--table", "units.csv"]
    terminal = Terminal(project, "run", "short.ibx", *which, "--simulate", "--real-time", "--no-report")
    terminal.until(moment)
    while not (project / "cleaning").exists():
        time.sleep(0.01)
    terminal.process.send_signal(number)
    assert terminal.rest() == (5 if units == 1 else 4), terminal.seen
    assert terminal.seen.count("PASS (trial)") == 1 and "outputs off: load, supply" in terminal.seen
    with contextlib.closing(open_lookup(project / "records")) as lookup:
        assert [run["serial"] for run in lookup.runs() if run["verdict"] == "pass"] == [GOOD]


def test_ctrl_c_ends_with_its_code_also_where_python_would_die_of_it(tmp_path: Path) -> None:
    (tmp_path / "begin.py").write_text("from ibexite.cli import main\nmain.program = lambda **_: exec('raise KeyboardInterrupt')\nmain.main()")
    done = subprocess.run([sys.executable, "-m", "begin"], cwd=tmp_path, capture_output=True, text=True)
    assert (done.returncode, done.stderr) == (4, "interrupted\n")


@pytest.mark.parametrize("module", ["ibexite.simulate.server", "ibexite.station.report_helper"])
def test_a_helper_whose_run_has_gone_says_nothing(project: Path, module: str) -> None:
    plan = make_plan(read_bench(project / "bench.toml"), GOOD, own_ports=True).as_data()
    request = {"records": str(project), "run": "none", "report": "r.html"}
    order = json.dumps(plan if "server" in module else request) + "\n"
    for said in (order, ""):
        reader, writer = os.pipe()
        process = subprocess.Popen([sys.executable, "-m", module], stdin=subprocess.PIPE, stdout=writer, stderr=subprocess.PIPE, text=True)
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


def test_a_signal_while_a_row_is_recorded_does_not_lose_it(perform) -> None:
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
    assert run.verdict == "aborted" and len(rows) == 3
    assert [row.x for row in rows] == [(float(i),) for i in range(1, len(rows) + 1)]


def test_a_run_that_is_interrupted_while_it_connects_has_switched_nothing_on(project: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as silent:
        own_addresses(project)
        text = re.sub(r"127[.0-9]+::50251::", f"127.0.0.1::{silent.getsockname()[1]}::", (project / "bench.toml").read_text())
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
