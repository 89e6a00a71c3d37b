"""Calibration of a signal: what is fitted, what is written into the bench file, and that nothing else of it changes."""

import datetime
import tomllib
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from hypothesis import assume, given
from hypothesis import strategies as st

from ibexite.bench.file import read_bench
from ibexite.cli.calibrate_command import calibrate_command
from ibexite.errors import MistakeError
from ibexite.station import calibrating
from ibexite.station.calibrating import Calibrated, Point, fitted, rewritten
from tests.laboratory.stub_bench import MemoryLink, memory_bench
from tests.test_by_hand import served

TODAY = Calibrated(datetime.date(2026, 11, 27), datetime.date(2027, 11, 27))
POINTS = [Point(1.0, 1.011), Point(5.0, 5.049), Point(9.0, 9.091)]


@pytest.fixture
def bench(tmp_path: Path) -> Callable:
    """A bench file with the signal `tap`, which has these lines; and its text."""

    def made(lines: str, more: str = ""):
        path = memory_bench(tmp_path).path
        path.write_text(
            path.read_text()
            + f'\n# behind all\n[signals.tap]\nread = "meter.dc_voltage"   # the tap\nwith = {{ channel = 109, range = "10 V" }}\n{lines}\n{more}'
        )
        return read_bench(path)

    return made


@given(st.lists(st.tuples(st.floats(-20, 20), st.floats(-0.01, 0.01)), min_size=3, max_size=30, unique_by=lambda pair: round(pair[0], 2)),
       st.floats(0.9, 1.1), st.floats(-1, 1))  # fmt: skip
def test_the_line_is_that_of_least_squares(points: list[tuple[float, float]], gain: float, offset: float) -> None:
    x = np.array([a for a, _ in points])
    y = gain * x + offset + np.array([noise for _, noise in points])
    assume(np.ptp(x) > 0.1)
    wanted = np.polynomial.Polynomial.fit(x, y, 1).convert().coef
    assert calibrating._line(list(x), list(y), "both")[::-1] == pytest.approx(list(wanted), rel=1e-9, abs=1e-9)
    assert calibrating._line(list(x), list(y), "offset") == (1.0, pytest.approx(np.mean(y - x)))
    assert calibrating._line(list(x), list(y), "gain")[0] == pytest.approx(np.linalg.lstsq(x[:, None], y, rcond=None)[0][0])


@pytest.mark.parametrize(
    ("lines", "what", "reads"),
    [
        ("", "both", "value"),
        ('gain = "1.02"\noffset = "3 mV"', "both", "value"),
        ("", "offset", "shifted"),
        ("", "gain", "value"),
        ('gain = "100 A/V"', "both", "value"),
        ('shunt = "0.1 ohm"', "both", "value"),
        ('polynomial = { coefficients = ["1 V", "2"], of = ["-1 V", "20 V"] }', "both", "value"),
    ],
)
def test_with_what_is_written_each_point_reads_as_it_was_said_to(bench, lines: str, what: str, reads: str) -> None:
    file = bench(lines)
    signal, text = file.signals["tap"], calibrating.text_of(file)
    read = [signal.chain.value(volts) for volts in (0.5, 2.0, 4.0)]
    points = [Point(0.99 * value + 0.001 * (what != "gain") * max(read) + 0.001 * value * (i == 1), value) for i, value in enumerate(read)]
    fit = fitted(file, signal, points, what)
    made = rewritten(file, text, "tap", fit, TODAY)
    file.path.write_text(made)
    again = read_bench(file.path).signals["tap"]
    assert [again.chain.value(volts) for volts in (0.5, 2.0, 4.0)] == pytest.approx(list(fit.fitted), rel=1e-7)
    assert max(map(abs, fit.residuals)) == fit.worst < 0.6 * max(abs(p.known - p.read) for p in points)
    entry = tomllib.loads(made)["signals"]["tap"]["calibration"]
    assert (entry["due"], entry["date"], entry["points"]) == (TODAY.due, TODAY.on, 3) and again.calibration.due == TODAY.due
    kept = [line for line in text.splitlines() if line.split(" ")[0] not in ("gain", "offset")]
    assert [line for line in made.splitlines() if line.split(" ")[0] not in ("gain", "offset", "calibration")] == kept


