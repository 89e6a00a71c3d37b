"""A run without a terminal: started from a program, stopped from any thread, several at once."""

import contextlib
import errno
import gc
import re
import subprocess
import sys
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from ibexite import events
from ibexite.engine.orders import Orders
from ibexite.engine.selection import Selection
from ibexite.engine.services import Consenting
from ibexite.errors import BenchError, MistakeError, StopRun
from ibexite.instruments.profile import SHIPPED
from ibexite.records.gateway import open_lookup
from ibexite.source_trees import code_of, tree_of
from ibexite.station.opening import NotReady, Ready, open_to_run, open_to_vet
from ibexite.station.project import find_project
from ibexite.station.report_helper import ReportHelper
from ibexite.station.service import Notice, RunHandle, RunService, UnitOrders
from ibexite.stop import Stop
from tests.conftest import GOOD, HEADER, WEAK, own_addresses
from tests.runs import kept_events

SIMULATED = Orders(is_simulated=True)


def ready(project: Path, lines: str, name: str = "own.ibx") -> Ready:
    """A sequence of one test, opened."""
    (project / name).write_text(HEADER + f'test t "T"\n{lines}\nafter unit\n    set load.current = 0 A\n')
    return open_to_run(project / name, None, {})


def begun(project: Path, lines: str, reader: Callable[[events.Emitted], object]) -> RunHandle:
    """A run of such a sequence, in real time, on a simulated bench of its own."""
    opened = ready(project, lines)
    orders = UnitOrders(opened.program, opened.bench, GOOD, orders=SIMULATED, is_real_time=True)
    return RunService(project / "records").start(orders, [lambda told: reader(told) and None], Consenting(), Stop())


class Garbage:
    """Is collected in the middle of something, and lets other threads in."""

    def __init__(self) -> None:
        self.itself = self

    def __del__(self) -> None:
        for _ in range(50):
            pass


