"""The installed program as its users meet it: what it prints, its exit codes, and what it leaves behind."""

import json
import os
import re
import resource
import signal
import socket
import subprocess
import time
from pathlib import Path

import pytest

from ibexite import errors
from ibexite.bench.file import read_bench
from ibexite.cli import instruments_command
from ibexite.cli.main import COMMANDS
from ibexite.errors import MistakeError
from ibexite.records.gateway import open_lookup
from ibexite.records.journal import left_over
from tests.conftest import GOOD, IBEXITE, SHORT, WEAK, own_addresses
from tests.runs import kept_events

RUN = ("run", "fm2_final.ibx", "--simulate", "--yes")


def test_the_demo_runs_from_vetting_to_replay_and_does_no_harm_when_started_again(tmp_path: Path) -> None:
    for _ in range(2):
        done = subprocess.run([*IBEXITE, "demo", "d"], cwd=tmp_path, capture_output=True, text=True, timeout=120, check=False)
        assert done.returncode == 0, done.stderr
        assert re.findall(r"^  \w+\.ibx +(F[CPU]\d+)   (\w+) \(trial\)$", done.stdout, re.MULTILINE) == [
            ("FC00400", "PASS"), ("FC00413", "PASS"), ("FC00411", "FAIL"), ("FC00427", "FAIL"), ("FC00400", "PASS"),
            ("FP0107", "PASS"), ("FC00400", "PASS"), ("FU0042", "PASS"), ("FU0028", "FAIL"), ("FU0007", "FAIL"), ("FC00411", "FAIL")]  # fmt: skip
        assert "swapped       J2.3 and J2.4" in done.stdout and "(181 of 181 points)" in done.stdout  # leads beside those of a good unit
        assert "expected yield: 80 % (32 of 40 units; 95 % confidence: 64.4 to 90.9 %, Clopper-Pearson)" in done.stdout
        assert "6  pass becomes fail" in done.stdout or "40 runs judged again\n        8  fail stays\n       32  pass stays" in done.stdout
        assert "replay: as it was recorded, in all" in done.stdout
        assert "fm2_final.ibx: 4 tests, no mistakes" in done.stdout and "78 rows in all" in done.stdout
        assert "skipped  rails       gate alive did not pass" in done.stdout
        (tmp_path / "d" / "README.md").write_text("mine")
    assert "Changed files were left as they are: README.md." in done.stdout
    assert (tmp_path / "d" / "README.md").read_text() == "mine"
    assert len(list((tmp_path / "d" / "records" / "reports").glob("*.html"))) == 26


EACH_ONCE: list[tuple[str, int]] = [
    ("vet fm2_final.ibx", 0), ("preview fm2_final.ibx", 0), ("explain search", 0), ("tidy fm2_final.ibx", 0), ("run fm2_final.ibx --serial FC00411 --simulate --yes --no-report", 1),
    ("retest last --failed --simulate --yes --no-report", 1), ("runs", 0), ("show last", 0), ("report last", 0), ("replay last", 1), ("rejudge last", 0), ("export last --to csv", 0),
    ("golden list", 0), ("limits list", 0), ("measure --list", 0), ("new sequence intake.ibx", 0), ("instruments list --simulate", 0)]  # fmt: skip


def test_each_command_works_when_it_is_started_by_itself(project: Path) -> None:
    """And not out of a process that has loaded everything, as in other tests."""
    for words, code in EACH_ONCE:
        done = subprocess.run([*IBEXITE, *words.split()], cwd=project, capture_output=True, text=True, timeout=120, check=False, stdin=subprocess.DEVNULL)
        assert done.returncode == code and "Traceback" not in done.stderr, f"{words}\n{done.stdout}\n{done.stderr}"
    assert {words.split()[0] for words, _ in EACH_ONCE} | {"demo", "simulate"} == set(COMMANDS)