@pytest.mark.parametrize(
    ("lines", "points", "told"),
    [
        ("", [], "0 known values of tap, where it takes 2"),
        ("", [Point(1, 1), Point(1, 1.1)], "1 known value of tap, where it takes 2"),
        ("", [Point(1, 2), Point(2, 1)], "do not follow what is known"),
        ("", [Point(1, 2), Point(2, 2)], "do not follow what is known"),
        ('polynomial = { coefficients = ["1 V", "2"], of = ["0 V", "1 V"] }', [Point(1, 1), Point(9, 2)], "beyond what tap is defined for"),
    ],
)
def test_what_cannot_be_fitted_is_refused(bench, lines: str, points: list[Point], told: str) -> None:
    file = bench(lines)
    with pytest.raises(MistakeError, match=told):
        fitted(file, file.signals["tap"], points)


@pytest.mark.parametrize(
    ("lines", "more", "name", "told"),
    [
        ("", "", "tab", "there is no signal 'tab'"),
        ('yes_above = "1 V"', "", "tap", "is yes or no"),
        ("", "[positions]\nleft = { tap = 110 }\nright = { tap = 111 }\n", "tap", "another channel at each position"),
    ],
)
def test_what_gain_and_offset_would_not_mend_is_refused(bench, lines: str, more: str, name: str, told: str) -> None:
    with pytest.raises(MistakeError, match=told):
        calibrating.calibratable(bench(lines, more), name)


def test_a_file_is_written_whole_or_not_at_all(bench) -> None:
    file = bench("")
    text = calibrating.text_of(file)
    made = rewritten(file, text, "tap", fitted(file, file.signals["tap"], POINTS), TODAY)
    with pytest.raises(MistakeError):
        calibrating.replace_file(file.path, text, made.replace('gain = "', 'gain = "x'))
    file.path.write_text(text + "# meanwhile\n")
    with pytest.raises(MistakeError, match="it was changed meanwhile"):
        calibrating.replace_file(file.path, text, made)
    assert file.path.read_text() == text + "# meanwhile\n" and len([*file.path.parent.glob("*.toml")]) == len({*file.path.parent.glob("[!.]*.toml")})
    file.path.chmod(0o640)
    calibrating.replace_file(file.path, text + "# meanwhile\n", made)
    assert file.path.read_text() == made and file.path.stat().st_mode & 0o777 == 0o640


STANDARD = '\n[signals.v_standard]\nread = "supply.voltage"\n[simulation]'


def test_known_values_are_typed_or_come_from_another_signal(project: Path, ibexite) -> None:
    wrong = ("[signals.v_in]\n", '[signals.v_in]    # through the long cable\ngain    = "1.05"\noffset  = "0.2 V"\n')
    with served(project, ibexite, {"psu": "socket"}, wrong, ("\n[simulation]", STANDARD)) as hand:
        for setting, value in (("current_limit", "1 A"), ("voltage", "9 V"), ("output", "on")):
            hand.do("set", "supply", setting, value)
        before = (project / "bench.toml").read_text()
        typed = hand.do("calibrate", "v_in", "--out", "one.toml", "--fit", "offset", input="9 A\n9 V\n\n")
        assert typed.returncode == 0 and "9 A is a current (A)" in typed.stderr and "# through the long cable" in (project / "one.toml").read_text()
        hand.do("calibrate", "v_in", "--reference", "v_standard", "--fit", "gain", "--out", "two.toml", input="\nend\n")
        for name, key in (("one.toml", "offset"), ("two.toml", "gain")):
            told = hand.do("read", "v_in", "--bench", name)
            assert float(told.stdout.split("=")[1].split()[0]) == pytest.approx(9, abs=0.03), (name, key, told)
        told = hand.do("calibrate", "v_in", "--reference", "v_standard", "--fit", "offset", "--yes", input="\nend\n")
        assert "is left as it is: what was read are stand-ins" in told.stdout and (project / "bench.toml").read_text() == before
        assert "tells no known values of v_in" in hand.do("calibrate", "v_in", "--reference", "i_in").stderr


class Real(MemoryLink):
    """Does not say that it is simulated."""


@pytest.mark.parametrize(("answers", "is_written"), [("1 V\n5 V\n\ny\n", True), ("1 V\n5 V\n\n\n", False), ("1 V\n5 V", False)])
def test_it_is_written_when_somebody_says_so(bench, monkeypatch, answers: str, is_written: bool) -> None:
    file = bench('gain = "1.1"')
    before, readings = file.path.read_text(), iter([b"0.9"] * 5 + [b"4.7"] * 5)
    monkeypatch.setattr(Real, "_answer", lambda self, query: next(readings) if query == "READ?" else MemoryLink._answer(self, query))
    monkeypatch.setattr("ibexite.station.watching.open_link", Real.opening)
    told = CliRunner().invoke(calibrate_command, ["tap", "--bench", str(file.path)], input=answers)
    assert told.exit_code == 0, told.output
    assert (file.path.read_text() != before) == is_written and ("nothing was written" in told.output) != is_written
