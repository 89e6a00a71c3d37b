"""Compares Ibexite with a plain script, side by side: A-B-A-B in one go, medians of paired ratios of wall time and of
CPU time (whole processes with their children, from the operating system).

python benchmarks/compare.py [point] [delay] [whole] [start] [memory] [engine] [language] [--pairs N]
"""

from __future__ import annotations

import argparse
import os
import re
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import NamedTuple

from ibexite.records.journal import read_journal

HERE = Path(__file__).parent
IBEXITE = str(Path(sys.executable).with_name("ibexite"))

SEQUENCE = """sequence "Benchmark"
    product "none"
    serial  "B[0-9]+"
needs
    supply     : power_supply
    load       : electronic_load
    v_in       : signal in V
    i_in       : signal in A
test bench "Nested sweep"
    sweep vin from 5 V to {vin_end} V in {outer} points
        sweep iload from 0 A to {iload_end} A in {inner} points
            set supply.voltage = vin, load.current = iload
            read {reads}{together}
            let p = {p}
            let ratio = v_out * i_s / (v_in * {i_in})
            check ratio >= 0.01
    {plot}
after unit
    set supply.output = off
before unit
    set supply.output = off, load.input = off
"""
BENCH = """[bench]
name = "bare instruments"
[instruments.psu]
profile = "scpi-power-supply"
address = "TCPIP::127.0.0.1::{0}::SOCKET"
[instruments.eload]
profile = "scpi-electronic-load"
address = "TCPIP::127.0.0.1::{1}::SOCKET"
[instruments.dmm]
profile = "scpi-scanning-multimeter"
address = "TCPIP::127.0.0.1::{2}::SOCKET"
[roles]
supply = {{ instrument = "psu", ceiling = {{ voltage = "40 V" }} }}
load   = {{ instrument = "eload", ceiling = {{ current = "4 A" }} }}
meter  = {{ instrument = "dmm" }}
[signals]
v_in = {{ read = "meter.dc_voltage", with = {{ channel = 101, range = "100 V" }}, believe = ["-1 V", "90 V"] }}
i_in = {{ read = "meter.dc_voltage", with = {{ channel = 102, range = "1 V" }}, shunt = "100.12 mohm" }}
"""


@contextmanager
def bench(delay: float, outer: int, inner: int, *, together: bool, three: bool = False,
          plot: bool = False) -> Iterator[tuple[Path, str]]:  # fmt: skip
    """A folder with sequence and bench file, and the ports of bare instruments that run meanwhile."""
    server = subprocess.Popen([sys.executable, str(HERE / "instruments.py"), str(delay)], stdin=subprocess.PIPE,
                              stdout=subprocess.PIPE, text=True)  # fmt: skip
    assert server.stdout and server.stdin
    ports = server.stdout.readline().split()
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        reads = ["v_in", "v_out = load.voltage", "i_s = supply.current"]
        reads[1:1] = [] if three else ["i_in"]
        text = SEQUENCE.format(
            outer=outer, inner=inner, vin_end=f"{5 + 0.001 * (outer - 1):.3f}", iload_end=f"{0.001 * (inner - 1):.3f}",
            reads=", ".join(reads), together=" together" if together else "", i_in="1 A" if three else "i_in",
            p="v_in * 1 A - v_out * i_s" if three else "v_in * i_in - v_out * i_s",
            plot="plot ratio against iload by vin" if plot else "let most = max(ratio along iload)")  # fmt: skip
        (folder / "bench.ibx").write_text(text)
        (folder / "bench.toml").write_text(BENCH.format(*ports))
        yield folder, ",".join(ports)
    server.stdin.close()
    server.wait()


def script(folder: Path, ports: str, outer: int, inner: int, *words: str) -> tuple[float, float]:
    """Seconds of the sweep and of the whole process of the plain script."""
    began = time.perf_counter()
    out = subprocess.run([sys.executable, str(HERE / "script.py"), ports, str(outer), str(inner), str(folder), *words],
                         capture_output=True, text=True, check=True).stdout  # fmt: skip
    took = re.search(r"took ([\d.]+)", out)
    assert took is not None
    return float(took[1]), time.perf_counter() - began


