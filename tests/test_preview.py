"""The preview: which values are sent, how often, how long it takes, and what nobody knows before."""

from pathlib import Path

import pytest

from ibexite import events
from ibexite.bench.file import read_bench
from ibexite.engine.preview import preview, timeline
from ibexite.language.check import vet
from ibexite.language.source import Source
from tests.conftest import GOOD, HEADER
from tests.runs import Still, kept_events, lines
from tests.test_trust import MEASURED, PROFILES


@pytest.mark.parametrize(("loop", "turns", "apart"), [
    ("for 200 ms every 50 ms", 5, 0.05), ("for 300 ms every 100 ms", 4, 0.1), ("for 190 ms every 50 ms", 4, 0.05), ("3 times every 60 ms", 3, 0.06), ("4 times", 4, 0.0),
])  # fmt: skip
def test_a_preview_counts_the_turns_that_are_made_and_knows_when(perform, project, loop: str, turns: int, apart: float) -> None:
    text = HEADER + f'test t "T"\n    repeat turn {loop}\n        set load.current = 10 mA * turn\n        read v_in\n    check max(v_in) >= 1 V\n'
    program, file = vet(Source("t.ibx", text)), read_bench(project / "bench.toml")
    assert preview(program, file)[1].rows == turns
    found = [moment for moment in timeline(program, file) if moment.setting == "load.current"][1:]
    assert [round(moment.value, 9) for moment in found] == [round(0.01 * (i + 1), 9) for i in range(turns)]
    if apart:
        assert {round(b.t - a.t, 6) for a, b in zip(found, found[1:], strict=False)} == {apart}
    assert len(perform(text.removeprefix(HEADER), clock=Still()).of(events.Row)) == turns


@pytest.mark.parametrize(("loop", "told", "turns", "is_exact"), [
    ('sweep u over "a", "b"', 'sweep u: 2 points: "a", "b"', 2, True), ("sweep u from 1 V to v_in in 3 points", "sweep u: points known when it begins", 1, False),
    ("search u from 1 V to v_in resolution 1 V until u > 2 V", "search u from 1 V to v_in resolution 1 V until u > 2 V: points known when it begins", 1, False),
    ("search u from 1 V to 9 V resolution 1 V until u > 2 V", "search u from 1 V to 9 V resolution 1 V until u > 2 V: up to 9 values, in about 8 points", 8, False),
    ("repeat k until v_in > 1 V timeout 5 s", "repeat k until v_in > 1 V timeout 5 s: turns known when it ends", 1, False),
    ("sweep u from 1 V to 9 V step 1 V", "sweep u: 9 points: 1 V, 2 V, 3 V, 4 V, …, 8 V, 9 V", 9, True),
    ("sweep u from 1 V to 5 V in v_in / 1 V points", "sweep u: points known when it begins", 1, False),
    ("sweep f from 1 kHz to 4 kHz at 1 per octave", "sweep f: 3 points: 1 kHz, 2 kHz, 4 kHz", 3, True)])  # fmt: skip
def test_what_a_preview_says_of_a_loop(loop: str, told: str, turns: int, is_exact: bool) -> None:
    program = vet(Source("t.ibx", HEADER + f'test t "T"\n    read v_in\n    {loop}\n        wait 1 s\n'))
    assert not program.has_mistakes
    block = preview(program, None)[-1]
    assert [(step.text, step.times) for step in block.steps[1:]] == [(told, 1), ("wait 1 s", turns)]
    assert (block.is_exact, block.seconds) == (is_exact, pytest.approx(turns + 0.005))


def test_a_preview_knows_how_long_turns_take_that_begin_at_times() -> None:
    for body, seconds in (("wait 1 s", 4 * 10 + 1), ("wait 12 s", 5 * 12)):
        lines = f'test t "T"\n    read v_in\n    repeat k 5 times every 10 s\n        {body}\n'
        assert preview(vet(Source("t.ibx", HEADER + lines)), None)[-1].seconds == pytest.approx(seconds + 0.005)


