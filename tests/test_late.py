"""Replies that come late, and what may be asked again: no reply is ever taken for that to another question."""

from pathlib import Path

import pytest

from ibexite import events
from ibexite.bench.file import read_bench
from ibexite.engine.services import RealClock
from ibexite.instruments.profile import SHIPPED
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.simulate.server import FRONTS
from tests.conftest import HEADER, bench_on_links
from tests.runs import carried_out, troubled

SWEEP = """
test t "T"
    sweep level from 4 V to 12 V step 250 mV
        set supply.voltage = level
        read held = query(supply, "SOUR1:VOLT?") in V, other = query(supply, "SOUR1:CURR?") in A
    check held within level +/- 1 uV
    check other within 1.3 A +/- 1 uA
"""


@pytest.mark.parametrize("kind", FRONTS)
def test_late_replies_are_never_taken_for_others_on_any_link(project: Path, kind: str) -> None:
    profile = (SHIPPED / "scpi-power-supply.toml").read_text().replace('timeout  = "2 s"', 'timeout = "250 ms"\nconnect_timeout = "3 s"')
    (project / "psu.toml").write_text(profile)
    trouble = troubled('query = ":", how = "late", pause = ["0 s", "400 ms"], nth = 8, times = 999', "psu")
    path = project / "bench.toml"
    path.write_text(trouble(path.read_text()).replace('"scpi-power-supply"', '"psu.toml"').replace("[roles.supply]\n", "[roles.supply]\nraw = true\n"))
    program = vet(Source("late.ibx", HEADER + SWEEP))
    assert not program.has_mistakes, [program.source.render(finding) for finding in program.source.findings]
    heard: list = []
    with bench_on_links(project, {"psu": kind}) as server:
        outcome = carried_out(program, read_bench(path), heard.append)
        late = next(one.troubles.done for one in server.instruments if one.stand_in.name == "psu")
        assert not server.instruments[0].device.source.is_on
    rows = [row for row in heard if isinstance(row, events.Row)]
    assert late > 5, "replies were late"
    for row in rows:
        level, held, other = row.x[0], *row.v
        assert held != held or abs(held - level) < 1e-6, f"{held} at {level}"
        assert other != other or abs(other - 1.3) < 1e-6, f"{other} A"
    assert outcome.verdict != "fail"


@pytest.mark.parametrize(("key", "trouble", "verdict"), [
    ("", "", "error"), ('\n[readings.dc_voltage]\ntimeout = "8 s"', "", "pass"), ('\n[quirks]\ntimeout = "8 s"', "", "pass"),
    ('\n[quirks]\naction_timeout = "8 s"', "", "error"), ('\n[quirks]\naction_timeout = "8 s"', "ZERO", "pass"), ("", "ZERO", "error"),
    ('\n[quirks]\nstart_timeout = "8 s"', "RST", "pass"), ("", "RST", "error")])  # fmt: skip
def test_each_operation_has_its_time(perform, project: Path, key: str, trouble: str, verdict: str) -> None:
    """A reading, an action, and the start of an instrument that take longer than a reply may."""
    text = (SHIPPED / "scpi-scanning-multimeter.toml").read_text().replace('timeout = "3 s"', 'timeout = "300 ms"\nconnect_timeout = "3 s"')
    head = key.strip().partition("\n")[0]
    if key:
        line = key.strip().partition("\n")[2]
        text = text.replace('timeout = "300 ms"', line) if line.startswith("timeout") and head == "[quirks]" else text.replace(head + "\n", f"{head}\n{line}\n")
    (project / "dmm.toml").write_text(text)
    which = f'command = "{trouble}", how = "stalled"' if trouble else 'query = "READ?", how = "late", nth = 2'
    change = troubled(f'{which}, pause = "1 s", times = 3')
    lines = 'test t "T"\n    do meter.zero\n    read v_in\n    read again = v_out\n    check v_in >= 1 V\n'
    header = HEADER.replace("needs\n", "needs\n    meter : multimeter\n")
    run = perform(lines, header=header, change=lambda bench: change(bench).replace('"scpi-scanning-multimeter"', '"dmm.toml"'))
    assert run.verdict == verdict, (run.ended, run.outcome)


@pytest.mark.parametrize(("how", "may_repeat", "asked", "verdict"), [
    ("garbage", True, 3, "pass"), ("garbage", False, 1, "error"), ("close", True, 2, "pass"), ("close", False, 1, "error"), ("silent", False, 1, "error")])  # fmt: skip
def test_only_what_may_be_repeated_is_repeated_after_longer_and_longer_pauses(
    perform, project: Path, monkeypatch, how: str, may_repeat: bool, asked: int, verdict: str
) -> None:
    paused: list[float] = []
    monkeypatch.setattr(RealClock, "wait", staticmethod(lambda seconds, heed, wait=RealClock.wait: (paused.append(seconds), wait(seconds, heed))[1]))
    text = (SHIPPED / "scpi-scanning-multimeter.toml").read_text()
    text = text.replace("[readings.dc_voltage]\n", f"[readings.dc_voltage]\nrepeat = {str(may_repeat).lower()}\n").replace(
        '"3 s"', '"1 s"\nrepeat_pause = "3 ms"'
    )
    (project / "dmm.toml").write_text(text)
    trouble = troubled(f'query = "READ?", how = "{how}", times = {2 if how == "garbage" else 1}')
    run = perform('test t "T"\n    read v_in\n    check v_in >= 1 V\n', change=lambda bench: trouble(bench).replace('"scpi-scanning-multimeter"', '"dmm.toml"'))
    assert run.verdict == verdict and sum("READ?" in line for line in run.traffic if "! " not in line) == asked, (run.traffic, run.outcome)
    assert [seconds for seconds in paused if seconds in (0.003, 0.006)] == ([0.003, 0.006] if asked == 3 else [])
