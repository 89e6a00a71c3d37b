"""Limits are drawn where they were judged: every judged point has its limit, no other point lies beyond a drawn one."""

import math
from array import array
from itertools import pairwise
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.analysis.curve import ArrayCurve
from ibexite.engine.judge import Tally
from ibexite.records.stored_run import Grid
from ibexite.reports.limit_lines import limit_lines

K, X = (1.0, 2.0), (10.0, 20.0, 30.0, 40.0, 50.0)
NAN = math.nan


def judged(values: list[float], highs: Any, where: list[float]) -> tuple[dict[str, Any], Grid]:
    """What a check `y <= high where …` over k and x leaves, and its table."""
    axes = {"k": np.array(K[: len(values) // len(X)]), "x": np.array(X)}
    shape = tuple(map(len, axes.values()))
    tally = Tally()

    def curve(numbers: Any) -> Any:
        return ArrayCurve(axes, np.array(numbers).reshape(shape)) if isinstance(numbers, list) else numbers

    tally.judge_curve(curve(values), -math.inf, curve(highs), curve(where))
    result = {
        "subject": "y", "axes": [{"name": name} for name in axes], "low": None, "high": tally.high,
        "limits": [[*at, None, high] for *at, _, high in tally.limits],
        "failing": tally.failing, "failed": tally.failed,
        "extent": {name: list(ends) for name, ends in zip(axes, zip(tally.least, tally.most, strict=True), strict=False)}}  # fmt: skip
    columns = [{"name": name, "origin": "sweep"} for name in axes] + [{"name": "y", "origin": "reading"}]
    places = [array("d", place.ravel()) for place in np.meshgrid(*axes.values(), indexing="ij")]
    return result, Grid(columns, [*places, array("d", values)])


@pytest.mark.parametrize(("values", "highs", "where", "lines"), [
    ([1, 2, 3, 4, 5], 9.0, [1, 1, 1, 1, 1], [[(10, 9), (50, 9)]]),
    ([1, 2, 3, 4, 5], 2.5, [1, 1, 1, 1, 1], [[(10, 2.5), (50, 2.5)]]),  # what failed lies beyond
    ([1, 2, 3, 4, 5], 3.5, [1, 1, 1, 0, 0], [[(10, 3.5), (30, 3.5)]]),
    ([1, 2, 8, 2, 1], 3.5, [1, 1, 0, 1, 1], [[(10, 3.5), (20, 3.5)], [(40, 3.5), (50, 3.5)]]),
    ([1, 8, 1, 8, 8], 3.5, [1, 0, 1, 0, 1], [[(10, 3.5)], [(30, 3.5)], [(50, 3.5)]]),
    ([1, 2, NAN, 2, 1], 3.5, [1, 1, 1, 1, 1], [[(10, 3.5), (50, 3.5)]]),  # a hole lies nowhere
    ([1, 8, 1, 1, 1, 1, 2, 1, 1, 1], 3.5, [1, 0, 1, 1, 1, 1, 1, 1, 1, 1], [[(10, 3.5), (50, 3.5)]]),  # of two curves one
    ([1, 2, 3, 4, 5], [6.0, 7.0, 8.0, 9.0, 9.0], [1, 1, 1, 1, 1], [[(10, 6), (20, 7), (30, 8), (40, 9), (50, 9)]]),
    ([1, 2, 3, 4, 5], [6.0, 7.0, 8.0, 9.0, 9.0], [1, 0, 1, 1, 0], [[(10, 6)], [(30, 8), (40, 9)]]),
    ([1, 2, 3, 4, 5] * 2, [6.0, 7.0, 8.0, 9.0, 9.0] * 2, [1] * 10, [[(10, 6), (20, 7), (30, 8), (40, 9), (50, 9)]]),
    ([1, 2, 3, 4, 5] * 2, [6.0] * 5 + [7.0] * 5, [1] * 10, [[(x, 6) for x in X], [(x, 7) for x in X]])])  # fmt: skip
def test_a_limit_is_drawn_over_what_was_judged(values, highs, where, lines) -> None:
    result, grid = judged(list(map(float, values)), highs, list(map(float, where)))
    assert limit_lines(result, grid, "x", "high") == lines
    assert limit_lines(result, grid, "x", "low") == []


def drawn_at(lines: list[Any], x: float) -> set[float]:
    """The heights at which lines are drawn at x."""
    heights = {y for line in lines for at, y in line if at == x}
    return heights | {a[1] for line in lines for a, b in pairwise(line) if a[0] < x < b[0] and a[1] == b[1]}


VALUE = st.sampled_from([1.0, 2.0, 3.0, 4.0, NAN])


@given(st.lists(VALUE, min_size=5, max_size=5), st.lists(st.sampled_from([2.0, 3.0]), min_size=5, max_size=5), st.booleans(),
       st.lists(st.sampled_from([1.0, 0.0]), min_size=5, max_size=5))  # fmt: skip
def test_no_point_that_did_not_fail_lies_beyond_a_drawn_limit(values, highs, is_constant, where) -> None:
    highs = highs[:1] * 5 if is_constant else highs
    result, grid = judged(values, highs[0] if is_constant else highs, where)
    if not result["extent"]:
        return  # nothing was judged
    lines = limit_lines(result, grid, "x", "high")
    for x, value, high, counts in zip(X, values, highs, where, strict=True):
        heights = drawn_at(lines, x)
        if counts and value == value:
            assert heights == {high}
        elif value == value:
            assert all(value <= height for height in heights)
