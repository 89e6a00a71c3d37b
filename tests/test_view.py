"""The view of a run: one line a test, one progress line in a terminal, no control codes elsewhere; words and durations."""

import io
import os
import pty
import re
import select
import subprocess
import time
from pathlib import Path

import pytest

from ibexite import events
from ibexite.cli.view import RunView, between_words
from ibexite.holes import Bad
from ibexite.verdicts import NO_REASON, Reason, Verdict
from ibexite.wording import column_text, duration_text, judged_text, place_text, worst_first
from tests.conftest import GOOD, IBEXITE

SEQUENCE = {"title": "Board test", "product": "Board", "revision": "C", "file": "t.ibx", "sha256": ""}
START = events.RunStarted("r1", "2026-11-23T09:00:00+00:00", "FC1", "me", "here", "0", SEQUENCE,
                          {"name": "bench 1", "file": "", "sha256": ""}, [],
                          [{"test": "alive", "title": "Alive", "gate": True}, {"test": "rails", "title": "R", "gate": False}])  # fmt: skip
EMPTY = Reason("empty", "undecided: empty reply")
AXIS = {"name": "vin", "unit": "V", "shown": "", "origin": "sweep"}


def judged(**changes: object) -> events.Judged:
    """A result of which some parts are others."""
    subject = events.Subject(9, "idle", "check idle <= 46 mA", "idle", "A", "mA")
    point = events.Point(0.0195, None, 0.046, 0.0265)
    points = events.Points(1, 0, 0)
    rest = {"axes": [], "verdict": Verdict.PASS, "reason": NO_REASON}
    for part in (subject, point, points):
        rest |= {type(part).__name__: part._replace(**{name: changes.pop(name) for name in part._fields if name in changes})}
    rest |= changes
    return events.Judged(1.0, "alive", rest["Subject"], rest["Point"], events.Limits(), rest["Points"], rest["axes"], rest["verdict"],
                         rest["reason"])  # fmt: skip


def shown(*happened: events.Event) -> list[str]:
    """The lines that a view writes where there is no terminal."""
    stream = io.StringIO()
    view = RunView(stream)
    for number, event in enumerate(happened, 1):
        view(events.Emitted("r1", number, event))
    assert "\r" not in stream.getvalue()
    return re.sub(r"\x1b\[[\d;]*m", "", stream.getvalue()).splitlines()


@pytest.mark.parametrize(("text", "lines"), [
    ("  fits in the line", ["  fits in the line"]), ("  error  t  a.ibx:4: volts of eload were lost", ["  error  t  a.ibx:4: volts of", "            eload were lost"]),
    ("one word after another and no column", ["one word after another and no", "column"]), ("  \x1b[1mfail\x1b[0m   rails  much too long for this", ["  \x1b[1mfail\x1b[0m   rails  much too long", "         for this"]),
    ("  a/very/long/path/that/nobody/breaks.html", ["  a/very/long/path/that/nobody/breaks.html"]), ("  \x1b[2mnote: all of it is dim, to its end\x1b[0m", ["  \x1b[2mnote: all of it is dim, to its end\x1b[0m"])])  # fmt: skip
def test_a_long_line_is_broken_between_words_below_its_last_column(text: str, lines: list[str]) -> None:
    assert [line.rstrip() for line in between_words(text, 30).split("\n")] == lines


def test_the_head_names_sequence_unit_bench_and_instruments() -> None:
    lines = shown(START, events.BenchConnected(0.1, [{"name": "psu", "simulated": True}, {"name": "dmm", "simulated": False}]))
    assert lines == ["Board test, revision C", "unit FC1   bench bench 1   run r1", "instruments: psu (simulated), dmm", ""]