def test_blocks_are_compiled_by_several_threads_at_once(monkeypatch) -> None:
    text = "\n".join(
        f"def f{i}(a):\n    try:\n        return (a + {i}) * [x for x in range({i})][0]\n    except BaseException:\n        raise" for i in range(60)
    )
    broken: list[Exception] = []

    def compiling() -> None:
        for _ in range(40):
            _ = [Garbage() for _ in range(20)]
            try:
                code_of(tree_of(text), "x")
            except Exception as error:
                broken.append(error)

    before = gc.get_threshold(), sys.getswitchinterval()
    gc.set_threshold(50)
    sys.setswitchinterval(1e-6)
    try:
        threads = [threading.Thread(target=compiling) for _ in range(4)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
    finally:
        gc.set_threshold(*before[0])
        sys.setswitchinterval(before[1])
    assert not broken


def test_several_runs_in_one_process_keep_to_themselves(project: Path) -> None:
    opened = open_to_run(project / "fm2_final.ibx", None, {})
    heard: dict[str, list[events.Emitted]] = {GOOD: [], WEAK: []}
    service = RunService(project / "records")
    handles = {
        serial: service.start(UnitOrders(opened.program, opened.bench, serial, orders=SIMULATED), [told.append], Consenting(), Stop())
        for serial, told in heard.items()}  # fmt: skip
    outcomes = {serial: handle.wait() for serial, handle in handles.items()}
    assert {serial: outcome.verdict for serial, outcome in outcomes.items()} == {GOOD: "pass", WEAK: "fail"}, outcomes
    for serial, told in heard.items():
        assert {emitted.run for emitted in told} == {outcomes[serial].run}
        assert [emitted.number for emitted in told] == list(range(1, len(told) + 1))
        kept = kept_events(project, outcomes[serial].run)
        assert [type(emitted.event).__name__ for emitted in told] == [event["e"] for event in kept]
    with contextlib.closing(open_lookup(project / "records")) as lookup:
        assert {run["serial"]: run["verdict"] for run in lookup.runs()} == {GOOD: "pass", WEAK: "fail"}


@pytest.mark.parametrize(("lines", "begins"), [
    ("    wait 600 s", events.TestStarted),
    ("    repeat n 1000000 times every 1 ms\n        read v_in\n    check v_in >= 1 V", events.Row),
    ("    repeat n 1000000 times\n        let x = 2 * n\n    check x >= 1", events.Row),
    ("    wait reading v_in every 100 s until v_in > 90 V timeout 1000 s", events.Row),
    ('    call "slow.py" with x = 1 gives y in V timeout 600 s\n    check y >= 1 V', events.TestStarted)])  # fmt: skip
def test_a_run_is_stopped_from_another_thread_wherever_it_waits(project: Path, lines: str, begins: type) -> None:
    (project / "slow.py").write_text("import time\ntime.sleep(600)\n")
    heard: list[events.Event] = []
    has_begun = threading.Event()

    def hear(told: events.Emitted) -> None:
        heard.append(told.event)
        if isinstance(told.event, begins):
            has_begun.set()

    handle = begun(project, lines, hear)
    assert has_begun.wait(60) and not handle.is_done
    assert handle.stop("stopped by a test") and not handle.stop("once more")
    outcome = handle.wait()
    assert (outcome.verdict, outcome.reason.text, outcome.tests) == ("aborted", "stopped by a test", {"t": "aborted"})
    safe = next(event for event in heard if isinstance(event, events.MadeSafe))
    assert [(role["role"], role["problem"]) for role in safe.roles] == [("load", ""), ("supply", "")]
    rows = [event for event in heard if isinstance(event, events.Row)]
    assert len(rows) == len({row.x for row in rows}), "what was recorded is recorded once"


def test_a_run_that_waits_for_a_silent_instrument_is_stopped(project: Path) -> None:
    path = project / "bench.toml"
    path.write_text(path.read_text().replace("[instruments.dmm.simulated]", '[instruments.dmm.simulated]\ntrouble = [{ query = "READ?", how = "silent", times = 99 }]'))  # fmt: skip
    own = (SHIPPED / "scpi-scanning-multimeter.toml").read_text()
    (project / "patient.toml").write_text(own.replace('timeout = "3 s"', 'timeout = "600 s"'))
    path.write_text(path.read_text().replace('"scpi-scanning-multimeter"', '"patient.toml"'))
    has_begun = threading.Event()
    handle = begun(project, "    read v_in\n    check v_in >= 1 V", lambda told: isinstance(told.event, events.TestStarted) and has_begun.set())  # fmt: skip
    assert has_begun.wait(60)
    assert handle.stop("stopped by a test") and handle.wait().verdict == "aborted"


def test_two_runs_do_not_share_an_instrument(project: Path) -> None:
    own_addresses(project)
    opened = ready(project, "    wait 1 s\n    read v_in\n    check v_in >= 1 V")
    orders = UnitOrders(opened.program, opened.bench, GOOD)
    handles = [RunService(project / "records").start(orders, (), Consenting(), Stop()) for _ in range(2)]
    reasons = [handle.wait().reason.text for handle in handles]
    assert all("nothing listens there" in reason or "in use by" in reason for reason in reasons), reasons


def test_what_is_ordered_wrongly_is_refused_before_anything_begins(project: Path) -> None:
    opened = open_to_run(project / "fm2_final.ibx", None, {})
    service = RunService(project / "records")
    for wrong in (UnitOrders(opened.program, opened.bench, "X1"), UnitOrders(opened.program, opened.bench, GOOD, orders=Orders(Selection(only=("nothing",))))):
        with pytest.raises(MistakeError):
            service.start(wrong, (), Consenting(), Stop())
    assert not (project / "records").exists()
    (project / "bad.ibx").write_text('sequence "X"\ntest t "T"\n    wait 5 V\n')
    with pytest.raises(NotReady) as mistakes:
        open_to_run(project / "bad.ibx", None, {})
    assert mistakes.value.opened.findings and open_to_vet(project / "bad.ibx", None, {}).has_mistakes


def test_a_run_that_cannot_begin_says_so_where_it_is_waited_for(project: Path, monkeypatch) -> None:
    monkeypatch.setattr("ibexite.station.simulated_bench.sys.executable", "/bin/false")
    opened = open_to_run(project / "fm2_final.ibx", None, {})
    handle = RunService(project / "records").start(UnitOrders(opened.program, opened.bench, GOOD, orders=SIMULATED), (), Consenting(), Stop())  # fmt: skip
    with pytest.raises(BenchError, match="the simulated bench did not start"):
        handle.wait()


def test_what_was_left_over_is_told_and_not_printed(project: Path, capsys) -> None:
    records = project / "records"
    (records / "journals").mkdir(parents=True)
    (records / "journals" / "20261123-090000-aaaaaa.jsonl").write_text("no\njournal\n")
    opened = open_to_run(project / "fm2_final.ibx", None, {})
    told: list[Notice] = []
    orders = UnitOrders(opened.program, opened.bench, GOOD, orders=Orders(Selection(only=("alive",)), is_simulated=True))
    RunService(records, told.append).start(orders, (), Consenting(), Stop()).wait()
    assert len(told) == 1 and told[0].is_trouble and "was set aside" in told[0].text
    assert capsys.readouterr() == ("", "")


def test_a_wish_is_accepted_once_and_before_the_end_or_not_at_all() -> None:
    wish = Stop()
    wish.check()
    assert wish.request("a") and not wish.request("b") and not wish.request("a")
    with pytest.raises(StopRun, match="a"):
        wish.check()
    assert wish.seal() == "a"
    wish.check()
    late = Stop()
    assert late.seal() == "" and not late.request("too late") and late.seal() == ""
    late.check()


def refuse_to_start(word: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """No process whose command has the word in it can be started, as where the computer has none left."""
    popen = subprocess.Popen

    def start(command: list[str], **options: Any) -> subprocess.Popen[bytes]:
        if any(word in part for part in command):
            raise BlockingIOError(errno.EAGAIN, "Resource temporarily unavailable")
        return popen(command, **options)

    monkeypatch.setattr(subprocess, "Popen", start)


@pytest.mark.parametrize(("word", "what"), [
    ("guardian_process", "the guardian process cannot be started (Resource temporarily unavailable)"),
    ("simulate.server", "the simulated bench did not start: Resource temporarily unavailable")])  # fmt: skip
def test_without_its_processes_nothing_is_switched_on(project: Path, word: str, what: str, monkeypatch: pytest.MonkeyPatch) -> None:
    refuse_to_start(word, monkeypatch)
    heard: list[events.Emitted] = []
    with pytest.raises(BenchError, match=re.escape(what)):
        begun(project, "    read v_in\n    check v_in >= 0 V", heard.append).wait()
    assert heard == []


def test_without_the_helper_the_run_is_stored_and_its_report_told_missing(project: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    refuse_to_start("report_helper", monkeypatch)
    opened = ready(project, "    read v_in\n    check v_in >= 0 V")
    with contextlib.closing(ReportHelper()) as helper:
        service = RunService(project / "records", helper=helper)
        orders = UnitOrders(opened.program, opened.bench, GOOD, orders=SIMULATED)
        assert service.start(orders, [], Consenting(), Stop()).wait().verdict == "pass"
        assert helper.is_busy and "The run is stored" in helper.finish()["error"] and not helper.is_busy
    with contextlib.closing(open_lookup(project / "records")) as lookup:
        assert [run["verdict"] for run in lookup.runs()] == ["pass"]


def test_a_project_is_found_from_any_folder_in_it(project: Path) -> None:
    (project / "a" / "b").mkdir(parents=True)
    assert find_project(project / "a" / "b" / "x.ibx").folder == project
    assert find_project(project / "a" / "b").records == project / "records"
    (project / "ibexite.toml").write_text('[project]\nbnech = "bench.toml"\n')
    with pytest.raises(MistakeError, match="bnech"):
        find_project(project)
    (project / "ibexite.toml").unlink()
    assert find_project(project / "a").bench is None


def test_a_report_helper_tells_what_went_wrong(tmp_path: Path) -> None:
    helper = ReportHelper()
    helper.begin(tmp_path, "no such run", tmp_path / "r.html")
    assert "there are no runs yet" in helper.finish()["error"] and not helper.is_busy
    helper._process.kill()
    helper.begin(tmp_path, "x", tmp_path / "r.html")
    assert "the report was not written" in helper.finish()["error"]
    helper.close()
