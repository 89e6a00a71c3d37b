"""Stored runs judged again: unchanged limits give the stored verdict for any run, changed ones what a run would have given;
what was never read is told."""

import contextlib
import json
import random
from pathlib import Path

import pytest

from ibexite.bench.bench import Bench
from ibexite.bench.pool import Pool
from ibexite.engine.orders import Identity, Orders
from ibexite.engine.rejudging import Rejudging
from ibexite.engine.run import Run
from ibexite.engine.selection import Selection
from ibexite.engine.services import Consenting, Services
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.records.gateway import open_lookup, open_store
from ibexite.records.journal import Journal
from ibexite.records.runs_to_judge import runs_to_judge
from ibexite.station.judging_again import How, Judge, StoredRun
from tests.conftest import GOOD, WEAK
from tests.laboratory import verdicts
from tests.laboratory.stub_bench import MemoryLink, memory_bench
from tests.runs import STARTED, Still
from tests.test_run_control import RUN, rows


def recorded(folder: Path, program, number: int, orders: Orders) -> str:
    """A run on a bench from memory, in a journal; its id."""
    run = f"20261123-090000-{number:06d}"
    identity = Identity(run, "R", "tester", "desk", STARTED, number=number)
    with contextlib.closing(Journal(folder / "journals" / f"{run}.jsonl")) as journal:
        bench = Bench(memory_bench(folder), Pool(MemoryLink.opening))
        Run(program, bench, identity, Services(Still(), Consenting()), journal, (), orders).carry_out()
    return run


def test_unchanged_limits_give_the_stored_verdict_for_any_run(tmp_path) -> None:
    programs = {}
    with contextlib.closing(open_store(tmp_path)):
        pass
    for seed in range(120):
        plan = verdicts.draw(random.Random(seed))
        program = vet(Source("t.ibx", verdicts.text_of(plan)))
        orders = Orders(Selection(only=plan.only), stops_on_fail=plan.stop_on_fail)
        programs[recorded(tmp_path, program, seed, orders)] = program
    with contextlib.closing(open_store(tmp_path)) as store:
        stored, damaged = store.take_in_left_over()
    assert len(stored) == len(programs) and not damaged
    lookup = open_lookup(tmp_path)
    for run, program in programs.items():
        record = lookup.run(run)
        (to_judge,) = runs_to_judge(lookup, [run])
        unit, told = (Rejudging(program, is_quick=quick).unit(StoredRun(to_judge)) for quick in (True, False))
        assert [test.facts for test in unit.tests] == [test.facts for test in told.tests]
        assert unit.trial == told.trial
        then = {test.row["name"]: (test.row["verdict"], bool(test.row["has_failed"])) for test in record.tests}
        now = {test.name: (str(test.facts.verdict), test.facts.has_failed) for test in unit.tests}
        assert now == then, (run, program.source.text)
        assert str(unit.verdict) == record.row["verdict"], (run, program.source.text)


LINES = {
    "loops": """    sweep k over 2 V, 1 V, 2 V
        sweep step_m from 1 V to 3 V step 1 V
            set supply.voltage = k
            read v_ok
            if step_m < 3 V
                read v_bad
            let y = v_ok * step_m / 1 V
            check y <= 14 V as "live"
        let most = max(y along step_m)
        check most <= 15 V as "inner"
    check y <= 12 V where step_m >= 2 V allowing 9 bad as "whole"
    check v_bad <= 1 V allowing 1 bad
""",
    "repeats": """    repeat scan for 1 s every 100 ms
        read v_ok
        let late = scan_elapsed
    check late <= 0.95 s
    repeat turn 3 times
        read w = v_ok
        if turn == 2
            leave "enough"
    check count(w) == 2
""",
    "search and refine": """    search level from 9 V to 4 V resolution 100 mV until v_ok * level < 33 V^2
        set supply.voltage = level
        read v_ok
    check level <= 6.4 V
    sweep x from 1 V to 9 V in 5 points refine where z bends at most 9 points
        let z = x * x / 1 V
    check z <= 80 V
""",
    "others": """    read v_ok averaging 3
    let p = v_ok / 2
    check p <= 2.4 V guarded by 10 mV as "guarded"
    if p > 2 V
        let q = p
        check q >= 2 V
    check serial == "R"
    if v_ok > 4 V
        skip "enough"
    check v_ok <= 1 V
""",
}


