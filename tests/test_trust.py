"""Can it say PASS wrongly, lose a reading, hide what happened? Each case was once a way in which it could."""

import math
import os
import tempfile
from pathlib import Path

import pytest

from ibexite import events, instruments
from ibexite.engine.orders import Earlier, EarlierTest
from ibexite.engine.services import Halts, NoOperator
from ibexite.errors import MistakeError, SequenceError
from ibexite.instruments.profile import load_profile
from ibexite.verdicts import Judgement, Reason, Verdict
from tests.conftest import HEADER
from tests.runs import Still, spoilt, troubled

PROFILES = Path(instruments.__file__).with_name("profiles")
GOOD_TEST = 'test good "Good"\n    read v_in\n    check v_in >= 1 V\n'


LOOP = """test t "T"
    sweep k from 1 V to 3 V step 1 V
        read x1 = v_out
        check x1 <= 2 V as "too much"
        {line}
"""


@pytest.mark.parametrize("line", [
    'if k == 2 V\n            skip "enough"', 'if k == 2 V\n            stop "enough"', 'if k == 2 V\n            leave "enough"',
    "if 1 V / (x1 - x1) > 1\n            wait 1 ms", "set load.current = 9 A * (k / 1 V)",
    "watch v_in <= 2 V every 10 ms\n            wait 1 ms", "repeat again until x1 > 90 V timeout 10 ms\n            wait 2 ms"])  # fmt: skip
def test_points_that_were_judged_count_however_the_loop_ends(perform, line: str) -> None:
    run = perform(LOOP.format(line=line) + GOOD_TEST)
    result = run.result("too much")
    assert (result.verdict, result.failed >= 1) == ("fail", True)
    assert run.verdict == "fail" and run.of(events.TestEnded, test="t")[0].has_failed
    assert any(row.v[0] > 2 for row in run.of(events.Row)), "the row in which it ended is kept"


def test_a_good_test_that_is_left_is_no_pass_and_the_run_a_trial(perform) -> None:
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n    skip "the rest"\n' + GOOD_TEST)
    assert run.verdicts == {"t": "skipped", "good": "pass"}
    assert [r.code for r in run.trial] == ["simulated", "left_out"]


@pytest.mark.parametrize(("clauses", "second", "skip"), [
    ("gate if v > 5", "", "gate"), ("gate off", "", "gate"), ("if v > 5", "needs pass of first", "needs"),
    ("if 1 / (v - v) > 0", "", ""), ("if v > 5", "", "plain")])  # fmt: skip
def test_a_test_that_did_not_pass_opens_no_way(perform, clauses: str, second: str, skip: str) -> None:
    header = HEADER.replace("before unit", "params\n    v = 1\n\nbefore unit")
    run = perform(f'{GOOD_TEST}test first "F" {clauses}\n    read v_in\n    check v_in >= 1 V\n'
                  f'test second "S" {second}\n    read v_in\n    check v_in >= 1 V\n', header=header)  # fmt: skip
    codes = {r.code for r in run.trial}
    if not skip:  # a condition that nobody can decide
        assert run.of(events.TestEnded, test="first")[0].verdict == "error" and run.verdict == "error"
    elif skip == "plain":  # the test's own `if` leaves a pass whole
        assert run.verdicts["second"] == "pass" and codes == {"simulated"}
    else:
        assert run.of(events.TestEnded, test="second")[0].reason.code == skip and "left_out" in codes


def test_needs_pass_of_a_test_with_corners_means_all_of_them(perform) -> None:
    text = ('group both "G" over c = 1, 2\n    test first "F"\n        read v_in\n        check v_in >= 1 V * c * {factor}\n'
            'test second "S" needs pass of first\n    read v_in\n    check v_in >= 1 V\n')  # fmt: skip
    assert perform(text.format(factor=1)).verdicts["second"] == "pass"
    run = perform(text.format(factor=6))
    assert run.verdicts["first [c = 1]"] == "pass" and run.of(events.TestEnded, test="second")[0].reason.code == "needs"


THREE = """test t "T"
    sweep k from 1 to 3 step 1
        read v_out
    {line}
"""


