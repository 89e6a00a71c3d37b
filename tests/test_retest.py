"""Retests: which tests are run again, with which parameters, what is taken over, what has changed."""

import json
import re
import shutil
from pathlib import Path

from ibexite.instruments.profile import SHIPPED
from tests.conftest import GOOD, HEADER, WEAK
from tests.test_run_control import RUN, rows
from tests.test_texts import LOOPS, MARKS
from tests.test_what_people_see import ONE
from tests.test_what_people_see import RUN as SMALL


def test_a_retest_takes_the_parameters_that_were_set_by_hand(ibexite, project: Path) -> None:
    assert ibexite(*RUN, "--serial", GOOD, "--with", "eff_floor=97.5 %").returncode == 1
    done = ibexite("retest", GOOD, "--failed", "--simulate", "--yes", "--no-report")
    assert done.returncode == 1 and "changed since" not in done.stdout, done.stdout
    told = rows(project, "SELECT params, retest_of != '' FROM runs ORDER BY started")
    assert [{p["name"]: p["value"] for p in json.loads(params)}["eff_floor"] for params, _ in told] == ["97.5 %"] * 2
    assert [again for _, again in told] == [0, 1]


def test_a_retest_of_what_failed_takes_along_the_tests_that_needed_it(ibexite, project: Path) -> None:
    path = project / "fm2_final.ibx"
    path.write_text(path.read_text().replace('"Efficiency over input and load"', '"Efficiency" needs pass of regulation')
                    .replace("droop <= 48 mV", "droop <= 2 mV"))  # fmt: skip
    assert "it needs regulation to pass (fail)" in ibexite(*RUN, "--serial", GOOD).stdout
    path.write_text(path.read_text().replace("droop <= 2 mV", "droop <= 48 mV"))
    done = ibexite("retest", GOOD, "--failed", "--simulate", "--yes", "--no-report")
    assert done.returncode == 5 and "4 of 4 tests passed" in done.stdout, done.stdout


def test_a_retest_merges_keeps_the_history_and_marks_what_has_changed(ibexite, project: Path) -> None:
    assert ibexite(*RUN, "--serial", WEAK).returncode == 1
    again = ("retest", WEAK, "--failed", "--simulate", "--yes", "--no-report")
    done = ibexite(*again)
    assert done.returncode == 1 and "from run" in done.stdout and "changed since" not in done.stdout
    assert done.stdout.count("efficiency") >= 1 and "first pass: fail" in done.stdout
    path = project / "fm2_final.ibx"
    path.write_text(path.read_text().replace("p_loss <= 780 mW", "p_loss <= 1.4 W").replace("best >= 87.5 %", "best >= 60 %")
                    .replace("eff_floor = 81 %", "eff_floor = 60 %"))  # fmt: skip
    merged = ibexite(*again)
    assert merged.returncode == 5 and "4 of 4 tests passed" in merged.stdout, merged.stdout
    assert "changed since run" in merged.stdout and ": sequence" in merged.stdout and ": parameters" in merged.stdout
    verdicts = rows(project, "SELECT verdict, retest_of != '' FROM runs ORDER BY number")
    assert verdicts == [("fail", 0), ("fail", 1), ("pass", 1)]
    assert ibexite("retest", WEAK, "--failed").returncode == 2  # nothing failed there any more


def test_a_retest_on_another_profile_or_program_says_so(ibexite, project: Path, small) -> None:
    shutil.copy(SHIPPED / "scpi-power-supply.toml", project / "mine.toml")
    bench = project / "bench.toml"
    bench.write_text(bench.read_text().replace('"scpi-power-supply"', '"mine.toml"'))
    (project / "p.py").write_text('print("{\\"x\\": 1}")\n')
    small(ONE + 'test b "B"\n    call "p.py" gives x in V timeout 20 s\n    check x >= 2 V\n')
    assert ibexite(*SMALL, "--no-report").returncode == 1
    again = ("retest", "last", "--only", "b", "--simulate", "--no-report")
    assert "changed since" not in ibexite(*again).stdout
    for name, told in (("mine.toml", "profile mine"), ("p.py", "p.py")):
        (project / name).write_text((project / name).read_text() + "# revised\n")
        done = ibexite(*again)
        assert re.search(f"changed since run .*: .*{told}", done.stdout), done.stdout


def test_a_retest_takes_texts_over(ibexite, project: Path) -> None:
    first = LOOPS.format(inside="", after='check mark matches "m-.*"').replace(
        '        ask word = text "Word?"\n        read who = query(supply, "*IDN?") as text\n', "        let word = name\n"
    )
    second = 'test b "B"\n    sweep name over "low", "high", "odd"\n        let x = 1\n    check t.mark == "m-low" where t.name == "low"\n    check x >= 2\n'
    (project / "t.ibx").write_text(HEADER + first + second)
    (project / "marks.py").write_text(MARKS)
    assert ibexite("run", "t.ibx", "--simulate", "--serial", "FC00412").returncode == 1
    assert ibexite("retest", "last", "--failed", "--simulate").returncode == 1
    shown = ibexite("show", "last").stdout
    assert shown.count("fail   ") == 2 and "t.mark" in shown and "pass   t.mark" in shown, shown