def run(folder: Path, *options: str) -> tuple[float, float, float]:
    """Seconds of the sweep's test, from start to the verdict, and to the end of the process."""
    began = time.perf_counter()
    process = subprocess.Popen([IBEXITE, "run", "bench.ibx", "--bench", "bench.toml", "--serial", "B1", *options],
                               cwd=folder, stdout=subprocess.PIPE, text=True)  # fmt: skip
    assert process.stdout
    verdict = test = 0.0
    for line in process.stdout:
        if line.startswith("PASS"):
            verdict = time.perf_counter() - began
    process.wait()
    assert verdict, "the run did not pass"
    journal = max((folder / "records" / "journals" / "stored").iterdir(), key=lambda path: path.name)
    test = [float(entry["duration"]) for entry in read_journal(journal) if entry["e"] == "TestEnded"][-1]
    journal.unlink()
    return test, verdict, time.perf_counter() - began


class Cost(NamedTuple):
    """What something cost: seconds of wall time as it tells them, CPU seconds (user and system) of the whole processes
    that it started, with their children, from the operating system; seconds that the machine gave to others."""

    seconds: float
    cpu: float
    stolen: float


def stolen() -> float:
    """Seconds that a virtual machine's host has kept for itself since it was started, of all cores; 0 where that is not
    told."""
    try:
        fields = Path("/proc/stat").read_text(encoding="ascii").split("\n", 1)[0].split()
        return float(fields[8]) / os.sysconf("SC_CLK_TCK")
    except (OSError, IndexError):
        return 0.0


def cost(deed: Callable[[], float]) -> Cost:
    """Does something that waits for the processes it starts."""
    before, lost = resource.getrusage(resource.RUSAGE_CHILDREN), stolen()
    seconds = deed()
    after = resource.getrusage(resource.RUSAGE_CHILDREN)
    cpu = after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime
    return Cost(seconds, cpu, stolen() - lost)


STOLEN_AT_MOST = 0.02  # of the wall time of a pair; more, and it is done again


def ratio(what: str, wanted: str, pairs: int, one: Callable[[], float], other: Callable[[], float]) -> None:
    """Prints the median ratios of one to the other over interleaved pairs, of wall time and of CPU time. Pairs in which
    time was stolen are done again, as often as there are pairs at most."""
    costs: list[tuple[Cost, Cost]] = []
    repeated = 0
    while len(costs) < pairs:
        a, b = cost(one), cost(other)
        if a.stolen + b.stolen > STOLEN_AT_MOST * (a.seconds + b.seconds) and repeated < pairs:
            repeated += 1
            continue
        costs.append((a, b))
    again = f"   {repeated} pairs repeated" if repeated else ""
    print(f"{what:<66} {_ratios([(a.seconds, b.seconds) for a, b in costs], wanted)}{again}", flush=True)
    if all(a.cpu > 0 and b.cpu > 0 for a, b in costs):
        print(f"{'    CPU time of the whole processes':<66} {_ratios([(a.cpu, b.cpu) for a, b in costs])}", flush=True)


def _ratios(pairs: list[tuple[float, float]], wanted: str = "") -> str:
    """The median ratio, its spread, what is wanted, and the medians of both."""
    ratios = [a / b for a, b in pairs]
    a, b = (statistics.median(values) for values in zip(*pairs, strict=True))
    spread = f"{min(ratios):.2f} to {max(ratios):.2f}" + (f"; {wanted}" if wanted else "")
    return f"{statistics.median(ratios):5.2f}  ({spread})   {a:.3f} s to {b:.3f} s"


def point(pairs: int) -> None:
    """Time of a point, 20,000 points, instruments without delay."""
    for together, wanted in ((True, "at most 0.85"), (False, "at most 1.15")):
        how = "together" if together else "one after the other"
        with bench(0, 100, 200, together=together) as (folder, ports):
            ratio(f"20,000 points, {how}: Ibexite to script", wanted, pairs,
                  partial(lambda f: run(f, "--no-report")[0], folder),
                  partial(lambda f, p: script(f, p, 100, 200)[0], folder, ports))  # fmt: skip


def delay(pairs: int) -> None:
    """Three reads on three instruments of 20 ms each."""
    with bench(0.02, 10, 12, together=True, three=True) as (folder, ports):
        ratio("3 instruments of 20 ms, together: script to Ibexite", "at least 2.7", pairs,
              lambda: script(folder, ports, 10, 12, "three")[0], lambda: run(folder, "--no-report")[0])  # fmt: skip


def whole(pairs: int) -> None:
    """From the start of the process to its verdict, 1,000 points."""
    with bench(0, 20, 50, together=True, plot=True) as (folder, ports):
        ratio("1,000 points, start to verdict: Ibexite to script", "at most 0.5", pairs,
              lambda: run(folder, "--no-report")[1], lambda: script(folder, ports, 20, 50, "picture")[1])  # fmt: skip
        ratio("1,000 points, start to report: Ibexite to script", "at most 1.0", pairs,
              lambda: run(folder)[2], lambda: script(folder, ports, 20, 50, "picture")[1])  # fmt: skip


