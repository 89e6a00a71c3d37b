"""Figures for the report: curves by family, limits drawn in where they were judged, failing points marked. SVG."""

from __future__ import annotations

import io
from collections.abc import Iterator
from typing import Any

import matplotlib
import numpy as np
from matplotlib.axes import Axes
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure

from ibexite import units
from ibexite.records.lookup import Grid, TestRecord
from ibexite.units import Unit
from ibexite.wording import column_text

SIZE = (8.6, 3.5)  # inches
FRAME = (0.085, 0.145, 0.745, 0.81)  # left, bottom, width, height; the legend stands to the right
MOST_MARKED = 40  # points of a curve that are marked one by one
MOST_LABELS = 9  # in the legend of a family
FAIL, LIMIT, TEXT, RULE = "#b3261e", "#7a5c00", "#2a2e33", "#d9dde2"
# From dark to light, so that the order of a family is seen in print too.
FAMILY = ("#12355b", "#1f5f8b", "#2a868f", "#3f9f73", "#7fae4a", "#b5a53a", "#c98a3a", "#b86a4b")
STYLE: Any = {
    "svg.fonttype": "none", "svg.hashsalt": "ibexite", "font.family": "sans-serif", "font.size": 9.5,
    "text.color": TEXT, "axes.labelcolor": TEXT, "axes.edgecolor": "#9aa1a9", "axes.linewidth": 0.8,
    "xtick.color": TEXT, "ytick.color": TEXT, "xtick.major.width": 0.8, "ytick.major.width": 0.8,
    "axes.grid": True, "grid.color": RULE, "grid.linewidth": 0.6, "axes.spines.top": False, "axes.spines.right": False,
    "legend.frameon": False, "legend.fontsize": 8.5, "legend.title_fontsize": 8.5,
}  # fmt: skip


def draw(test: TestRecord, figure: dict[str, Any]) -> str:
    """The SVG of a figure of a test, "" when none of its curves was stored."""
    found = [(n, grid) for n in figure["ys"] if (grid := test.grid_with(n, figure["x"], figure["by"]))]
    if not found:
        return ""
    with matplotlib.rc_context(STYLE):
        canvas = Figure(figsize=SIZE)
        axes = canvas.add_axes(FRAME)
        x_unit = _unit_of(found[0][1], figure["x"])
        y_unit = _unit_of(found[0][1], found[0][0])
        for position, (name, grid) in enumerate(found):
            _draw_curves(axes, grid, name, figure, (x_unit, y_unit), position, len(found) > 1)
        for name, grid in found:
            _draw_limits(axes, test, grid, name, figure["x"], (x_unit, y_unit))
        _label(axes, figure, [name for name, _ in found], x_unit, y_unit)
        return _svg(canvas)


def _svg(canvas: Figure) -> str:
    out = io.StringIO()
    # Not by savefig, which draws everything twice.
    FigureCanvasSVG(canvas).print_svg(out, metadata={"Date": None, "Creator": None})
    text = out.getvalue()
    return text[text.index("<svg") :]


def _meta(grid: Grid, name: str) -> dict[str, Any]:
    return next(c for c in grid.columns if c["name"] == name)


def _unit_of(grid: Grid, name: str) -> Unit:
    meta = _meta(grid, name)
    dimension = units.parse_unit(meta["unit"]).dimension if meta["unit"] else units.PLAIN
    if meta["shown"]:
        return units.parse_unit(meta["shown"])
    return units.unit_for(*grid.column(name), dimension=dimension)


def _shown(values: Any, unit: Unit) -> Any:
    return (np.asarray(values, dtype=float) - float(unit.offset)) / float(unit.factor)


def _families(grid: Grid, x: str, by: str) -> Iterator[tuple[str, Any]]:
    """The rows of each curve: one for each value of `by`; without it, one for each point of all other axes."""
    own = [axis for axis in grid.axes if axis != x]
    others = [by] if by else own if x in grid.axes else own[:-1]
    keys = (
        np.column_stack([np.asarray(grid.column(axis)) for axis in others])
        if others
        else np.zeros((len(grid.data[0]), 1))
    )
    seen: dict[tuple[float, ...], list[int]] = {}
    for row, key in enumerate(map(tuple, keys.tolist())):
        seen.setdefault(key, []).append(row)
    for key, rows in seen.items():
        label = ", ".join(column_text(v, _meta(grid, axis), 4) for axis, v in zip(others, key, strict=False))
        yield label, np.asarray(rows)


