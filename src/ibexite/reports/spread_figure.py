"""Pictures of many units: their curves with mean, spread and proposed lines; or single values, a row for each."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import matplotlib
import numpy as np
from matplotlib.figure import Figure

from ibexite import units
from ibexite.analysis.curve import Array
from ibexite.reports.drawing import FAIL, FAMILY, LIMIT, STYLE
from ibexite.reports.of_units import CurvesOfUnits, ValuesOfUnits
from ibexite.values import Quantity
from ibexite.wording import is_log_spaced

MOST_DRAWN = 200  # curves; of more every so many
SIZE, DPI = (11.0, 6.0), 116


def draw_curves(picture: CurvesOfUnits, path: Path) -> None:
    """Writes a PNG with the curves of many units."""
    curves = picture.curves
    with matplotlib.rc_context(STYLE):
        figure = Figure(figsize=SIZE, dpi=DPI)
        axes = figure.add_axes((0.075, 0.1, 0.905, 0.8))
        order = np.argsort(curves.x, kind="stable")
        x_unit = units.unit_for(*curves.x, dimension=curves.axis_kind.dimension, shown=curves.axis_kind.shown)
        ends = (float(np.nanmin(curves.low)), float(np.nanmax(curves.high)))
        unit = units.unit_for(*ends, dimension=curves.kind.dimension, shown=curves.kind.shown)
        xs = _shown(curves.x[order], x_unit)

        def line(values: Array) -> Array:
            return _shown(values[order], unit)

        step = max(1, len(curves.values) // MOST_DRAWN)
        for number, values in enumerate(curves.values):
            if number in picture.outlying or number % step:
                continue
            axes.plot(xs, line(values), color=FAMILY[1], linewidth=0.7, alpha=0.35)
        for number, at in enumerate(picture.outlying):
            label = "like no other" if number == 0 else None
            axes.plot(xs, line(curves.values[at]), color=FAIL, linewidth=1.2, linestyle="--", label=label)
        axes.plot([], [], color=FAMILY[1], linewidth=0.9, label=f"{len(curves.values)} units")
        axes.plot(xs, line(curves.mean), color=FAMILY[0], linewidth=2.0, label="mean")
        for number, edge in enumerate((curves.low, curves.high)):
            label = "proposed limits" if number == 0 else None
            axes.plot(xs, line(edge), color=LIMIT, linewidth=1.8, linestyle=(0, (6, 3)), label=label)
        if is_log_spaced(curves.x.tolist()):
            axes.set_xscale("log")
        axes.set_xlabel(f"{curves.axis} in {x_unit.symbol}" if x_unit.symbol else curves.axis)
        axes.set_ylabel(f"{curves.name} in {unit.symbol}" if unit.symbol else curves.name)
        axes.margins(x=0.01)
        axes.legend(loc="best", frameon=True, framealpha=0.9, edgecolor="none", handlelength=3.2)
        _titles(figure, picture.title, picture.told)
        figure.savefig(path, format="png")


def draw_values(picture: ValuesOfUnits, path: Path) -> None:
    """Writes a PNG with a row for each value: all units on the scale of its own limits."""
    with matplotlib.rc_context(STYLE):
        height = max(3.0, 0.42 * len(picture.rows) + 1.4)
        figure = Figure(figsize=(SIZE[0], height), dpi=DPI)
        axes = figure.add_axes((0.24, 0.5 / height, 0.53, 1 - 1.3 / height))
        for number, (name, kind, values, low, high) in enumerate(picture.rows):
            y = len(picture.rows) - 1 - number
            ends = _ends(values, low, high)
            spread = (np.asarray(values) - ends[0]) / (ends[1] - ends[0]) * 2 - 1
            jitter = 0.16 * np.sin(2.4 * np.arange(len(spread)))  # the same picture each time
            beyond = (spread < -1 - 1e-9) & (low is not None) | (spread > 1 + 1e-9) & (high is not None)
            axes.plot(spread[~beyond], y + jitter[~beyond], ".", color=FAMILY[1], markersize=4.5, alpha=0.6)
            axes.plot(spread[beyond], y + jitter[beyond], "x", color=FAIL, markersize=6, markeredgewidth=1.6)
            for place, limit in ((-1, low), (1, high)):
                if limit is not None:
                    axes.plot([place, place], [y - 0.36, y + 0.36], color=LIMIT, linewidth=2.0)
            axes.text(-0.03, y, name, transform=axes.get_yaxis_transform(), ha="right", va="center")
            axes.text(1.03, y, _limits_said(kind, low, high), transform=axes.get_yaxis_transform(), va="center")
        axes.set_ylim(-0.6, len(picture.rows) - 0.4)
        axes.set_yticks([])
        axes.set_xticks([-1, 0, 1], ["lower limit", "middle", "upper limit"])
        axes.grid(axis="y", visible=False)
        _titles(figure, picture.title, picture.told)
        figure.savefig(path, format="png")


def _ends(values: Sequence[float], low: float | None, high: float | None) -> tuple[float, float]:
    """The ends of the scale of a row: its limits, in place of one that is not there what the values reach."""
    begin = low if low is not None else min(values)
    end = high if high is not None else max(values)
    return (begin, end) if end > begin else (begin - 0.5, begin + 0.5)


def _limits_said(kind: Quantity, low: float | None, high: float | None) -> str:
    ends = [x for x in (low, high) if x is not None]
    unit = units.unit_for(*ends, dimension=kind.dimension, shown=kind.shown)
    low_text, high_text = ("" if x is None else units.plain_number(unit.from_base(x), 6) for x in (low, high))
    if low is not None and high is not None:
        return f"{low_text} to {high_text} {unit.symbol}".rstrip()
    return f">= {low_text} {unit.symbol}".rstrip() if low is not None else f"<= {high_text} {unit.symbol}".rstrip()


def _shown(values: Array, unit: units.Unit) -> Array:
    shown: Array = (values - float(unit.offset)) / float(unit.factor)
    return shown


def _titles(figure: Figure, title: str, told: str) -> None:
    height = figure.get_size_inches()[1]
    figure.text(0.012, 1 - 0.28 / height, title, fontsize=12, fontweight="bold", va="center")
    figure.text(0.012, 1 - 0.56 / height, told, fontsize=9, va="center", color="#5d6670")
