"""`ibexite simulate`."""

from __future__ import annotations

import signal
import time
from pathlib import Path

import click


@click.command("simulate")
@click.argument("bench", type=click.Path(path_type=Path))
@click.option("--unit", "serial", default="FC00400", show_default=True, help="Serial number of the simulated unit.")
@click.option(
    "--trouble", "troubles", multiple=True, metavar="INSTRUMENT: …",
    help="Something that goes wrong, as in the bench file (again for more).",
)  # fmt: skip
def command(bench: Path, serial: str, troubles: tuple[str, ...]) -> None:
    """Serves the simulated stand-ins of a bench on the links of its addresses, until Ctrl-C.

    Instruments whose address is on this machine are served there; for others a free port is taken and shown.

    \b
    ibexite simulate bench.toml --unit FC00412
    ibexite simulate bench.toml --trouble 'dmm: query = "READ?", how = "late", pause = ["0 s", "2 s"], times = 99'
    """
    from ibexite.bench.file import read_bench
    from ibexite.errors import BenchError
    from ibexite.simulate.server import BenchServer
    from ibexite.station.stand_ins import make_plan, with_troubles

    file = with_troubles(read_bench(bench), troubles)
    try:
        server = BenchServer(make_plan(file, serial, own_ports=False))
    except OSError as error:
        raise BenchError(
            f"cannot listen ({error.strerror})", where=str(bench), remedy="Does another simulated bench run already?"
        ) from None
    click.echo(f"simulated bench {file.name!r} with unit {serial}; end it with Ctrl-C")
    for name, address in server.addresses.items():
        click.echo(f"  {name:<12} {file.instruments[name].profile.name:<28} {address}")
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, lambda *_: server.stop())
    began = time.monotonic()
    server.serve()
    click.echo(f"\nsimulated bench ended after {time.monotonic() - began:.0f} s")
