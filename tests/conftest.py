"""What tests share: the example project in a temporary folder, the installed program, a simulated bench in a thread."""

import contextlib
import json
import os
import re
import shlex
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from dataclasses import replace
from functools import partial
from pathlib import Path

import pytest
from hypothesis import settings

from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.pool import Pool
from ibexite.companions.files import Files
from ibexite.demo.project import make_project
from ibexite.engine.services import Clock, Operator, RealClock
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.simulate.server import BenchServer
from ibexite.station.stand_ins import make_plan
from tests.forks import FORKS
from tests.laboratory import state
from tests.laboratory.kills import hear_signals
from tests.laboratory.stub_bench import MemoryLink, memory_bench
from tests.runs import Recorded, carried_out

hear_signals()

GOOD, WEAK, SHORT = "FC00400", "FC00411", "FC00427"
IBEXITE = [sys.executable, "-m", "ibexite"]

HEADER = """sequence "Test"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"

needs
    supply       : power_supply
    load         : electronic_load
    v_in, v_out  : signal in V
    i_in, i_out  : signal in A
    rail_3v3     : signal in V

before unit
    set supply.current_limit = 1.3 A, supply.voltage = 9 V, supply.output = on
    set load.current = 0 A, load.input = on
    wait 30 ms

"""


SMALL_HEAD = """sequence "Small"
    product "P"
    serial "A[0-9]"
needs
    supply : power_supply
    load : electronic_load
    v_in, v_out : signal in V
before unit
    set supply.current_limit = 1.3 A, supply.voltage = 9 V, supply.output = on
    set load.current = 0 A, load.input = on
    wait 30 ms
    read idle_v = v_out
    check idle_v >= 4 V as "board is powered"
"""

# A test says what comes out, never how long it takes.
settings.register_profile("untimed", deadline=None)
settings.load_profile("untimed")


@pytest.fixture
def project(tmp_path: Path) -> Path:
    """A folder with the files of the example project."""
    make_project(tmp_path / "project")
    return tmp_path / "project"


def own_addresses(project: Path) -> None:
    """Gives the bench file addresses of this process alone: addresses are locked, and several tests run at once."""
    path, number = project / "bench.toml", os.getpid()
    host = f"127.{1 + number // 250 % 250}.{1 + number % 250}.9"
    path.write_text(path.read_text().replace("TCPIP::127.0.0.1::502", f"TCPIP::{host}::502"))


@contextlib.contextmanager
def bench_on_links(project: Path, kinds: dict[str, str], serial: str = GOOD) -> Iterator[BenchServer]:
    """Serves the bench of a project on other kinds of links, by instrument, and writes the addresses into its bench file."""
    path = project / "bench.toml"
    plan = make_plan(read_bench(path), serial, own_ports=True)
    server = BenchServer(replace(plan, stand_ins=tuple(replace(s, link=kinds.get(s.name, s.link)) for s in plan.stand_ins)))
    text = path.read_text()
    for name, address in server.addresses.items():
        words = shlex.split(address.removeprefix("program "))
        line = f"program = {json.dumps(words)}" if address.startswith("program ") else f'address = "{address}"'
        text = re.sub(rf'(\[instruments\.{name}\][^\[]*?)address\s*= "[^"]*"', lambda found, line=line: found[1] + line, text)
    path.write_text(text)
    thread = threading.Thread(target=server.serve)
    thread.start()
    yield server
    server.stop()
    thread.join(5)


def children_of(process: subprocess.Popen, name: str) -> list[int]:
    """The processes that any thread of a process has started, whose command line has this name in it."""
    listed = [number for path in Path(f"/proc/{process.pid}/task").glob("*/children") for number in path.read_text().split()]
    return [int(number) for number in listed if name.encode() in Path(f"/proc/{number}/cmdline").read_bytes()]


def in_project(project: Path, *arguments: str, report: bool = False, input: str = "") -> subprocess.CompletedProcess[str]:
    """Runs the installed program in a project, with what somebody types; runs write no report unless it is asked for,
    which takes longer than all else."""
    if arguments[0] in ("run", "retest") and not report and "--no-report" not in arguments:
        arguments = (*arguments, "--no-report")
    return FORKS.run([*arguments], project, {**os.environ, "COLUMNS": "120"}, input, 120)


@pytest.fixture
def ibexite(project: Path) -> Callable[..., subprocess.CompletedProcess[str]]:
    """Runs the installed program in the example project."""
    return partial(in_project, project)