@pytest.mark.parametrize("line", [
    "let worst = max(v_out)\n    check worst <= 6 V", "check max(v_out) <= 6 V", "let c = mean(v_out)\n    let d = 2 * c\n    check d <= 12 V",
    "check abs(slope(v_out)) <= 6 V", "let worst = max(v_out)\n    let twice = 2 * worst\n    check v_out <= twice allowing 1 bad\n    check twice <= 12 V"])  # fmt: skip
@pytest.mark.parametrize(("how", "verdict"), [("overload", "fail"), ("garbage", "error")])
def test_a_result_that_stands_on_bad_readings_does_not_pass(perform, line: str, how: str, verdict: str) -> None:
    run = perform(THREE.format(line=line), change=spoilt(how, 2, 3))
    assert run.verdict == verdict, run.of(events.TestEnded, test="t")[0]
    assert "1 bad value left out of it" in run.of(events.Judged)[-1].reason
    if "allowing" not in line:
        allowed = perform(THREE.format(line=line + " allowing 1 bad"), change=lambda text: text)
        assert allowed.outcome.verdict == "pass" and "1 bad value left out of it" in allowed.of(events.Judged)[0].reason


def test_a_condition_on_a_result_that_stands_on_bad_readings_is_an_error(perform) -> None:
    run = perform(THREE.format(line="if max(v_out) < 99 V\n        read v_in"), change=spoilt("overload", 2, 3))
    assert "the condition cannot be decided" in run.of(events.TestEnded, test="t")[0].reason.text


def test_an_average_of_which_one_reading_is_bad_is_bad(perform) -> None:
    run = perform('test t "T"\n    read v_out averaging 4\n    check v_out <= 6 V\n', change=spoilt("overload", 2, 3))
    assert run.verdict == "fail" and run.of(events.Judged)[0].reason == "overload"


@pytest.mark.parametrize(("how", "clause", "verdict"), [
    ("overload", "", "fail"), ("garbage", "", "error"), ("garbage", " allowing 1 bad in a row", "pass")])  # fmt: skip
def test_what_cannot_be_seen_cannot_be_watched(perform, how: str, clause: str, verdict: str) -> None:
    run = perform(f'test t "T"\n    watch v_out <= 6 V every 5 ms{clause}\n        wait 40 ms\n        read v_in\n    check v_in >= 1 V\n',
                  change=spoilt(how, 3, 3), clock=Still())  # fmt: skip
    assert run.verdicts["t"] == verdict, run.of(events.TestEnded, test="t")[0]
    if verdict != "pass":
        assert "watch: v_out could not be read" in run.of(events.TestEnded, test="t")[0].reason.text


def test_a_protection_that_trips_fails_the_test_in_which_it_happened(perform) -> None:
    run = perform('test first "B"\n    read v_in\n    check v_in >= 1 V\n'
                  'test trip "T"\n    set supply.over_voltage = 8 V\n    wait 20 ms\n    read v_out\n    check v_out <= 6 V\n'
                  'test later "A"\n    read v_out\n    check v_out between 4 V and 6 V\n')  # fmt: skip
    assert run.verdicts["first"] == "pass" and run.verdicts["trip"] == "fail"
    assert "protection of supply has tripped" in run.of(events.TestEnded, test="trip")[0].reason.text
    assert run.verdicts["later"] in ("pass", "skipped") and run.verdict == "fail"


@pytest.mark.parametrize("line", ["set load.current = 9 A", 'ask confirm "Out?"'])
def test_a_line_of_after_unit_that_fails_is_no_pass(perform, line: str) -> None:
    run = perform(f"{GOOD_TEST}after unit\n    {line}\n", operator=NoOperator())
    assert run.verdict == "error" and "after unit" in run.reason.text


def test_texts_for_the_operator_wait_until_everything_is_off(perform) -> None:
    run = perform(GOOD_TEST + 'after unit\n    show "Take {serial} out."\n    set supply.output = off\n')
    kinds = [type(e).__name__ for e in run.events]
    assert kinds.index("MadeSafe") < kinds.index("Shown") < kinds.index("RunEnded")