def engine(pairs: int) -> None:
    """What the engine costs a row of 2 settings, 4 readings, 2 formulas and 1 check, with stub links on both sides."""
    with tempfile.TemporaryDirectory():
        command = [sys.executable, str(HERE / "stubs.py")]

        def micros(which: str) -> float:
            done = subprocess.run([*command, which, "20000"], capture_output=True, text=True, check=True)
            return float(done.stdout) / 1e6

        ratio("a row with stub links: engine to a loop by hand", "at most 10", pairs,
              lambda: micros("engine"), lambda: micros("hand"))  # fmt: skip


def language(pairs: int) -> None:
    """Vetting a sequence of 2,000 lines, compared with `ibexite --version`."""
    test = SEQUENCE[SEQUENCE.index("test bench") : SEQUENCE.index("after unit")].replace("{plot}", "")
    reads = "v_in, i_in, v_out = load.voltage, i_s = load.current"
    test = test.format(
        outer=5, inner=5, vin_end="9", iload_end="0.4", reads=reads, together="", i_in="i_in", p="v_in * i_in"
    )
    head, tail = SEQUENCE[: SEQUENCE.index("test bench")], SEQUENCE[SEQUENCE.index("after unit") :]
    tests = "".join(test.replace("test bench", f"test bench_{i}") for i in range(2000 // test.count("\n") + 1))
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "long.ibx"
        path.write_text(head + tests + tail)

        def seconds(*arguments: str) -> float:
            began = time.perf_counter()
            subprocess.run([IBEXITE, *arguments], cwd=folder, capture_output=True, check=True)
            return time.perf_counter() - began

        ratio(f"vet of {path.read_text().count(chr(10)):,} lines to --version", "at most 20", pairs,
              lambda: seconds("vet", "long.ibx"), lambda: seconds("--version"))  # fmt: skip


def start(pairs: int) -> None:
    """Start-up of the program, compared with a Click program that imports nothing else."""
    with tempfile.TemporaryDirectory() as name:
        bare = Path(name) / "bare.py"
        bare.write_text("import click\n@click.group()\n@click.version_option('1')\ndef main(): pass\nmain()\n")
        subprocess.run([IBEXITE, "demo", f"{name}/demo"], check=True, capture_output=True)

        def timed(*command: str) -> float:
            began = time.perf_counter()
            subprocess.run(command, check=True, capture_output=True)
            return time.perf_counter() - began

        def bare_program() -> float:
            return timed(sys.executable, str(bare), "--version")

        ratio("ibexite --version to a bare Click program", "at most 1.1", 5 * pairs,
              lambda: timed(IBEXITE, "--version"), bare_program)  # fmt: skip
        ratio("ibexite vet of the demo with its bench to a bare Click program", "at most 3", 5 * pairs,
              lambda: timed(IBEXITE, "vet", f"{name}/demo/fm2_final.ibx"), bare_program)  # fmt: skip


def memory(pairs: int) -> None:
    """Growth of the peak memory from 10,000 to 100,000 points, compared with the values themselves."""
    growths = []
    for _ in range(max(1, pairs // 3)):
        peaks = []
        for outer in (50, 500):
            with bench(0, outer, 200, together=True) as (folder, _ports):
                out = subprocess.run([sys.executable, str(HERE / "peak_memory.py"), str(folder)], check=True,
                                     capture_output=True, text=True).stdout  # fmt: skip
                peaks.append(int(out.split()[-1]))
        growths.append(peaks[1] - peaks[0])
    values = 90_000 * 6 * 8  # six columns: four readings, two formulas
    print(f"{'memory from 10,000 to 100,000 points: growth to the values themselves':<66} "
          f"{statistics.median(growths) / values:5.2f}  (at most 1.2)   {statistics.median(growths) / 1e6:.2f} MB "
          f"to {values / 1e6:.2f} MB")  # fmt: skip


def main() -> None:
    """Runs the parts that are named, or all."""
    parts = {"point": point, "delay": delay, "whole": whole, "start": start, "memory": memory,
             "engine": engine, "language": language}  # fmt: skip
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", choices=[*parts, []])
    parser.add_argument("--pairs", type=int, default=5)
    arguments = parser.parse_args()
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # an installed program is not compiled anew at each start
    print(f"{os.cpu_count()} cores, Python {sys.version.split()[0]}, {arguments.pairs} pairs; median (range; wanted)")
    for name in arguments.parts or parts:
        parts[name](arguments.pairs)


if __name__ == "__main__":
    main()
