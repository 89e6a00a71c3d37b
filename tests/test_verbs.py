"""The verbs of the language, each carried out on the simulated bench over real sockets."""

import math

import pytest

from ibexite import events
from tests.conftest import HEADER, WEAK
from tests.runs import spoilt


def test_a_repeat_counts_its_turns_and_notes_when_they_began(perform) -> None:
    run = perform("""test t "T"
    repeat scan 4 times every 30 ms
        read v_out
    let centre = mean(v_out along scan)
    let spread = std(v_out)
    check centre between 4.9 V and 5.1 V
    plot v_out against scan_elapsed
test u "U"
    repeat turn until v_in > 5 V timeout 2 s
        read v_in
    repeat again for 50 ms every 20 ms
        read i_in
    check v_in >= 5 V
    check i_in >= 1 mA
""")
    assert run.verdict == "pass", run.ended
    elapsed = run.columns("scan_elapsed")
    assert elapsed[0] == 0 and all(late >= 0.03 * turn - 1e-3 for turn, late in enumerate(elapsed))  # never early
    assert sorted(elapsed) == elapsed and len(elapsed) == 4
    assert run.of(events.Value, name="centre")[0].n == (4, 4)
    assert 1 <= len(run.columns("i_in")) <= 3


def test_a_search_finds_the_first_value_and_never_goes_past_the_coarse_one(perform) -> None:
    run = perform("""test drop "Drop"
    set load.current = 700 mA
    search vin from 9 V to 4 V resolution 20 mV until v_out < 4.9 V
        set supply.voltage = vin
        wait 12 ms
        read v_out
    check vin <= 5.8 V
    check vin >= 4 V
test never "Never"
    search level from 9 V to 8 V resolution 20 mV until now < 1 V
        set supply.voltage = level
        wait 12 ms
        read now = v_out
    check level <= 8.5 V
    check level >= 7 V as "nobody knows"
""")
    found = run.of(events.Value, name="vin")[0].value
    visited = [row.x[0] for row in run.of(events.Row) if row.table == 1]
    held = [x for x, v in zip(visited, run.columns("v_out"), strict=True) if v < 4.9]
    assert found == min((abs(x - found), x) for x in visited)[1] and found == max(held)
    assert min(visited) == held[0], "it went past the first coarse value at which the condition held"
    assert any(abs(x - found - 0.02) < 1e-9 for x in visited), "the value before it was not looked at"
    assert run.ended["drop"][0] == "pass"
    bound = run.of(events.Value, name="level")[0]
    assert (bound.value, bound.bound) == (None, "below 8 V")
    assert run.result("level").verdict == "pass" and run.result("level").said == "below 8 V"
    assert run.result("nobody knows").verdict == "error"


def test_what_a_branch_leaves_out_was_never_measured_and_is_not_judged(perform) -> None:
    run = perform("""test t "T"
    sweep iload over 0 A, 100 mA, 200 mA
        set load.current = iload
        wait 12 ms
        if iload > 50 mA
            read v_out
            let size = v_out * iload
        else if iload > 1 A
            read v_in
        else
            read rail_3v3
        let half = v_out / 2
    check v_out >= 4.8 V
    check half >= 2.4 V
    check size >= 0.1 W
    check rail_3v3 >= 3 V
    check v_in >= 1 V as "nothing there"
""")
    assert [math.isnan(v) for v in run.columns("v_out")] == [True, False, False]
    results = {r.label: r for r in run.of(events.Judged)}
    assert [(results[n].judged, results[n].bad, results[n].verdict) for n in ("v_out", "half", "size", "rail_3v3")] == [
        (2, 0, "pass"), (2, 0, "pass"), (2, 0, "pass"), (1, 0, "pass")]  # fmt: skip
    assert (results["nothing there"].verdict, results["nothing there"].reason) == ("error", "nothing was judged")


def test_a_loop_that_is_left_keeps_the_turn_it_was_in(perform) -> None:
    run = perform("""test t "T"
    sweep vin over 9 V, 8 V
        sweep iload from 0 A to 400 mA step 100 mA
            set supply.voltage = vin, load.current = iload
            wait 12 ms
            read v_out
            if iload > 150 mA and vin < 8.5 V
                leave "enough"
            read v_in
    check v_out >= 4.5 V
    check v_in >= 7 V
""")
    assert [len(row.x) for row in run.of(events.Row)] == [2] * 8
    assert run.of(events.LoopLeft)[0].why == "enough"
    assert [run.result(n).judged for n in ("v_out", "v_in")] == [8, 7]
    assert run.verdict == "pass"