def test_a_test_ends_as_one_line_with_its_worst_value() -> None:
    near = judged(label="near", value=0.0455, margin=0.0005)
    lines = shown(START, events.TestStarted(0, "alive", "Alive"), judged(), near, events.TestEnded(2, "alive", Verdict.PASS, NO_REASON, 1.5))
    assert lines[2:] == ["  pass     alive     near                                45.50 mA   <= 46 mA               "
                         "margin +0.50 mA (+1.09 % of limit)               1.5 s"]  # fmt: skip


def test_a_failure_says_where_and_how_many() -> None:
    bad = judged(value=0.047, margin=-0.001, verdict=Verdict.FAIL, at={"vin": 8.0}, axes=[AXIS], judged=7, failed=2)
    lines = shown(START, bad, events.TestEnded(2, "alive", Verdict.FAIL, NO_REASON, 1.5))
    assert lines[3] == "         idle fail: 47.00 mA against <= 46 mA at vin = 8 V (2 of 7 points)"


def test_what_has_no_value_says_why() -> None:
    hole = judged(value=None, low=None, margin=None, verdict=Verdict.ERROR, reason=EMPTY, bad=1)
    value = events.Value(1, "alive", "idle", "read", "A", "", None, [Bad("idle", Reason("empty", "empty reply"), "")], [])
    lines = shown(START, events.TestStarted(0, "alive", "Alive"), value, hole,
                  events.TestEnded(2, "alive", Verdict.ERROR, EMPTY, 0.1),
                  events.TestEnded(2, "rails", Verdict.SKIPPED, Reason("gate", "gate alive did not pass"), 0))  # fmt: skip
    assert lines[2].startswith("  error    alive     idle ") and "-" in lines[2]
    assert lines[3:] == ["         idle error: undecided: empty reply", "         bad readings, left out: 1 (idle empty reply)",
                         "  skipped  rails     gate alive did not pass"]  # fmt: skip


@pytest.mark.parametrize(("verdict", "trial", "word"), [
    ("pass", [], "PASS"), ("pass", ["simulated bench"], "PASS (trial)"), ("aborted", ["x", "y"], "ABORTED (trial)")])  # fmt: skip
def test_the_verdict_comes_after_the_outputs_are_off(verdict: str, trial: list[str], word: str) -> None:
    roles = [{"role": "load", "problem": ""}, {"role": "supply", "problem": ""}]
    lines = shown(START, events.MadeSafe(3, roles), events.RunEnded(3.2, Verdict(verdict), NO_REASON, [Reason("x", t) for t in trial], 1, 2))
    assert lines[3:5] == ["outputs off: load, supply", f"{word}   FC1   1 of 2 tests passed   3.2 s"]
    assert lines[5:] == ([f"  a trial, because: {'; '.join(trial)}"] if trial else [])


def test_an_output_that_is_not_off_is_shouted() -> None:
    lines = shown(START, events.MadeSafe(3, [{"role": "load", "problem": ""}, {"role": "supply", "problem": "silent for 2 s"}]))
    assert lines[-1] == "NOT OFF: supply: silent for 2 s. Switch it off by hand."
    assert shown(START, events.MadeSafe(3, []))[-1] == "nothing had been switched on"


def test_in_a_terminal_a_sweep_has_one_progress_line_with_the_time_left(project: Path) -> None:
    text = (project / "fm2_final.ibx").read_text().replace("wait 12 ms", "wait 30 ms")
    (project / "fm2_final.ibx").write_text(text)
    main, terminal = pty.openpty()
    process = subprocess.Popen([*IBEXITE, "run", "fm2_final.ibx", "--serial", GOOD, "--simulate", "--real-time", "--no-report"], cwd=project,
                               stdin=terminal, stdout=terminal, stderr=terminal, start_new_session=True)  # fmt: skip
    os.close(terminal)
    seen, answered, deadline = b"", False, time.monotonic() + 110
    while time.monotonic() < deadline:
        if select.select([main], [], [], 0.2)[0]:
            try:
                seen += os.read(main, 65536)
            except OSError:
                break
        if b"Press Enter" in seen and not answered:
            os.write(main, b"\r")
            answered = True
    os.close(main)
    assert process.wait(120) == 5 and answered
    output = seen.decode()
    assert "Seat board FC00400 in the fixture and close the lid." in output
    assert re.search(r"\r\x1b\[K  …        efficiency  \d+ of 70, [\d.]+ m?s left   vin = [\d.]+ V  iload = \d+ mA", output)
    assert "\x1b[32m\x1b[1mPASS (trial)" in output
    assert "a trial, because: simulated bench\r\n" in output


