"""Run control as a user has it: the installed program in the example project, on the simulated bench."""

import csv
import json
import os
import pty
import select
import sqlite3
import subprocess
import sys
import time
from array import array
from pathlib import Path

import openpyxl
import pytest

from tests.conftest import GOOD, IBEXITE, WEAK

RUN = ("run", "fm2_final.ibx", "--simulate", "--yes", "--no-report")


def rows(project: Path, query: str) -> list[tuple]:
    with sqlite3.connect(project / "records" / "ibexite.sqlite") as db:
        return db.execute(query).fetchall()


@pytest.mark.parametrize(("options", "ran"), [
    (("--only", "alive"), {"alive"}), (("--skip", "efficiency", "--skip", "rails"), {"alive", "regulation"}),
    (("--tag", "quick"), {"alive", "rails"}), (("--selection", "list.csv"), {"rails", "regulation"}),
    (("--only", "rails", "--tag", "quick"), {"rails"})])  # fmt: skip
def test_tests_are_chosen_and_the_run_is_a_trial_for_it(ibexite, project: Path, options, ran) -> None:
    path = project / "fm2_final.ibx"
    text = path.read_text().replace('"Board is alive" gate', '"Board is alive" gate tags quick')
    path.write_text(text.replace('"Supply rails"', '"Supply rails" tags quick, dc'))
    (project / "list.csv").write_text("test,on\nalive,no\nrails,yes\nregulation,x\n")
    done = ibexite(*RUN, "--serial", GOOD, *options)
    assert done.returncode == 5 and "tests were selected, left out: " in done.stdout
    assert {r[0] for r in rows(project, "SELECT name FROM tests WHERE verdict = 'pass'")} == ran


@pytest.mark.parametrize(("options", "told"), [
    (("--only", "aliv"), "there is no test 'aliv'\nDid you mean alive?"), (("--tag", "x"), "there is no tag 'x'"),
    (("--only", "alive", "--skip", "alive"), "no test is selected"), (("--table", "no.csv"), "there is no such table of units"),
    (("--repeat", "much"), "--repeat"), (("--break", "nowhere"), "there is no test 'nowhere'"), (("--break", "3000"), "line 3000"),
    (("--params", "no.toml"), "there is no such parameter file"), (("--with", "eff_floor=1 V"), "'1 V' is a voltage"),
    (("--like", "x"), "there are no runs yet"), (("--readings", "r.toml"), "there is no such file of readings")])  # fmt: skip
def test_what_cannot_be_done_is_said_before_anything_is_connected(ibexite, options, told) -> None:
    serial = () if "--table" in options else ("--serial", GOOD)
    done = ibexite(*RUN, *serial, *options)
    assert done.returncode == 2 and told in done.stderr and "Traceback" not in done.stderr, done.stderr


def test_parameters_from_a_file_a_stored_run_and_the_command_line(ibexite, project: Path) -> None:
    (project / "p.toml").write_text('eff_floor = "70 %"\nvin_low = "8 V"\n')
    ibexite(*RUN, "--serial", GOOD, "--params", "p.toml", "--with", "vin_low=9.5 V", "--only", "alive")
    (project / "p.csv").write_text("name,value\nvin_high,12.5 V\n")
    done = ibexite(*RUN, "--serial", WEAK, "--like", GOOD, "--params", "p.csv", "--only", "alive")
    assert done.returncode == 5, done.stderr
    params = json.loads(rows(project, "SELECT params FROM runs ORDER BY started DESC LIMIT 1")[0][0])
    assert {p["name"]: p["value"] for p in params} == {"vin_low": "9.5 V", "vin_high": "12.5 V", "eff_floor": "70 %"}


@pytest.mark.parametrize("suffix", ["csv", "xlsx"])
def test_a_table_runs_each_row_and_gets_the_results(ibexite, project: Path, suffix: str) -> None:
    table = [["serial", "lot", "eff_floor"], [GOOD, "0412", ""], [WEAK, "0412", "99 %"]]
    if suffix == "csv":
        (project / "units.csv").write_text("\n".join(map(",".join, table)) + "\n")
    else:
        book = openpyxl.Workbook()
        for row in table:
            book.active.append(row)  # type: ignore[union-attr]
        book.save(project / "units.xlsx")
    done = ibexite(*RUN, "--table", f"units.{suffix}")
    assert done.returncode == 1, done.stdout + done.stderr
    if suffix == "csv":
        with (project / "units_results.csv").open() as file:
            found = list(csv.DictReader(file))
    else:
        lines = list(openpyxl.load_workbook(project / "units_results.xlsx").worksheets[0].values)
        found = [dict(zip(lines[0], line, strict=True)) for line in lines[1:]]
    assert [row["verdict"] for row in found] == ["PASS (trial)", "FAIL (trial)"]
    efficiency = str(found[1]["efficiency.eff in %"])
    assert 20 < float(efficiency) < 100 and len(efficiency) > 8 and found[0]["alive"] == "pass"
    assert rows(project, "SELECT DISTINCT lot FROM runs") == [("0412",)]


