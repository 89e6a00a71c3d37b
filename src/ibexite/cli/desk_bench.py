"""The bench of a command at the desk: its file, moved to stand-ins if that is wanted, and what opens its links."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator
from contextlib import AbstractContextManager
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ibexite.errors import MistakeError
from ibexite.station.project import bench_at_desk, need_position

if TYPE_CHECKING:
    from ibexite.bench.file import BenchFile
    from ibexite.bench.pool import Opening

simulate_option = click.option("--simulate", is_flag=True, help="With the simulated stand-ins.")


@contextlib.contextmanager
def desk_bench(
    given: Path | None, simulate: bool, traffic: Path | None, *, at_any_position: bool = False
) -> Iterator[tuple[BenchFile, Opening]]:
    """The bench file, moved to its stand-ins if that is wanted, and what opens its links. at_any_position: it does not
    matter where the product is."""
    from ibexite.bench.file import read_bench

    file = read_bench(bench_at_desk(given, Path.cwd()))
    if not at_any_position:
        need_position(file)
    with contextlib.ExitStack() as stack:
        if simulate:
            from ibexite.station.simulated_bench import SimulatedBench

            file = stack.enter_context(SimulatedBench(file, "FC00400"))
        yield file, stack.enter_context(watched(traffic, f"bench {file.name}"))


def watched(traffic: Path | None, what: str) -> AbstractContextManager[Opening]:
    """What opens links, and writes what is said on them into a file where that is wanted."""
    from ibexite.station.watching import watched as watching

    return watching(traffic, what, lambda text: click.echo(text, err=True))


def bench_if_any(given: Path | None) -> BenchFile | None:
    """The bench file; None where there is none and none is named."""
    from ibexite.bench.file import read_bench

    try:
        path = bench_at_desk(given, Path.cwd())
    except MistakeError:
        return None
    return read_bench(path)
