"""The engine on a simulated bench with real sockets: what is sent and when, what is recorded, what is made safe."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import events
from ibexite.errors import RecordsError
from ibexite.language import fill
from ibexite.stop import Stop
from tests.conftest import GOOD, HEADER, SHORT, Recorded
from tests.runs import lines, spoilt

SWEEP = """test swept "Swept"
    sweep vin from 7 V to 9 V step 1 V
        set supply.voltage = vin
        sweep iload over 0 A, 300 mA
            set load.current = iload
            wait 12 ms
            read v_in, i_in, v_out, i_out together
            let power = v_out * i_out
            check v_out >= 4.9 V where iload > 0 A as "live"
    let most = max(power along iload)
    let at_8 = at(most, vin = 8 V)
    check v_out >= 4.9 V where iload > 0 A as "whole"
    check most <= 2 W
    plot v_out against iload by vin
"""


def test_readings_become_columns_and_columns_become_curves(perform) -> None:
    run = perform(SWEEP)
    assert (run.verdict, run.trial[0].code) == ("pass", "simulated")
    rows = run.of(events.Row)
    assert [row.x for row in rows] == [(v, i) for v in (7.0, 8.0, 9.0) for i in (0.0, 0.3)]
    table = run.of(events.TableStarted)[0]
    assert [a["name"] for a in table.axes] == ["vin", "iload"]
    assert [(c["name"], c["unit"], c["origin"]) for c in table.columns][-2:] == [("i_out", "A", "read"), ("power", "W", "let")]
    for row in rows:
        assert row.v[4] == pytest.approx(row.v[2] * row.v[3])
        assert row.v[0] == pytest.approx(row.x[0], abs=0.05)
    most = run.of(events.WholeCurve)[0]
    assert (most.name, most.x, most.v[1]) == ("most", [[7.0, 8.0, 9.0]], max(rows[2].v[4], rows[3].v[4]))
    assert run.of(events.Value)[0].value == most.v[1]
    live, whole = run.result("live"), run.result("whole")
    assert (live.judged, live.value, live.margin, live.at) == (whole.judged, whole.value, whole.margin, whole.at)
    assert live.judged == 3 and live.extent == {"vin": [7.0, 9.0], "iload": [0.3, 0.3]}


def test_together_asks_all_instruments_before_it_waits_and_scans_channels_at_once(perform) -> None:
    run = perform('test t "T"\n    read v_in, x = supply.voltage, v_out, y = load.current together\n    check v_in >= 8 V\n')
    io = [line for line in lines(run.of(events.Value)[0].io[0]) if "CONF" not in line][-7:]
    assert [line.split()[0] for line in io] == ["dmm>", "dmm>", "psu>", "eload>", "dmm<", "psu<", "eload<"]
    assert io[:4] == ["dmm> ROUT:SCAN (@101,103)", "dmm> READ?", "psu> MEAS1:VOLT?;:STAT:QUES?", "eload> MEAS:CURR?;:STAT:QUES?"]


def test_every_test_starts_from_the_state_that_before_unit_left(perform) -> None:
    run = perform("""test a "A"
    set supply.voltage = 7 V, load.current = 200 mA, load.input = off
    read v_in
    check v_in >= 1 V
test b "B"
    read volts = supply.voltage, amps = load.current
    check volts within 9 V +/- 50 mV
""")
    assert run.of(events.Restored)[0].settings == ["supply.voltage", "load.current", "load.input"]
    told = [line for line in run.traffic if line.startswith("eload> ") and ("CURR " in line or "INP O" in line)]
    assert told[-5:] == ["eload> CURR 0.2", "eload> INP OFF", "eload> CURR 0", "eload> INP ON", "eload> INP OFF"]
    assert run.verdict == "pass"


def test_protection_is_written_and_read_back_before_an_output_goes_on(perform) -> None:
    said = perform('test t "T"\n    read v_in\n    check v_in >= 8 V\n').traffic
    on = said.index(next(line for line in said if "OUTP1 ON" in line))
    assert said.index("psu> SOUR1:VOLT:PROT 18") < said.index("psu> SOUR1:VOLT:PROT?") < on
    assert said.index("psu> *RST") < said.index("psu> SOUR1:VOLT:PROT 18")


def test_a_ceiling_is_never_passed_even_by_a_computed_value(perform) -> None:
    run = perform('test t "T"\n    read v_in\n    let double = 2 * v_in\n    set load.current = 100 mA, supply.voltage = double\n'
                  '    check v_in >= 1 V\ntest u "U"\n    read v_out\n    check v_out >= 4 V\n')  # fmt: skip
    ended = {e.test: e for e in run.of(events.TestEnded)}
    assert ended["t"].verdict == "error"
    assert "test.ibx:20: supply.voltage = 1" in ended["t"].reason.text
    assert "is beyond 17 V (the ceiling of supply.voltage). Nothing was sent." in ended["t"].reason.text
    assert not any("CURR 0.1" in line for line in run.traffic)
    assert (ended["u"].verdict, run.verdict) == ("pass", "error")


def test_outputs_go_off_in_the_stated_order_and_are_asked(perform) -> None:
    run = perform('test t "T"\n    read v_in\n    check v_in >= 8 V\n')
    assert [r["role"] for r in run.of(events.MadeSafe)[0].roles] == ["load", "supply"]
    sent = [line.partition("SIMULATED")[0] for line in run.traffic[-6:]]
    assert sent == ["eload> INP OFF", "eload> INP?;*IDN?", "eload< 0;Firnline,EL-45,", "psu> OUTP1 OFF", "psu> OUTP1?;*IDN?",
                    "psu< 0;Firnline,PS-36,"]  # fmt: skip


LOADED = """test t "T"
    sweep iload over 0 A, 100 mA, 200 mA
        set load.current = iload
        read v_out
        let double = 2 * v_out
    check double >= 9 V
    check v_out <= 6 V
