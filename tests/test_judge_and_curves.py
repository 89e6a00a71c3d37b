"""Judgement and curves: NaN never passes, live and whole judgement agree, functions agree with closed forms."""

import math

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

from ibexite import units
from ibexite.analysis import catalog, single_values
from ibexite.analysis import pointwise as curves
from ibexite.analysis.curve import ArrayCurve, Curve
from ibexite.engine import judge, judged_points
from ibexite.engine.judge import Tally
from ibexite.engine.loops import Refined
from ibexite.errors import SequenceError
from ibexite.holes import NEVER_MEASURED, Bound, Counts, is_equal, is_never_measured
from ibexite.language import points
from ibexite.verdicts import BAD_READINGS, NO_REASON, Reason
from ibexite.wording import judged_text

VALUES = st.lists(st.one_of(st.floats(-10, 10), st.just(math.nan)), min_size=1, max_size=30)
LIMIT = st.one_of(st.floats(-10, 10), st.just(math.nan))


@given(VALUES, LIMIT, LIMIT, st.booleans())
def test_judging_point_by_point_and_as_a_curve_agree(values, low, high, is_strict) -> None:
    assume(not low > high)
    live, whole = Tally(is_strict), Tally(is_strict)
    axis = np.arange(len(values), dtype=float)
    for x, value in zip(axis, values, strict=True):
        live.judge(value, low, high, (float(x),))
    whole.judge_curve(ArrayCurve({"x": axis}, np.array(values)), low, high, True)
    assert (live.judged, live.failed, live.bad, live.failing) == (whole.judged, whole.failed, whole.bad, whole.failing)
    assert (live.margin, live.at) == (whole.margin, whole.at)
    assert live.verdict([])[0] == whole.verdict([])[0]


@given(VALUES, LIMIT, LIMIT)
def test_a_pass_means_that_every_value_lies_within_its_limits(values, low, high) -> None:
    if low > high:
        with pytest.raises(SequenceError, match="is above the upper one"):
            Tally().judge(0.0, low, high)
        return
    tally = Tally()
    for value in values:
        tally.judge(value, low, high)
    passed = tally.verdict([])[0] == "pass"
    assert passed == all((low <= value or is_equal(low, value)) and (value <= high or is_equal(value, high)) for value in values)


@pytest.mark.parametrize(("judged", "reasons", "verdict", "why"), [
    ([], [], "error", "nothing: nothing was judged"), ([math.nan], ["overload"], "fail", "overload: overload"),
    ([math.nan], ["unbelievable"], "error", "bad: undecided: not believable"),
    ([0.5, math.nan], ["empty"], "error", "bad: undecided: 1 of 2 bad (empty reply)"), (None, ["empty"], "error", "bad: undecided: 1 bad value left out of it (empty reply)"),
    ([2.0, math.nan], ["empty"], "fail", "limit: "), ([math.nan], [], "error", "undecided: undecided: a value could not be computed"),
    ([1.0], [], "pass", ": "), ([0.0, 1.0], [], "pass", ": ")])  # fmt: skip
def test_holes_and_emptiness_are_never_a_pass(judged, reasons, verdict, why) -> None:
    tally = Tally()
    if judged is None:  # a good value that was made of two, one of them bad
        tally.stands_on(Counts(1, 2, 1))
    for value in judged if judged is not None else [0.5]:
        tally.judge(value, 0.0, 1.0)
    found, reason = tally.verdict([Reason(code, BAD_READINGS[code]) for code in reasons])
    assert (found, f"{reason.code}: {reason.text}") == (verdict, why)


@given(st.lists(st.one_of(st.floats(-10, 10), st.just(math.nan), st.builds(Bound, st.floats(-10, 10), st.booleans(), st.booleans())),
                min_size=6, max_size=6), st.lists(st.sampled_from([1.0, 0.0, math.nan]), min_size=6, max_size=6), LIMIT, st.booleans())  # fmt: skip