@pytest.mark.parametrize("name", LINES)
def test_loops_searches_and_branches_are_judged_as_they_were(tmp_path, name) -> None:
    head = verdicts.HEAD + "before unit\n    set supply.voltage = 5 V, supply.output = on\n"
    program = vet(Source("t.ibx", head + 'test a "A"\n' + LINES[name] + 'test b "B"\n    read v_ok\n    check v_ok >= 0 V\n'))
    assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
    with contextlib.closing(open_store(tmp_path)) as store:
        store.take_in(tmp_path / "journals" / f"{recorded(tmp_path, program, 1, Orders())}.jsonl")
    record = open_lookup(tmp_path).run("20261123-090000-000001")
    (to_judge,) = runs_to_judge(open_lookup(tmp_path), ["20261123-090000-000001"])
    rejudging = Rejudging(program, is_quick=False)
    for _ in range(2):  # blocks are compiled once, and carried out again
        unit = rejudging.unit(StoredRun(to_judge))
        then = [
            {k: v for k, v in row.items() if k in ("label", "verdict", "value", "low", "high", "judged", "failed", "bad", "at")}
            for row in record.tests[0].results
        ]
        now = [{k: v for k, v in event.row().items() if k in then[0]} for event in unit.tests[0].results]
        assert json.loads(json.dumps(now)) == then
        assert unit.tests[0].facts.verdict == record.tests[0].row["verdict"] and unit.tests[0].why == ""


def test_what_would_have_happened_by_other_limits_is_told(project, ibexite) -> None:
    for serial in (GOOD, WEAK):
        ibexite(*RUN, "--serial", serial)
    same = ibexite("rejudge", "--where", "product=FM-2 control board")
    assert same.returncode == 0 and "2 runs judged again" in same.stdout and "becomes" not in same.stdout
    text = (project / "fm2_final.ibx").read_text()
    (project / "next.ibx").write_text(text.replace("droop <= 48 mV", "droop <= 33.2 mV").replace("p_loss <= 780 mW", "p_loss <= 1.4 W"))
    done = ibexite("rejudge", "--where", "product=FM-2 control board", "--sequence", "next.ibx")
    assert done.returncode == 0 and "regulation: droop" in done.stdout and "fail: 33." in done.stdout and "judged otherwise" in done.stdout
    assert rows(project, "SELECT verdict FROM runs ORDER BY number") == [("pass",), ("fail",)]  # what is stored stays
    data = json.loads(ibexite("rejudge", GOOD, "--sequence", "next.ibx", "--format", "json").stdout)
    assert data[0]["old"] == data[0]["new"] == "pass" and not data[0]["not_again"]
    guarded = ibexite("rejudge", GOOD, "--guard", "20 mV").stdout
    assert "1  pass becomes fail" in guarded and "against <= 28 mV" in guarded
    kept = ibexite("rejudge", "--where", "product=FM-2 control board", "--sequence", "next.ibx", "--guard", "20 mV", "--keep")
    assert "kept beside the stored verdicts" in kept.stdout
    assert rows(project, "SELECT verdict, guard FROM second_verdicts ORDER BY id") == [("fail", "20 mV"), ("fail", "20 mV")]
    shown = ibexite("show", GOOD).stdout
    assert "judged again: FAIL (trial), " in shown and "next.ibx" in shown and "guarded by 20 mV" in shown and shown.startswith("PASS (trial)")
    assert "no check judges what is guarded by 3 A/s" in ibexite("rejudge", GOOD, "--guard", "3 A/s").stderr


