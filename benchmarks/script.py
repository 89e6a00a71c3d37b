"""The yardstick: a plain Python script that does the same by hand, one operation after the other.

python benchmarks/script.py PORTS OUTER INNER FOLDER [picture]
"""

from __future__ import annotations

import csv
import socket
import sys
import time


class Instrument:
    """A bare socket with line replies."""

    def __init__(self, port: int) -> None:
        self.socket = socket.create_connection(("127.0.0.1", port), 2.0)
        self.socket.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        self.socket.settimeout(2.0)

    def write(self, text: str) -> None:
        """Sends a command."""
        self.socket.sendall(text.encode() + b"\n")

    def query(self, text: str) -> str:
        """Asks and returns the reply."""
        self.socket.sendall(text.encode() + b"\n")
        data = self.socket.recv(4096)
        while not data.endswith(b"\n"):
            data += self.socket.recv(4096)
        return data.decode().strip()


def main() -> None:
    """Sweeps, writes a CSV file, draws a picture, writes a page."""
    ports = [int(port) for port in sys.argv[1].split(",")]
    outer, inner, folder, with_picture = int(sys.argv[2]), int(sys.argv[3]), sys.argv[4], "picture" in sys.argv
    three_reads = "three" in sys.argv
    supply, load, meter = (Instrument(port) for port in ports)
    for instrument in (supply, load, meter):
        instrument.query("*IDN?")
        instrument.write("*CLS")
        instrument.write("*RST")
        instrument.query("*OPC?")
    began = time.perf_counter()
    failed = 0
    rows = []
    with open(f"{folder}/data.csv", "w", newline="") as file:  # noqa: PTH123
        writer = csv.writer(file)
        writer.writerow(["vin", "iload", "v_in", "i_in", "v_out", "i_s", "p", "ratio"])
        for i in range(outer):
            vin = 5 + 0.001 * i
            for j in range(inner):
                iload = 0.001 * j
                supply.write(f"SOUR1:VOLT {vin:.9g}")
                load.write(f"CURR {iload:.9g}")
                v_in = float(meter.query("MEAS:VOLT:DC? 100,(@101)"))
                i_in = float(meter.query("MEAS:VOLT:DC? 1,(@102)")) / 0.10012 if not three_reads else 1.0
                v_out = float(load.query("MEAS:VOLT?"))
                i_s = float(supply.query("MEAS1:CURR?"))
                p = v_in * i_in - v_out * i_s
                ratio = v_out * i_s / (v_in * i_in)
                failed += not ratio >= 0.01
                row = [vin, iload, v_in, i_in, v_out, i_s, p, ratio]
                writer.writerow(row)
                file.flush()
                rows.append(row)
        for instrument in (supply, load, meter):
            instrument.query("SYST:ERR?")
    print(f"points {outer * inner} took {time.perf_counter() - began:.6f}", flush=True)
    supply.write("OUTP1 OFF")
    load.write("INP OFF")
    if with_picture:
        draw(rows, inner, failed, folder)
    print("FAIL" if failed else "PASS", flush=True)


def draw(rows: list[list[float]], inner: int, failed: int, folder: str) -> None:
    """A picture and a page."""
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure

    figure = Figure(figsize=(8.6, 3.5))
    FigureCanvasSVG(figure)
    axes = figure.add_subplot()
    for start in range(0, len(rows), inner):
        part = rows[start : start + inner]
        axes.plot([row[1] for row in part], [row[7] for row in part], marker="o", markersize=2.6)
    axes.axhline(0.01, color="red")
    figure.savefig(f"{folder}/picture.svg")
    with open(f"{folder}/report.html", "w") as file:  # noqa: PTH123
        file.write(f"<h1>{'FAIL' if failed else 'PASS'}</h1><p>{len(rows)} points</p><img src='picture.svg'>")


if __name__ == "__main__":
    main()