def test_a_watch_ends_the_test_at_once(perform) -> None:
    run = perform("""test quiet "Quiet"
    watch v_out between 4.5 V and 5.5 V every 20 ms
        read v_in
        wait 100 ms
    check v_in >= 1 V
test tripped "Tripped"
    watch i_in between 0 A and 60 mA every 5 ms
        set load.current = 300 mA
        wait 200 ms
        read rail_3v3
    check rail_3v3 >= 1 V
test stopping "Stopping"
    watch i_in between 0 A and 60 mA every 5 ms else stop
        set load.current = 300 mA
        wait 200 ms
test behind "Behind"
    read v_out
    check v_out >= 1 V
""")
    verdicts = run.ended
    assert verdicts["quiet"][0] == "pass" and run.result("watch v_out").judged >= 2
    assert verdicts["tripped"][0] == "fail" and "watch: i_in was" in verdicts["tripped"][1]
    assert not run.of(events.Value, name="rail_3v3")
    assert verdicts["stopping"][0] == "fail" and verdicts["behind"][0] == "skipped"
    trip = run.of(events.Judged, label="watch i_in")[0]
    assert trip.value > 0.06 and trip.failed == 1


def test_waiting_for_readings_logs_them_and_runs_out_of_time(perform) -> None:
    run = perform(
        """test settles "Settles"
    set load.current = 300 mA
    wait reading v_out every 5 ms until abs(drift(v_out)) < 0.5 V/s and v_out < 5.2 V for 3 readings timeout 2 s
    read v_out
    check v_out >= 4.8 V
test never "Never"
    wait reading v_in every 10 us until v_in within 20 V +/- 1 V timeout 60 ms
    check v_in >= 1 V
""".replace("    check v_in >= 1 V\n", "    read v_in\n    check v_in >= 1 V\n")
    )
    assert run.ended["settles"][0] == "pass"
    assert len([r for r in run.of(events.Row) if r.table == 1]) >= 3
    waited = [column for table in run.of(events.TableStarted) for column in table.columns if table.axes[0]["name"] == "waited"]
    assert [(c["name"], c["unit"], c["shown"]) for c in waited][:1] == [("v_out", "V", "V")]
    verdict, reason = run.ended["never"]
    assert verdict == "error" and "the wait for v_in ran out of time after 0.06 s, last v_in = " in reason


def test_limits_are_guarded_and_bad_values_allowed_only_where_it_is_said(perform) -> None:
    run = perform("""test t "T"
    read v_in
    check v_in within 9 V +/- 0.5 V guarded by 100 mV as "guarded"
    sweep iload over 0 A, 100 mA, 200 mA
        set load.current = iload
        read v_out
    check v_out <= 6 V allowing 1 bad as "allowed"
    check v_out <= 6 V as "not allowed"
""", change=spoilt("garbage", 3, 3))  # fmt: skip
    guarded, allowed, refused = (run.result(n) for n in ("guarded", "allowed", "not allowed"))
    assert (guarded.low, guarded.high, guarded.guard) == (pytest.approx(8.6), pytest.approx(9.4), 0.1)
    assert "JCGM 106" in guarded.rule
    assert (allowed.verdict, allowed.bad, allowed.reason) == ("pass", 1, "1 of 3 bad (not a number), 1 allowed")
    assert refused.verdict == "error"


def test_yes_and_no_and_texts_are_judged(perform) -> None:
    run = perform("""test t "T"
    read v_out
    let regulates = v_out > 4.5 V
    check regulates is yes as "regulates"
    check regulates is no as "wrongly"
    check serial matches "FC00[0-9]+" as "pattern"
    check serial == "FC99999" as "number"
    sweep mode over "slow", "fast"
        let is_fast = mode == "fast"
        check is_fast is yes where mode == "fast" as "mode"
    check is_fast is no where mode == "slow" as "whole"
""")
    results = {r.label: r for r in run.of(events.Judged)}
    assert {n: r.verdict for n, r in results.items()} == {
        "regulates": "pass", "wrongly": "fail", "pattern": "pass", "number": "fail", "mode": "pass", "whole": "pass"}  # fmt: skip
    assert (results["wrongly"].said, results["wrongly"].demand) == ("yes", "is no")
    assert (results["number"].said, results["number"].demand) == ("FC00400", 'is "FC99999"')
    assert [row.x for row in run.of(events.Row)] == [("slow",), ("fast",)]


