"""Masks: their files, their lines against a naive evaluation, what must be covered, how they are moved onto a curve."""

import math

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ibexite import units
from ibexite.analysis.alignment import Bound, Values, best_factor, best_move, best_shift
from ibexite.analysis.curve import ArrayCurve, never
from ibexite.analysis.masks import limits_at, line_of, uncovered
from ibexite.companions.files import Files
from ibexite.companions.masks import read_mask
from ibexite.errors import MistakeError
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.mask import Mask, Piece

HEAD = "x [V],low [V],high [V]\n"
FLAT = HEAD + "1,0,2\n5,0,2\n"


@pytest.mark.parametrize(("text", "what"), [
    (HEAD + "1,3,2\n5,0,2\n", "the lower line is above the upper one at x = 1 V"),
    ("x [V],low [V],high [V]\n,0,2\n5,0,2\n", "a point without x"), ("x [V],low [V],high [V]\n1,0,2\n3,3,\n5,0,2\n", "above the upper one at x = 3 V"),
    (HEAD + "1,0,2\n1,1,2\n1,2,2\n5,0,2\n", "a third point of low at one place"), (HEAD + "5,0,2\n1,0,2\n", "x does not rise"),
    (HEAD + "1,0,2\n", "a single point"), (HEAD + "1,0 V,2\n5,0,2\n", "has a unit of its own"), (HEAD + "1,,\n5,0,2\n", "a point of no line"),
    ("x [V],low [V],high [A]\n1,0,2\n5,0,2\n", "'high [A]' is a current"), ("x [V],low [V],log high [V]\n1,0,2\n5,0,2\n", "one line is straight"),
    ("log x [V],low [V]\n0,1\n5,1\n", "'0' on a logarithmic scale"), ("x [V],log low [dB]\n1,1\n5,1\n", "a logarithmic scale of a ratio in dB"),
    ("x [V],low [V],uper [V]\n1,0,2\n5,0,2\n", "two columns might be the axis"), ("x [V],remark\n1,a\n5,b\n", "no column of a line"),
    ("low [V],high [V]\n1,2\n5,6\n", "no column of an axis"), ("x [Q],low [V]\n1,2\n5,6\n", "'x [Q]'"), (HEAD, "there are no points"), ("", "empty"),
    (HEAD + '1,"1,200",2000\n5,0,2000\n', "a number of thousands"), (HEAD + "1,a,2\n5,0,2\n", "'a'"), ("piece," + HEAD + "a,1,0,2\nb,2,0,1\n", "has a single point"),
    ("piece," + HEAD + "a,1,0,2\na,5,0,2\nb,6,0,1\nb,7,0,1\na,8,0,2\n", "'a' begins a second time"),
    ("data," + HEAD + "hole,1,0,2\n,5,0,2\n", "data is 'hole'"), ("data," + HEAD + "whole,1,0,2\npart,5,0,2\n", "whole and part in one piece"),
    ("piece," + HEAD + "a,1,0,\na,5,4,\nb,3,,1.5\nb,6,,9\n", "above the upper one at x = 3 V")])  # fmt: skip
def test_what_is_wrong_with_a_mask_is_told_with_its_place(tmp_path, text, what) -> None:
    (tmp_path / "m.csv").write_text(text)
    with pytest.raises(MistakeError) as told:
        read_mask(tmp_path / "m.csv", "m")
    assert what in told.value.what and "m.csv" in told.value.where and told.value.remedy


def test_a_mask_is_read_as_it_is_written(tmp_path) -> None:
    (tmp_path / "m.csv").write_text("# drawing T-7\npiece;log freq [kHz];low [dB];high [dB];data;remark\na;38,5;-9;1;part;by ear\n"
                                    "a;40;-1;;;\na;40;-3;;;\na;41;-3;2;;\nb;44;;-3;;\nb;60;;-14;whole;\n")  # fmt: skip
    mask = read_mask(tmp_path / "m.csv", "m")
    assert (mask.axis, mask.is_log_axis, mask.is_log_value, mask.shown) == ("freq", True, False, "dB")
    assert mask.pieces == (
        Piece("a", ((38500.0, -9.0), (40e3, -1.0), (40e3, -3.0), (41e3, -3.0)), ((38500.0, 1.0), (41e3, 2.0)), is_whole=False),
        Piece("b", (), ((44e3, -3.0), (60e3, -14.0)), is_whole=True))  # fmt: skip


