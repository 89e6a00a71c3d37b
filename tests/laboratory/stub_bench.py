"""A bench of instruments that answer from memory, without sockets: thousands of runs in the time of a few."""

import itertools
import os
from collections.abc import Callable
from pathlib import Path
from typing import Any, Self

from ibexite.bench.file import BenchFile, read_bench
from ibexite.instruments.link import LinkOptions, Reply, Rescue

BENCH = """[bench]
name = "from memory"
[instruments.psu]
profile = "scpi-power-supply"
address = "TCPIP::192.0.2.1::{0}::SOCKET"
[instruments.eload]
profile = "scpi-electronic-load"
address = "TCPIP::192.0.2.1::{1}::SOCKET"
[instruments.dmm]
profile = "scpi-scanning-multimeter"
address = "TCPIP::192.0.2.1::{2}::SOCKET"
[roles]
supply = { instrument = "psu", ceiling = { voltage = "17 V", current_limit = "1.5 A" } }
load   = { instrument = "eload", ceiling = { current = "1.25 A" } }
meter  = { instrument = "dmm" }
[signals]
v_ok  = { read = "meter.dc_voltage", with = { channel = 101, range = "10 V" } }
v_bad = { read = "meter.dc_voltage", with = { channel = 102, range = "10 V" } }
v_odd = { read = "meter.dc_voltage", with = { channel = 103, range = "10 V" } }
"""
_NUMBERS = itertools.count()
ANSWERS = {"101": b"+5.0000E+00", "102": b"+9.9E37", "103": b"#!?"}
RESET = {"SOUR1:VOLT": "0", "SOUR1:CURR": "0.1", "OUTP1": "0", "SOUR1:VOLT:PROT": "40", "SOUR1:CURR:PROT": "3.5", "CURR": "0", "INP": "0",
         "CURR:PROT": "5"}  # fmt: skip


class MemoryLink:
    """Holds what was set and tells it; answers readings by the channel. `heard` has every line that arrived, with what was
    set then."""

    heard: list[tuple[str, str]] = []

    def __init__(self, address: str, options: LinkOptions) -> None:
        self.address, self.name, self.timeout = address, options.name, options.timeout
        self.before_reopening: Callable[[], None] = lambda: None
        self.after_reopening: Callable[[], None] = lambda: None

    def allow(self, seconds: float) -> None:
        """From now on a reply may take so long."""
        self.timeout = seconds

    @classmethod
    def opening(cls, address: str, options: LinkOptions) -> Self:
        link = cls(address, options)
        link.open()
        return link

    def open(self) -> None:
        self.is_waiting, self._asked, self._channel = False, b"", "101"
        self.held = dict(RESET)

    def close(self) -> None:
        """Nothing is open."""

    def reopen(self) -> None:
        self.close()
        self.open()

    def rescue(self) -> Rescue:
        raise AssertionError

    def look(self, seconds: float = 0.0) -> None:
        """Nothing waits."""

    def send(self, data: bytes) -> None:
        for line in data.decode().split("\n"):
            if line and "?" in line:
                self._asked = line.encode()
            elif line:
                MemoryLink.heard.append((self.name, line))
                header, _, value = line.partition(" ")
                if header == "*RST":
                    self.held = dict(RESET)
                elif header == "ROUT:SCAN":
                    self._channel = value.strip("(@)")
                elif header in self.held:
                    self.held[header] = {"ON": "1", "OFF": "0"}.get(value, value)

    ask = send

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        return b";".join(self._answer(part.strip(":")) for part in self._asked.decode().split(";"))

    def ask_known(self, data: bytes, wanted: bytes) -> bytes:
        """As `exchange`."""
        return self.exchange(data)

    def exchange(self, data: bytes, reply: Reply = Reply.LINE) -> bytes:
        self.send(data)
        return self.receive()

    def _answer(self, query: str) -> bytes:
        if query == "*IDN?":
            return f"Memory,{self.name},1,1".encode()
        if query == "READ?":
            return b",".join(ANSWERS[channel] for channel in self._channel.split(","))
        fixed: dict[str, Any] = {"*OPC?": "1", "SYST:ERR?": '0,"No error"', "STAT:QUES?": "0"}
        return str(fixed.get(query, self.held.get(query[:-1], "0"))).encode()


def memory_bench(folder: Path) -> BenchFile:
    """The bench file, written into a folder and read."""
    path = folder / "memory.toml"
    # Addresses of its own: they are locked, several processes run at once, and one that failed may hold its bench yet.
    number = next(_NUMBERS) % 20_000
    own = os.getpid()  # in the range of addresses that is kept for tests of networks
    text = BENCH.replace("192.0.2.1", f"198.{18 + own // 65536 % 2}.{own // 256 % 256}.{own % 256}")
    for n in range(3):
        text = text.replace(f"{{{n}}}", str(3 * number + n + 1))
    path.write_text(text)
    return read_bench(path)