@pytest.fixture
def serve(project: Path) -> Iterator[Callable[..., BenchFile]]:
    """Serves the simulated bench of a bench file in a thread; returns the file moved to its ports."""
    running: list[tuple[BenchServer, threading.Thread]] = []

    def start(serial: str = GOOD, change: Callable[[str], str] = lambda text: text, *, is_private: bool = True) -> BenchFile:
        path = project / "bench.toml"
        path.write_text(change(path.read_text()))
        file = read_bench(path)
        server = BenchServer(make_plan(file, serial, own_ports=True))
        thread = threading.Thread(target=server.serve)
        thread.start()
        running.append((server, thread))
        # Private: a port may have been that of another process a moment ago, whose guardian still has its lock.
        return file.moved_to(server.addresses, is_private=is_private)

    yield start
    for server, thread in running:
        server.stop()
        thread.join(5)


@pytest.fixture
def perform(serve: Callable[..., BenchFile], project: Path) -> Callable[..., Recorded]:
    """Runs the lines of tests (appended to HEADER) on the simulated bench, within this process. `files` are put beside
    the sequence, by name."""

    def run(text: str, serial: str = GOOD, *, header: str = HEADER, readers: tuple = (), files: dict | None = None,
            operator: Operator | None = None, journal: Callable | None = None, clock: Clock | None = None, change: Callable[[str], str] = lambda text: text,
            **services: object) -> Recorded:  # fmt: skip
        for name, content in (files or {}).items():
            (project / name).write_text(content)
        source = Source(str(project / "test.ibx") if files else "test.ibx", header + text)
        program = vet(source, None, Files(project) if files else None)
        assert not source.has_mistakes, [source.render(f) for f in source.findings]
        events: list = []
        file = serve(serial, change)
        outcome = carried_out(
            program, file, journal or events.append, views=(*([events.append] if journal else []), *readers),
            clock=clock or RealClock(), operator=operator, serial=serial, **services)  # fmt: skip
        return Recorded(outcome, events, file)

    return run


@pytest.fixture
def rehearse(tmp_path: Path) -> Callable[..., Recorded]:
    """Runs the lines of a test `a` on a bench from memory, by a clock that does not wait; `head` comes before the sequence,
    `before` before the test, `files` lie in the folder of the project."""

    def run(lines: str, head: str = "", link: type[MemoryLink] = MemoryLink, before: str = "", files: dict[str, str] | None = None,
            **services: object) -> Recorded:  # fmt: skip
        text = head + state.HEAD.format(prot=16, volts=9, load="off", output="on") + before + 'test a "A"\n' + lines
        for name, content in (files or {}).items():
            (tmp_path / name).parent.mkdir(exist_ok=True, parents=True)
            (tmp_path / name).write_text(content)
        program = vet(Source("t.ibx", text), None, Files(tmp_path) if files else None)
        assert not program.has_mistakes, [program.source.render(finding) for finding in program.source.findings]
        events: list = []
        file = memory_bench(tmp_path)
        return Recorded(carried_out(program, file, events.append, opening=link.opening, **services), events, file)

    return run


@pytest.fixture
def memory(tmp_path: Path) -> Iterator[Callable[..., Bench]]:
    """Connects a bench from memory; raw commands are allowed."""
    with contextlib.ExitStack() as stack:

        def connected(link: type[MemoryLink] = MemoryLink) -> Bench:
            path = memory_bench(tmp_path).path
            path.write_text(path.read_text().replace('supply = { instrument = "psu",', 'supply = { instrument = "psu", raw = true,'))
            bench = Bench(read_bench(path), Pool(link.opening))
            stack.callback(bench.close)
            bench.connect(["psu", "dmm"])
            return bench

        yield connected


@pytest.fixture
def small(project: Path):
    """Writes a small sequence."""

    def write(lines: str, head: str = SMALL_HEAD) -> None:
        (project / "small.ibx").write_text(head + lines)

    return write


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Says how many lines of tests there are to those of the code, without the empty ones. Code is what is shipped and
    written by hand: Python, the grammar, profiles, benches, sequences, templates."""
    root = Path(__file__).parents[1]

    def lines(folder: str, *kinds: str) -> int:
        texts = (path.read_text() for kind in kinds for path in (root / folder).rglob(f"*.{kind}"))
        return sum(bool(line.strip()) for text in texts for line in text.splitlines())

    tests, code = lines("tests", "py"), lines("src", "py", "lark", "toml", "html", "ibx", "txt")
    terminalreporter.write_line(f"tests: {tests:,} lines, {100 * tests / code:.1f} % of the {code:,} lines of the code")