"""


@pytest.mark.parametrize("how", ["empty", "garbage", "nan", "overload", "cut", "close", "silent", "late"])
def test_a_bad_reading_is_tried_again(perform, how: str) -> None:
    run = perform(LOADED, change=spoilt(how, 2, 1))
    assert run.verdict == "pass"
    assert not any(row.bad for row in run.of(events.Row))
    assert sum("> READ?" in line for line in run.traffic) == 4


@pytest.mark.parametrize(("how", "reason", "verdict"), [
    ("empty", "empty reply", "error"), ("garbage", "not a number", "error"), ("nan", "not a number", "error"),
    ("overload", "overload", "fail")])  # fmt: skip
def test_what_stays_bad_is_a_hole_with_its_reason(perform, how, reason, verdict) -> None:
    run = perform(LOADED, change=spoilt(how, 2, 3))
    rows = run.of(events.Row)
    assert [math.isnan(row.v[0]) for row in rows] == [False, True, False]
    assert math.isnan(rows[1].v[1])
    assert (rows[1].bad[0].name, rows[1].bad[0].reason.text) == ("v_out", reason)
    assert sum("READ?" in line for line in lines(rows[1].io[0])) == 3
    for result in run.of(events.Judged):
        assert (result.verdict, result.bad, result.failed) == (verdict, 1, 0)
        assert f"1 of 3 bad ({reason})" in result.reason
    assert run.verdict == verdict


def test_a_reading_that_nobody_can_believe_is_bad(perform) -> None:
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n',
                  change=lambda text: text.replace('["-0.1 V", "20 V"]', '["-0.1 V", "3 V"]'))  # fmt: skip
    assert "undecided: not believable: " in run.of(events.Judged)[0].reason
    assert run.verdict == "error"


def test_a_source_at_its_limit_fails_the_test_that_trusted_its_set_points(perform) -> None:
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', SHORT)
    assert run.of(events.Judged)[0].verdict == "fail"  # no reading of it may be used
    assert [e.role for e in run.of(events.Limiting)] == ["supply"]
    assert run.of(events.TestEnded)[0].reason.text == "taken while a source was at its limit (supply)"
    assert run.verdict == "fail"


def test_a_lost_instrument_ends_the_run_and_the_others_are_made_safe(perform) -> None:
    body = 'test a "A"\n    read v_in\n    check v_in >= 1 V\ntest b "B"\n    read v_in\n    check v_in >= 1 V\n'
    run = perform(body, change=spoilt("close", 1, 9))
    assert run.tests == {"a": "error", "b": "skipped"}
    assert "closed the connection instead of answering" in run.of(events.TestEnded)[0].reason.text
    assert [r for r in run.of(events.MadeSafe)[0].roles if not r["problem"]] == [
        {"role": "load", "problem": ""}, {"role": "supply", "problem": ""}]  # fmt: skip


def test_a_stop_in_the_middle_still_cleans_up_and_records(perform) -> None:
    wish = Stop()

    def stop(event) -> None:
        if isinstance(event, events.Row) and len(seen) == 2:
            assert wish.request("stopped by Ctrl-C") and not wish.request("again")
        seen.extend([event] if isinstance(event, events.Row) else [])

    seen: list = []
    run = perform(SWEEP + "after unit\n    set load.current = 0 A\n", readers=(stop,), stop=wish)
    assert (run.verdict, run.reason.text) == ("aborted", "stopped by Ctrl-C")
    assert len(run.of(events.Row)) == 3
    assert run.of(events.TestEnded)[-1].verdict == "aborted"
    assert not any(role["problem"] for role in run.of(events.MadeSafe)[0].roles)
    assert isinstance(run.events[-1], events.RunEnded)


def test_without_a_journal_nothing_goes_on_and_a_broken_view_is_taken_out(perform) -> None:
    def full(event) -> None:
        if sum(isinstance(e, events.Row) for e in kept) == 1:
            raise RecordsError("the journal cannot be written (No space left on device)")
        kept.append(event)

    kept: list = []

    run = perform(SWEEP, journal=full)
    assert run.verdict == "error"
    assert "No space left" in run.reason.text
    assert len(run.of(events.Row)) == 1
    assert not any(role["problem"] for role in run.of(events.MadeSafe)[0].roles)

    def broken(event) -> None:
        raise ValueError("a view with a mistake")

    assert perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', readers=(broken,)).outcome.verdict == "pass"


def test_ragged_sweeps_share_one_axis_with_holes(perform) -> None:
    run = perform('test t "T"\n    sweep n from 1 to 3 step 1\n        sweep k from 1 to n step 1\n            let sum = n + k\n'
                  "            check sum >= 2\n        let last = max(sum)\n    let most = max(sum along n)\n    let rows = most\n"
                  "    check most <= 6 where k >= 2\n")  # fmt: skip
    assert [row.x for row in run.of(events.Row) if row.table == 1] == [(1, 1), (2, 1), (2, 2), (3, 1), (3, 2), (3, 3)]
    assert [row.v for row in run.of(events.Row) if row.table == 2] == [(2,), (4,), (6,)]
    assert run.of(events.WholeCurve)[0].v == [4, 5, 6]
    assert run.of(events.Judged)[1].judged == 2


def test_results_of_another_test_can_be_used(perform) -> None:
    run = perform(SWEEP + 'test later "Later"\n    let drop = swept.at_8 - min(min(swept.power along iload) along vin)\n    check drop >= 0 W\n')
    power = [row.v[4] for row in run.of(events.Row)]
    assert run.of(events.Value)[-1].value == pytest.approx(run.of(events.Value)[0].value - min(power))


@pytest.mark.parametrize(("check", "low", "high"), [
    ("within 3.3 +/- 0.3", 3.0, 3.6), ("within 200 +/- 5 %", 190.0, 210.0), ("within -4 +/- 10 %", -4.4, -3.6),
    ("between 1 and 2", 1.0, 2.0), (">= 4", 4.0, None), ("< 4", None, 4.0), ("<= base * 2", None, 0.6),
    ("within base +/- 5 %", 0.285, 0.315), ("within known +/- half", 0.05, 0.15)])  # fmt: skip
def test_limits_are_exact(perform, check, low, high) -> None:
    header = HEADER.replace("before unit", "params\n    base = 0.3\n    half = 0.05\n\nbefore unit")
    run = perform(f'test t "T"\n    read v_in\n    let known = 0.1 + 0 * v_in / 1 V\n    let x = 1\n    check x {check}\n', header=header)
    judged = run.of(events.Judged)[0]
    exactly = "known" not in check
    assert (judged.low, judged.high) == ((low, high) if exactly else (pytest.approx(low), pytest.approx(high)))


def test_a_wish_that_is_accepted_when_the_last_test_has_ended_is_heeded_and_a_later_one_refused(perform) -> None:
    wish, answers = Stop(), []

    def interrupt(event: events.Event) -> None:
        if isinstance(event, events.Restored | events.MadeSafe):
            answers.append(wish.request("stopped by Ctrl-C" if not answers else "too late"))

    run = perform('test t "T"\n    set supply.voltage = 8 V\n    read v_in\n    check v_in >= 1 V\n', readers=(interrupt,), stop=wish)
    assert (answers, run.verdict, run.reason.text) == ([True, False], "aborted", "stopped by Ctrl-C")
    safe = run.of(events.MadeSafe)[0]
    assert [(role["role"], role["problem"]) for role in safe.roles] == [("load", ""), ("supply", "")]


def test_what_ran_on_which_bench_is_recorded_with_the_run(perform) -> None:
    run: Recorded = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n')
    started, connected = run.of(events.RunStarted)[0], run.of(events.BenchConnected)[0]
    assert (started.serial, started.operator, started.sequence["title"]) == (GOOD, "tester", "Test")
    assert len(started.bench["sha256"]) == 64
    psu = connected.instruments[0]
    assert (psu["name"], psu["roles"], psu["certificate"], psu["due"]) == ("psu", ["supply"], "K-1187", "2027-05-01")
    assert psu["identity"].startswith("Firnline,PS-36,SIMULATED-psu") and psu["simulated"] is True


def test_calibration_past_its_date_makes_a_trial(perform) -> None:
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', change=lambda t: t.replace("2027-05-01", "2026-11-22"))
    assert run.trial[1] == ("calibration", "calibration of psu was due on 2026-11-22", "")
    last_day = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', change=lambda t: t.replace("2026-11-22", "2026-11-23"))
    assert [reason.code for reason in last_day.outcome.trial] == ["simulated"]


@given(st.lists(st.from_regex(r"[a-z]{1,8}", fullmatch=True), max_size=5))
def test_texts_are_filled_in_order(names: list[str]) -> None:
    text = "".join(f"<{{{name}:V}}>" for name in names)
    assert [(gap.name, gap.unit) for gap in fill.gaps(text)] == [(name, "V") for name in names]
    assert fill.fill(text, [name.upper() for name in names]) == "".join(f"<{name.upper()}>" for name in names)
