"""Why a pass does not count: the policy of retests, what has changed since a lot began, and what to do about each reason."""

import json

import pytest

from ibexite.errors import MistakeError
from ibexite.records.stored_run import Attempt
from ibexite.station.project import RetestPolicy
from ibexite.station.retest import policy_of
from ibexite.verdicts import REMEDIES, TRIALS
from tests.conftest import GOOD, WEAK
from tests.test_run_control import RUN, rows


def test_each_reason_has_its_remedy() -> None:
    assert list(REMEDIES) and set(REMEDIES) == set(TRIALS)


ONCE = [Attempt("r1", "", "", "fail", "")]


@pytest.mark.parametrize(("policy", "attempts", "operator", "told"), [
    (RetestPolicy(), {"a": ONCE * 9}, "", []), (RetestPolicy(1), {"a": ONCE}, "", []), (RetestPolicy(1), {"a": ONCE * 2}, "", ["run again more often than once: a"]),
    (RetestPolicy(0), {"a": ONCE, "b": ONCE}, "", ["run again more often than 0 times: a, b"]), (RetestPolicy(2), {"a": ONCE * 2, "c": ONCE * 5}, "", []),
    (RetestPolicy(None, ("R",)), {}, "S", ["S may not run tests again; R may"]), (RetestPolicy(None, ("R",)), {}, "R", []),
    (RetestPolicy(1, ("R",)), {"a": ONCE * 2}, "", ["nobody may not run tests again; R may", "run again more often than once: a"])])  # fmt: skip
def test_a_policy_says_how_often_and_by_whom_tests_may_be_run_again(policy, attempts, operator, told) -> None:
    assert [reason.text for reason in policy_of(policy, attempts, ("a", "b"), operator)] == told
    if told:
        with pytest.raises(MistakeError, match=told[0].split(";")[0]):
            policy_of(RetestPolicy(policy.times, policy.operators, "refuse"), attempts, ("a", "b"), operator)


def test_a_merged_result_shows_every_attempt_and_more_than_allowed_is_a_trial(project, ibexite) -> None:
    file = project / "ibexite.toml"
    file.write_text(file.read_text() + "\n[retest]\ntimes = 1\n")
    ibexite(*RUN, "--serial", WEAK)
    again = ("retest", WEAK, "--failed", "--simulate", "--yes")
    first = ibexite(*again)
    assert "more often" not in first.stdout and "first pass: fail" in first.stdout
    ((first_run,),) = rows(project, "SELECT id FROM runs WHERE retest_of = ''")
    second = ibexite("retest", first_run, *again[2:], "--report")  # whichever run it is begun from
    assert "run again more often than once: efficiency" in second.stdout
    shown = ibexite("show", WEAK).stdout
    assert all(f"attempt {n}: fail, " in shown for n in (1, 2, 3)) and "attempt 1: pass" not in shown
    todo = next(line for line in shown.splitlines() if "to do: " in line)
    assert all(REMEDIES[code] in todo for code in ("simulated", "confirmed", "retest"))
    ibexite("report", WEAK, "--out", "r.html")
    assert "Attempt 3: fail, " in (project / "r.html").read_text() and "To do: run it on the real bench" in (project / "r.html").read_text()
    file.write_text(file.read_text() + 'beyond = "refuse"\n')
    refused = ibexite(*again)
    assert refused.returncode == 2 and "run again more often than once" in refused.stderr and len(rows(project, "SELECT id FROM runs")) == 3


def test_a_project_may_let_an_allowed_retest_count_as_the_first_pass(project, ibexite) -> None:
    file = project / "ibexite.toml"
    file.write_text(file.read_text() + '\n[retest]\ntimes = 1\nfirst_pass = "replaced"\n')
    ibexite(*RUN, "--serial", WEAK)
    ((first_run,),) = rows(project, "SELECT id FROM runs")
    for wanted in ("", "fail"):  # the second one is not allowed any more
        ibexite("retest", first_run, "--failed", "--simulate", "--yes")
        assert rows(project, "SELECT first_verdict FROM runs ORDER BY number DESC LIMIT 1") == [(wanted,)]


@pytest.mark.parametrize("entry", ["times = -1", 'times = "two"', 'beyond = "forget"', 'first_pass = "lost"', "tmes = 1"])
def test_what_is_wrong_with_a_policy_is_told(project, ibexite, entry) -> None:
    file = project / "ibexite.toml"
    file.write_text(file.read_text() + f"\n[retest]\n{entry}\n")
    done = ibexite(*RUN, "--serial", GOOD)
    assert done.returncode == 2 and "ibexite.toml" in done.stderr and "retest." + entry.split(" ")[0] in done.stderr


LOT = """sequence "Lot"
    product "P"
    serial ".*"
    limits "l.csv"
params
    level = 5 V
test t "T"
    let v = level
    check v
"""


def test_units_of_a_lot_are_tested_alike_or_the_run_is_a_trial(project, ibexite) -> None:
    sequence, limits = project / "lot.ibx", project / "l.csv"
    sequence.write_text(LOT)
    limits.write_text("test,name,low,unit,source,approved\nt,v,4,V,drawing,R\n")
    run = lambda lot, *more: ibexite("run", "lot.ibx", "--serial", "1", "--lot", lot, *more).stdout  # noqa: E731
    assert "changed since" not in run("L1") + run("L1", "--with", "level=6 V")
    limits.write_text(limits.read_text().replace("t,v,4", "t,v,3"))
    assert "changed since lot L1 began" in run("L1") and ": limits" in run("L1") and "changed since" not in run("L2")
    sequence.write_text(LOT.replace('"T"', '"Test"'))
    assert ": sequence" in run("L2") and "changed since" not in run("") and "changed since" not in run("L3")
    trial = json.loads(ibexite("show", "last", "--format", "json").stdout)["run"]["trial"]
    assert all(reason["code"] != "lot" for reason in trial)