@pytest.mark.parametrize(("seconds", "text"), [
    (0, "0 s"), (0.0004, "0 ms"), (0.0421, "42 ms"), (0.9999, "1.0 s"), (12.34, "12.3 s"), (59.97, "1 min 00 s"),
    (245.2, "4 min 05 s"), (7800, "2 h 10 min")])  # fmt: skip
def test_durations_are_readable(seconds: float, text: str) -> None:
    assert duration_text(seconds) == text


@pytest.mark.parametrize(("value", "low", "high", "unit", "shown_unit", "expected"), [
    (0.0195, 0.017, 0.046, "A", "mA", ("19.50 mA", "17 to 46 mA", "+2.50 mA")),
    (5.0268, 4.9447, 5.0953, "V", "", ("5.0268 V", "4.9447 to 5.0953 V", "+0.0685 V")),
    (0.8698, 0.875, None, "", "%", ("86.98 %", ">= 87.5 %", "-0.52 %")),
    (304.65, 303.15, 305.15, "K", "degC", ("31.50 degC", "30 to 32 degC", "+0.50 K")),
    (-39.2, None, -40.0, "dBm", "dBm", ("-39.20 dBm", "<= -40 dBm", "-0.80 dB")),
    (3.3000001, None, 3.3, "V", "V", ("3.3000001 V", "<= 3.3 V", "-0.0000001 V")),
    (3.2e-9, None, 4.804e-9, "m^3/s", "", ("3.200e-9 m^3/s", "<= 4.804e-9 m^3/s", "+1.604e-9 m^3/s")),
    (0.0, -2e-8, 2e-8, "m^3/s", "", ("0e-9 m^3/s", "-20e-9 to 20e-9 m^3/s", "+20e-9 m^3/s")),
    (3.0, 2.999999, 3.000001, "Pa", "", ("3.000000 Pa", "2.999999 to 3.000001 Pa", "+0.000001 Pa")),
    (1.0, 1.0, 1.0, "", "", ("1", "1 to 1", "+0")), (5.0, None, 0.0, "", "", ("5", "<= 0", "-5")), (4.5, None, 5.0, "", "", ("4.500", "<= 5", "+0.500")),
    (5.0, None, 6.0, "V", "", ("5.000 V", "<= 6 V", "+1.000 V"))])  # fmt: skip
def test_judged_values_share_unit_and_decimals(value, low, high, unit, shown_unit, expected) -> None:
    margins = [m for m in (value - low if low is not None else None, high - value if high is not None else None) if m is not None]
    text = judged_text({"value": value, "low": low, "high": high, "unit": unit, "shown": shown_unit, "margin": min(margins)})
    assert (text.value_with_unit, text.limits, text.margin_with_unit) == expected


def test_results_are_ordered_by_how_near_they_are_to_their_limits() -> None:
    results = [judged(label="far"), judged(label="near", margin=0.001), judged(label="failed", margin=-0.001, verdict="fail"),
               judged(label="undecided", margin=None, verdict="error")]  # fmt: skip
    assert [r["label"] for r in worst_first([r.row() for r in results])] == ["undecided", "failed", "near", "far"]


def test_places_are_written_with_their_units() -> None:
    axes = [AXIS, {"name": "t", "unit": "K", "shown": "degC"}]
    assert place_text({"vin": 6.5, "t": 298.15}, axes) == "vin = 6.5 V, t = 25 degC"
    assert column_text(None, AXIS) == column_text(float("nan"), AXIS) == "-"
