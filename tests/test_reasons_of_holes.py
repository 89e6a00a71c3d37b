"""Where a function has no value the check says why: the hole carries its reason through formulas to what is judged."""

from pathlib import Path

import numpy as np
import pytest

from ibexite.analysis import features
from ibexite.analysis.curve import ArrayCurve, combine
from ibexite.holes import BAD, BEYOND_RATE, NEVER_MEASURED, NO_PEAK, NO_SIGN, NO_TONE, NOT_REACHED, is_never_measured, why_bad
from tests.test_play import PLAY, run, verdicts

REASONS = {
    BEYOND_RATE: "orders beyond half",
    NO_PEAK: "no peak within",
    NOT_REACHED: "does not reach",
    NO_TONE: "no tone stands out",
    NO_SIGN: "neither sign explains",
}
QUIET = "FT0102"


@pytest.mark.parametrize("hole", REASONS)
def test_a_reason_lives_through_arithmetic_and_beats_never_measured(hole: float) -> None:
    curve = ArrayCurve({"x": np.arange(3.0)}, np.array([1.0, hole, NEVER_MEASURED]))
    other = ArrayCurve({"x": np.arange(3.0)}, np.array([BAD, 2.0, 2.0]))
    for made in (combine(np.add, curve, other), combine(np.multiply, other, curve), 3 * (curve - 1) / other):
        assert REASONS[hole] in why_bad(float(made.values[1])) and not is_never_measured(float(made.values[1]))
        assert why_bad(float(made.values[0])) == "" and is_never_measured(float(made.values[2]))
    for single in (hole * 2 + 1, -hole, float(np.float64(hole)), np.array([hole])[0] / 3):
        assert REASONS[hole] in why_bad(float(single))


def test_what_features_do_not_find_says_why() -> None:
    x = np.linspace(1, 2, 50)
    assert why_bad(features.resonance(x, 1 / (1 + x)).q) == why_bad(NO_PEAK)
    assert why_bad(features.bandwidth(x, 1 - (x - 1.5) ** 2, -60.0)) == why_bad(NOT_REACHED) == why_bad(features.crossing(x, x, 7.0))


@pytest.mark.parametrize(("check", "told"), [
    ("check high_order(rec.mic, ping.stepped, 5, 9) <= 5 %", "orders beyond half the sampling rate"),
    ("check 2 * harmonic(rec.mic, ping.stepped, 4) / 3 <= 5 %", "orders beyond half the sampling rate"),
    ("check resonance(response(rec.v_drive, rec.i_drive, ping.few)).q <= 30", "no peak within the curve, or too few points"),
    ("check polarity(rec.mic, ping.weak) is yes", "neither sign explains what was recorded clearly better than the other"),
])  # fmt: skip
def test_a_check_that_cannot_be_decided_says_why(ibexite, project: Path, check: str, told: str) -> None:
    weak = "\n    part weak = stepped from 64 kHz to 15 kHz at 9 per octave for 12 cycles, at least 2 ms, level 0.1 mV"
    parts = (
        "    part stepped from 60 kHz to 30 kHz at 6 per octave for 12 cycles, at least 3 ms, level 1 V\n    part few = stepped from 30 kHz to 20 kHz step 5 kHz for 12 cycles, at least 3 ms, level 1 V"
        + weak
    )
    done, record = run(ibexite, project, PLAY + f"    {check}\n", parts=parts, serial=QUIET)
    assert record is not None and verdicts(record) == ["error"], done.stdout + done.stderr
    assert "undecided" in record.tests[0].results[0]["reason"] and told in record.tests[0].results[0]["reason"]
    assert "as it was recorded, in all" in ibexite("replay", "last").stdout and "error stays" in ibexite("rejudge", "last").stdout
