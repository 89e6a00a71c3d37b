"""The simulated bench as a process: it begins and ends with the run that started it."""

import subprocess
import sys
import time
from pathlib import Path

import pytest

from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.lock import AddressLocks
from ibexite.errors import MistakeError
from ibexite.records.gateway import open_lookup
from ibexite.station.simulated_bench import SimulatedBench
from tests.conftest import GOOD, IBEXITE


def test_the_simulated_bench_ends_with_the_program_that_started_it(project: Path) -> None:
    code = ("import sys; from ibexite.bench.file import read_bench; from ibexite.station.simulated_bench import SimulatedBench\n"
            "s = SimulatedBench(read_bench('bench.toml'), 'FC00400'); s.__enter__()\n"
            "print(s._process.pid, flush=True); sys.stdin.read()")  # fmt: skip
    parent = subprocess.Popen([sys.executable, "-c", code], cwd=project, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
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
    runs = [subprocess.Popen([*command, serial], cwd=project, stdout=subprocess.PIPE, text=True) for serial in ("FC00400", "FC00427")]
    codes = [run.wait(120) for run in runs]
    for run in runs:
        run.communicate()
    assert codes == [5, 1]
    assert sorted((r["serial"], r["verdict"]) for r in open_lookup(project / "records").runs()) == [
        ("FC00400", "pass"), ("FC00427", "fail")]  # fmt: skip


def test_a_simulated_bench_that_cannot_start_says_so(project: Path) -> None:
    (project / "bench.toml").write_text((project / "bench.toml").read_text().replace('wiring = { 1 = "output" }', 'wiring = { 2 = "output" }'))
    with pytest.raises(MistakeError, match="channel 1 is not wired"):
        SimulatedBench(read_bench(project / "bench.toml"), GOOD)


def test_nobody_else_can_hold_what_stands_in_for_one_run_alone(project: Path) -> None:
    """Its ports are new. Who has used such a port before, and still holds its lock, does not keep the run from it."""
    with SimulatedBench(read_bench(project / "bench.toml"), GOOD) as file:
        others = AddressLocks()
        others.take([(name, fact.address) for name, fact in file.instruments.items()], "a run before")
        bench = Bench(file)
        bench.connect(["psu"])
        assert bench.connected()["psu"].is_simulated
        bench.close()
        for name in file.instruments:
            others.release(name)
