"""Runs the benchmark sequence in a folder within this process and prints its peak memory in bytes.

python benchmarks/peak_memory.py FOLDER
"""

from __future__ import annotations

import datetime
import resource
import sys
from pathlib import Path

from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.engine.orders import Identity
from ibexite.engine.run import Run
from ibexite.engine.services import NoOperator, RealClock, Services
from ibexite.language.check import vet
from ibexite.language.source import read_source
from ibexite.records.journal import Journal


def main() -> None:
    """Runs and measures."""
    folder = Path(sys.argv[1])
    program = vet(read_source(folder / "bench.ibx"))
    assert not program.source.has_mistakes
    identity = Identity("memory", "B1", "", "", datetime.datetime.now().astimezone())
    journal = Journal(folder / "journal.jsonl")
    run = Run(program, Bench(read_bench(folder / "bench.toml")), identity, Services(RealClock(), NoOperator()), journal)
    outcome = run.carry_out()
    assert outcome.verdict == "pass", outcome
    journal.close()
    print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024)


if __name__ == "__main__":
    main()