def test_two_loops_of_one_name_send_their_own_points(perform) -> None:
    loop = "        sweep vset over {}\n            set supply.voltage = vset\n            read {} = v_in\n"
    run = perform('test t "f_odd__name"\n    read v_out\n    if v_out > 4 V\n' + loop.format("7 V, 8 V", "a")
                  + "    else\n" + loop.format("12 V, 13 V", "b") + '    note "f_curve__x"\n    check v_out >= 1 V\n')  # fmt: skip
    assert run.verdict == "pass", run.of(events.TestEnded, test="t")[0]
    sent = [line for line in run.traffic if line.startswith("psu> SOUR1:VOLT ")]
    assert sent[-3:] == ["psu> SOUR1:VOLT 7", "psu> SOUR1:VOLT 8", "psu> SOUR1:VOLT 9"]


def test_without_a_journal_of_any_kind_nothing_goes_on(perform) -> None:
    def broken(event) -> None:
        if isinstance(event, events.TestStarted):
            raise TypeError("not serialisable")

    run = perform(GOOD_TEST, journal=broken)
    assert run.verdict == "error" and "the journal broke" in run.reason.text
    end = run.of(events.RunEnded)
    assert len(end) == 1 and end[0].verdict == "error"


def test_a_verdict_that_cannot_be_recorded_is_no_pass(perform) -> None:
    def full(event) -> None:
        if isinstance(event, events.RunEnded):
            raise OSError(28, "No space left on device")

    run = perform(GOOD_TEST, journal=full)
    assert [e.verdict for e in run.of(events.RunEnded)] == ["error"]


@pytest.mark.parametrize(("raw", "what"), [
    ("SOUR1:VOLT 17.5", "17.5 V, beyond its ceiling of 17 V"), ("SOUR1:CURR 2", "2 A, beyond its ceiling of 1.5 A")])  # fmt: skip
def test_raw_commands_do_not_lead_beyond_a_ceiling(perform, raw: str, what: str) -> None:
    run = perform(f'test t "T"\n    send supply "{raw}"\n    read v_in\n    check v_in >= 1 V\n{GOOD_TEST}',
                  change=lambda text: text.replace('[roles.supply]', '[roles.supply]\nraw = true'))  # fmt: skip
    assert run.verdict == "error" and what in run.of(events.TestEnded, test="t")[0].reason.text
    after = run.traffic[run.traffic.index(f"psu> {raw}") :]
    assert next(line for line in after if "OUTP1 O" in line) == "psu> OUTP1 OFF"


def test_two_runs_on_one_bench_do_not_reset_each_others_instruments(serve, tmp_path, monkeypatch) -> None:
    from ibexite.bench.bench import Bench
    from ibexite.errors import BenchError

    file = serve(is_private=False)
    first, second = Bench(file), Bench(file)
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    before = os.umask(0o077)
    try:
        first.connect(["psu", "dmm"], "run 1 of a.ibx for FC00400")
    finally:
        os.umask(before)
    assert {os.fstat(fd).st_mode & 0o777 for fd in first.pool.locks.handles()} == {0o666}, "whoever comes next may look"
    with pytest.raises(BenchError, match="dmm is in use by run 1 of a.ibx for FC00400 [(]process .*, since 20"):
        second.connect(["eload", "dmm"])
    assert not second.sessions
    first.close()
    second.connect(["eload", "dmm"])
    second.close()


def test_a_question_without_anybody_to_answer_ends_the_run(perform) -> None:
    run = perform(GOOD_TEST + 'test asks "A"\n    ask look = yes_no "Lit?"\n    check look is yes\ntest last "L"\n    read v_out\n'
                  "    check v_out >= 1 V\n", operator=NoOperator())  # fmt: skip
    assert run.verdicts == {"good": "pass", "asks": "error", "last": "skipped"} and run.of(events.TestEnded, test="last")[0].reason.code == "answer"