# --- lines -----------------------------------------------------------------------------------------------------------


def made(*pieces: Piece, log_axis: bool = False, log_value: bool = False) -> Mask:
    return Mask("m", "m.csv", "", "x", units.VOLT, units.VOLT, "V", "V", log_axis, log_value, pieces)


def naive(mask: Mask, x: float) -> tuple[float, float]:
    """The limits at a place, segment by segment."""
    found: dict[str, list[float]] = {"low": [], "high": []}
    for piece in mask.pieces:
        for side, values in found.items():
            line = getattr(piece, side)
            for (x1, y1), (x2, y2) in zip(line, line[1:], strict=False):
                if x1 <= x <= x2:
                    if x1 == x2:
                        values += [y1, y2]
                        continue
                    share = math.log(x / x1, x2 / x1) if mask.is_log_axis else (x - x1) / (x2 - x1)
                    values.append(math.exp((1 - share) * math.log(y1) + share * math.log(y2)) if mask.is_log_value else (1 - share) * y1 + share * y2)
    if not found["low"] and not found["high"]:
        return math.nan, math.nan
    return max(found["low"], default=-math.inf), min(found["high"], default=math.inf)


NUMBERS = st.integers(1, 9).map(float)
LINE = st.lists(st.tuples(NUMBERS, NUMBERS), min_size=2, max_size=5).map(lambda points: tuple(sorted(points, key=lambda p: p[0]))).filter(
    lambda line: line[0][0] < line[-1][0] and all(sum(x == y for x, _ in line) < 3 for y, _ in line))  # fmt: skip
PIECE = st.tuples(LINE | st.just(()), LINE | st.just(())).filter(any).map(lambda lines: Piece("", *lines))
PLACES = st.lists(st.floats(0.5, 10).map(lambda x: round(2 * x) / 2), min_size=1, max_size=8)


@given(st.lists(PIECE, min_size=1, max_size=3), PLACES, st.booleans(), st.booleans())
def test_lines_are_straight_between_their_points_and_the_tightest_holds(pieces, places, log_axis, log_value) -> None:
    mask = made(*pieces, log_axis=log_axis, log_value=log_value)
    low, high = limits_at(mask, np.array(places))
    wanted = np.array([naive(mask, x) for x in places]).T
    np.testing.assert_allclose([low, high], wanted, rtol=1e-12)
    assert (never(low) == np.isnan(wanted[0])).all()
    lines = [line_of(mask, side).on(np.array(places)) for side in ("low", "high")]
    np.testing.assert_allclose(lines, np.where(np.isinf(wanted), math.nan, wanted), rtol=1e-12)


def test_the_last_digits_of_an_axis_move_no_point_out_of_a_mask_or_over_a_step() -> None:
    mask = made(Piece("", (), ((0.3, 1.0), (0.7, 1.0), (0.7, 5.0), (0.9, 5.0))))
    low, high = limits_at(mask, np.array([0.1 + 0.2, 0.1 * 7, 0.7 - 1e-16, 0.9 + 1e-16, 0.9 + 1e-9]))
    assert high[:4].tolist() == [1.0, 1.0, 1.0, 5.0] and never(high[4]) and low[0] == -math.inf


@pytest.mark.parametrize(("places", "told"), [
    ([1, 2, 6], None), ([1, 6, 9], None), ([2, 5], "does not reach from end to end of"), ([1, 3], "does not reach from end to end of"), ([7, 8], "has no point in"), ([0.5, 1.5], "does not reach from end to end of"),
    ([0.5, 8], "has no point in")])  # fmt: skip
def test_what_is_judged_covers_each_piece_from_end_to_end(places, told) -> None:
    whole = made(Piece("a", ((1.0, 0.0), (2.0, 0.0)), ()), Piece("b", (), ((5.0, 3.0), (6.0, 3.0)), is_whole=False))
    found = uncovered(made(Piece("a", ((1.0, 0.0), (6.0, 0.0)), ())), np.array(places, dtype=float))
    assert (found and found[0]) == told
    part = uncovered(made(*(Piece(p.name, p.low, p.high, is_whole=False) for p in whole.pieces)), np.array(places, dtype=float))
    assert (part and part[0]) == ("lies beside" if not any(1 <= x <= 2 or 5 <= x <= 6 for x in places) else None)