def _draw_curves(
    axes: Axes, grid: Grid, name: str, figure: dict[str, Any], shown: tuple[Unit, Unit], position: int, several: bool
) -> None:
    x, y = np.asarray(grid.column(figure["x"])), np.asarray(grid.column(name))
    families = list(_families(grid, figure["x"], figure["by"]))
    stride = -(-len(families) // MOST_LABELS)
    for i, (label, measured) in enumerate(families):
        rows = _in_order(x, measured)
        place = i if len(families) > 1 else position
        colour = FAMILY[
            round(place * (len(FAMILY) - 1) / max(1, len(families) - 1)) if len(families) > 1 else place % 8
        ]
        text = f"{name}, {label}" if several and label else label or (name if several else "")
        if i % stride and i != len(families) - 1:
            text = "_"  # not in the legend: neighbours tell enough
        axes.plot(
            _shown(x[rows], shown[0]),
            _shown(y[rows], shown[1]),
            color=colour,
            linewidth=1.3,
            linestyle=("-", "--", ":")[position % 3],
            marker="o" if len(rows) <= MOST_MARKED else None,
            markersize=2.6,
            label=text,
        )


def _in_order(x: Any, rows: Any) -> Any:
    """The rows of a curve from left to right, if each x comes once; a loop of x is drawn as it was measured."""
    values = x[rows]
    return rows[np.argsort(values)] if len(np.unique(values)) == len(values) else rows


def _draw_limits(axes: Axes, test: TestRecord, grid: Grid, name: str, x: str, shown: tuple[Unit, Unit]) -> None:
    for result in test.results:
        if result["subject"] != name or x not in result["extent"]:
            continue
        extent = _shown(result["extent"][x], shown[0])
        for limit, word, side in ((result["low"], "lower limit", -1), (result["high"], "upper limit", 1)):
            if limit is not None:
                height = float(_shown(limit, shown[1]))
                axes.plot(extent, [height, height], color=LIMIT, linewidth=1.4, linestyle=(0, (6, 3)), zorder=4)
                axes.annotate(
                    f"{word} {units.plain_number(height, 5)}",
                    (extent[0], height),
                    (2, 3.5 * side),
                    color=LIMIT,
                    textcoords="offset points",
                    va="bottom" if side > 0 else "top",
                    fontsize=8.5,
                )
        _mark_failing(axes, grid, name, x, result, shown)


def _mark_failing(axes: Axes, grid: Grid, name: str, x: str, result: dict[str, Any], shown: tuple[Unit, Unit]) -> None:
    names = [axis["name"] for axis in result["axes"]]
    if not result["failing"] or set(names) != set(grid.axes):
        return
    keys = list(zip(*(grid.column(axis) for axis in names), strict=True))
    failing = set(map(tuple, result["failing"]))
    rows = [i for i, key in enumerate(keys) if key in failing]
    xs, ys = np.asarray(grid.column(x))[rows], np.asarray(grid.column(name))[rows]
    axes.plot(
        _shown(xs, shown[0]),
        _shown(ys, shown[1]),
        linestyle="none",
        marker="x",
        color=FAIL,
        markersize=7,
        markeredgewidth=1.8,
        zorder=5,
        label=f"failed ({result['failed']})",
    )


def _label(axes: Axes, figure: dict[str, Any], names: list[str], x_unit: Unit, y_unit: Unit) -> None:
    axes.set_xlabel(f"{figure['x']} in {x_unit.symbol}" if x_unit.symbol else figure["x"])
    axes.set_ylabel(f"{', '.join(names)} in {y_unit.symbol}" if y_unit.symbol else ", ".join(names))
    axes.yaxis.set_label_coords(-0.088, 0.5)  # all figures of a report alike, whatever their numbers
    axes.margins(x=0.02, y=0.08)
    if any(not str(line.get_label()).startswith("_") and line.get_label() for line in axes.get_lines()):
        axes.legend(title=figure["by"] or None, loc="center left", bbox_to_anchor=(1.01, 0.5), alignment="left")
