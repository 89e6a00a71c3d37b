"""What a command prints, writes into a report or a file: by the installed program, on the example project."""

import csv
import json
import re
import shutil
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from ibexite.instruments.profile import SHIPPED
from ibexite.records.gateway import open_lookup
from ibexite.reports.gathering import gather
from ibexite.reports.html import render
from tests.conftest import GOOD, SMALL_HEAD
from tests.test_report import Page

ONE = 'test a "A"\n    read v_in\n    check v_in >= 1 V\n'
RUN = ("run", "small.ibx", "--serial", "A1", "--simulate")


def page(project: Path) -> str:
    """The text of the report of the last run."""
    lookup = open_lookup(project / "records")
    text = Page(render(gather(lookup.run(lookup.find("last"))))).text
    lookup.close()
    return text


def test_what_before_unit_measured_and_judged_stands_everywhere(ibexite, project: Path, small) -> None:
    small(ONE)
    assert ibexite(*RUN, "--no-report").returncode == 5
    for shown in (ibexite("show", "last").stdout, page(project)):
        assert re.search(r"board is powered\s+5\s?\.\d+\s+V\s+>= 4 V", shown) and "idle_v" in shown, shown
    stored = json.loads(ibexite("show", "last", "--format", "json").stdout)
    assert any(result["label"] == "board is powered" for part in stored["tests"] for result in part["results"])
    small(ONE, SMALL_HEAD.replace("idle_v >= 4 V", "idle_v >= 40 V"))
    failed = ibexite(*RUN, "--no-report")
    assert failed.returncode == 3
    assert re.search(r"before unit did not pass: board is powered: 5\.\d+ V, against >= 40 V", failed.stdout)


def test_a_merged_result_is_whole_in_every_place(ibexite, project: Path, small) -> None:
    small(ONE + 'test b "B"\n    sweep u over 7 V, 8 V\n        set supply.voltage = u\n        wait 20 ms\n        read w = v_in\n    check w <= 7.5 V\n')
    assert ibexite(*RUN, "--no-report").returncode == 1
    first = json.loads(ibexite("runs", "--format", "json").stdout)[0]["id"]
    for _ in range(2):  # texts never nest, and the first pass stays the first
        done = ibexite("retest", "last", "--only", "a", "--simulate", "--no-report")
        assert done.returncode == 1 and f"first pass: fail (run {first})" in done.stdout
    for shown in (ibexite("show", "last").stdout, page(project)):
        assert "7.5 V" in shown and shown.count(f"from run {first}") in (1, 2) and "from run from run" not in shown, shown
    assert ibexite("export", "last", "--to", "csv", "--out", "data").returncode == 0
    tables = {path.name: path.read_text() for path in (project / "data").iterdir()}
    assert any("\n7" in text and "\n8" in text for name, text in tables.items() if "b" in name), tables
    connection = sqlite3.connect(project / "records" / "ibexite.sqlite")
    counts = connection.execute("SELECT runs.number, COUNT(*) FROM results JOIN tests ON tests.id = results.test_id JOIN runs ON "
                                "runs.id = tests.run_id WHERE tests.kind = 'test' GROUP BY runs.number ORDER BY 1").fetchall()  # fmt: skip
    connection.close()
    assert [count for _, count in counts] == [2, 2, 2], "each has the results of all its tests"


@pytest.mark.parametrize(("arguments", "told"), [
    (("report", "last", "--out", "x.pdf"), "'x.pdf' is no name for a report"), (("report", "last", "--out", ""), "--out")])  # fmt: skip
def test_a_report_is_written_as_what_its_name_says_or_not_at_all(ibexite, project, small, arguments, told) -> None:
    small(ONE)
    ibexite(*RUN, "--no-report")
    before = set(project.iterdir())
    done = ibexite(*arguments)
    assert done.returncode == 2 and told in done.stderr and set(project.iterdir()) == before


def test_a_measurement_gives_json_and_nothing_else(ibexite) -> None:
    done = ibexite("measure", "heater_power", "--bench", "analog.toml", "--simulate", "--format", "json")
    given = json.loads(done.stdout)
    assert set(given["outputs"]) >= {"volts", "power", "most_power"} and given["verdict"] == "no check"


