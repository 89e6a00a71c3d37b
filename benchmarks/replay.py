"""Replaying a run that mostly waited, beside that run.

`python benchmarks/replay.py [SECONDS]`: how many times as quick a replay is as a run that waited so long, with the
start of the program in it.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

from ibexite.demo.project import make_project

TURNS = 5


def waiting(seconds: float) -> str:
    """A sequence that waits, and reads now and then."""
    return f"""sequence "Waiting"
    product "FM-2 control board"
    serial "FC[0-9]{{5}}"
needs
    supply : power_supply
    v_in, v_out : signal in V
before unit
    set supply.current_limit = 1.3 A, supply.voltage = 9 V, supply.output = on
    wait 100 ms
test warm "Warm-up"
    repeat turn for {seconds:g} s every {seconds / 20:g} s
        read v_in, v_out together
    check v_out >= 4 V
"""


def ibexite(folder: Path, *arguments: str) -> tuple[float, str]:
    """The seconds that a command took, and what it said."""
    began = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-m", "ibexite", *arguments], cwd=folder, capture_output=True, text=True, check=False
    )
    if done.returncode not in (0, 5):
        raise SystemExit(done.stdout + done.stderr)
    return time.perf_counter() - began, done.stdout


def main() -> None:
    """Prints the ratio."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 20.0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        make_project(folder / "p")
        (folder / "p" / "waiting.ibx").write_text(waiting(seconds))
        simulated = ("--simulate", "--real-time", "--yes", "--no-report")
        run, _ = ibexite(folder / "p", "run", "waiting.ibx", "--serial", "FC00400", *simulated)
        found = sorted(ibexite(folder / "p", "replay", "last") for _ in range(TURNS))
    assert all("as it was recorded" in said for _, said in found)
    replay = found[TURNS // 2][0]
    print(f"run {run:.2f} s, replay {replay:.2f} s: {run / replay:.0f} times as quick (wanted: 20)")


if __name__ == "__main__":
    main()
