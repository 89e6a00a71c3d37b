"""What the guardian adds to the time from the start of the program to the first setting, side by side with the same run
without one. Medians of paired ratios, over raw sockets and over links that the guardian must load.

    python benchmarks/guardian.py         some 30 s
"""

import statistics
import subprocess
import sys
import tempfile
import time
from dataclasses import replace
from pathlib import Path
from threading import Thread

from ibexite.bench.file import read_bench
from ibexite.demo.project import make_project
from ibexite.records.journal import read_journal
from ibexite.simulate.server import BenchServer
from ibexite.station.stand_ins import make_plan

PAIRS = 9
WITH = "from ibexite.cli.main import main; main()"
WITHOUT = (
    """
from ibexite.bench import guardian
class Nobody:
    def __init__(self, journal_handle): self.beat = lambda: None
    def watch(self, bench, began): pass
    def look(self): pass
    def stand_back(self): pass
    def dismiss(self, not_safe=()): return True
guardian.Guardian = Nobody
"""
    + WITH
)


def to_first_setting(folder: Path, program: str) -> float:
    """Seconds from the start of a run to its first setting: the times in a journal are those of the same clock."""
    for path in (folder / "records" / "journals").rglob("*.jsonl*"):
        path.unlink()
    began = time.monotonic()
    arguments = ["run", "fm2_final.ibx", "--only", "alive", "--serial", "FC00400", "--yes", "--no-report"]
    subprocess.run([sys.executable, "-c", program, *arguments], cwd=folder, capture_output=True, check=False)
    (journal,) = (folder / "records" / "journals").rglob("*.jsonl*")
    entries = list(read_journal(journal))
    for entry in entries:
        for (_, direction, text), at in zip(*entry.get("io", ((), ())), strict=True):
            if direction == ">" and text.startswith("SOUR1:") and "?" not in text:
                return float(at - began)
    raise AssertionError(f"nothing was set: {journal}")


def main() -> None:
    """Prints the ratios."""
    for kinds in ({}, {"psu": "hislip", "eload": "vxi11"}):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            make_project(folder)
            plan = make_plan(read_bench(folder / "bench.toml"), "FC00400", own_ports=True)
            stand_ins = tuple(replace(one, link=kinds.get(one.name, one.link)) for one in plan.stand_ins)
            server = BenchServer(replace(plan, stand_ins=stand_ins))
            text = (folder / "bench.toml").read_text()
            for instrument, address in server.addresses.items():
                old = read_bench(folder / "bench.toml").instruments[instrument].address
                text = text.replace(old, address)
            (folder / "bench.toml").write_text(text)
            thread = Thread(target=server.serve)
            thread.start()
            ratios, times = [], []
            for _ in range(PAIRS + 1):  # the first one warms up
                pair = [to_first_setting(folder, program) for program in (WITH, WITHOUT)]
                times.append(pair[0])
                ratios.append(pair[0] / pair[1])
            server.stop()
            thread.join()
        told = ", ".join(kinds.values()) or "raw sockets"
        print(f"first setting with its guardian ({told}): {statistics.median(ratios[1:]):.2f} times that without "
              f"(after {statistics.median(times[1:]):.3f} s)")  # fmt: skip


if __name__ == "__main__":
    main()