def test_keeps_state_holds_for_the_test_that_runs(perform) -> None:
    run = perform('test a "A"\n    set supply.voltage = 7 V\n    read v_in\n    check v_in >= 1 V\n'
                  'test b "B" keeps state if 1 > 2\n    read v_in\n    check v_in >= 1 V\n'
                  'test c "C"\n    read volts = supply.voltage\n    check volts within 9 V +/- 50 mV\n')  # fmt: skip
    assert run.verdicts == {"a": "pass", "b": "skipped", "c": "pass"}


def test_setting_back_trips_no_protection(perform) -> None:
    header = HEADER.replace("supply.output = on", "supply.over_voltage = 10 V, supply.output = on")
    run = perform('test a "A"\n    set supply.over_voltage = 17 V, supply.voltage = 15 V\n    wait 20 ms\n    read v_in\n    check v_in >= 14 V\n'
                  'test b "B"\n    read v_in\n    check v_in within 9 V +/- 0.2 V\n', header=header)  # fmt: skip
    assert run.verdict == "pass", run.outcome


def test_what_a_broken_test_left_behind_is_not_charged_to_the_next(perform) -> None:
    run = perform('test a "A"\n    set supply.current_limit = 1 mA, load.current = 900 mA\n    wait 20 ms\n    set load.current = 9 A\n'
                  + GOOD_TEST)  # fmt: skip
    assert run.verdicts == {"a": "error", "good": "pass"}
    assert {e.test for e in run.of(events.Limiting)} == {"a"}


@pytest.mark.parametrize(("check", "verdict"), [
    ("check x1 == k", "fail"), ("check x1 == k + 0 * x1", "fail"), ("check x1 within line(1 -> 5 V, 3 -> 5 V along n) +/- 0.5 V", "pass"),
    ("check x1 >= line(1 -> 5 V, 3 -> 5 V along n) - 0.5 V", "pass"), ("check x1 >= line(1 -> 5 V, 3 -> 5 V along n) - 0.5 V + 1 V", "fail"),
    ("check x1 within line(1 -> 5 V, 3 -> 5 V along n) +/- 5 %", "pass")])  # fmt: skip
def test_limits_may_be_curves_and_formulas_of_lines(perform, check: str, verdict: str) -> None:
    run = perform(f'test t "T"\n    sweep n from 1 to 3 step 1\n        read x1 = v_out\n        let k = x1 + 1 mV * n\n    {check}\n')
    assert run.verdict == verdict, (run.of(events.TestEnded, test="t")[0], run.reason.text)


def test_limits_that_run_over_an_axis_are_kept_point_by_point(perform) -> None:
    run = perform('test t "T"\n    sweep n from 1 to 3 step 1\n        read v_out\n        check v_out >= 1 V * n as "live"\n'
                  '    check v_out >= line(1 -> 1 V, 3 -> 3 V along n) as "whole"\n    check v_out >= 1 V as "level"\n'
                  '    sweep q from 1 to 4 step 1\n        read late = v_out\n'
                  '        check late between 1 V and 20 V + 1 V * (q - 1) * (q - 2) as "late"\n')  # fmt: skip
    for label in ("live", "whole"):
        assert run.result(label).limits == [[1.0, 1.0, None], [2.0, 2.0, None], [3.0, 3.0, None]]
    assert run.result("level").limits == []
    assert run.result("late").limits == [[1.0, 1.0, 20.0], [2.0, 1.0, 20.0], [3.0, 1.0, 22.0], [4.0, 1.0, 26.0]]


def test_a_search_in_a_sweep_keeps_its_bounds(perform) -> None:
    run = perform("""test t "T"
    sweep n over 1, 2
        search level from 9 V to 8 V resolution 0.5 V until now < 1 V
            set supply.voltage = level
            wait 10 ms
            read now = v_out
    check level <= 8.5 V as "decided"
    check level >= 7 V as "nobody knows"
    search first from 9 V to 10 V resolution 0.5 V until later > 1 V
        read later = v_out
    check first <= 9 V as "at most"
    check first < 9 V as "undecided"
""")
    assert (run.result("decided").verdict, run.result("decided").said) == ("pass", "below 8 V")
    assert run.result("nobody knows").verdict == "error"
    assert (run.result("at most").verdict, run.result("at most").said) == ("pass", "at most 9 V")
    assert run.result("undecided").verdict == "error"


