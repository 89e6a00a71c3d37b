"""Draws the pictures of a report as SVG: what they show is in their specification, how it looks is decided here."""

from __future__ import annotations

import io
from typing import Any

import matplotlib
from matplotlib.axes import Axes
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from ibexite import units
from ibexite.reports.model import CurveLine, FigureSpec, LimitLine, Panel

SIZE = (8.6, 3.5)  # inches
FRAME = (0.085, 0.145, 0.745, 0.81)  # left, bottom, width, height; the legend stands to the right
FRAME_OF_TWO = (0.085, 0.145, 0.655, 0.81)  # with a second unit on the right
MOST_MARKED = 40  # points of a curve that are marked one by one
FAIL, LIMIT, TEXT, RULE = "#b3261e", "#7a5c00", "#2a2e33", "#d9dde2"
# From dark to light, so that the order of a family is seen in print too.
FAMILY = ("#12355b", "#1f5f8b", "#2a868f", "#3f9f73", "#7fae4a", "#b5a53a", "#c98a3a", "#b86a4b")
STYLE: Any = {  # Matplotlib wants each of its names as a literal
    "svg.fonttype": "none", "svg.hashsalt": "ibexite", "font.family": "sans-serif", "font.size": 9.5,
    "text.color": TEXT, "axes.labelcolor": TEXT, "axes.edgecolor": "#9aa1a9", "axes.linewidth": 0.8,
    "xtick.color": TEXT, "ytick.color": TEXT, "xtick.major.width": 0.8, "ytick.major.width": 0.8,
    "axes.grid": True, "grid.color": RULE, "grid.linewidth": 0.6, "axes.spines.top": False, "axes.spines.right": False,
    "xtick.major.pad": 3.5, "xtick.minor.pad": 5.0,  # minor ticks are shorter: all numbers stand on one line
    "axes.formatter.useoffset": False, "legend.frameon": False, "legend.fontsize": 8.5, "legend.title_fontsize": 8.5,
}  # fmt: skip


def draw(spec: FigureSpec) -> str:
    """The SVG of a picture."""
    with matplotlib.rc_context(STYLE):
        canvas = Figure(figsize=SIZE)
        left = canvas.add_axes(FRAME if len(spec.panels) == 1 else FRAME_OF_TWO)
        drawn: list[Axes] = []
        for panel in spec.panels:
            axes = left if not drawn else _right_of(left)
            _draw_panel(axes, panel, is_right=bool(drawn))
            drawn.append(axes)
        _label_x(left, spec)
        _legend(drawn, spec)
        return _svg(canvas)


def _draw_panel(axes: Axes, panel: Panel, *, is_right: bool) -> None:
    for curve in panel.curves:
        _draw_curve(axes, curve)
    for limit in panel.limits:
        _draw_limit(axes, limit)
    for marks in panel.failing:
        size, width = (7, 1.8) if len(marks.xs) <= MOST_MARKED else (3.5, 1.0)
        axes.plot(
            marks.xs, marks.ys, linestyle="none", marker="x", color=FAIL, markersize=size, markeredgewidth=width,
            zorder=5, label=marks.label,
        )  # fmt: skip
    axes.set_ylabel(panel.label)
    if not is_right:
        axes.yaxis.set_label_coords(-0.088, 0.5)  # all figures of a report alike, whatever their numbers
    axes.margins(x=0.02, y=0.08)


def _draw_curve(axes: Axes, curve: CurveLine) -> None:
    axes.plot(
        curve.xs, curve.ys, color=FAMILY[round(curve.shade * (len(FAMILY) - 1))], linewidth=1.3,
        linestyle=("-", "--", ":")[curve.dash], marker="o" if len(curve.xs) <= MOST_MARKED else None, markersize=2.6,
        label=curve.label or "_",
    )  # fmt: skip


TEXT_REACH = 0.2  # of the length of a limit line, along which its text may stand


def _draw_limit(axes: Axes, limit: LimitLine) -> None:
    xs, ys, side = limit.xs, limit.ys, 1 if limit.is_upper else -1
    axes.plot(
        xs, ys, color=LIMIT, linewidth=1.4, linestyle=(0, (6, 3)), zorder=4,
        marker="_" if len(xs) == 1 else None, markersize=9,
    )  # fmt: skip
    if limit.text:
        end = -1 if side * (ys[-1] - ys[0]) > 0 else 0
        reach = TEXT_REACH * abs(xs[-1] - xs[0])
        beside = [side * y for x, y in zip(xs, ys, strict=True) if abs(x - xs[end]) <= reach]
        axes.annotate(  # beyond all of the line that runs along its text
            limit.text, (float(xs[end]), side * float(max(beside))), (-2 if end else 2, 3.5 * side),
            color=LIMIT, textcoords="offset points", fontsize=8.5,
            va="bottom" if side > 0 else "top", ha="right" if end else "left",
        )  # fmt: skip


def _right_of(left: Axes) -> Axes:
    right = left.twinx()
    right.grid(False)
    right.spines["right"].set_visible(True)
    return right


def _svg(canvas: Figure) -> str:
    out = io.StringIO()
    # Not by savefig, which draws everything twice.
    FigureCanvasSVG(canvas).print_svg(out, metadata={"Date": None, "Creator": None})  # type: ignore[no-untyped-call]
    text = out.getvalue()
    return text[text.index("<svg") :]


def _label_x(axes: Axes, spec: FigureSpec) -> None:
    axes.set_xlabel(spec.x_label)
    if spec.x_words:
        axes.set_xticks(range(len(spec.x_words)), spec.x_words)
    elif spec.is_log:
        axes.set_xscale("log")
        plain = FuncFormatter(lambda value, _: units.plain_number(value, 4))
        axes.xaxis.set_major_formatter(plain)
        low, high = axes.get_xlim()
        axes.xaxis.set_minor_formatter(plain if high / low < 30 else NullFormatter())
        axes.xaxis.set_minor_locator(LogLocator(subs=(2, 3, 5) if high / low < 30 else (2, 3, 4, 5, 6, 7, 8, 9)))
        axes.grid(True, which="minor", linewidth=0.3)


def _legend(drawn: list[Axes], spec: FigureSpec) -> None:
    lines = [line for axes in drawn for line in axes.get_lines() if str(line.get_label())[:1] not in ("", "_")]
    if lines:
        drawn[0].legend(
            lines, [str(line.get_label()) for line in lines], title=spec.legend_title or None, loc="center left",
            bbox_to_anchor=(1.01 if len(drawn) == 1 else 1.14, 0.5), alignment="left",
        )  # fmt: skip
