"""What conversions cost: a scan of 40 channels as signals with four kinds of conversion (shunt, platinum thermometer,
thermocouple, polynomial), beside the same scan query on a bare socket whose reply is only split into numbers. The other
side answers a fixed line at once, in a process of its own. Medians of paired ratios.

    python benchmarks/scan.py             some 10 s
"""

import multiprocessing
import socket
import statistics
import tempfile
import time
from pathlib import Path

from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench

CHANNELS, SCANS, PAIRS = 40, 500, 15
AT_MOST = 1.2  # with an instrument that takes 1 ms to answer, which is quick for a scan of so many channels
WAITS = (0.0, 1e-3)  # s
KINDS = (
    ("dc_voltage", "0.05", 'shunt = "0.1 ohm"\nbelieve = ["-1 A", "5 A"]'),
    ("resistance", "110.0", 'rtd = { r0 = "100 ohm" }\nbelieve = ["-50 degC", "200 degC"]'),
    (
        "dc_voltage",
        "0.002",
        'thermocouple = { type = "K", cold_junction = "23 degC" }\nbelieve = ["0 degC", "300 degC"]',
    ),
    ("dc_voltage", "2.5", 'polynomial = { coefficients = ["-10 degC", "40 K/V"], of = ["0 V", "5 V"] }'),
)
REPLY = ",".join(f"{float(KINDS[n % 4][1]):+.7E}" for n in range(CHANNELS)).encode() + b"\n"


def answering(listener: socket.socket, wait: float) -> None:
    """Answers queries of as many clients as come one after the other."""
    while True:
        connection, _ = listener.accept()
        connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        while data := connection.recv(65536):
            for line in data.split(b"\n"):
                if line.endswith(b"?"):
                    if line == b"READ?":
                        time.sleep(wait)
                    connection.sendall({b"*IDN?": b"Firnline,DM\n", b"*OPC?": b"1\n"}.get(line, REPLY))


def bench_at(folder: Path, port: int) -> Bench:
    """A bench whose signals are the channels of one scanner."""
    text = f"""[bench]
name = "scan"
[instruments.dmm]
profile = "scpi-scanning-multimeter"
address = "TCPIP::127.0.0.1::{port}::SOCKET"
[roles.meter]
instrument = "dmm"
"""
    for n in range(CHANNELS):
        reading, _, conversion = KINDS[n % 4]
        text += f'[signals.s{n}]\nread = "meter.{reading}"\nwith = {{ channel = {101 + n} }}\n{conversion}\n'
    (folder / "bench.toml").write_text(text)
    return Bench(read_bench(folder / "bench.toml"))


def by_hand(connection: socket.socket) -> float:
    """Seconds for the scans on a bare socket."""
    began = time.perf_counter()
    for _ in range(SCANS):
        connection.sendall(b"READ?\n")
        data = b""
        while not data.endswith(b"\n"):
            data += connection.recv(65536)
        values = [float(text) for text in data.split(b",")]
    assert len(values) == CHANNELS
    return time.perf_counter() - began


def main() -> None:
    """Prints the ratios."""
    for wait in WAITS:
        listener = socket.create_server(("127.0.0.1", 0))
        multiprocessing.Process(target=answering, args=(listener, wait), daemon=True).start()
        port = int(listener.getsockname()[1])
        ratios = []
        for _ in range(PAIRS if not wait else 5):
            bare = socket.create_connection(("127.0.0.1", port))
            bare.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            hand = by_hand(bare)
            bare.close()
            with tempfile.TemporaryDirectory() as folder:
                bench = bench_at(Path(folder), port)
                bench.connect(["dmm"])
                items = [bench.signal_item(f"s{n}", f"s{n}") for n in range(CHANNELS)]
                line = bench.read_line(items, together=True, averaging=1)
                line()
                began = time.perf_counter()
                for _ in range(SCANS):
                    line()
                    bench.user.take_said()
                ratios.append((time.perf_counter() - began) / hand)
                bench.close()
        print(f"scan of {CHANNELS} channels, four conversions, instrument of {wait * 1000:g} ms: "
              f"{statistics.median(ratios):.2f} times the bare query ({hand / SCANS * 1e6:.0f} us)")  # fmt: skip


if __name__ == "__main__":
    main()