MEASURED = """measurement loading "Output over load"
    needs
        sink   : electronic_load
        output : signal in V
    inputs
        most = 200 mA between 50 mA and 300 mA
    outputs
        amps  in A
        volts in V over amps
    sweep amps from 0 A to most in 5 points refine where volts near its limit at most 7 points
        set sink.current = amps
        wait 6 ms
        read volts = output

"""


def test_measurements_in_loops_are_renewed_bounded_and_give_curves(perform) -> None:
    header = MEASURED + HEADER
    line = "measure loading(sink = load, output = v_out, most = {}) as it"
    run = perform(f'test t "T"\n    sweep k over 1, 2\n        {line.format("100 mA * k")}\n        let least = min(it.volts)\n'
                  f"    check least >= 4.5 V\ntest u \"U\"\n    {line.format('0.2 A')}\n    check it.volts >= 4.9 V\n", header=header)  # fmt: skip
    assert run.verdicts == {"t": "error", "u": "pass"}, "in t there is no limit near which it could refine"
    plain = header.replace(" refine where volts near its limit at most 7 points", "")
    run = perform(f'test t "T"\n    sweep k over 1, 2\n        {line.format("100 mA * k")}\n        let least = min(it.volts)\n    check least >= 4.5 V\n'
                  f'test v "V"\n    read v_in\n    {line.format("0.1 A * v_in / 1 V")}\n    check v_in >= 1 V\n', header=plain)  # fmt: skip
    assert run.verdicts == {"t": "pass", "v": "error"}
    assert "most is out of its bounds" in run.of(events.TestEnded, test="v")[0].reason.text
    tables = [t.table for t in run.of(events.TableStarted) if t.axes[0]["name"] == "amps"]
    amps = [[row.x[0] for row in run.of(events.Row) if row.table == table] for table in tables]
    assert amps == [[0, 0.025, 0.05, 0.075, 0.1], [0, 0.05, 0.1, 0.15, 0.2]]


# --- merging ---------------------------------------------------------------------------------------------------------


def test_reasons_stay_as_long_as_a_value_of_their_run_does() -> None:
    test = EarlierTest(Judgement(Verdict.PASS), 1.0, "r1")
    earlier = Earlier("r2", "r1", Verdict.FAIL, {"a": test}, (Reason("simulated", "simulated bench", "r1"), Reason("halted", "h", "r2")),
                      {"r1": ("sequence",), "r3": ("limits",)})  # fmt: skip
    assert [r.told() for r in earlier.reasons({"r1"})] == ["simulated bench (run r1)", "changed since run r1: sequence"]
    assert [r.code for r in earlier.reasons({"r2"})] == ["halted"]


def test_a_halt_is_a_remark_and_makes_a_trial(perform) -> None:
    answers = iter(["next", "again", "continue"])
    run = perform(GOOD_TEST, halts=Halts(lambda halt, _: next(answers), stops=frozenset({"good"})))
    assert [r.code for r in run.trial] == ["simulated", "halted"]
    assert [e.answer for e in run.of(events.Halted)] == ["next", "again", "continue"]
    assert 8 < run.of(events.Halted)[1].values["v_in"] < 10


def test_a_run_by_itself_is_a_whole_lot_and_may_be_looked_at_in_its_blocks(perform) -> None:
    asked: list[str] = []

    def prompt(halt, evaluate) -> str:
        asked.append(evaluate("1 V + 0 * v_in") if "v_in" in halt.values else "")
        with pytest.raises(MistakeError, match="'other' has no value here") as unknown:
            evaluate("other + 1 V")
        assert unknown.value.remedy == f"There is: {', '.join(halt.values) or 'nothing yet'}."
        return "next"

    header = HEADER.replace("before unit", 'before lot\n    show "a lot begins"\n    read v_in\n    wait 1 ms\n\nbefore unit', 1)
    run = perform(GOOD_TEST + 'after unit\n    show "a unit ends"\nafter lot\n    show "a lot ends"\n', header=header, halts=Halts(prompt, is_stepping=True))
    assert [text for text in asked if text] == ["1 V", "1 V"]
    assert [event.text for event in run.of(events.Shown)] == ["a lot begins", "a unit ends", "a lot ends"]


