"""Draws the pictures of a report as SVG: what they show is in their specification, how it looks is decided here."""

from __future__ import annotations

import io
from dataclasses import replace
from typing import Any

import matplotlib
import numpy as np
from matplotlib.axes import Axes
from matplotlib.backends.backend_svg import FigureCanvasSVG
from matplotlib.figure import Figure
from matplotlib.ticker import FuncFormatter, LogLocator, MultipleLocator, NullFormatter

from ibexite import units
from ibexite.reports.map_drawing import map_figure
from ibexite.reports.model import PAIR, POLAR, CurveLine, FigureSpec, LimitLine, MapSpec, Panel

SIZE = (8.6, 3.5)  # inches
FRAME = (0.085, 0.145, 0.745, 0.81)  # left, bottom, width, height; the legend stands to the right
FRAME_OF_TWO = (0.085, 0.145, 0.655, 0.81)  # with a second unit on the right
SIZE_OF_PAIR, FRAMES_OF_PAIR = (8.6, 4.8), ((0.085, 0.51, 0.745, 0.46), (0.085, 0.105, 0.745, 0.36))
SIZE_OF_CIRCLE, FRAME_OF_CIRCLE = (8.6, 4.8), (0.12, 0.07, 0.6, 0.8)
MOST_MARKED = 40  # points of a curve that are marked one by one
FAIL, LIMIT, TEXT, RULE, JUDGED = "#b3261e", "#7a5c00", "#2a2e33", "#d9dde2", "#e7eff6"
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


def draw(spec: FigureSpec | MapSpec) -> str:
    """The SVG of a picture."""
    with matplotlib.rc_context(STYLE):
        if isinstance(spec, MapSpec):
            return _svg(map_figure(spec))
        if spec.form == POLAR:
            return _svg(_polar(spec))
        return _svg(_pair(spec) if spec.form == PAIR else _over_one_x(spec))


def _over_one_x(spec: FigureSpec) -> Figure:
    canvas = Figure(figsize=SIZE)
    left = canvas.add_axes(FRAME if len(spec.panels) == 1 else FRAME_OF_TWO)
    drawn: list[Axes] = []
    for panel in spec.panels:
        axes = left if not drawn else _right_of(left)
        _draw_panel(axes, panel, is_right=bool(drawn))
        drawn.append(axes)
    _label_x(left, spec)
    _mark_spans(left, spec)
    _legend(drawn, spec)
    return canvas


def _pair(spec: FigureSpec) -> Figure:
    """One above the other, over one x: a size, and its phase."""
    canvas = Figure(figsize=SIZE_OF_PAIR)
    upper = canvas.add_axes(FRAMES_OF_PAIR[0])
    lower = canvas.add_axes(FRAMES_OF_PAIR[1], sharex=upper)
    for axes, panel in zip((upper, lower), spec.panels, strict=True):
        _draw_panel(axes, panel, is_right=False)
    _label_x(lower, spec)
    upper.tick_params(which="both", labelbottom=False)
    upper.set_xlabel("")
    if spec.is_log:
        upper.grid(True, which="minor", linewidth=0.3)
    _degrees(lower)
    _legend([upper], spec)
    return canvas


def _degrees(axes: Axes) -> None:
    """Whole parts of a turn on an axis of a phase, as many as can be read."""
    low, high = axes.get_ylim()
    step = next((step for step in (15, 30, 45, 90, 180, 360) if (high - low) / step <= 6), 720)
    axes.yaxis.set_major_locator(MultipleLocator(step))


def _polar(spec: FigureSpec) -> Figure:
    """Around a circle: 0 at the top, to the right what is above 0."""
    canvas = Figure(figsize=SIZE_OF_CIRCLE)
    axes = canvas.add_axes(FRAME_OF_CIRCLE, projection="polar")
    axes.set_theta_zero_location("N")  # type: ignore[attr-defined]
    axes.set_theta_direction(-1)  # type: ignore[attr-defined]
    (panel,) = spec.panels
    turned = [replace(curve, xs=curve.xs * spec.radians) for curve in panel.curves]
    limits = [_along_circle(limit, spec.radians) for limit in panel.limits]
    failing = [replace(marks, xs=marks.xs * spec.radians) for marks in panel.failing]
    _draw_panel(axes, replace(panel, curves=turned, limits=limits, failing=failing), is_right=True)
    axes.set_ylabel("")
    low, high = _extent([curve.ys for curve in turned])
    axes.set_ylim(low - 0.1 * (high - low) if low < 0 else 0.0, high + 0.05 * (high - low))
    axes.set_rlabel_position(100)  # type: ignore[attr-defined]
    axes.tick_params(axis="y", labelsize=8)
    axes.set_title(panel.label, fontsize=9.5, loc="left", x=-0.22)
    _legend([axes], spec)
    return canvas


def _along_circle(limit: LimitLine, radians: float) -> LimitLine:
    """A limit with so many points that it runs around and not across."""
    order = np.argsort(limit.xs)
    xs, ys = limit.xs[order] * radians, limit.ys[order]
    points = np.union1d(xs, np.linspace(xs[0], xs[-1], 181))
    return replace(limit, xs=points, ys=np.interp(points, xs, ys))


def _extent(curves: list[Any]) -> tuple[float, float]:
    values = [float(value) for ys in curves for value in ys if value == value]
    return (min(values), max(values)) if values else (0.0, 1.0)


def _mark_spans(axes: Axes, spec: FigureSpec) -> None:
    """Shades stretches of x, each with its name above."""
    if not spec.spans:
        return
    low, high = axes.get_xlim()
    for span in spec.spans:
        axes.axvspan(span.begin, span.end, color=JUDGED, linewidth=0, zorder=0)
        axes.annotate(
            span.label, ((span.begin + span.end) / 2, 1.0), xycoords=("data", "axes fraction"), ha="center",
            va="bottom", fontsize=8,
        )  # fmt: skip
    axes.set_xlim(low, high)


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
    if panel.is_log:
        axes.set_yscale("log")
        axes.yaxis.set_major_formatter(FuncFormatter(lambda value, _: units.plain_number(value, 4)))
        axes.yaxis.set_minor_formatter(NullFormatter())
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