@pytest.mark.parametrize(("last", "told"), [
    (f"{WEAK},99 V", "'99 V' is a voltage"), (f"{WEAK},many", "'many' is not a number"), ("FM1,90 %", "'FM1' is not a serial number")])  # fmt: skip
def test_a_mistake_in_the_last_row_of_a_table_is_found_before_the_first_unit(ibexite, project: Path, last: str, told: str) -> None:
    (project / "units.csv").write_text(f"serial,eff_floor\n{GOOD},\n{GOOD},81 %\n{last}\n")
    done = ibexite(*RUN, "--table", "units.csv")
    assert done.returncode == 2 and told in done.stderr and "units.csv: row 4, unit" in done.stderr, done.stderr
    assert "PASS" not in done.stdout and not (project / "records" / "ibexite.sqlite").exists()


def test_lot_blocks_run_once_and_repeat_and_stop_on_fail(ibexite, project: Path) -> None:
    path = project / "fm2_final.ibx"
    text = path.read_text().replace("before unit", 'before lot\n    show "lot begins"\n\nbefore unit')
    path.write_text(text.replace("between 17 mA and 46 mA", "between 1 mA and 2 mA").replace('alive" gate', 'alive"') +
                    '\nafter lot\n    show "lot ends"\n')  # fmt: skip
    (project / "units.csv").write_text(f"serial\n{GOOD}\n{WEAK}\n")
    done = ibexite(*RUN, "--table", "units.csv", "--stop-on-fail")
    assert done.returncode == 1
    assert (done.stdout.count("lot begins"), done.stdout.count("lot ends")) == (1, 1)
    assert done.stdout.count("stopped after alive (fail)") == 6
    done = ibexite(*RUN, "--serial", GOOD, "--repeat", "3", "--only", "rails")
    assert done.stdout.count("PASS (trial)") == 3


def test_a_test_that_keeps_the_state_of_another_is_not_chosen_without_it(ibexite, project: Path) -> None:
    path = project / "fm2_final.ibx"
    path.write_text(path.read_text().replace('test rails "Supply rails"', 'test rails "Supply rails" keeps state'))
    done = ibexite(*RUN, "--serial", GOOD, "--only", "rails")
    assert (done.returncode, rows(project, "SELECT 1 FROM runs") if done.returncode != 2 else []) == (2, [])
    assert "rails keeps the state of alive" in done.stderr and "Select both, or alive alone." in done.stderr
    assert ibexite(*RUN, "--serial", GOOD, "--only", "rails", "--only", "alive").returncode == 5


def test_a_variant_of_the_project_makes_no_trial_and_another_parameter_does(ibexite, project: Path) -> None:
    path = project / "ibexite.toml"
    path.write_text(path.read_text().replace("[project]", '[project]\nvariants = ["eff_floor"]', 1))
    for given, told in (("eff_floor=80 %", False), ("vin_low=8 V", True)):
        done = ibexite(*RUN, "--serial", GOOD, "--with", given)
        assert done.returncode == 5 and (f"parameter set by hand: {given.replace('=', ' = ')}" in done.stdout) == told, done.stdout


REHEARSAL = """sequence "Soak"
    product "mast heater"
    serial  "M[0-9]+"

needs
    chamber : temperature_chamber
    t_mast  : signal in degC
    lamp    : signal yes_no

before unit
    ask look = yes_no "Is the lamp lit?"

test soak "Soak"
    set chamber.temperature = 40 degC, chamber.output = on
    wait reading t_mast every 30 s until t_mast > 38 degC for 3 readings timeout 1 h
    wait 25 min
    read t_mast, lamp
    check t_mast between 38 degC and 42 degC
    check lamp is yes
"""
BENCH = """[bench]
name = "any"
[instruments.climate]
profile = "scpi-temperature-chamber"
address = "TCPIP::192.0.2.7::5025::SOCKET"
[instruments.dmm]
profile = "scpi-scanning-multimeter"
address = "TCPIP::192.0.2.8::5025::SOCKET"
[roles.chamber]
instrument = "climate"
ceiling = { temperature = "60 degC" }
[roles.meter]
instrument = "dmm"
[signals.t_mast]
read = "meter.resistance"
with = { channel = 103 }
thermistor = { r25 = "10 kohm", beta = "3950 K" }
[signals.lamp]
read = "meter.dc_voltage"
with = { channel = 104, range = "10 V" }
yes_above = "2.5 V"
"""