def test_at_a_halt_a_formula_has_the_value_of_this_place(perform) -> None:
    found: list[str] = []

    def prompt(halt, evaluate) -> str:
        if "v_in" in halt.values:
            found.append(evaluate("0 * v_in + 2 V") if "curve" not in evaluate("v_in") else evaluate("v_in"))
        return "next"

    perform(
        'test t "T"\n    sweep u over 7 V, 8 V, 9 V\n        set supply.voltage = u\n        read v_in\n    check v_in >= 1 V\n',
        halts=Halts(prompt, is_stepping=True),
    )
    assert set(found) - {"- V"} == {"2 V", "a curve of 3 values over u"}, "- V: a reading that there is not yet"


def test_a_curve_whose_limits_are_upside_down_is_an_error(perform) -> None:
    run = perform('test t "T"\n    read v_out, v_in\n    check v_out between v_in and v_out\n')
    assert run.verdict == "error" and "is above the upper one" in run.of(events.TestEnded, test="t")[0].reason.text


@pytest.mark.parametrize("value", [math.inf, -math.inf])
def test_infinity_is_no_wait(value: float) -> None:
    from ibexite.engine.runtime import Runtime

    with pytest.raises(SequenceError):
        Runtime.wait(None, value)  # type: ignore[arg-type]


def test_a_setting_is_sent_and_recorded_with_the_digits_that_the_instrument_takes(perform, project) -> None:
    exact = perform('test t "T"\n    set supply.voltage = 8.12345678901 V\n    read v_in\n    check v_in >= 1 V\n')
    assert "psu> SOUR1:VOLT 8.12345678901" in exact.traffic
    profile = (PROFILES / "scpi-power-supply.toml").read_text()
    (project / "coarse.toml").write_text(profile.replace("[settings.voltage]\n", "[settings.voltage]\ndigits = 4\n"))
    run = perform('test t "T"\n    sweep u over 8.12345 V, 9 V\n        set supply.voltage = u\n        read v_in\n    check v_in >= 1 V\n',
                  change=lambda text: text.replace('"scpi-power-supply"', '"coarse.toml"'))  # fmt: skip
    assert "psu> SOUR1:VOLT 8.123" in run.traffic and not any("8.1234" in line for line in run.traffic)


def test_what_is_asked_back_may_differ_by_the_resolution_that_the_profile_tells(project) -> None:
    text = (PROFILES / "scpi-power-supply.toml").read_text()
    (project / "coarse.toml").write_text(text.replace("[settings.voltage]\n", '[settings.voltage]\nresolution = "50 mV"\n'))
    rooms = [load_profile(name, project).settings["voltage"].room(8.1) for name in ("scpi-power-supply", "coarse.toml")]
    assert rooms == [pytest.approx(8.1e-3 + 1e-4 * 36, abs=1e-8), 0.05]


@pytest.mark.parametrize(("name", "trouble", "lines", "found"), [
    ("psu", 'command = "SOUR1:VOLT 8", how = "instead", message = "SOUR1:VOLT 5"', "set supply.voltage = 8 V, load.current = 100 mA\n    wait 20 ms\n    read v_in",
     "voltage was set to 8 V, but the instrument has 5 V"),
    ("dmm", 'query = "READ?", how = "swap"', "set load.current = 100 mA\n    read v_in, u = load.voltage together", "another instrument answers")])  # fmt: skip
def test_what_goes_wrong_with_one_instrument_is_held_against_no_other(perform, name: str, trouble: str, lines: str, found: str) -> None:
    run = perform(f'test t "T"\n    {lines}\n    check v_in >= 1 V\n', change=troubled(trouble, name))
    assert run.verdicts["t"] == "error" and found in run.ended["t"][1]
    told = [*run.traffic, run.reason.text, *(e.text for e in run.of(events.Problem))]
    assert not any("nobody had asked" in text for text in told), told