def test_a_preview_tells_what_a_measurement_does_and_how_long_it_takes() -> None:
    header = MEASURED.replace(" refine where volts near its limit at most 7 points", "") + HEADER
    lines = 'test t "T"\n    measure loading(sink = load, output = v_out) as it\n    check it.volts >= 4 V\n'
    block = preview(vet(Source("t.ibx", header + lines)), None)[-1]
    assert [(step.depth, step.text.partition(":")[0], step.times) for step in block.steps] == [
        (0, "measure loading(sink = load, output = v_out) as it", 1), (1, "sweep amps", 1), (2, "set sink.current = amps", 5),
        (2, "wait 6 ms", 5), (2, "read volts = output", 5), (0, "check it.volts >= 4 V", 1)]  # fmt: skip
    assert block.seconds == pytest.approx(5 * (0.006 + 0.005)) and block.rows == 5


def test_preview_knows_times_and_says_what_it_cannot_know(project: Path) -> None:
    text = (
        HEADER
        + """test t "T"
    read v_in
    sweep u from 0 A to 1 A in 5 points
        wait 200 ms
        read i_in, i_out
        read rail_3v3 averaging 4
test later "Later"
    read v_out
    sweep w from 1 V to v_out in 3 points
        wait 10 ms
"""
    )
    blocks = preview(vet(Source("t.ibx", text)), read_bench(project / "bench.toml"))
    assert [(b.name, b.rows, b.is_exact) for b in blocks] == [("before unit", 0, True), ("t", 5, True), ("later", 1, False)]
    assert blocks[1].seconds == pytest.approx(0.005 + 5 * (0.2 + 2 * 0.005 + 4 * 0.005))
    assert blocks[1].steps[1].text == "sweep u: 5 points: 0 A, 0.25 A, 0.5 A, 0.75 A, 1 A"
    assert preview(vet(Source("t.ibx", text)), None)[1].seconds == blocks[1].seconds


DIGITS = (
    HEADER.replace("needs\n", "needs\n")
    + """test t "T"
    sweep a over 8.12345 V, 9 V
        set supply.voltage = a
        wait 12 ms
        read x = v_in
    let low = min(x)
    sweep b from low to low + 0.4938268 V step 0.1234567 V
        set supply.voltage = b
        read y = v_in
    sweep c from 7.00001 V to 10.00001 V in 5 points refine where y3 bends at most 9 points
        set supply.voltage = c
        wait 12 ms
        read z = v_in
        let y3 = z * z * z
    search d from 7.11111 V to 9 V resolution 0.77777 mV until d > 8 V
        set supply.voltage = d
    check low >= 1 V
"""
)


def test_what_is_sent_with_few_digits_is_what_preview_says_and_the_record_keeps(ibexite, project: Path) -> None:
    profile = (PROFILES / "scpi-power-supply.toml").read_text()
    (project / "coarse.toml").write_text(profile.replace("[settings.voltage]\n", "[settings.voltage]\ndigits = 4\n"))
    (project / "bench.toml").write_text((project / "bench.toml").read_text().replace('"scpi-power-supply"', '"coarse.toml"'))
    (project / "digits.ibx").write_text(DIGITS)
    assert "2 points: 8.123 V, 9 V" in ibexite("preview", "digits.ibx").stdout
    fixed = Source("t.ibx", HEADER + 'test t "T"\n    set supply.voltage = 8.12345 V\n    read v_in\n    check v_in >= 1 V\n')
    moments = timeline(vet(fixed), read_bench(project / "bench.toml"))
    assert [moment.value for moment in moments if moment.setting == "supply.voltage"] == [9.0, 8.123]
    done = ibexite("run", "digits.ibx", "--serial", GOOD, "--simulate", "--no-report")
    assert done.returncode == 5, done.stdout + done.stderr
    journal = kept_events(project)
    points = [x for event in journal if event["e"] == "Row" for x in event["x"]]
    sent = [float(line.rpartition(" ")[2]) for event in journal for line in lines(event.get("io", [[], []])[0]) if line.startswith("psu> SOUR1:VOLT ")]
    assert len(points) > 15 and set(points) <= set(sent) and all(f"{x:.4g}" == f"{x:.12g}" for x in points)