@pytest.mark.parametrize(("serial", "options", "code", "verdict"), [
    (GOOD, [], 5, "PASS (trial)"), (GOOD, ["--accept-trial"], 0, "PASS (trial)"), (WEAK, [], 1, "FAIL (trial)"),
    (SHORT, [], 1, "FAIL (trial)"), (GOOD, ["--with", "eff_floor=99 %"], 1, "FAIL (trial)")])  # fmt: skip
def test_a_run_ends_with_one_verdict_and_its_exit_code(ibexite, serial, options, code, verdict) -> None:
    done = ibexite(*RUN, "--serial", serial, "--no-report", *options)
    assert done.returncode == code, done.stderr
    assert "\x1b" not in done.stdout and "\r" not in done.stdout
    tail = done.stdout[done.stdout.index("outputs off: load, supply") :]
    assert re.search(rf"^{re.escape(verdict)}   {serial}   \d of 4 tests passed", tail, re.MULTILINE)
    assert "a trial, because: simulated bench" in tail
    assert ("parameter set by hand: eff_floor = 99 %" in tail) == ("--with" in options)


def test_what_is_stored_can_be_listed_shown_exported_and_reported(ibexite, project: Path) -> None:
    ran = ibexite(*RUN, "--serial", WEAK, report=True)
    report = project / re.search(r"report: (\S+)", ran.stdout)[1]  # type: ignore[index]
    listed = ibexite("runs", "--serial", WEAK).stdout
    assert "FAIL (trial)" in listed and "3 of 4" in listed
    shown = ibexite("show", WEAK).stdout
    assert "data   v_in, i_in, v_out, i_out, p_loss, eff over vin, iload, 70 rows" in shown
    assert re.search(r"fail   p_loss .* <= 780 mW .*vin = 6\.5 V, iload = 1080 mA", shown)
    data = json.loads(ibexite("show", "last", "--format", "json").stdout)
    assert data["run"]["serial"] == WEAK and len(data["tests"]) == 4
    assert json.loads(ibexite("runs", "--format", "json").stdout)[0]["verdict"] == "fail"
    (project / "data").mkdir()
    (project / "data" / "startup.csv").write_text("of another unit\n")
    exported = ibexite("export", "last", "--to", "csv", "--out", "data")
    assert exported.stderr == "data/startup.csv was there before: it is not of this run\n"
    assert exported.stdout.split() == [
        "data/results.csv", "data/values.csv", "data/regulation.csv", "data/efficiency_1.csv", "data/efficiency_2.csv"]  # fmt: skip
    assert len((project / "data" / "efficiency_1.csv").read_text().splitlines()) == 71
    assert ibexite("report", "last", "--out", "again.html").returncode == 0
    assert (project / "again.html").read_bytes() == report.read_bytes()


def test_preview_and_vet_answer_programs_too(ibexite) -> None:
    blocks = json.loads(ibexite("preview", "fm2_final.ibx", "--format", "json").stdout)
    assert [block["name"] for block in blocks] == ["before unit", "alive", "rails", "regulation", "efficiency", "after unit"]
    assert (blocks[4]["rows"], blocks[4]["is_exact"]) == (70, True)
    assert blocks[4]["seconds"] == pytest.approx(7 * 0.02 + 70 * (0.012 + 0.005))
    assert json.loads(ibexite("vet", "fm2_final.ibx", "--format", "json").stdout) == []
    assert "sweep vin: 7 points: 6.5 V, 8 V" in ibexite("preview", "fm2_final.ibx").stdout


def change(project: Path, name: str, old: str, new: str) -> None:
    text = (project / name).read_text()
    assert old in text
    (project / name).write_text(text.replace(old, new))