def test_an_instrument_that_is_silent_is_named_with_the_command(ibexite, project: Path, small) -> None:
    bench = project / "bench.toml"
    text, trouble = bench.read_text(), 'trouble = [{ query = "READ?", how = "silent", times = 99 }]'
    bench.write_text(text.replace("[instruments.dmm.simulated]", f"[instruments.dmm.simulated]\n{trouble}"))
    small(ONE)
    done = ibexite(*RUN, "--no-report")
    assert done.returncode == 3 and "READ?" in done.stdout + done.stderr and "dmm" in done.stdout + done.stderr


def test_a_bad_reading_in_a_test_without_checks_is_seen(ibexite, project: Path, small) -> None:
    bench = project / "bench.toml"
    bench.write_text(bench.read_text().replace('["-0.1 V", "20 V"]', '["-0.1 V", "2 V"]'))
    small('test a "A"\n    read v_in\n', SMALL_HEAD.partition("    read idle_v")[0])
    done = ibexite(*RUN, "--no-report")
    assert done.returncode == 3 and "nothing was judged" in done.stdout
    assert re.search(r"bad readings, left out: 1 \(v_in not believable: [89](\.\d+)? V\)", done.stdout), done.stdout


def test_a_new_project_holds_its_own_files_only(ibexite, project: Path) -> None:
    assert ibexite("new", "project", "front_end").returncode == 0
    made = project / "front_end"
    assert {path.name for path in made.iterdir()} == {"ibexite.toml", "bench.toml", "first.ibx", "measurements"}
    assert not (project / "records").exists()


@pytest.mark.parametrize("word", ["where", "guarded", "gate", "drift", "allowing", "complete", "believe", "settling", "safe_order"])
def test_clause_words_and_keys_of_files_are_explained(ibexite, word: str) -> None:
    done = ibexite("explain", word)
    assert done.returncode == 0 and done.stdout.startswith(word) and len(done.stdout) > 60


@pytest.mark.parametrize("name", ["bench.toml", "mine.toml", "ibexite.toml"])
def test_vet_takes_each_file_for_what_it_is(ibexite, project: Path, name: str) -> None:
    shutil.copy(SHIPPED / "scpi-power-supply.toml", project / "mine.toml")
    good = ibexite("vet", name)
    assert good.returncode == 0, good.stdout + good.stderr
    (project / name).write_text((project / name).read_text() + "\n[nonsense]\nx = 1\n")
    bad = ibexite("vet", name)
    assert bad.returncode == 2 and "nonsense" in bad.stdout + bad.stderr and "unexpected" not in bad.stdout + bad.stderr


def test_a_table_of_units_keeps_remarks_and_gets_unrounded_numbers(ibexite, project: Path) -> None:
    (project / "lot.csv").write_text(f"serial,remark\n{GOOD},from the top shelf\n")
    assert ibexite("run", "fm2_final.ibx", "--table", "lot.csv", "--simulate", "--yes", "--no-report").returncode == 5
    with (project / "lot_results.csv").open() as file:
        (row,) = csv.DictReader(file)
    assert row["remark"] == "from the top shelf"
    (current,) = (cell for name, cell in row.items() if "idle" in name)
    assert 17 < float(current) < 46 and len(current) > 6, row


def test_a_report_has_tables_of_its_sweeps_and_pictures_of_its_waits(ibexite, project: Path, small) -> None:
    small('test a "A"\n    sweep u over 7 V, 8 V, 9 V\n        set supply.voltage = u\n        wait 20 ms\n        read v_in\n'
          "    check v_in >= 1 V\n    wait reading v_out every 10 ms until v_out > 4 V for 4 readings timeout 2 s\n")  # fmt: skip
    assert ibexite(*RUN, report=True).returncode == 5
    (report,) = (project / "records" / "reports").glob("*.html")
    text = report.read_text()
    assert re.search(r"<table[^>]*>(?:(?!</table>).)*>7<.*?>8<.*?>9<", text, re.DOTALL), "a table with the points"
    assert text.count("<svg") >= 1 and "v_out" in text


def test_output_that_is_not_complete_is_told_and_changes_no_code(ibexite, project: Path, small) -> None:
    small(ONE)
    program = [sys.executable, "-m", "ibexite"]
    for arguments, code in (((*RUN, "--no-report"), 5), (("show", "last"), 0), (("runs", "--format", "json"), 0)):
        with Path("/dev/full").open("w") as full:
            done = subprocess.run([*program, *arguments], cwd=project, stdout=full, stderr=subprocess.PIPE, text=True, check=False)
        assert done.returncode == code and "what was written there is not complete" in done.stderr
        assert done.stderr.count("\n") == 1, done.stderr
