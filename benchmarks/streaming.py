"""What streaming to disk costs this process: four channels of a million samples a second each, of a simulated digitizer
in a process of its own, while lines run.

`python benchmarks/streaming.py [SECONDS]`: 60 s without it.
"""

from __future__ import annotations

import re
import resource
import statistics
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

from compare import stolen
from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile, read_bench
from ibexite.demo.project import make_project
from ibexite.events import StreamChannel
from ibexite.records.side_file import warm_up
from ibexite.records.stream_file import RecordingFiles
from ibexite.station.simulated_bench import SimulatedBench

EVERY, CHANNELS = 1e-6, 4  # s
QUIET = 0.005  # of one CPU that the machine gave to others
WIRED = ("battery_shunt", "battery_voltage", "output_voltage", "rail_3v3")


def bench_of(folder: Path) -> BenchFile:
    """The fast bench of the example, with four channels."""
    make_project(folder)
    text = (folder / "inrush.toml").read_text()
    wiring = ", ".join(f'{number} = "{name}"' for number, name in enumerate(WIRED, 1))
    text = re.sub(r'wiring = \{ 1 = "battery_shunt".*?\}', f"wiring = {{ {wiring} }}", text)
    for number in range(3, CHANNELS + 1):
        text += f'\n[signals.c{number}]\nread = "adc.record"\nwith = {{ channel = {number} }}\n'
    path = folder / "four.toml"
    path.write_text(text)
    return read_bench(path)


def used() -> float:
    """CPU time of all threads of this process, in s."""
    usage = resource.getrusage(resource.RUSAGE_SELF)
    return usage.ru_utime + usage.ru_stime


def resident() -> float:
    """Memory of this process, in MB."""
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / 1e6


class Ticks:
    """A thread that wants to run each millisecond, as the lines of a run do: how late it was at most, since asked."""

    def __init__(self) -> None:
        self._latest, self._is_over = 0.0, threading.Event()
        self._thread = threading.Thread(target=self._run)
        self._thread.start()

    def _run(self) -> None:
        due = time.perf_counter()
        while not self._is_over.is_set():
            due += 1e-3
            time.sleep(max(0.0, due - time.perf_counter()))
            late = time.perf_counter() - due
            self._latest, due = max(self._latest, late), max(due, time.perf_counter() - 1e-3)

    def latest(self) -> float:
        """In s."""
        latest, self._latest = self._latest, 0.0
        return latest

    def end(self) -> None:
        """Ends it."""
        self._is_over.set()
        self._thread.join()


class Second(NamedTuple):
    """What was seen in about a second: CPU time of this process and of what the machine gave to others, as shares of
    one CPU; how late the ticks came at most, in s; memory in MB."""

    used: float
    stolen: float
    late: float
    memory: float


def watched(seconds: float, ticks: Ticks | None = None) -> list[Second]:
    """So many s, second by second."""
    found, end = [], time.perf_counter() + seconds
    while (began := time.perf_counter()) < end - 0.5:
        before, lost = used(), stolen()
        time.sleep(1)
        passed = time.perf_counter() - began
        late = ticks.latest() if ticks is not None else 0.0
        found.append(Second((used() - before) / passed, (stolen() - lost) / passed, late, resident()))
    return found


def quiet(found: list[Second]) -> list[Second]:
    """Those in which the machine gave nothing to others: in the rest everything is late, and costs more."""
    return [second for second in found if second.stolen < QUIET]


def told(found: list[Second], what: Callable[[list[Second]], str]) -> str:
    """A figure of all seconds and of the quiet ones."""
    still = quiet(found)
    return f"{what(found)}; in the {len(still)} quiet ones of {len(found)} s {what(still) if still else '-'}"


def share(found: list[Second]) -> str:
    """What it costs."""
    return f"{statistics.mean(second.used for second in found):.1%} of one CPU"


def late(found: list[Second]) -> str:
    """How late lines come at most, and the most of half of the seconds."""
    each = [1e3 * second.late for second in found]
    return f"{max(each):.1f} ms at most (median of seconds {statistics.median(each):.1f} ms)"


def recorded(bench: Bench, folder: Path, seconds: float, name: str, *, ticks: bool) -> None:
    """One recording: its share of a CPU, or how late lines come beside it."""
    stream = bench.stream(["i_in", "v_in", *(f"c{number}" for number in range(3, CHANNELS + 1))])
    forms = stream.begin(EVERY)
    _, kept = RecordingFiles(folder, name).begin(1, [StreamChannel(f"c{i}", *form) for i, form in enumerate(forms)])
    stream.run(kept.write)
    time.sleep(1)
    beside = Ticks() if ticks else None
    found = watched(seconds, beside)
    if beside is not None:
        beside.end()
    ended = stream.end()
    kept.close()
    size = kept.path.stat().st_size / 1e6
    kept.path.unlink()
    print(f"{kept.count:,} samples of {CHANNELS} channels, {size:,.0f} MB")
    print(f"  lines beside it late by {told(found, late)}" if ticks else f"  {told(found, share)}")
    memory = [second.memory for second in found]
    print(f"  gaps {len(ended.gaps)}, failure {ended.failure!r}, memory {memory[0]:.0f} to {max(memory):.0f} MB")


def main() -> None:
    """Prints all of it."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    warm_up()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        with SimulatedBench(bench_of(folder), "FC00400") as file:
            bench = Bench(file)
            bench.connect(["psu", "adc"])
            print(f"streaming for {seconds:g} s: limits 5 % of one CPU, lines late by 20 ms, memory flat")
            recorded(bench, folder, seconds, "cpu", ticks=False)
            recorded(bench, folder, seconds, "late", ticks=True)
            alone = Ticks()
            print(f"without any recording\n  lines late by {told(watched(seconds / 2, alone), late)}")
            alone.end()
            bench.close()


if __name__ == "__main__":
    main()
