"""What streaming to disk costs this process: four channels of a million samples a second each, of a simulated digitizer
in a process of its own, while lines run.

`python benchmarks/streaming.py [SECONDS]`: 60 s without it.
"""

from __future__ import annotations

import re
import resource
import sys
import tempfile
import threading
import time
from pathlib import Path

from compare import stolen
from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile, read_bench
from ibexite.demo.project import make_project
from ibexite.events import StreamChannel
from ibexite.records.side_file import warm_up
from ibexite.records.stream_file import RecordingFiles
from ibexite.station.simulated_bench import SimulatedBench

EVERY, CHANNELS = 1e-6, 4  # s
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
    """A thread that wants to run each millisecond, as the lines of a run do: how late it was at most."""

    def __init__(self) -> None:
        self.latest, self._is_over = 0.0, threading.Event()
        self._thread = threading.Thread(target=self._run)
        self._thread.start()

    def _run(self) -> None:
        due = time.perf_counter()
        while not self._is_over.is_set():
            due += 1e-3
            time.sleep(max(0.0, due - time.perf_counter()))
            late = time.perf_counter() - due
            self.latest, due = max(self.latest, late), max(due, time.perf_counter() - 1e-3)

    def end(self) -> float:
        """The longest it was late, in s."""
        self._is_over.set()
        self._thread.join()
        return self.latest


def recorded(bench: Bench, folder: Path, seconds: float, name: str, *, ticks: bool) -> None:
    """One recording: its share of a CPU, or how late lines come beside it."""
    stream = bench.stream(["i_in", "v_in", *(f"c{number}" for number in range(3, CHANNELS + 1))])
    forms = stream.begin(EVERY)
    _, kept = RecordingFiles(folder, name).begin(1, [StreamChannel(f"c{i}", *form) for i, form in enumerate(forms)])
    stream.run(kept.write)
    time.sleep(1)
    beside = Ticks() if ticks else None
    before, lost, began, memory = used(), stolen(), time.perf_counter(), [resident()]
    while (passed := time.perf_counter() - began) < seconds:
        time.sleep(min(1.0, seconds - passed))
        memory.append(resident())
    passed = time.perf_counter() - began
    share, lost = (used() - before) / passed, (stolen() - lost) / passed
    late = beside.end() if beside is not None else 0.0
    ended = stream.end()
    kept.close()
    size = kept.path.stat().st_size / 1e6
    kept.path.unlink()
    told = f"{share:.1%} of one CPU (limit 5 %)"
    if ticks:
        told = f"lines beside it were late by {1e3 * late:.1f} ms at most (limit 20 ms)"
    print(f"  {kept.count:,} samples of {CHANNELS} channels, {size:,.0f} MB: {told}")
    flat = f"memory {memory[0]:.0f} MB at its begin, {max(memory):.0f} MB at most"
    print(f"    gaps {len(ended.gaps)}, failure {ended.failure!r}, {flat}")
    print(f"    the machine gave {lost:.1%} of one CPU to others meanwhile: the figures stand where that is little")


def main() -> None:
    """Prints all of it."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    warm_up()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        with SimulatedBench(bench_of(folder), "FC00400") as file:
            bench = Bench(file)
            bench.connect(["psu", "adc"])
            print(f"streaming for {seconds:g} s")
            recorded(bench, folder, seconds, "cpu", ticks=False)
            alone = Ticks()
            time.sleep(min(seconds, 10))
            print(f"  without any recording lines were late by {1e3 * alone.end():.1f} ms at most")
            recorded(bench, folder, seconds, "late", ticks=True)
            bench.close()


if __name__ == "__main__":
    main()