def test_conditions_clauses_and_corners_decide_which_tests_run(perform) -> None:
    header = HEADER.replace("before unit", 'params\n    variant = "A" of "A", "B"\n\nbefore unit', 1)
    run = perform("""test only_b "B" if variant == "B"
    read v_in
    check v_in >= 1 V
test failing "F"
    read v_in
    check v_in >= 99 V
test needing "N" needs pass of failing
    read v_out
    check v_out >= 1 V
group corners "Corners" over current = 50 mA, 100 mA
    test loaded "Loaded"
        set load.current = current
        wait 12 ms
        read v_out, i_out
        check i_out within current +/- 20 %
    test again "Again" keeps state
        read held = i_out
        check held within current +/- 20 %
        let change = held - loaded.i_out
test skipping "S"
    read v_in
    skip "no heater fitted"
test silent "Off" off
    read v_in
    check v_in >= 1 V
test last "L"
    stop "enough"
""", header=header)  # fmt: skip
    verdicts = run.ended
    assert verdicts["only_b"] == ("skipped", "its condition is not met")
    assert verdicts["needing"] == ("skipped", "it needs failing to pass (fail)")
    assert [n for n in verdicts if n.startswith(("loaded", "again"))] == [
        "loaded [current = 50 mA]", "again [current = 50 mA]", "loaded [current = 100 mA]", "again [current = 100 mA]"]  # fmt: skip
    assert all(verdicts[n][0] == "pass" for n in verdicts if n.startswith(("loaded", "again")))
    assert verdicts["skipping"] == ("skipped", "no heater fitted")
    assert verdicts["silent"] == ("skipped", "switched off in the sequence")
    assert [reason.told() for reason in run.trial[1:]] == [
        "not run for what it needs: needing", "left by a skip line: skipping", "switched off: silent", "not run for a stop: last"]  # fmt: skip


MEASUREMENT = """measurement loading "Output over load"
    needs
        sink   : electronic_load
        output : signal in V
    inputs
        most = 200 mA
    outputs
        worst in V
        amps  in A
        curve in V over amps
    sweep amps from 0 A to most step 100 mA
        set sink.current = amps
        wait 12 ms
        read output
        let curve = output * 1
    let worst = min(curve along amps)

"""


def test_a_measurement_is_used_with_other_roles_and_inputs(perform) -> None:
    run = perform(
        MEASUREMENT
        + """test t "T"
    measure loading(sink = load, output = v_out, most = 300 mA) as light
    measure loading(sink = load, output = v_in) as input
    check light.worst >= 4.5 V
    check light.curve between 4.5 V and 5.5 V where light.amps >= 100 mA as "curve"
    let at_150 = at(light.curve, amps = 150 mA)
    sweep level over 100 mA, 200 mA
        measure loading(sink = load, output = v_out, most = level) as inner
    check inner.worst >= 4.5 V as "column"
    plot light.curve against amps
"""
    )
    assert run.verdict == "pass", run.ended
    assert [t.columns[0]["name"] for t in run.of(events.TableStarted)][:2] == ["light.output", "input.output"]
    assert len(run.columns("light.curve")) == 4 and len(run.columns("input.curve")) == 3
    assert run.result("curve").judged == 3
    assert run.columns("inner.worst") == [min(v) for v in (run.columns("inner.curve")[:2], run.columns("inner.curve")[2:])]


def test_settings_are_verified_and_actions_learn_the_state_anew(perform) -> None:
    run = perform("""test t "T"
    set supply.voltage = 8 V verified
    do load.reset
    read v_out
    check v_out >= 4 V
test u "U"
    read held = load.current
    check held <= 10 mA
""")
    assert run.verdict == "pass", run.ended
    assert run.traffic.index("psu> SOUR1:VOLT?") < run.traffic.index("eload> *RST", 20)
    assert run.of(events.Restored)[0].settings == ["supply.voltage", "load.input"]
    reset = run.traffic.index("eload> *RST", 20)  # which takes the protection away: it is written again at once
    assert [line for line in run.traffic[reset + 2 :] if "CURR:PROT " in line][:1] == ["eload> CURR:PROT 1.6"]


def test_raw_commands_need_permission_and_texts_are_filled_with_bare_numbers(perform) -> None:
    assert "raw commands are not allowed here" in perform('test t "T"\n    send supply "*CLS"\n').ended["t"][1]
    allow = lambda text: text.replace("[roles.supply]", "[roles.supply]\nraw = true")  # noqa: E731
    run = perform("""test t "T"
    let wanted = 7.5 V
    send supply "SOUR1:VOLT {wanted:V}"
    read raw = query(supply, "SOUR1:VOLT?") in V, name = query(supply, "*IDN?") as text
    check raw within 7.5 V +/- 1 mV
    check name matches "Firnline.*"
""", change=allow)  # fmt: skip
    assert run.verdict == "pass", run.ended
    assert "psu> SOUR1:VOLT 7.5" in run.traffic


def test_refining_puts_points_where_the_curve_bends(perform) -> None:
    run = perform("""test t "T"
    set load.current = 700 mA
    sweep vin from 4.4 V to 8.4 V step 500 mV refine where v_out bends at most 18 points
        set supply.voltage = vin
        wait 15 ms
        read v_out
    let knee = crossing(v_out, 4.9 V, rising)
    check knee between 5 V and 6 V
    expect limiting
""", serial=WEAK)  # fmt: skip
    visited = [row.x[0] for row in run.of(events.Row)]
    assert 14 <= len(visited) <= 18 and visited[:9] == pytest.approx([4.4 + 0.5 * i for i in range(9)])
    near = [x for x in visited[9:] if 5 < x < 6.6]
    assert len(near) >= 0.7 * len(visited[9:])