# --- alignment -------------------------------------------------------------------------------------------------------

FEW = st.lists(st.tuples(st.floats(0, 4), st.floats(0.1, 3), st.floats(0.1, 3)), min_size=1, max_size=6)


def limits(points: list[tuple[float, float, float]]) -> tuple[Values, np.ndarray, np.ndarray]:
    value, below, above = np.array(points).T
    return Values(value - 0.05, value + 0.05), value[None, :] - below + 0.7, value[None, :] + above + 0.7


@given(FEW, st.floats(0.01, 2))
def test_the_best_shift_and_factor_are_as_good_as_any_that_is_tried(points, most) -> None:
    values, lows, highs = limits(points)
    shift = float(best_shift((values.least - lows).min(), (highs - values.most).min(), most))
    tried = max(values.margins(lows + s, highs + s)[0] for s in np.linspace(-most, most, 401))
    assert abs(shift) <= most and values.margins(lows + shift, highs + shift)[0] >= tried - 1e-12
    part = min(most, 0.5)
    factor = float(best_factor(values, lows, highs, part)[0])
    tried = max(values.margins(lows * f, highs * f)[0] for f in np.linspace(1 - part, 1 + part, 401))
    assert abs(factor - 1) <= part and values.margins(lows * factor, highs * factor)[0] >= tried - 1e-9


@given(st.lists(st.floats(-3, 3), min_size=3, max_size=12), st.booleans(), st.booleans(), st.sampled_from([None, Bound(0.5, False), Bound(0.2, True)]))
@settings(max_examples=50)
def test_no_place_on_the_axis_is_better_than_the_one_that_is_found(heights, is_factor, log_axis, by) -> None:
    peak = ((1.0, 1.0), (3.0, 2.0), (4.0, 6.0), (4.0, 5.0), (6.0, 2.0), (9.0, 1.0))
    mask = made(Piece("", tuple((x, y - 1.5) for x, y in peak), tuple((x, y + 1.0) for x, y in peak)), log_axis=log_axis)
    places = np.linspace(1, 9, len(heights))
    level = np.interp(places / 1.06, *np.array([(x, y) for x, y in peak if (x, y) != (4.0, 5.0)]).T) + np.array(heights) / 4
    along = Bound(0.1, True) if is_factor or log_axis else Bound(0.4, False)
    values = Values(level, level)

    def margin(move: float, best_by: Bound | None) -> float:
        at = limits_at(mask, places, along.undone(places, move)[None, :])
        moves = np.linspace(*best_by.ends(), 101) if best_by else [None]
        return max(values.margins(*(best_by.applied(x, m) if best_by else x for x in at))[0] for m in moves)

    breaks = np.array(sorted({x for x, _ in peak}))
    found = best_move(values, places, lambda at: limits_at(mask, places, at), breaks, by, along)
    begin, end = along.ends()
    assert begin <= found.along <= end
    at = limits_at(mask, places, along.undone(places, found.along)[None, :])
    mine = values.margins(*(by.applied(x, found.by) if by else x for x in at))[0]
    assert mine >= max(margin(move, by) for move in np.linspace(begin, end, 31)) - 1e-6


def test_a_point_that_a_move_takes_beyond_the_end_is_limited_by_the_end(rehearse) -> None:
    """Else a peak beside the edge could be moved out of its mask."""
    lines = ("    sweep x from 1 V to 5 V step 1 V\n        let y = x * x * x / (25 V^2)\n"
             '    check y inside mask("m") aligned by 50 % along x\n')  # fmt: skip
    run = rehearse(lines, files={"masks/m.csv": FLAT})
    assert run.result("y").failed == 2  # 2.56 V and 5 V


# --- in a sequence ---------------------------------------------------------------------------------------------------

SWEEP = "    sweep x from 1 V to 5 V step 1 V\n        let y = x / 2\n"


