"""When error queues are read, as profiles say, and that each entry is told beside what caused it."""

from pathlib import Path

import pytest

from ibexite.instruments.profile import ERRORS_READ, SHIPPED
from tests.runs import Recorded, troubled

LINE = '\ntest t "T"\n    set supply.voltage = 8 V, supply.current_limit = 1.2 A\n    read v_in\n    check v_in >= 1 V\n'
READ = '\ntest t "T"\n    set supply.voltage = 8 V\n    read u = supply.voltage\n    read v = supply.voltage\n    check v >= 1 V\n'
FOO, BAR = '-113,"Undefined header;FOO"', '-113,"Undefined header;BAR"'


@pytest.fixture
def queue(perform, project: Path):
    """Runs lines with a supply whose errors are read at some time, and whose messages make it report errors."""

    def run(when: str, lines: str, troubles: str = "") -> Recorded:
        text = (SHIPPED / "scpi-power-supply.toml").read_text()
        assert 'error_query    = "SYST:ERR?"\n' in text and when in ERRORS_READ
        text = text.replace('error_query    = "SYST:ERR?"\n', f'error_query    = "SYST:ERR?"\nerrors_read = "{when}"\n')
        (project / "psu.toml").write_text(text)
        trouble = troubled(troubles.strip("{ }"), "psu") if troubles else str
        return perform(lines, change=lambda bench: trouble(bench).replace('"scpi-power-supply"', '"psu.toml"'))

    return run


@pytest.mark.parametrize(("when", "verdict", "told"), [
    ("setting", "error", f"test.ibx:19: psu reports {FOO} after 'SOUR1:VOLT 8'."), ("line", "error", f"test.ibx:19: psu reports {FOO}, {BAR} after 'SOUR1:VOLT 8; SOUR1:CURR 1.2'."),
    ("test", "error", f"psu reports {FOO}; psu reports {BAR}. Look at the settings of this test."), ("never", "pass", "")])  # fmt: skip
def test_all_entries_are_told_beside_the_command_that_caused_them(queue, when: str, verdict: str, told: str) -> None:
    troubles = [f'{{ command = "SOUR1:{what}", how = "behind", message = "{word}" }}' for what, word in (("VOLT 8", "FOO"), ("CURR 1.2", "BAR"))]
    run = queue(when, LINE, ", ".join(troubles))
    assert run.verdict == verdict and told in run.ended["t"][1], run.ended


@pytest.mark.parametrize(
    ("when", "told"), [("setting", f"psu reports {FOO} after 'read v'"), ("line", f"psu reports {FOO} after 'read v'"), ("test", f"psu reports {FOO}. Look")]
)
def test_what_a_reading_causes_is_told_as_well(queue, when: str, told: str) -> None:
    run = queue(when, READ, '{ query = "MEAS1:VOLT?", how = "behind", nth = 2, message = "FOO" }')
    assert run.verdict == "error" and told in run.ended["t"][1], run.ended


@pytest.mark.parametrize(("when", "asked"), [("setting", 12), ("line", 9), ("test", 4), ("never", 0)])
def test_it_is_read_as_often_as_the_profile_says(queue, when: str, asked: int) -> None:
    run = queue(when, '\ntest t "T"\n    set supply.voltage = 8 V, supply.current_limit = 1.2 A\n    read v = supply.voltage\n    check v >= 1 V\n')
    # Before, in and after the unit, and where the test was undone; line: before unit, its two lines, and two settings undone.
    assert run.verdict == "pass" and sum("psu> SYST:ERR?" in line for line in run.traffic) == asked, (run.traffic, run.outcome)