def test_any_bench_is_rehearsed_with_prepared_readings_and_a_clock_that_runs_ahead(ibexite, project: Path) -> None:
    (project / "soak.ibx").write_text(REHEARSAL)
    (project / "any.toml").write_text(BENCH)
    (project / "r.toml").write_text('[readings]\nt_mast = ["21 degC", "overload", "overload", "overload", "38.5 degC", "37 degC", '
                                    '"39 degC", "39.5 degC", "40 degC"]\nlamp = true\n[answers]\n"lamp lit" = true\n')  # fmt: skip
    done = ibexite("run", "soak.ibx", "--bench", "any.toml", "--serial", "M1", "--simulate", "--yes", "--readings", "r.toml",
                   "--no-report")  # fmt: skip
    assert done.returncode == 5, done.stdout + done.stderr
    (duration,) = rows(project, "SELECT duration FROM tests WHERE name = 'soak'")[0]
    assert 25 * 60 + 6 * 30 <= duration < 25 * 60 + 6 * 30 + 20
    curves = rows(project, "SELECT data FROM curves WHERE name = 'waited'")[0][0]
    assert [round(t) for t in array("d", curves)] == [0, 30, 60, 90, 120, 150, 180]  # one good one does not count
    assert rows(project, "SELECT reason FROM bad_readings") == [("overload",)]
    (project / "r.toml").write_text('[readings]\nt_mats = "21 degC"\n')
    done = ibexite("run", "soak.ibx", "--bench", "any.toml", "--serial", "M1", "--simulate", "--yes", "--readings", "r.toml")
    assert done.returncode == 2 and "Did you mean t_mast?" in done.stderr


GROUPED = """sequence "Prepared"
    product "P"
    serial "M[0-9]"
needs
    v_in, v_out : signal in V
test one "One"
    read v_in, v_out
group warm "Warm" over temp = 20 degC, 40 degC
    test two "Two"
        read v_in, v_out
test three "Three"
    read v_in, v_out
"""


def test_readings_are_prepared_for_single_tests_as_well(ibexite, project: Path) -> None:
    (project / "own.ibx").write_text(GROUPED)
    (project / "r.toml").write_text('[readings]\nv_in = ["1 V", "2 V", "3 V", "4 V"]\nv_out = "5 V"\n[tests.two]\nv_out = ["6 V", "7 V"]\n')
    run = ("run", "own.ibx", "--serial", "M1", "--simulate", "--readings", "r.toml")
    assert ibexite(*run).returncode == 3  # nothing is judged
    found = [rows(project, f"SELECT data FROM curves WHERE name = '{name}' ORDER BY id") for name in ("v_in", "v_out")]
    assert [[round(array("d", data)[0], 6) for (data,) in values] for values in found] == [[1, 2, 3, 4], [5, 6, 6, 5]]  # each corner begins anew
    for text, told in (('[tests.tow]\nv_out = "6 V"\n', "Did you mean two?"), ('[tests.two]\nv_uot = "6 V"\n', "Did you mean v_out?")):
        (project / "r.toml").write_text(text)
        done = ibexite(*run)
        assert done.returncode == 2 and told in done.stderr, done.stderr


def test_timing_tells_what_lines_and_commands_cost(ibexite) -> None:
    done = ibexite(*RUN, "--serial", GOOD, "--timing", "--only", "efficiency")
    assert "read v_in, i_in, v_out, i_out together" in done.stdout and "dmm  READ?" in done.stdout
    line = next(line for line in done.stdout.splitlines() if "eload  CURR …" in line)
    assert int(line.split()[3]) > 70