@pytest.mark.parametrize(("lines", "mask", "verdict", "reason", "moved"), [
    ('    check y inside mask("m")\n', HEAD + "1,0,3\n5,0,3\n", "pass", "", ""), ('    check y inside mask("m")\n', FLAT, "fail", "", ""),
    ('    check y inside mask("m")\n', HEAD + "0.5,0,3\n5,0,3\n", "error", "the data does not reach from end to end of mask 'm', x from 0.5 V to 5 V", ""),
    ('    check y inside mask("m")\n', HEAD + "0.5,0,1\n5,0,1\n", "fail", "", ""),  # a failed point stays one
    ('    check y inside mask("m")\n', "data," + HEAD + "part,0.5,0,3\n,5,0,3\n", "pass", "", ""),
    ('    check y inside mask("m")\n', "data," + HEAD + "part,6,0,3\n,9,0,3\n", "error", "the data lies beside mask 'm', x from 6 V to 9 V", ""),
    ('    check y inside mask("m") where x <= 4 V\n', FLAT, "pass", "", ""),
    ('    check y inside mask("m") aligned by 1 V\n', FLAT, "pass", "", "limits moved by +0.5 V (of at most 1 V)"),
    ('    check y inside mask("m") aligned by 0.3 V\n', FLAT, "fail", "", "limits moved by +0.3 V (of at most 0.3 V)"),
    ('    check y inside mask("m") aligned by 1 V guarded by 60 mV\n', FLAT, "fail", "", "limits moved by +0.5 V (of at most 1 V)"),
    ('    check y inside mask("m") aligned by 30 %\n', HEAD + "1,0.3,2\n5,1.8,2\n", "pass", "", "limits moved by +30 % (of at most 30 %)"),
    ('    check y within 1 V +/- 1.2 V aligned by 1 V\n', FLAT, "pass", "", "limits moved by +0.5 V (of at most 1 V)"),
    ('    check y <= mask_high("m") + 500 mV\n', FLAT, "pass", "", ""), ('    check y >= mask_low("m") + 600 mV\n', FLAT, "fail", "", ""),
    ('    check y inside mask("m") aligned by 1 V\n', HEAD + "1,0,\n2,0,\n3,,9\n5,,9\n", "pass", "", "limits moved by -1 V (of at most 1 V)"),
    ('    check y inside mask("m") where x <= 2 V aligned by 1 V\n', HEAD + "1,0,\n2,0,\n3,,9\n5,,9\n", "error",
     "nothing says how far to move the limits: no upper one meets the data", "")])  # fmt: skip
def test_a_curve_is_judged_by_a_mask(rehearse, lines, mask, verdict, reason, moved) -> None:
    run = rehearse(SWEEP + lines, files={"masks/m.csv": mask})
    (event,) = run.of(type(next(e for e in run.events if type(e).__name__ == "Judged")))
    assert (event.verdict, event.reason, event.moved) == (verdict, reason, moved)
    assert run.verdicts["a"] == verdict


def test_a_sweep_that_was_left_does_not_cover_its_mask(rehearse) -> None:
    left = SWEEP + '        if x == 3 V\n            leave "enough"\n'
    run = rehearse(left + '    check y inside mask("m")\n', files={"masks/m.csv": HEAD + "1,0,3\n5,0,3\n"})
    assert run.verdicts["a"] == "error" and "does not reach" in run.ended["a"][1]


def test_each_curve_of_a_family_is_moved_by_itself(rehearse) -> None:
    lines = ("    sweep k over 0 V, 1 V\n        sweep x from 1 V to 5 V step 1 V\n            let y = x / 2 + k\n"
             '    check y inside mask("m") aligned by 2 V\n')  # fmt: skip
    run = rehearse(lines, files={"masks/m.csv": FLAT})
    result = run.result("y")
    assert (result.verdict, result.judged, round(result.margin, 9)) == ("pass", 10, 0.0)
    assert "limits moved by +0.5 V" in result.moved  # the first of two that are equally near to theirs