@pytest.mark.parametrize(("arguments", "code", "told"), [
    (("run", "nothing.ibx", "--serial", "FC00400"), 2, "nothing.ibx: there is no such sequence"),
    (("run", ".", "--serial", "FC00400"), 2, "this is a folder, not a sequence"),
    (("run", "fm2_final.ibx", "--serial", "XX1"), 2, "--serial: 'XX1' is not a serial number of FM-2 control board"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--with", "vin_low"), 2, "is not NAME=VALUE"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--with", "vin_low=7 V", "--with", "vin_low = 8 V"), 2, "--with gives vin_low twice"),
    (("measure", "band_pass", "--role", "tap=v_filter", "--role", "tap=v_tone"), 2, "--role gives tap twice"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--params", "twice.csv"), 2, "twice.csv: rows 2 and 4: 'vin_low' stands in two rows"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--simulate", "--selection", "tests.csv"), 2, "tests.csv: rows 2 and 3: 'alive' stands in two rows"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--with", "vin_high=18.5 V"), 2, "beyond the ceiling"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--bench", "no.toml"), 2, "no.toml: there is no such bench file"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--yes"), 3, "nothing listens there"),
    (("run", "fm2_final.ibx", "--serial", "FC00400", "--simulate"), 3, "there is nobody to answer: 'Seat board FC00400"),
    (("vet", "binary.ibx"), 2, "this is a binary file"), (("vet", "latin.ibx"), 2, "line 2 is not UTF-8 text (byte 0xe9)"),
    (("vet", "empty.ibx"), 2, "the file is empty"), (("vet", "huge.ibx"), 2, "a sequence has at most 1,000,000"),
    (("vet", "bench.toml"), 0, "bench.toml: bench 'FM-2 line, position 1', 3 instruments"), (("runs",), 2, "there are no runs yet"),
    (("show", "x"), 2, "there are no runs yet"), (("simulate", "no.toml"), 2, "there is no such bench file"),
    (("runn",), 2, "Did you mean run?"), (("run", "fm2_final.ibx"), 2, "--serial"),
    (("demo", "bench.toml/x"), 2, "cannot make the project")])  # fmt: skip
def test_each_mistake_gets_one_clear_message(ibexite, project: Path, arguments, code, told) -> None:
    (project / "binary.ibx").write_bytes(b"sequence\0\xff")
    (project / "latin.ibx").write_bytes(b'sequence "T"\n# caf\xe9\n')
    (project / "empty.ibx").write_text(" \n")
    (project / "twice.csv").write_text("name,value\nvin_low,7 V\nvin_high,15 V\nvin_low,8 V\n")
    (project / "tests.csv").write_text("test,on\nalive,yes\nalive,no\n")
    (project / "huge.ibx").write_text("# \n" * 400_000)
    own_addresses(project)
    done = ibexite(*arguments)
    assert (done.returncode, "Traceback" in done.stderr) == (code, False), done.stderr
    assert told in done.stdout + done.stderr


@pytest.mark.parametrize(("old", "new", "told"), [
    ('identity    = "Firnline,PS-36.*"', 'identity = "Firnline,PS-40.*"', "another instrument answers: 'Firnline,PS-36,SIMULATED"),
    ('over_voltage = "18 V"', 'over_voltage = "39.99999 V"', ""),
    ('wiring = { 1 = "battery" } }', 'wiring = { 1 = "battery" }, trouble = [{ query = "*IDN?", how = "silent", times = 9 }] }',
     "silent for 2 s"),
    ("[instruments.dmm.simulated]", '[instruments.dmm.simulated]\ntrouble = [{ query = "READ?", how = "close", nth = 9 }]', "")])  # fmt: skip
def test_a_bench_that_is_not_as_expected(ibexite, project: Path, old: str, new: str, told: str) -> None:
    change(project, "bench.toml", old, new)
    done = ibexite(*RUN, "--serial", GOOD, "--no-report")
    assert told in done.stdout and done.returncode == (3 if told else 5), done.stdout


