"""Judging many stored units again, and limits from many curves, beside what that takes by hand with sqlite3 and NumPy.

`python benchmarks/many_units.py [UNITS] [CURVES]`: ratios, and the largest memory.
"""

from __future__ import annotations

import contextlib
import copy
import resource
import sqlite3
import sys
import tempfile
import time
from array import array
from collections.abc import Callable
from pathlib import Path
from statistics import median

import numpy as np

CHECKS, POINTS, TURNS = 200, 300, 7
HEAD = """sequence "Many"
    product "none"
    serial  "R[0-9]*"
needs
    v_ok : signal in V
"""


def sequence() -> str:
    """A sequence with as many readings and checks."""
    lines = [HEAD, 'test a "A"\n']
    for i in range(CHECKS):
        lines.append(f"    read x{i} = v_ok\n    check x{i} between 4 V and 6 V\n")
    return "".join(lines)


CURVE = HEAD + 'test a "A"\n    sweep freq from 1 Hz to 300 Hz step 1 Hz\n        read y = v_ok\n    check y >= 0 V\n'


def made(folder: Path, text: str, units: int) -> None:
    """A store with so many units: one run on a bench from memory, and copies of it with values of their own."""
    sys.path.insert(0, str(Path(__file__).parents[1]))
    from tests.laboratory.stub_bench import MemoryLink, memory_bench
    from tests.runs import STARTED, Still

    from ibexite.bench.bench import Bench
    from ibexite.bench.pool import Pool
    from ibexite.engine.orders import Identity
    from ibexite.engine.run import Run
    from ibexite.engine.services import Consenting, Services
    from ibexite.language.check import vet
    from ibexite.language.source import Source
    from ibexite.records.gateway import open_store
    from ibexite.records.ingest import rows_of
    from ibexite.records.journal import Journal, read_journal

    path = folder / "many.ibx"
    path.write_text(text)
    program = vet(Source(str(path), text))
    identity = Identity("20261123-090000-000000", "R0", "tester", "desk", STARTED, lot="L1")
    journal = folder / "one.jsonl"
    with contextlib.closing(Journal(journal)) as kept:
        bench = Bench(memory_bench(folder), Pool(MemoryLink.opening))
        Run(program, bench, identity, Services(Still(), Consenting()), kept, ()).carry_out()
    rows = rows_of(read_journal(journal))
    assert rows is not None
    chance = np.random.default_rng(1)
    with contextlib.closing(open_store(folder)) as store, store._db.transaction():
        for number in range(units):
            mine = copy.deepcopy(rows) if number < 2 else mine  # noqa: F821  (the second copy is changed in place)
            mine.unit["serial"] = f"R{number}"
            mine.run.update(id=f"20261123-090000-{number:06d}", number=number)
            for test in mine.tests:
                test.test["run_id"] = mine.run["id"]
                for curve in test.curves:
                    if curve["origin"] == "read":
                        count = curve["length"]
                        curve["data"] = array("d", 5 + chance.normal(0, 0.1, count)).tobytes()
            store._insert_run(mine)


def by_hand_judged(folder: Path) -> int:
    """The values of all units compared with their limits."""
    db = sqlite3.connect(folder / "ibexite.sqlite")
    query = "SELECT run_id, curves.name, data FROM tests JOIN curves ON test_id = tests.id ORDER BY run_id, curves.id"
    values: list[float] = []
    for _, _, data in db.execute(query):
        values.append(np.frombuffer(data)[0])
    found = np.array(values).reshape(-1, CHECKS)
    return int(((found < 4) | (found > 6)).any(axis=1).sum())


def judged(folder: Path) -> int:
    """The same by the engine's own code."""
    from ibexite.records.gateway import open_lookup
    from ibexite.records.many_runs import chosen_runs
    from ibexite.station.judging_again import How, Judge

    lookup = open_lookup(folder)
    runs = [run.id for run in chosen_runs(lookup, [("lot", "L1")])]
    return sum(one.new.verdict != "pass" for one in Judge(lookup, How(sequence=folder / "many.ibx")).judged(runs))


def by_hand_limits(folder: Path) -> float:
    """Mean and spread of all curves."""
    db = sqlite3.connect(folder / "ibexite.sqlite")
    query = "SELECT data FROM tests JOIN curves ON test_id = tests.id WHERE curves.name = 'y' AND tests.name = 'a'"
    found = np.array([np.frombuffer(data) for (data,) in db.execute(query)])
    return float((found.mean(axis=0) + found.std(axis=0, ddof=1)).sum())


def limits(folder: Path) -> float:
    """Limits proposed from them."""
    from ibexite.records.gateway import open_lookup
    from ibexite.station.limit_methods import method_of
    from ibexite.station.many_units import measured_alike, units_of
    from ibexite.station.proposed_masks import proposed_mask

    lookup = open_lookup(folder)
    units = measured_alike(lookup, units_of(lookup, (), [("lot", "L1")]), {"a": ["y"]})
    mask = proposed_mask(lookup, units, "a", "y", method_of(1.0, None, None, None), is_aligned=False)
    return float(mask.curves.high.sum())


def ratio(ours: Callable[[Path], float], by_hand: Callable[[Path], float], folder: Path) -> tuple[float, float, float]:
    """The time of ours to that by hand, the median of several turns, in each of which both come one after the other;
    and the medians of both, in s."""
    times: dict[Callable[[Path], float], list[float]] = {ours: [], by_hand: []}
    for _ in range(TURNS):
        for deed, taken in times.items():
            began = time.perf_counter()
            deed(folder)
            taken.append(time.perf_counter() - began)
    ratios = [a / b for a, b in zip(times[ours], times[by_hand], strict=True)]
    return median(ratios), median(times[ours]), median(times[by_hand])


def main() -> None:
    """Both, one after the other."""
    units = int(sys.argv[1]) if len(sys.argv) > 1 else 1_000
    curves = int(sys.argv[2]) if len(sys.argv) > 2 else 10_000
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        made(folder, sequence(), units)
        found, mine, theirs = ratio(judged, by_hand_judged, folder)
        told = f"{found:.2f} ({mine:.2f} s to {theirs:.2f} s; wanted 3)"
        print(f"judging {units} units of {CHECKS} checks again: {told}")
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        made(folder, CURVE, curves)
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        found, mine, theirs = ratio(limits, by_hand_limits, folder)
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        told = f"{found:.2f} ({mine:.2f} s to {theirs:.2f} s; wanted 3)"
        print(f"limits from {curves} curves of {POINTS} points: {told}, "
              f"{most:.0f} MB at most ({before / 1024:.0f} before; wanted 200)")  # fmt: skip


if __name__ == "__main__":
    main()