def test_halting_shows_values_evaluates_formulas_and_runs_a_line_again(project: Path) -> None:
    main, side = pty.openpty()
    process = subprocess.Popen([*IBEXITE, *RUN, "--serial", GOOD, "--break", "rails", "--no-report"], cwd=project, stdin=side, stdout=side,
                               stderr=side, env={**os.environ, "COLUMNS": "120"}, close_fds=True)  # fmt: skip
    os.close(side)
    said = ""

    def until(text: str) -> None:
        nonlocal said
        deadline = time.monotonic() + 110
        while text not in said:
            assert time.monotonic() < deadline and process.poll() is None, said
            if select.select([main], [], [], 0.5)[0]:
                said += os.read(main, 65536).decode()

    for expected, typed in (
        ("halt> ", "v_out * 2"), ("has no value here", "next"), ("halt> ", "again"), ("halt> ", "v_out * 2 in mV"), (" mV", "v_out *"),
        ("is not a formula", "values"), ("rail_3v3 = 3.", "eff_floor + 1 V"), ("cannot be added", "continue"),
    ):  # fmt: skip
        until(expected)
        said = ""
        os.write(main, typed.encode() + b"\n")
    until("PASS (trial)")
    process.wait(120)
    os.close(main)
    assert rows(project, "SELECT count(*) FROM curves WHERE name = 'rail_3v3'") == [(2,)]


def test_measurements_are_listed_run_alone_and_made_from_templates(ibexite, project: Path) -> None:
    listed = json.loads(ibexite("measure", "--list", "--format", "json").stdout)
    assert {(m["name"], m["kind"]) for m in listed} == {
        ("band_pass", "sequence"), ("one_db_point", "python"), ("heater_power", "program")}  # fmt: skip
    alone = ("--bench", "analog.toml", "--simulate")
    done = ibexite("measure", "band_pass", *alone, "--role", "tap=v_filter", "--role", "reference=v_tone", "--with", "f_high=90 kHz")
    assert done.returncode == 0 and "gain against freq" in done.stdout and "f_upper" in done.stdout, done.stdout + done.stderr
    assert "1.7 W" not in done.stdout and ibexite("measure", "heater_power", *alone, "--with", "most=5 V").returncode == 0
    assert "begin" in ibexite("measure", "one_db_point", *alone, "--with", "begn=1 dBm").stderr
    assert "beyond the ceiling" in ibexite("measure", "band_pass", *alone, "--role", "tap=v_filter", "--role", "reference=v_tone",
                                           "--with", "amplitude=9 V").stderr  # fmt: skip
    kinds = ("sequence", "python", "program")
    assert [ibexite("new", "measurement", f"step_{kind}", "--in", kind).returncode for kind in kinds] == [0, 0, 0]
    tests = [f"measurements/test_step_{kind}.py" for kind in kinds]
    tested = subprocess.run([sys.executable, "-m", "pytest", "-q", "-p", "no:cacheprovider", *tests], cwd=project, capture_output=True, text=True,
                            timeout=100, check=False)  # fmt: skip
    assert tested.returncode == 0 and "3 passed" in tested.stdout, tested.stdout
    assert "there is such a file already" in ibexite("new", "measurement", "step_python", "--in", "python").stderr
    assert "cannot be a name" in ibexite("new", "measurement", "Sweep", "--in", "python").stderr
    made = ibexite("new", "project", "fresh")
    assert made.returncode == 0
    done = subprocess.run([*IBEXITE, "run", "first.ibx", "--serial", "1", "--simulate", "--yes", "--no-report"], cwd=project / "fresh",
                          capture_output=True, text=True, timeout=120, check=False)  # fmt: skip
    assert done.returncode == 5, done.stderr


def test_the_last_run_is_the_one_started_last_even_within_one_second(ibexite, project: Path) -> None:
    for serial in (GOOD, WEAK):
        ibexite(*RUN, "--serial", serial, "--only", "alive")
    for later in (GOOD, WEAK):  # whatever their ids and the wall clock say: what counts is the order of starting
        with sqlite3.connect(project / "records" / "ibexite.sqlite") as db:
            db.execute("UPDATE runs SET number = CASE WHEN unit_id = (SELECT id FROM units WHERE serial = ?)"
                       " THEN 7 ELSE 3 END, started = '2026-11-23T08:00:00.000+00:00'", (later,))  # fmt: skip
        assert f" {later} " in ibexite("show", "last").stdout.splitlines()[0] + " "
        assert f" {later} " in ibexite("runs").stdout.splitlines()[1]


def test_a_measurement_at_the_desk_says_which_role_nobody_plays(ibexite, project: Path) -> None:
    desk = ("measure", "band_pass", "--bench", "analog.toml", "--simulate")
    done = ibexite(*desk, "--role", "tap=v_filter")
    assert done.returncode == 2 and "band_pass needs the signal 'reference'" in done.stderr
    assert "--role reference=NAME. There is: angle_i" in done.stderr
    assert "f_centre" in ibexite(*desk, "--role", "tap=v_filter", "--role", "reference=v_tone").stdout
