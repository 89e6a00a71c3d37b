"""What the figures of a test show: curves by family, limits where they were judged, failing points; as plain data."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from ibexite import units
from ibexite.analysis.curve import Array
from ibexite.events import MOST_LIMITS
from ibexite.records.grids import Grid
from ibexite.records.stored_run import TestRecord
from ibexite.reports.complex_curves import size_and_phase, unwrapped
from ibexite.reports.limit_lines import limit_lines, numbered
from ibexite.reports.maps import in_unit, is_map, map_of, meta_of, unit_of
from ibexite.reports.model import LINES, PAIR, POLAR, CurveLine, FigureSpec, LimitLine, MapSpec, Marks, Panel, Span
from ibexite.units import Dimension, Unit
from ibexite.untyped import Fields
from ibexite.wording import column_text, is_log_spaced

MOST_LABELS = 9  # in the legend of a family
WIDE = 10.0  # so many times its least value, from which on the size of a complex curve is drawn on a logarithmic scale
SHADES = 8  # that curves of several names take in turn

Named = tuple[str, Grid]


def pictures_of(test: TestRecord, figure: Fields) -> list[FigureSpec | MapSpec]:
    """The pictures of a figure, none when none of its curves was stored. Curves of one unit share an axis; a second
    unit has its own on the right, further ones a picture of their own. A phase over a frequency stands below what it is
    the phase of; over an angle curves are drawn around a circle; a family of very many is drawn as a map."""
    found: list[Named] = []
    for name in figure["ys"]:
        grid = test.grid_with(name, figure["x"], figure["by"])
        found += [(name, grid)] if grid is not None else size_and_phase(test, name, figure["x"], figure["by"])
    if len(found) == 1 and is_map(found[0][1], figure["x"], figure["by"]):
        return [map_of(*found[0], figure["x"], figure["by"])]
    groups: dict[Dimension, list[Named]] = {}
    for name, grid in found:
        groups.setdefault(_dimension(grid, name), []).append((name, grid))
    angles = groups.get(units.RADIAN)
    x_dimension = _dimension(found[0][1], figure["x"]) if found else units.PLAIN
    if x_dimension == units.RADIAN and angles is None:
        return [_picture(test, figure, [group], POLAR) for group in groups.values()]
    others = [group for dimension, group in groups.items() if dimension != units.RADIAN]
    if x_dimension == units.HERTZ and angles is not None and others:  # the phase belongs below what it is the phase of
        pair = _picture(test, figure, [others[0], angles], PAIR)
        return [pair, *(_picture(test, figure, others[i : i + 2]) for i in range(1, len(others), 2))]
    by_unit = list(groups.values())
    return [_picture(test, figure, by_unit[i : i + 2]) for i in range(0, len(by_unit), 2)]


def _dimension(grid: Grid, name: str) -> Dimension:
    unit = meta_of(grid, name)["unit"]
    return units.parse_unit(unit).dimension if unit else units.PLAIN


def _picture(test: TestRecord, figure: Fields, groups: list[list[Named]], form: str = LINES) -> FigureSpec:
    x, first = figure["x"], groups[0][0][1]
    apart = form == PAIR  # each of them is told by its own axis
    x_unit, several = unit_of(first, x), (max if apart else sum)(map(len, groups)) > 1
    panels, position = [], 0
    for group in groups:
        panels.append(_panel(test, figure, group, x_unit, position, several))
        position += 0 if apart else len(group)
    words = tuple(meta_of(first, x)["labels"])
    is_log = not words and not x_unit.offset and is_log_spaced(first.column(x))
    spans = tuple(Span(label, *_shown([begin, end], x_unit)) for label, begin, end in figure.get("spans", ()))
    return FigureSpec(
        in_unit(x, x_unit), words, is_log, figure["by"], tuple(panels), form, float(x_unit.factor), spans
    )  # fmt: skip


def _panel(test: TestRecord, figure: Fields, group: list[Named], x_unit: Unit, position: int, several: bool) -> Panel:
    y_unit = unit_of(group[0][1], group[0][0])
    panel = Panel(in_unit(", ".join(name for name, _ in group), y_unit), [], [], [])
    for place, (name, grid) in enumerate(group, position):
        panel.curves.extend(_curves(grid, name, figure, (x_unit, y_unit), place, several))
    if len(group) == 1 and group[0][0].startswith("abs("):
        panel = replace(panel, is_log=_is_wide(panel.curves))
    for name, grid in group:
        _take_limits(panel, test, grid, name, figure["x"], (x_unit, y_unit), f" of {name}" if several else "")
    return panel


def _is_wide(curves: list[CurveLine]) -> bool:
    """Whether the size of a complex curve spans so much that its small values would be lost on an even scale."""
    values = np.concatenate([curve.ys for curve in curves])
    values = values[np.isfinite(values)]
    return bool(len(values) and values.min() > 0 and values.max() >= WIDE * values.min())


def _shown(values: Array | list[float], unit: Unit) -> Array:
    return (np.asarray(values, dtype=float) - float(unit.offset)) / float(unit.factor)


def _families(grid: Grid, x: str, by: str) -> Iterator[tuple[str, Array]]:
    """The rows of each curve: one for each value of `by`; without it, one for each point of all other axes."""
    own = [axis for axis in grid.axes if axis != x]
    others = [by] if by else own if x in grid.axes else own[:-1]
    for key, rows in _grouped(grid, others, np.arange(len(grid.data[0]))):
        label = ", ".join(column_text(v, meta_of(grid, axis), 4) for axis, v in zip(others, key, strict=True))
        yield label, rows


def _grouped(grid: Grid, axes: list[str], rows: Array) -> list[tuple[tuple[float, ...], Array]]:
    """Some rows, those together that have the same values on some axes; with these values."""
    if not axes:
        return [((), rows)]
    keys = np.column_stack([np.asarray(grid.column(axis))[rows] for axis in axes])
    seen: dict[tuple[float, ...], list[int]] = {}
    for row, key in zip(rows.tolist(), map(tuple, keys.tolist()), strict=True):
        seen.setdefault(key, []).append(row)
    return [(key, np.asarray(mine)) for key, mine in seen.items()]


def _curves(
    grid: Grid, name: str, figure: Fields, shown: tuple[Unit, Unit], position: int, several: bool
) -> Iterator[CurveLine]:
    x, y = np.asarray(grid.column(figure["x"])), np.asarray(grid.column(name))
    families, is_phase = list(_families(grid, figure["x"], figure["by"])), name.startswith("phase(")
    stride = -(-len(families) // MOST_LABELS)
    for i, (label, measured) in enumerate(families):
        pieces = [_in_order(x, rows) for rows in _pieces(grid, figure["x"], figure["by"], measured)]
        turning = [unwrapped(y[rows]) if is_phase else y[rows] for rows in pieces]
        xs, ys = _shown(_with_gaps([x[rows] for rows in pieces]), shown[0]), _shown(_with_gaps(turning), shown[1])
        shade = i / (len(families) - 1) if len(families) > 1 else position % SHADES / (SHADES - 1)
        text = f"{name}, {label}" if several and label else label or (name if several else "")
        if i % stride and i != len(families) - 1:
            text = ""  # not in the legend: neighbours tell enough
        yield CurveLine(text, xs, ys, shade, position % 3)


def _pieces(grid: Grid, x: str, by: str, rows: Array) -> list[Array]:
    """The rows of one curve of a family, apart where further axes than that of the family are at other places."""
    others = [axis for axis in grid.axes if axis not in (x, by)]
    apart = (others if x in grid.axes else others[:-1]) if by else []
    return [mine for _, mine in _grouped(grid, apart, rows)]


def _with_gaps(pieces: list[Array]) -> Array:
    """The values of pieces of a curve, with a gap between two."""
    gap = np.array([np.nan])
    return np.concatenate([part for values in pieces for part in (values, gap)][:-1])


def _in_order(x: Array, rows: Array) -> Array:
    """The rows of a curve from left to right, if each x comes once; a loop of x is drawn as it was measured."""
    values = x[rows]
    return rows[np.argsort(values)] if len(np.unique(values)) == len(values) else rows


def _take_limits(
    panel: Panel, test: TestRecord, grid: Grid, name: str, x: str, shown: tuple[Unit, Unit], of: str
) -> None:
    """The limits of all checks on a curve, where they were judged: a level, or a line where they run along x. `of`
    says whose they are."""
    for result in (numbered(result, grid) for result in test.results):
        if result["subject"] != name or x not in result["extent"]:
            continue
        only_first = f" (first {MOST_LIMITS} points)" if len(result["limits"]) >= MOST_LIMITS else ""
        for key, word in (("low", "lower limit"), ("high", "upper limit")):
            texts: set[str] = set()
            for line in limit_lines(result, grid, x, key):
                xs, ys = _shown([a for a, _ in line], shown[0]), _shown([b for _, b in line], shown[1])
                height = f" {units.plain_number(float(ys[0]), 5)}" if len(set(ys.tolist())) == 1 else ""
                text = word + of + height + only_first
                panel.limits.append(LimitLine("" if text in texts else text, xs, ys, key == "high"))
                texts.add(text)  # told once for a limit in several runs
        _take_failing(panel, grid, name, x, result, shown)


def _take_failing(panel: Panel, grid: Grid, name: str, x: str, result: Fields, shown: tuple[Unit, Unit]) -> None:
    names = [axis["name"] for axis in result["axes"]]
    if not result["failing"] or set(names) != set(grid.axes):
        return
    keys = list(zip(*(grid.column(axis) for axis in names), strict=True))
    failing = set(map(tuple, result["failing"]))
    rows = [i for i, key in enumerate(keys) if key in failing]
    xs, ys = np.asarray(grid.column(x))[rows], np.asarray(grid.column(name))[rows]
    more = f",\nfirst {len(failing)} marked" if len(failing) < result["failed"] else ""
    panel.failing.append(Marks(f"failed ({result['failed']}){more}", _shown(xs, shown[0]), _shown(ys, shown[1])))
