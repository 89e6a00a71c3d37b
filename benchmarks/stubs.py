"""What the engine itself costs a row: the same stub links under the engine and under a loop written by hand.

python benchmarks/stubs.py hand|engine POINTS      prints microseconds a point

A point is 2 settings, 4 readings, 2 formulas, 1 check. The stubs answer from memory; the journal keeps the last event.
"""

from __future__ import annotations

import datetime
import sys
import tempfile
import time
from collections import deque
from collections.abc import Callable
from pathlib import Path
from typing import Any

import compare
from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.engine.orders import Identity
from ibexite.engine.run import Run
from ibexite.engine.services import Consenting, Services
from ibexite.instruments.link import LinkOptions, Reply, Rescue
from ibexite.language.check import vet
from ibexite.language.source import Source

REPLIES = {b"*IDN?\n": b"stub,1,1,1", b"*OPC?\n": b"1",
           b"SYST:ERR?\n": b'0,"No error"', b"STAT:QUES?\n": b"0", b"OUTP1?\n": b"0",
           b"INP?\n": b"0"}  # fmt: skip


class StubLink:
    """A link that answers at once, from memory; it holds what was set last."""

    def __init__(self, address: str, options: LinkOptions) -> None:
        self.address, self.timeout = address, options.timeout
        self.before_reopening: Callable[[], None] = lambda: None
        self.after_reopening: Callable[[], None] = lambda: None
        self.open()

    def open(self) -> None:
        self.is_waiting = False
        self._asked, self._set = b"", b" 0"

    reopen = open

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""

    def close(self) -> None:
        """Nothing is open."""

    def rescue(self) -> Rescue:
        """There is no guardian for it."""
        raise AssertionError

    def send(self, data: bytes) -> None:
        self._set = data if data.startswith((b"SOUR1:VOLT ", b"CURR ")) else self._set

    def ask(self, data: bytes) -> None:
        self._asked = data

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        return self.exchange(self._asked)

    def ask_known(self, data: bytes, wanted: bytes) -> bytes:
        """As `exchange`."""
        return self.exchange(data)

    def exchange(self, data: bytes, reply: Reply = Reply.LINE) -> bytes:
        if b";" in data:
            if data.startswith((b"*OPC?;:SOUR1:VOLT?", b"*OPC?;:CURR?")):
                return b"1;" + self._set.partition(b" ")[2].strip()
            return b";".join(self.exchange(part.removeprefix(b":") + b"\n") for part in data[:-1].split(b";"))
        if data in (b"SOUR1:VOLT?\n", b"CURR?\n"):
            return self._set.partition(b" ")[2].strip()
        return b"0" if data.endswith(b"TRIP?\n") else REPLIES.get(data, b"5.0000000E+00")

    def look(self, seconds: float = 0.0) -> None:
        """Nothing waits."""


class Still:
    """A clock that does not wait."""

    now = stamp = staticmethod(time.monotonic)

    def wait(self, seconds: float, heed: Any) -> None:
        """Returns at once."""


def by_hand(points: int) -> float:
    """Microseconds a point of a loop as one would write it."""
    psu, load, meter = (StubLink("TCPIP::127.0.0.1::1::SOCKET", LinkOptions(n, 1.0)) for n in "abc")
    for one in (psu, load, meter):
        one.open()
    rows: list[Any] = []
    fails = 0
    began = time.perf_counter()
    outer = points // 100
    for i in range(outer):
        vin = 5 + i * 0.01
        for k in range(100):
            iload = k * 0.001
            psu.send(f"SOUR1:VOLT {vin:.9g}\n".encode())
            load.send(f"CURR {iload:.9g}\n".encode())
            v_in = float(meter.exchange(b"READ?\n"))
            i_in = float(psu.exchange(b"MEAS1:CURR?\n"))
            v_out = float(load.exchange(b"MEAS:VOLT?\n"))
            i_s = float(load.exchange(b"MEAS:CURR?\n"))
            p = v_in * i_in
            ratio = v_out * i_s / p
            if not ratio >= 0.01:
                fails += 1
            rows.append((vin, iload, v_in, i_in, v_out, i_s, p, ratio))
    return (time.perf_counter() - began) / points * 1e6


def by_engine(points: int) -> float:
    """Microseconds a point of a sequence: a long run less a short one, so that the start does not count."""
    return (_run(points) - _run(points // 10)) / (points - points // 10) * 1e6


def _run(points: int) -> float:
    text = compare.SEQUENCE.format(
        vin_end=9.99, outer=points // 100, iload_end=0.099, inner=100,
        reads="v_in, i_in, v_out = load.voltage, i_s = load.current",
        together="", p="v_in * i_in", i_in="i_in", plot="",
    )  # fmt: skip
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "bench.toml"
        path.write_text(compare.BENCH.format(1, 2, 3))
        program = vet(Source("stub.ibx", text))
        assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
        told: deque[Any] = deque(maxlen=1)
        identity = Identity("r", "B1", "", "", datetime.datetime.now(datetime.UTC))
        run = Run(
            program, Bench(read_bench(path), Pool(StubLink)), identity, Services(Still(), Consenting()), told.append
        )
        began = time.perf_counter()
        outcome = run.carry_out()
        took = time.perf_counter() - began
    assert outcome.verdict == "pass", outcome
    return took


if __name__ == "__main__":
    print({"hand": by_hand, "engine": by_engine}[sys.argv[1]](int(sys.argv[2])))
