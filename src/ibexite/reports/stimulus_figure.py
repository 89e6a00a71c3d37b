"""A picture of a stimulus: its waveform with what is judged of it marked, and its spectrogram. PNG or SVG."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.figure import Figure

from ibexite.analysis.curve import Array
from ibexite.reports.timeline import INK, LINE, RULE, save_picture

JUDGED = "#e6eef3"
MOST_POINTS = 4000  # of a waveform, as pairs of its least and greatest values
FLOOR = -70.0  # dB below the strongest, where a spectrogram ends


def draw_stimulus(
    samples: Array, rate: float, judged: Sequence[tuple[str, float, float]], title: str, path: Path
) -> None:
    """Writes the picture; its kind is that of the file name.

    Args:
        samples: in V, shape (n,).
        rate: in Hz.
        judged: the parts that are judged: name, begin and duration in s.

    Raises:
        RecordsError: it cannot be written.
    """
    figure = Figure(figsize=(11.0, 5.6), dpi=110)
    wave, bands = figure.subplots(2, 1, sharex=True, height_ratios=[1, 1.25])
    for name, begin, seconds in judged:
        wave.axvspan(begin * 1e3, (begin + seconds) * 1e3, color=JUDGED, linewidth=0)
        wave.annotate(
            name, ((begin + seconds / 2) * 1e3, 1.0), xycoords=("data", "axes fraction"), ha="center", va="bottom",
            fontsize=8, color=INK,
        )  # fmt: skip
    low, high, step = extremes(samples, MOST_POINTS)
    times = np.arange(len(low)) * step / rate * 1e3
    wave.fill_between(times, low, high, color=LINE, linewidth=0.4)
    wave.set_ylabel("V", fontsize=9, color=INK)
    _spectrogram(bands, samples, rate)
    bands.set_xlabel("time in ms; shaded: judged", fontsize=9, color=INK)
    for axes in (wave, bands):
        axes.tick_params(labelsize=8, colors=INK)
        for side in ("top", "right"):
            axes.spines[side].set_visible(False)
    wave.grid(color=RULE, linewidth=0.6)
    wave.margins(x=0)
    figure.suptitle(title, fontsize=10, color=INK, x=0.5, y=0.995, va="top")
    figure.subplots_adjust(left=0.07, right=0.985, top=0.9, bottom=0.09, hspace=0.12)
    save_picture(figure, path)


def extremes(samples: Array, most: int) -> tuple[Array, Array, int]:
    """The least and greatest values of pieces of a waveform, shapes (k,), and how many samples a piece has: so many
    pieces at most."""
    step = max(1, -(-len(samples) // most))
    padded = np.pad(samples, (0, -len(samples) % step), mode="edge").reshape(-1, step)
    return padded.min(axis=1), padded.max(axis=1), step


def _spectrogram(axes: object, samples: Array, rate: float) -> None:
    """The levels over time and frequency, from 0 dB at the strongest."""
    size = 1 << max(6, min(11, int(np.log2(max(len(samples) / 100, 64)))))
    count = max(1, (len(samples) - size) // (size // 4) + 1)
    pieces = np.lib.stride_tricks.sliding_window_view(np.pad(samples, (0, size)), size)[:: size // 4][:count]
    sizes = np.abs(np.fft.rfft(pieces * np.hanning(size), axis=1)).T
    top = sizes.max()
    levels = np.maximum(20 * np.log10(np.maximum(sizes, 1e-12) / top) if top else np.full(sizes.shape, FLOOR), FLOOR)
    extent = (0, (count * size // 4 + size) / rate * 1e3, 0, rate / 2e3)
    axes.imshow(  # type: ignore[attr-defined]
        levels, origin="lower", aspect="auto", extent=extent, cmap="Blues", interpolation="nearest", vmin=FLOOR, vmax=0
    )
    axes.set_ylabel("kHz", fontsize=9, color=INK)  # type: ignore[attr-defined]
