"""What a run survives: a terminal that is closed, a reader who leaves, a helper that dies, records that cannot be used,
clocks that are set; and what its guardian survives. The exit code is the verdict's, and everything goes off."""

import contextlib
import os
import shutil
import signal
import sqlite3
import subprocess
from pathlib import Path

import pytest

from ibexite.records import schema
from tests.conftest import GOOD, IBEXITE, WEAK, children_of
from tests.laboratory import damaged
from tests.test_commands import RUN, begun


def test_a_run_that_was_started_to_outlive_its_terminal_does(project: Path) -> None:
    before = signal.signal(signal.SIGHUP, signal.SIG_IGN)  # as nohup does; what is ignored is inherited
    try:
        process, _ = begun(project)
    finally:
        signal.signal(signal.SIGHUP, before)
    process.send_signal(signal.SIGHUP)
    out, _ = process.communicate(timeout=120)
    assert process.returncode == 5 and "PASS (trial)" in out


@pytest.mark.parametrize("serial, code", [(GOOD, 5), (WEAK, 1)])
def test_a_reader_who_leaves_changes_no_exit_code(ibexite, project: Path, serial: str, code: int) -> None:
    process = subprocess.Popen([*IBEXITE, *RUN, "--serial", serial, "--no-report"], cwd=project, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert process.stdout and process.stderr
    process.stdout.readline()
    process.stdout.close()
    told = process.stderr.read()
    process.stderr.close()
    assert process.wait(120) == code and b"Traceback" not in told
    assert ibexite("show", "last").stdout.count("view") == 0  # nor is it among the reasons


def test_a_report_helper_that_is_killed_costs_the_report_alone(project: Path) -> None:
    process = subprocess.Popen([*IBEXITE, *RUN, "--real-time", "--serial", GOOD], cwd=project, text=True,
                               stdout=subprocess.PIPE, stderr=subprocess.STDOUT)  # fmt: skip
    assert process.stdout
    process.stdout.readline()
    (helper,) = children_of(process, "ibexite.station.report_helper")
    os.kill(helper, signal.SIGKILL)
    out, _ = process.communicate(timeout=120)
    assert process.returncode == 5 and "PASS (trial)" in out
    assert "the report was not written" in out and "ibexite report" in out


def test_the_last_run_is_the_last_one_whatever_the_time_zone_says(ibexite, monkeypatch) -> None:
    for serial, zone in ((WEAK, "XXX-12"), (GOOD, "YYY+12")):  # by wall time the second run is a day before the first
        monkeypatch.setenv("TZ", zone)
        ibexite(*RUN, "--serial", serial, "--only", "alive", "--no-report")
    for zone in ("XXX-12", "YYY+12"):
        monkeypatch.setenv("TZ", zone)
        assert GOOD in ibexite("show", "last").stdout.splitlines()[0]
        assert [GOOD in line for line in ibexite("runs").stdout.splitlines()[1:3]] == [True, False]


def _newer(path: Path) -> None:
    with contextlib.closing(sqlite3.connect(path)) as db:
        db.execute(f"PRAGMA user_version={schema.VERSION + 1}")


@pytest.mark.parametrize("spoil", [Path.mkdir, lambda path: path.write_bytes(os.urandom(9000)), _newer], ids=["folder", "noise", "newer"])  # fmt: skip
def test_records_that_cannot_be_used_are_told_before_anything_is_on(ibexite, project: Path, spoil) -> None:
    (project / "records").mkdir()
    spoil(project / "records" / "ibexite.sqlite")
    done = ibexite(*RUN, "--serial", GOOD, "--no-report")
    assert done.returncode == 3 and "instruments" not in done.stdout
    assert "ibexite.sqlite" in done.stderr and "Traceback" not in done.stderr


def test_records_that_vanish_during_a_run_make_no_pass_and_leave_nothing_on(project: Path) -> None:
    process, _ = begun(project)
    shutil.rmtree(project / "records")
    out, told = process.communicate(timeout=120)
    assert process.returncode == 3 and "Traceback" not in told and "outputs off: load, supply" in out


def test_a_store_that_somebody_holds_is_waited_for_and_hinders_nobody_from_looking(ibexite, project: Path) -> None:
    ibexite(*RUN, "--serial", WEAK, "--no-report")
    process, journal = begun(project)
    assert process.stderr
    with contextlib.closing(sqlite3.connect(project / "records" / "ibexite.sqlite", isolation_level=None)) as other:
        other.execute("BEGIN EXCLUSIVE")
        told = process.stderr.readline()
        listed = ibexite("runs")
        other.execute("ROLLBACK")
    out, _ = process.communicate(timeout=120)
    assert "is in use by another program; waiting for it" in told
    assert listed.returncode == 0 and WEAK in listed.stdout
    assert process.returncode == 5 and "PASS (trial)" in out and journal.stem in ibexite("runs").stdout


KINDS = {
    "a pipe": os.mkfifo, "a loop of links": lambda path: path.symlink_to(path.name), "a folder": Path.mkdir,
    "a device": lambda path: path.symlink_to("/dev/zero"), "a link to nothing": lambda path: path.symlink_to("nowhere")}  # fmt: skip


@pytest.mark.parametrize("kind", KINDS)
def test_what_is_no_plain_file_is_told_wherever_a_file_is_read(tmp_path, monkeypatch, kind: str) -> None:
    damaged.make_files(tmp_path)
    monkeypatch.chdir(tmp_path)
    signal.signal(signal.SIGALRM, lambda number, frame: pytest.fail("it hangs"))
    for name, deed in damaged.TARGETS:
        path = tmp_path / name
        kept = path.read_bytes()
        path.unlink()
        KINDS[kind](path)
        signal.alarm(20)
        try:
            told = damaged.told(deed, path)
        finally:
            signal.alarm(0)
        path.rmdir() if kind == "a folder" else path.unlink()
        path.write_bytes(kept)
        assert path.name in told or "ibexite.toml" in name or "records" in name, f"{name}: {told!r}"


LONG = "n" * 300


@pytest.mark.parametrize("command", [
    "vet {}.ibx", "preview {}.ibx", "vet {}/a.ibx", "run {}.ibx --serial A --simulate", "run fm2_final.ibx --bench {}.toml --serial A --simulate", "tidy {}.ibx",
    "run fm2_final.ibx --serial A --simulate --readings {}", "run fm2_final.ibx --table {}.csv --simulate", "run fm2_final.ibx --serial A --simulate --records {}",
    "new measurement {} --in python", "new project {}", "runs --records {}", "show last --records {}", "report last --out {}.html", "measure {} --simulate",
    "retest {}", "demo {}", "export last --to csv --out {}", "simulate {}.toml", "sql {}", "explain {}"])  # fmt: skip
def test_a_name_that_no_file_can_have_gets_a_message(ibexite, command: str) -> None:
    done = ibexite(*command.format(LONG).split())
    assert done.returncode in (1, 2, 3) and "internal error" not in done.stderr + done.stdout, done.stderr[-300:]
    assert "Traceback" not in done.stderr and "No such command" not in done.stderr and done.stderr.strip()


@pytest.mark.parametrize(("vetted", "file", "old", "new"), [
    ("fm2_final", "bench.toml", '"scpi-power-supply"', f'"{LONG}"'), ("fm2_final", "bench.toml", '"scpi-power-supply"', f'"{LONG}.toml"'),
    ("sensor_parts", "measurements/heater_power.measurement.toml", '"heater_power.py"', f'"{LONG}.py"'),
    ("sensor_parts", "ibexite.toml", '"measurements"', f'"{LONG}"'), ("sensor_parts", "sensor_parts.ibx", "parts_limits.csv", LONG)])  # fmt: skip
def test_such_a_name_in_a_file_gets_a_message(ibexite, project: Path, vetted: str, file: str, old: str, new: str) -> None:
    text = (project / file).read_text()
    assert old in text
    (project / file).write_text(text.replace(old, new, 1))
    done = ibexite("vet", f"{vetted}.ibx")
    assert done.returncode == 2 and "internal error" not in done.stderr + done.stdout, done.stderr[-300:]