def begun(project: Path, *, simulate: bool = True, pause: str = "40 ms") -> tuple[subprocess.Popen, Path]:
    """A run in the background that has written some rows, and its journal; the pause before each of its seventy rows is
    what it lasts."""
    change(project, "fm2_final.ibx", "wait 12 ms", f"wait {pause}")
    arguments = [*RUN, "--real-time"] if simulate else [a for a in RUN if a != "--simulate"]
    process = subprocess.Popen([*IBEXITE, *arguments, "--serial", GOOD, "--no-report"], cwd=project, text=True,
                               stdout=subprocess.PIPE, stderr=subprocess.PIPE)  # fmt: skip
    deadline = time.monotonic() + 110
    while time.monotonic() < deadline:
        for journal in (project / "records" / "journals").glob("*.jsonl"):
            if journal.read_bytes().count(b'"e":"Row"') > 12:
                return process, journal
        assert process.poll() is None, process.communicate()
        time.sleep(0.02)
    raise AssertionError("the run did not begin")


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
def test_a_signal_ends_the_run_with_outputs_off(project: Path, number: signal.Signals) -> None:
    process, _ = begun(project)
    process.send_signal(number)
    time.sleep(0.05)
    process.send_signal(number)  # an impatient second one changes nothing
    out, _ = process.communicate(timeout=120)
    assert process.returncode == 4
    assert out.index("outputs off: load, supply") < out.index("Board FC00400 may be taken out.") < out.index("ABORTED")
    record = open_lookup(project / "records").runs()[0]
    assert (record["verdict"], record["broken_off"]) == ("aborted", 0)


def settled(journal: Path) -> None:
    """Waits until the guardian has written into the journal and let go of it."""
    deadline = time.monotonic() + 110
    while not list(left_over(journal.parent)):
        assert time.monotonic() < deadline
        time.sleep(0.05)


def test_a_killed_run_loses_no_row_and_is_found_by_the_next_command(ibexite, project: Path) -> None:
    process, journal = begun(project)
    process.kill()
    process.communicate()
    rows = journal.read_bytes().count(b'"e":"Row"')
    settled(journal)
    done = ibexite("runs")
    assert f"found a run that was not stored yet: {journal.stem}" in done.stderr
    assert "ABORTED (trial)" in done.stdout and "broken off" in done.stdout
    lookup = open_lookup(project / "records")
    record = lookup.run(lookup.find("last"))
    assert record.row["is_safe"] == 1 and "the guardian switched the outputs off" in record.row["remarks"][-1]["text"]
    assert sum(len(grid.data[0]) for test in record.tests for grid in test.grids if grid.axes) == rows > 12


def test_a_full_disk_ends_the_run_with_outputs_off_and_keeps_what_was_read(project: Path) -> None:
    def small() -> None:
        resource.setrlimit(resource.RLIMIT_FSIZE, (300_000, 300_000))

    change(project, "fm2_final.ibx", "step 1.5 V", "step 50 mV")  # the store fits, the journal of so many rows does not

    done = subprocess.run([*IBEXITE, *RUN, "--serial", GOOD, "--no-report"], cwd=project, capture_output=True, text=True,
                          preexec_fn=small, timeout=120, check=False)  # fmt: skip
    assert done.returncode == 3 and "Traceback" not in done.stderr
    assert "the journal cannot be written (File too large)" in done.stdout
    assert "outputs off: load, supply" in done.stdout
    assert sum(event["e"] == "Row" for event in kept_events(project)) > 3


def test_a_records_folder_that_cannot_be_made(ibexite, project: Path) -> None:
    (project / "records").write_text("a file in the way")
    done = ibexite(*RUN, "--serial", GOOD, "--no-report")
    assert done.returncode == 3 and "the store cannot be opened" in done.stderr and "instruments" not in done.stdout


