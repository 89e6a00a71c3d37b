"""Forms of figures: a complex curve as size over phase, curves over an angle around a circle, very many curves as a map, judged
parts of what was played; each from runs that are stored, and drawn."""

from pathlib import Path

import numpy as np
import pytest

from ibexite.analysis import waves
from ibexite.analysis.curve import MOST_AT_ONCE, SampledCurve, Sampling, StreamedCurve
from ibexite.errors import SequenceError
from ibexite.reports.drawing import draw
from ibexite.reports.figure_specs import pictures_of
from ibexite.reports.model import LINES, PAIR, POLAR, FigureSpec, MapSpec
from ibexite.simulate.products.fm2_transducer import Fm2Transducer
from tests.test_play import PLAY, QUIET, run

LINES_OF = (
    PLAY
    + """    let z = response(rec.v_drive, rec.i_drive, ping.stepped)
    let size = abs(z)
    let turn = phase(z) in deg
    check size >= 1 ohm
    let bands = spectrogram(rec.v_drive, 1 kHz)
    let left = residual_wave(rec.mic, ping.stepped)
    plot z against freq as "pair"
    plot size, turn against freq as "two"
    plot rec.mic against time as "judged"
    plot left against time as "judged too"
    plot bands against time by freq as "map"
    sweep angle from 0 deg to 350 deg step 10 deg
        let beam = 1.1 + cos(angle)
    check beam <= 3
    plot beam against angle as "round"
    sweep level from 1 V to 3 V step 1 V
        sweep other from 1 V to 3 V step 1 V
            let product = level * other
    check product <= 10 V^2
    plot product against level by other as "family"
"""
)


@pytest.fixture(scope="module")
def figures(tmp_path_factory) -> dict[str, list[FigureSpec | MapSpec]]:
    """The pictures of each figure of a run, by its title."""
    from functools import partial

    from ibexite.demo.project import make_project
    from tests.conftest import in_project

    project = tmp_path_factory.mktemp("figures") / "project"
    make_project(project)
    done, record = run(partial(in_project, project), project, LINES_OF, serial=QUIET)
    test = next((test for test in record.tests if test.figures), None)
    assert test is not None, done.stdout + done.stderr
    return {figure["title"]: pictures_of(test, figure) for figure in test.figures}


def test_a_complex_curve_is_drawn_as_its_size_over_its_phase(figures) -> None:
    for title, names in (("pair", ["abs(z)", "phase(z)"]), ("two", ["size", "turn"])):
        (spec,) = figures[title]
        assert spec.form == PAIR and [panel.label.split(" in ")[0] for panel in spec.panels] == names
        upper, lower = (panel.curves[0] for panel in spec.panels)
        z = Fm2Transducer(QUIET).impedance(upper.xs * 1e3)
        unit = {"ohm": 1.0, "kohm": 1e3}[spec.panels[0].label.split(" in ")[1]]
        assert upper.ys * unit == pytest.approx(np.abs(z), rel=0.01) and (upper.dash, lower.dash, lower.label) == (0, 0, "")
        assert np.abs(np.angle(np.exp(1j * (np.radians(lower.ys) - np.angle(z))))).max() < 0.02
        assert title != "pair" or np.abs(np.diff(lower.ys)).max() < 180, "no jumps by a turn"


def test_what_was_played_has_its_judged_parts_marked(figures) -> None:
    for title in ("judged", "judged too"):
        (spec,) = figures[title]
        assert spec.form == LINES and [span.label for span in spec.spans] == ["stepped", "chirp"]
        begin, end = spec.spans[1][1:]
        assert end - begin == pytest.approx(60.0, abs=0.01) and spec.x_label == "time in ms"
        assert "chirp" in draw(spec)
    assert not figures["pair"][0].spans and not figures["map"][0].label.startswith("time")


def test_over_an_angle_curves_go_around_a_circle(figures) -> None:
    (spec,) = figures["round"]
    assert spec.form == POLAR and spec.radians == pytest.approx(np.pi / 180)
    assert spec.panels[0].curves[0].xs[-1] == 350 and len(spec.panels[0].limits) == 1
    assert draw(spec).startswith("<svg") and "90°" in draw(spec)


def test_very_many_curves_are_a_map_and_some_are_lines(figures) -> None:
    (spec,) = figures["map"]
    assert isinstance(spec, MapSpec) and spec.values.shape == (len(spec.xs), len(spec.ys)) and len(spec.ys) == 97
    begin, end = figures["judged"][0].spans[1][1:]
    chirp = (spec.xs > begin + 5) & (spec.xs < end - 5)
    strongest = spec.ys[np.nanargmax(spec.values[chirp], axis=1)]
    assert (np.diff(strongest) >= 0).all() and "<image" in draw(spec), "the tone of a chirp rises"
    (family,) = figures["family"]
    assert isinstance(family, FigureSpec) and len(family.panels[0].curves) == 3


@pytest.mark.parametrize(("frequency", "resolution"), [(1e3, 100.0), (2.5e3, 250.0), (400.0, 50.0)])
def test_a_tone_has_its_rms_value_on_its_line_at_all_times(frequency: float, resolution: float) -> None:
    rate, seconds = 20e3, 0.5
    t = np.arange(round(rate * seconds)) / rate
    found = waves.spectrogram(SampledCurve(Sampling("time", 0.25, 1 / rate), 3 * np.sin(2 * np.pi * frequency * t)), "time", resolution)
    times, lines = found.axes["time"], found.axes["freq"]
    at = int(np.argmin(np.abs(lines - frequency)))
    assert found.values[:, at] == pytest.approx(3 / np.sqrt(2), rel=1e-9) and np.delete(found.values, [at - 1, at, at + 1], axis=1).max() < 1e-9
    assert times[0] == pytest.approx(0.25 + 0.5 / resolution) and times[-1] < 0.25 + seconds and np.diff(times) == pytest.approx(0.5 / resolution)


def test_a_hole_in_it_leaves_no_value_and_what_is_too_short_is_told() -> None:
    values = np.ones(1000)
    values[7] = np.nan
    assert np.isnan(waves.spectrogram(SampledCurve(Sampling("time", 0.0, 1e-3), values), "time", 10.0).values).all()
    with pytest.raises(SequenceError, match="spectrogram"):
        waves.spectrogram(SampledCurve(Sampling("time", 0.0, 1e-3), np.ones(10)), "time", 10.0)


def test_of_a_recording_of_any_length_a_part_is_read_alone() -> None:
    asked: list[tuple[int, int]] = []

    def load(begin: int, end: int) -> np.ndarray:
        asked.append((begin, end))
        return np.arange(begin, end, dtype=float)

    whole = StreamedCurve(Sampling("time", 0.0, 1e-6), 3_600_000_000, load)
    part = waves.cut(whole, "time", 1800.0, 1800.001)
    assert part.values[0] == 1_800_000_000 and len(part.values) == 1001 and asked == [(1_800_000_000, 1_800_001_001)]
    assert part.axes["time"][0] == pytest.approx(1800.0, abs=1e-9)
    for call in (lambda: whole.values, lambda: waves.cut(whole, "time", 0.0, (MOST_AT_ONCE + 10) * 1e-6), lambda: waves.peak(whole, "time")):
        with pytest.raises(SequenceError, match="more than is computed with at once"):
            call()
    assert len(asked) == 1


def test_a_picture_of_nothing_is_none(tmp_path: Path) -> None:
    spec = MapSpec("x", "y", "v in dB", np.arange(3.0), np.arange(2.0), np.full((3, 2), np.nan), False, False)
    assert draw(spec).startswith("<svg")