def test_what_was_never_read_cannot_be_judged(project, ibexite) -> None:
    ibexite(*RUN, "--serial", GOOD)
    text = (project / "fm2_final.ibx").read_text()
    (project / "next.ibx").write_text(
        text.replace("    read v_out, rail_3v3 together\n", "    read v_out, rail_3v3 together\n    read extra = v_in\n    check extra >= 1 V\n")
        + 'test more "More"\n    read v_in\n    check v_in >= 0 V\n'
    )
    done = ibexite("rejudge", GOOD, "--sequence", "next.ibx").stdout
    assert "rails: not judged again, extra was never read" in done and "more: not judged again, the run has no such test" in done
    assert "1  pass becomes error" in done


def test_a_test_that_was_broken_off_stays_so_and_changes_nothing(tmp_path) -> None:
    path = tmp_path / "t.ibx"
    path.write_text(verdicts.HEAD + 'test a "A"\n    read x = v_ok\n    check x >= 0 V\n    read y = v_ok\n    check y >= 0 V\n')
    journal = tmp_path / "journals" / f"{recorded(tmp_path, vet(Source(str(path), path.read_text())), 1, Orders())}.jsonl"
    lines = journal.read_text().splitlines(keepends=True)
    journal.write_text("".join(lines[: next(i for i, line in enumerate(lines) if '"e":"Judged"' in line) + 1]))
    with contextlib.closing(open_store(tmp_path)) as store:
        store.take_in_left_over()
    lookup = open_lookup(tmp_path)
    (record,) = runs_to_judge(lookup, ["20261123-090000-000001"])
    found = Judge(lookup, How(sequence=path)).one(record)
    assert (found.old, found.new.verdict, found.changes, found.not_again) == ("aborted", "aborted", [], [("a", "it was broken off")])


SWEPT = "    sweep k from 1 to 3 step 1\n        read x = v_ok\n"


@pytest.mark.parametrize(("then", "now", "told"), [
    ("    read x = v_ok\n", ("signal in A", "    read x = v_ok\n    check x <= 9 A\n"), "x was V then, and is A now"),
    ("    read x = v_ok\n", ("signal in V", SWEPT + "    check x <= 9 V\n"), "x was never read at 1.0"),
    (SWEPT, ("signal in V", "    read x = v_ok\n    check x <= 9 V\n"), "x was a curve then, and is a single value now")])  # fmt: skip
def test_what_was_something_else_then_is_not_taken_for_what_is_read_now(tmp_path, then, now, told) -> None:
    head = verdicts.HEAD
    stored = vet(Source("t.ibx", head + 'test a "A"\n' + then + "    read v_ok\n    check v_ok >= 0 V\n"))
    assert not stored.has_mistakes, [stored.source.render(f) for f in stored.source.findings]
    with contextlib.closing(open_store(tmp_path)) as store:
        store.take_in(tmp_path / "journals" / f"{recorded(tmp_path, stored, 1, Orders())}.jsonl")
    program = vet(Source("t.ibx", head.replace("v_odd : signal in V", f"v_odd : {now[0]}") + 'test a "A"\n' + now[1]))
    assert not program.has_mistakes, [program.source.render(f) for f in program.source.findings]
    (to_judge,) = runs_to_judge(open_lookup(tmp_path), ["20261123-090000-000001"])
    unit = Rejudging(program).unit(StoredRun(to_judge))
    assert unit.tests[0].why == told and str(unit.verdict) == "error"


@pytest.mark.parametrize(("arguments", "told"), [
    ([], "which runs?"), (["nobody"], "there is no run 'nobody'"), (["--lot", "none"], "there are no such runs"), (["last", "--limits", "no.csv"], "the sequence names no limit table"),
    (["last", "--sequence", "none.ibx"], "none.ibx"), (["last", "--guard", "3 blue"], "there is no unit 'blue'"), (["last", "--guard", "-3 V"], "an uncertainty is above zero")])  # fmt: skip
def test_what_cannot_be_judged_again_is_told(ibexite, arguments, told) -> None:
    ibexite(*RUN, "--serial", GOOD, "--only", "alive")
    done = ibexite("rejudge", *arguments)
    assert done.returncode == 2 and told in done.stderr, done.stderr