@pytest.mark.parametrize(("line", "title"), [
    ('check y inside mask("n")', "there is no mask 'n'"), ('check y inside golden("m")', "not a mask"), ('check y inside 3 V', "not a mask"),
    ('check x5 inside mask("m")', "a mask along x"), ('check amps inside mask("m")', "wrong unit"), ('let d = y - mask("m")', "a mask is no value"),
    ('let d = y - mask_low("m", 3)', "'mask_low' is called otherwise"), ('check y >= 0 V aligned by 1 V', "nothing to align"),
    ('check y inside mask("m") aligned by 1 A', "wrong unit"), ('check y inside mask("m") aligned by -1 V', "not above zero"),
    ('check y inside mask("m") aligned by 80 %', "more than 50 %"), ('check y inside mask("m") aligned by x5', "not known before the run"),
    ('check y inside mask("m") aligned by 2 % along k', "nothing to move along k"), ('check y within 1 V +/- 1 V aligned by 2 % along x', "nothing to move along x"),
    ('check x5 within 1 V +/- 1 V aligned by 1 V', "a single value has no shape"), ('check y inside mask("one") aligned by 1 V', "nothing says how far to move it"),
    ('check y inside mask("log") aligned by 1 V along x', "a shift along a logarithmic axis"), ('check y inside mask("m") aligned by 1 V aligned by 2 V', "two 'aligned by' clauses"),
    ('check y inside mask("m") guarded by 1 mV aligned by 1 V', "clauses out of order"), ('check y <= mask_low("high")', "no lower line"),
    ('check other inside mask("m")', "no axis 'x'"), ('check y inside mask("bad")', "masks/bad.csv: row 2, low")])  # fmt: skip
def test_what_cannot_be_judged_by_a_mask_is_told_before_the_run(tmp_path, line, title) -> None:
    (tmp_path / "masks").mkdir()
    for name, text in {
        "m": FLAT,
        "one": "x [V],low [V]\n1,0\n5,0\n",
        "log": "log " + FLAT,
        "bad": HEAD + "1,?,2\n",
        "high": "x [V],high [V]\n1,0\n5,0\n",
    }.items():
        (tmp_path / "masks" / f"{name}.csv").write_text(text)
    other = "" if "other" not in line else "    sweep z from 1 V to 5 V step 1 V\n        let other = z / 2\n"
    text = ('sequence "S"\n    product "P"\n    serial ".*"\ntest t "T"\n' + (SWEEP if not other else "") + other
            + ("    let x5 = max(y)\n    let amps = y / 1 ohm\n" if not other else "") + f"    {line}\n    check 1 V >= 0 V\n")  # fmt: skip
    source = Source(str(tmp_path / "s.ibx"), text)
    vet(source, None, Files(tmp_path))
    assert any(title in finding.title for finding in source.findings), [f.title for f in source.findings]


def test_a_variant_has_its_own_mask(tmp_path) -> None:
    (tmp_path / "masks").mkdir()
    for name in ("m", "m.B"):
        (tmp_path / "masks" / f"{name}.csv").write_text(FLAT)
    paths = [Files(tmp_path).mask("m", variant).path for variant in ("", "A", "B")]
    assert [path.rsplit("/")[-1] for path in paths] == ["m.csv", "m.csv", "m.B.csv"]
    (tmp_path / "masks" / "m.xlsx").touch()
    assert Files(tmp_path).mask("m", "B").path.endswith("m.B.csv")
    with pytest.raises(MistakeError, match=r"two files are the mask 'm': m.csv and m.xlsx"):
        Files(tmp_path).mask("m", "A")
    (tmp_path / "masks" / "m.B.csv").unlink()
    (tmp_path / "masks" / "m.B.csv").symlink_to("nowhere")
    with pytest.raises(MistakeError, match=r"m.B.csv: there is no such mask"):  # and not the one of all variants
        Files(tmp_path).mask("m", "B")


def test_lines_meet_curves_with_other_axes_as_well() -> None:
    curve = ArrayCurve({"k": np.array([1.0, 2.0]), "x": np.array([1.0, 2.0])}, np.ones((2, 2)))
    mask = made(Piece("", ((1.0, 3.0), (2.0, 4.0)), ()))
    assert (curve + line_of(mask, "low")).values.tolist() == [[4.0, 5.0], [4.0, 5.0]]
