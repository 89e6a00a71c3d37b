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
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from ibexite import units
from ibexite.events import MOST_LIMITS
from ibexite.records.stored_run import Grid, TestRecord
from ibexite.reports.limit_lines import limit_lines, numbered
from ibexite.units import Unit
from ibexite.wording import column_text, is_log_spaced

SIZE = (8.6, 3.5)  # inches
FRAME = (0.085, 0.145, 0.745, 0.81)  # left, bottom, width, height; the legend stands to the right
FRAME_OF_TWO = (0.085, 0.145, 0.655, 0.81)  # with a second unit on the right
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
    "xtick.major.pad": 3.5, "xtick.minor.pad": 5.0,  # minor ticks are shorter: all numbers stand on one line
    "axes.formatter.useoffset": False, "legend.frameon": False, "legend.fontsize": 8.5, "legend.title_fontsize": 8.5,
}  # fmt: skip


def draw(test: TestRecord, figure: dict[str, Any]) -> str:
    """The SVG of a figure of a test, "" when none of its curves was stored. Curves of one unit share an axis; a second
    unit has its own on the right, further ones a picture of their own."""
    found = [(n, grid) for n in figure["ys"] if (grid := test.grid_with(n, figure["x"], figure["by"]))]
    groups: dict[str, list[tuple[str, Grid]]] = {}
    for name, grid in found:
        meta = _meta(grid, name)
        dimension = units.parse_unit(meta["unit"]).dimension if meta["unit"] else units.PLAIN
        groups.setdefault(str(dimension), []).append((name, grid))
    by_unit = list(groups.values())
    return "".join(_picture(test, figure, by_unit[i : i + 2]) for i in range(0, len(by_unit), 2))


def _picture(test: TestRecord, figure: dict[str, Any], groups: list[list[tuple[str, Grid]]]) -> str:
    x, first = figure["x"], groups[0][0][1]
    with matplotlib.rc_context(STYLE):
        canvas = Figure(figsize=SIZE)
        left = canvas.add_axes(FRAME if len(groups) == 1 else FRAME_OF_TWO)
        x_unit = _unit_of(first, x)
        position, several = 0, sum(map(len, groups)) > 1
        drawn: list[Axes] = []
        for group in groups:
            axes = left if not drawn else _right_of(left)
            y_unit = _unit_of(group[0][1], group[0][0])
            for name, grid in group:
                _draw_curves(axes, grid, name, figure, (x_unit, y_unit), position, several)
                position += 1
            for name, grid in group:
                _draw_limits(axes, test, grid, name, x, (x_unit, y_unit), f" of {name}" if several else "")
            _label(axes, [name for name, _ in group], y_unit, is_right=bool(drawn))
            drawn.append(axes)
        _label_x(left, figure, first, x_unit)
        _legend(drawn, figure)
        return _svg(canvas)


def _right_of(left: Axes) -> Axes:
    right = left.twinx()
    right.grid(False)
    right.spines["right"].set_visible(True)
    return right


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


def _draw_limits(
    axes: Axes, test: TestRecord, grid: Grid, name: str, x: str, shown: tuple[Unit, Unit], of: str
) -> None:
    """The limits of all checks on a curve, where they were judged: a level, or a line where they run along x. `of`
    says whose they are."""
    for result in (numbered(result, grid) for result in test.results):
        if result["subject"] != name or x not in result["extent"]:
            continue
        only_first = f" (first {MOST_LIMITS} points)" if len(result["limits"]) >= MOST_LIMITS else ""
        for side, key, word in ((-1, "low", "lower limit"), (1, "high", "upper limit")):
            texts: set[str] = set()
            for line in limit_lines(result, grid, x, key):
                xs, ys = _shown([a for a, _ in line], shown[0]), _shown([b for _, b in line], shown[1])
                axes.plot(
                    xs, ys, color=LIMIT, linewidth=1.4, linestyle=(0, (6, 3)), zorder=4,
                    marker="_" if len(line) == 1 else None, markersize=9,
                )  # fmt: skip
                height = f" {units.plain_number(float(ys[0]), 5)}" if len(set(ys.tolist())) == 1 else ""
                text = word + of + height + only_first
                if text not in texts:  # once for a limit in several runs
                    end = -1 if side * (ys[-1] - ys[0]) > 0 else 0  # where the line does not run through its text
                    axes.annotate(
                        text, (float(xs[end]), float(ys[end])), (-2 if end else 2, 3.5 * side),
                        color=LIMIT, textcoords="offset points", fontsize=8.5,
                        va="bottom" if side > 0 else "top", ha="right" if end else "left",
                    )  # fmt: skip
                texts.add(text)
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
        label=f"failed ({result['failed']})"
        + (f", first {len(failing)} marked" if len(failing) < result["failed"] else ""),
    )


def _label(axes: Axes, names: list[str], unit: Unit, *, is_right: bool) -> None:
    axes.set_ylabel(f"{', '.join(names)} in {unit.symbol}" if unit.symbol else ", ".join(names))
    if not is_right:
        axes.yaxis.set_label_coords(-0.088, 0.5)  # all figures of a report alike, whatever their numbers
    axes.margins(x=0.02, y=0.08)


def _label_x(axes: Axes, figure: dict[str, Any], grid: Grid, unit: Unit) -> None:
    axes.set_xlabel(f"{figure['x']} in {unit.symbol}" if unit.symbol else figure["x"])
    labels = _meta(grid, figure["x"])["labels"]
    if labels:  # points of texts stand side by side
        axes.set_xticks(range(len(labels)), labels)
    elif is_log_spaced(grid.column(figure["x"])) and not unit.offset:
        axes.set_xscale("log")
        plain = FuncFormatter(lambda value, _: units.plain_number(value, 4))
        axes.xaxis.set_major_formatter(plain)
        low, high = axes.get_xlim()
        axes.xaxis.set_minor_formatter(plain if high / low < 30 else NullFormatter())
        axes.xaxis.set_minor_locator(LogLocator(subs=(2, 3, 5) if high / low < 30 else (2, 3, 4, 5, 6, 7, 8, 9)))
        axes.grid(True, which="minor", linewidth=0.3)


def _legend(drawn: list[Axes], figure: dict[str, Any]) -> None:
    lines = [line for axes in drawn for line in axes.get_lines() if str(line.get_label())[:1] not in ("", "_")]
    if lines:
        drawn[0].legend(
            lines, [str(line.get_label()) for line in lines], title=figure["by"] or None, loc="center left",
            bbox_to_anchor=(1.01 if len(drawn) == 1 else 1.14, 0.5), alignment="left",
        )  # fmt: skip
