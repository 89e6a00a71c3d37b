"""Draws maps: values over two axes, as shades of one colour."""

from __future__ import annotations

import numpy as np
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import Figure

from ibexite.analysis.curve import Array
from ibexite.reports.model import MapSpec

SIZE, FRAME, BAR = (8.6, 3.9), (0.085, 0.13, 0.745, 0.83), (0.855, 0.13, 0.018, 0.83)
# Light to dark blue, even in lightness, so that it can be read in print; holes stay white.
SHADES = LinearSegmentedColormap.from_list("shades", ["#f4f8fb", "#b9d4e6", "#6ba3c7", "#2f6f9f", "#12355b", "#081a2e"])
DEEP = 90.0  # of levels in dB: so far below the highest nothing more is told apart


def map_figure(spec: MapSpec) -> Figure:
    """The picture, without its text."""
    canvas = Figure(figsize=SIZE)
    axes = canvas.add_axes(FRAME)
    axes.grid(False)
    low, high = _extent(spec)
    drawn = axes.pcolormesh(
        _edges(spec.xs, is_log=spec.is_log_x), _edges(spec.ys, is_log=spec.is_log_y), spec.values.T, cmap=SHADES,
        vmin=low, vmax=high, rasterized=True,
    )  # fmt: skip
    if spec.is_log_x:
        axes.set_xscale("log")
    if spec.is_log_y:
        axes.set_yscale("log")
    axes.set_xlabel(spec.x_label)
    axes.set_ylabel(spec.y_label)
    bar = canvas.colorbar(drawn, cax=canvas.add_axes(BAR))
    bar.ax.grid(False)
    bar.outline.set_visible(False)
    bar.set_label(spec.label)
    return canvas


def _extent(spec: MapSpec) -> tuple[float | None, float | None]:
    """The ends of the shades; of levels no more than can be told apart."""
    values = spec.values[np.isfinite(spec.values)]
    if not len(values):
        return None, None
    low, high = float(values.min()), float(values.max())
    return (max(low, high - DEEP) if "dB" in spec.label.rpartition(" in ")[2] else low), high


def _edges(points: Array, *, is_log: bool) -> Array:
    """The edges of the cells around points that rise, shape (n + 1,)."""
    where = np.log(points) if is_log else points
    middles = (where[1:] + where[:-1]) / 2
    edges = np.concatenate([[2 * where[0] - middles[0]], middles, [2 * where[-1] - middles[-1]]])
    return np.exp(edges) if is_log else edges