def test_bounds_in_a_curve_are_judged_as_they_are_one_by_one(values, where, high, over_more) -> None:
    axes = {"n": np.arange(3.0), "k": np.arange(2.0)}
    if over_more:  # the values are over n only; what limits them runs over k too
        bounds, measured, values = values[:3], np.array(values[:3]), [value for value in values[:3] for _ in "kk"]
        curve = ArrayCurve({"n": axes["n"]}, measured, {i: x for i, x in enumerate(bounds) if isinstance(x, Bound)})
    else:
        curve = ArrayCurve(axes, np.array(values).reshape(3, 2), {i: x for i, x in enumerate(values) if isinstance(x, Bound)})
    condition = ArrayCurve(axes, np.array(where).reshape(3, 2))
    live, whole = Tally(), Tally()
    for i, (value, counts) in enumerate(zip(values, where, strict=True)):
        live.judge_where(counts, value, -math.inf, high, (float(i // 2), float(i % 2)))
    whole.judge_curve(curve, -math.inf, high, condition)
    assert (whole.judged, whole.failed, whole.bad) == (live.judged, live.failed, live.bad)
    assert sorted(whole.failing) == sorted(live.failing) and whole.margin == live.margin


NONE = math.inf


@pytest.mark.parametrize(("ys", "limits", "new"), [
    ([0, 1, 2, 3, 4], (2.6, NONE), 2.5), ([0, 1, 2, 3, 4], (0.2, NONE), 0.5), ([0, 1, 2, 3, 4], (-NONE, 9.0), 3.5),
    ([0, 0, 0, 0, 1], (0.0, NONE), 3.5), ([4, 3, 2, 1, 0], (-NONE, 2.6), 1.5), ([1, 1, 1, 1, 1], (1.0, NONE), None),
    ([0, 1, 2, math.nan, math.nan], (2.6, NONE), None),
    ([0, 1, 2, 3, math.nan], (3.5, NONE), 2.5), ([0, 1, 9, 9.5, 9], (9.2, 9.8), 1.5), ([0, 5, 5.1, 5.2, 5.3], (-NONE, 5.3), 0.5)])  # fmt: skip
def test_near_a_limit_a_refined_sweep_halves_the_step_that_comes_nearest(ys, limits, new) -> None:
    sweep = Refined([0.0, 1.0, 2.0, 3.0, 4.0], 6, is_log=False, limits=lambda: [limits])
    points = iter(sweep)
    for y in ys:
        sweep.tell(next(points), float(y))
    assert next(points, None) == new


def test_what_bends_is_refined_however_high_it_lies() -> None:
    for height in (0.0, 1000.0, -1000.0):
        sweep = Refined([0.0, 1.0, 2.0, 3.0, 4.0], 6, is_log=False)
        points = iter(sweep)
        for y in (0.0, 0.0, 0.0, 1.0, 1.0):
            sweep.tell(next(points), height + y)
        assert next(points, None) == 1.5


@pytest.mark.parametrize(("bump", "is_refined"), [(0.0021, True), (0.0019, False)])
def test_a_refined_sweep_ends_where_its_error_is_small(bump: float, is_refined: bool) -> None:
    sweep = Refined([0.0, 1.0, 2.0, 3.0, 4.0], 6, is_log=False)
    points = iter(sweep)
    for y in (0.0, 0.25, 0.5 + bump, 0.75, 1.0):  # its error is bump / 4, of a range of 1
        sweep.tell(next(points), y)
    assert (next(points, None) is not None) == is_refined


def test_a_refined_sweep_comes_to_no_point_twice() -> None:
    sweep = Refined([0.0, 1.0, 2.0, 3.0, 4.0], 9, is_log=False, limits=lambda: [(2.6, NONE)], rounded=round)
    points = iter(sweep)
    for y in range(5):
        sweep.tell(next(points), float(y))
    assert next(points, None) is None, "the middle of the interval, rounded as it would be sent, was there already"


@pytest.mark.parametrize(("bound", "low", "high", "is_strict", "verdict", "margin"), [
    (Bound(8.0, True), -NONE, 8.5, False, "pass", 0.5), (Bound(8.0, True), 9.0, NONE, False, "fail", -1.0),
    (Bound(8.0, False), 7.0, NONE, False, "pass", 1.0), (Bound(8.0, False), -NONE, 6.0, False, "fail", -2.0),
    (Bound(8.0, True), 7.0, 9.0, False, "error", NONE), (Bound(8.0, False), 7.0, 9.0, False, "error", NONE),
    # A bound exactly at its limit: below 8 lies within <= 8 and < 8 and never within >= 8; at most 8 may be 8.
    (Bound(8.0, True), -NONE, 8.0, True, "pass", 0.0), (Bound(8.0, True), 8.0, NONE, False, "fail", 0.0),
    (Bound(8.0, True, True), -NONE, 8.0, False, "pass", 0.0), (Bound(8.0, True, True), -NONE, 8.0, True, "error", NONE),
    (Bound(8.0, True, True), 8.0, NONE, False, "error", NONE), (Bound(8.0, True, True), 8.0, NONE, True, "fail", 0.0),
    (Bound(8.0, False, True), 8.0, NONE, False, "pass", 0.0), (Bound(8.0, False, True), -NONE, 8.0, False, "error", NONE)])  # fmt: skip
def test_what_is_only_bounded_is_judged_when_all_it_may_be_agrees(bound, low, high, is_strict, verdict, margin) -> None:
    tally = Tally(is_strict)
    tally.judge(bound, low, high, (1.0,))
    assert (tally.verdict([])[0], tally.margin) == (verdict, margin)
    assert (tally.failing, tally.bad) == ([(1.0,)] if verdict == "fail" else [], verdict == "error")
    assert tally.bound == (bound.word if verdict != "error" else "")
    if margin < NONE:
        assert (tally.value, tally.low, tally.high, tally.at) == (8.0, low, high, (1.0,))


def test_below_is_said_of_the_worst_value_only_if_nothing_more_is_known_of_it() -> None:
    for values, said in (((Bound(8.0, True), 8.5), ("", 8.5)), ((8.5, Bound(8.0, True)), ("", 8.5)), ((7.0, Bound(8.0, True)), ("below", 8.0))):
        live, whole = Tally(), Tally()
        for value in values:
            live.judge(value, -NONE, 9.0)
        whole.judge_curve(ArrayCurve({"n": np.arange(2.0)}, np.array(values), {i: v for i, v in enumerate(values) if isinstance(v, Bound)}), -NONE, 9.0, True)
        assert (live.bound, live.value) == (whole.bound, whole.value) == said


@pytest.mark.parametrize("place", [0, 1, 2])
def test_what_was_never_measured_is_not_judged(place) -> None:
    point, whole = [0.5, 0.0, 1.0], Tally()
    point[place] = NEVER_MEASURED
    tally = Tally()
    tally.judge(*point)
    assert tally.verdict([]) == ("error", Reason("nothing", "nothing was judged"))
    tally.judge(0.5, 0.0, 1.0)
    assert (tally.verdict([]), tally.judged, tally.bad) == (("pass", NO_REASON), 1, 0)
    pair = [ArrayCurve({"x": np.arange(2.0)}, np.array([good, hole])) for good, hole in zip([0.5, 0.0, 1.0], point, strict=True)]
    whole.judge_curve(*pair, True)
    assert (whole.verdict([]), whole.judged, whole.bad) == (("pass", NO_REASON), 1, 0)


def test_limits_of_no_more_points_are_kept_than_is_said(monkeypatch) -> None:
    monkeypatch.setattr(judge, "MOST_LIMITS", 3)
    tally = Tally()
    for x in range(5):
        tally.judge(0.0, -1.0, 2.0 if x == 4 else 1.0, (float(x),))
    assert tally.limits == [(x, -1.0, 1.0) for x in (0.0, 1.0, 2.0)]


@pytest.mark.parametrize("compare", [single_values.ge, single_values.le, single_values.gt, single_values.lt, single_values.eq, single_values.ne])
def test_nobody_knows_whether_a_hole_is_more_or_less(compare) -> None:
    for a, b in ((math.nan, 1.0), (1.0, math.nan), (math.nan, math.nan), (NEVER_MEASURED, math.nan)):
        found = compare(a, b)
        assert math.isnan(found) and not is_never_measured(found)
    for a, b in ((NEVER_MEASURED, 1.0), (1.0, NEVER_MEASURED)):
        assert is_never_measured(compare(a, b))


def test_a_complex_hole_is_of_the_kind_of_its_parts() -> None:
    assert is_never_measured(complex(NEVER_MEASURED, 1.0)) and is_never_measured(complex(1.0, NEVER_MEASURED))
    assert not any(map(is_never_measured, (complex(math.nan, 1.0), complex(1.0, math.nan), 1 + 1j)))


@pytest.mark.parametrize("where", [1.0, 0.0, math.nan])
def test_a_single_value_is_judged_as_one_even_among_curves(where: float) -> None:
    whole, one = Tally(), Tally()
    whole.judge_curve(5.0, 6.0, math.inf, where, (1.0,))
    one.judge_where(where, 5.0, 6.0, math.inf, (1.0,))
    assert whole == one and (whole.judged, whole.failed, whole.bad) == ((0, 0, 0) if where == 0 else (1, where == 1, where != 1))


def test_a_value_that_was_converted_meets_the_limit_that_it_equals() -> None:
    for tenths in range(-500, 1500):  # degC read by an instrument, and 0.1 mV over 100 mohm
        limit = float(units.parse_quantity(f"{tenths / 10} degC").value)
        amps = float(units.parse_quantity(f"{tenths} mA").value)
        for value, at in ((tenths / 10 + 273.15, limit), (tenths * 1e-4 * (1 / 0.1), amps)):
            for low, high in ((at, math.inf), (-math.inf, at), (at, at)):
                tally = Tally()
                tally.judge(value, low, high)
                assert (tally.failed, tally.margin) == (0, 0.0), (value, low, high)


def test_a_strict_limit_is_not_met_by_equality() -> None:
    tally = Tally(is_strict=True)
    tally.judge(1.0, 1.0, math.inf)
    assert tally.verdict([])[0] == "fail"


def grid(*shape: int) -> Curve:
    axes = {name: np.arange(n, dtype=float) for name, n in zip("abc", shape, strict=False)}
    return ArrayCurve(axes, np.random.default_rng(5).normal(size=shape))


def test_curves_are_brought_together_by_the_names_of_their_axes() -> None:
    both, one = grid(3, 4), ArrayCurve({"b": np.arange(4.0)}, np.array([10.0, 20, 30, 40]))
    assert np.array_equal((one * both).values, one.values[:, None] * both.values.T)
    assert list((one * both).axes) == ["b", "a"]
    assert np.array_equal((both - one).values, both.values - one.values)
    assert np.array_equal((2 / one).values, 2 / one.values)
    with pytest.raises(SequenceError, match="different points on the axis b"):
        both + ArrayCurve({"b": np.arange(4.0) + 1}, np.zeros(4))


def test_at_interpolates_between_neighbours_only() -> None:
    x = np.array([3.0, 2.0, 1.0])  # a sweep downwards
    curve = ArrayCurve({"x": x}, np.array([30.0, 20.0, math.nan]))
    assert catalog.at(curve, {"x": 2.0}) == 20.0
    assert catalog.at(curve, {"x": 2.25}) == 22.5
    assert math.isnan(catalog.at(curve, {"x": 1.5}))
    with pytest.raises(SequenceError, match="x = 3.5 lies beyond the ends"):
        catalog.at(curve, {"x": 3.5})


def test_divisions_by_zero_are_holes_and_so_is_whatever_is_made_of_them() -> None:
    ratio = 1 / ArrayCurve({"x": np.arange(3.0)}, np.array([0.0, 1.0, 2.0]))
    assert math.isnan(ratio.values[0])
    smaller = curves.compared("<=", ratio, 0.6)
    assert math.isnan(smaller.values[0]) and smaller.values[1:].tolist() == [0, 1]
    assert curves.logic("or", smaller, True).values.tolist() == [1, 1, 1]
    assert math.isnan(curves.logic("and", smaller, True).values[0])
    assert curves.logic("not", smaller).values[1:].tolist() == [1, 0]


@pytest.mark.parametrize(("function", "x", "expected"), [
    (curves.db_amplitude, 10.0, 20.0), (curves.db_power, 10.0, 10.0), (curves.root, 9.0, 3.0), (curves.absolute, -2.0, 2.0)])  # fmt: skip
def test_functions_agree_on_numbers_and_curves(function, x, expected) -> None:
    assert function(x) == pytest.approx(expected)
    assert function(ArrayCurve({"t": np.zeros(1)}, np.array([x]))).values[0] == pytest.approx(expected)


D = points.Decimal


@given(st.decimals(-50, 50, places=3), st.decimals("0.001", 5, places=3), st.integers(1, 60), st.sampled_from([1, -1]))
def test_steps_are_exact_and_include_both_ends(start, step, count, sign) -> None:
    end = start + sign * step * count
    found = points.by_step(start, end, step)
    assert found[0] == start and found[-1] == end and len(found) == count + 1
    assert all(abs(b - a) == step for a, b in zip(found, found[1:], strict=False))


@given(st.floats(0.001, 1000), st.floats(-1e-6, 1e-6))
@example(0.001953125, 1.3e-16)
def test_a_failing_value_never_looks_like_its_limit(limit: float, relative: float) -> None:
    value = limit * (1 + relative)
    result = {"value": value, "low": None, "high": limit, "margin": limit - value, "unit": "V", "shown": "V"}
    text = judged_text(result)
    if value > limit and not is_equal(value, limit):
        assert text.value != text.high
        assert float(text.margin) < 0
    elif is_equal(value, limit):
        assert float(text.value) == float(text.high)


POINT = st.one_of(st.floats(-5, 5), st.sampled_from([math.nan, NEVER_MEASURED, 1.0]))
TRUTH = st.sampled_from([0.0, 1.0, 1.0, math.nan, NEVER_MEASURED])


@given(st.lists(st.tuples(POINT, st.floats(-3, 0), TRUTH), min_size=1, max_size=12), st.integers(1, 5), st.sampled_from([0.0, 0.25]))
def test_curves_are_judged_alike_in_blocks_of_any_size(points: list, block: int, guard: float) -> None:
    def judged_in(size: int) -> Tally:
        tally = Tally(guard=guard)
        value, low, where = (ArrayCurve({"x": np.arange(float(len(points)))}, np.array(column)) for column in zip(*points, strict=True))
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(judged_points, "BLOCK", size)
            tally.judge_curve(value, low, 2.0, where)
        return tally

    one, other, naive = judged_in(block), judged_in(1_000), Tally(guard=guard)
    for x, (value, low, where) in enumerate(points):
        naive.judge_where(where, value, low, 2.0, (float(x),))
    for name in ("judged", "failed", "bad", "margin", "value", "low", "high", "at", "failing", "limits"):
        found = getattr(one, name)
        assert found == getattr(other, name) or found != found, name
        if name in ("judged", "failed", "bad", "failing"):
            assert found == getattr(naive, name), name