def test_simulate_serves_the_bench_at_its_addresses(ibexite, project: Path) -> None:
    with socket.create_server(("127.0.0.1", 0)) as a, socket.create_server(("127.0.0.1", 0)) as b:
        ports = [s.getsockname()[1] for s in (a, b)]
    change(project, "bench.toml", "50251", str(ports[0]))
    change(project, "bench.toml", "50252", str(ports[1]))
    change(project, "bench.toml", "127.0.0.1::50253", "192.0.2.7::50253")
    trouble = ("--trouble", 'eload: query = "*IDN?", how = "garbage"')
    process = subprocess.Popen([*IBEXITE, "simulate", "bench.toml", "--unit", WEAK, *trouble], cwd=project, stdout=subprocess.PIPE,
                               text=True, env={**os.environ, "PYTHONUNBUFFERED": "1"})  # fmt: skip
    assert process.stdout
    lines = [process.stdout.readline() for _ in range(4)]
    assert f"::{ports[0]}::SOCKET" in lines[1] and "127.0.0.1" in lines[3]
    change(project, "bench.toml", "192.0.2.7::50253", re.search(r"127.0.0.1::\d+", lines[3])[0])  # type: ignore[index]
    assert read_bench(project / "bench.toml").instruments["psu"].address.endswith(f"::{ports[0]}::SOCKET")
    assert "another instrument answers: '#!?_Fir'" in ibexite("run", "fm2_final.ibx", "--serial", WEAK, "--yes", "--no-report").stdout
    done = ibexite("run", "fm2_final.ibx", "--serial", WEAK, "--yes", "--no-report")
    assert (done.returncode, "FAIL (trial)" in done.stdout) == (1, True)
    killed_in_the_open(project, ports)
    process.send_signal(signal.SIGINT)
    assert "simulated bench ended" in process.communicate(timeout=120)[0] and process.returncode == 0


def killed_in_the_open(project: Path, ports: list[int]) -> None:
    """A run on a bench that outlives it is killed in the middle of a sweep; the instruments must be off then."""

    def ask(port: int, question: bytes) -> bytes:
        with socket.create_connection(("127.0.0.1", port)) as link:
            link.sendall(question + b"\n")
            return link.recv(100)

    run, journal = begun(project, simulate=False)
    assert (ask(ports[0], b"OUTP?"), ask(ports[1], b"INP?")) == (b"1\n", b"1\n")
    run.kill()
    run.communicate()
    settled(journal)
    assert (ask(ports[0], b"OUTP?"), ask(ports[1], b"INP?")) == (b"0\n", b"0\n")
    assert b'"roles": [{"role": "load", "problem": ""}, {"role": "supply", "problem": ""}]' in journal.read_bytes()


@pytest.mark.parametrize("command", COMMANDS)
def test_every_command_has_help_with_a_worked_example(ibexite, command: str) -> None:
    done = ibexite(command, "--help")
    assert done.returncode == 0 and f"ibexite {command}" in done.stdout.split("Options:")[0].split("\n", 2)[2]
    assert f"ibexite {command}" in (Path(__file__).parents[1] / "README.md").read_text()


@pytest.mark.parametrize("command", sorted(instruments_command.command.commands))
def test_every_command_of_the_instruments_has_help_with_a_worked_example(ibexite, command: str) -> None:
    done = ibexite("instruments", command, "--help")
    assert done.returncode == 0 and f"ibexite instruments {command}" in done.stdout.split("Options:")[0].split("\n", 2)[2]
    assert f"ibexite instruments {command}" in (Path(__file__).parents[1] / "README.md").read_text()


def test_errors_know_their_exit_codes_and_read_well() -> None:
    codes = {"MistakeError": 2, "UnitError": 2, "LinkError": 3, "CeilingError": 3, "SequenceError": 3, "RecordsError": 3}
    for name, code in codes.items():
        assert getattr(errors, name)("x").exit_code == code
    assert errors.StopRun("x").exit_code == 4 and not isinstance(errors.StopRun("x"), Exception)
    assert str(MistakeError("what", where="where", remedy="Do this.")) == "where: what\nDo this."
    assert errors.did_you_mean("suply", ["supply", "load"]) == "Did you mean supply?"
    assert errors.did_you_mean("xyz", ["b", "a"]) == "There is: a, b." and errors.did_you_mean("x", []) == ""
