"""The waveforms of a curve along time, each with its own begin, step and end."""

from __future__ import annotations

import math

import numpy as np

from ibexite.analysis.curve import Array, Curve, Sampling, no_point
from ibexite.analysis.signals.records import Record
from ibexite.errors import SequenceError

_EVEN = 1e-6  # of a step: by so much steps of a waveform may differ


def records_of(curve: Curve, axis: str) -> tuple[list[Record], dict[str, Array], tuple[int, ...]]:
    """The waveforms of a curve, one for each point of its other axes; these axes, and their shape. One of a turn has
    its own begin, step and end: where it has no point, others alone have one. What is a hole everywhere has none.

    Raises:
        SequenceError: the steps of one of them are not even.
    """
    if curve.sampling is not None:
        return [_record(curve.values, curve.sampling)], {}, ()
    points = curve.axes[axis]
    moved = np.moveaxis(curve.values, list(curve.axes).index(axis), -1)
    rest = {name: own for name, own in curve.axes.items() if name != axis}
    rows = moved.reshape(math.prod(moved.shape[:-1]), moved.shape[-1])
    records, whole_axis = [], None
    for row in rows:
        there = ~no_point(row)
        if np.isnan(row).all():  # or there is not a single point
            records.append(Record(row, 1.0, 0.0))
        elif there.all():
            whole_axis = whole_axis or _even_axis(points, axis)
            records.append(_record(row, whole_axis))
        else:
            records.append(_record(row[there], _even_axis(points[there], axis)))
    return records, rest, moved.shape[:-1]


def _record(values: Array, sampling: Sampling) -> Record:
    rate = 1 / sampling.step
    rate = float(round(rate)) if abs(rate - round(rate)) < 1e-9 * rate else rate
    return Record(values, rate, sampling.start)


def _even_axis(points: Array, axis: str) -> Sampling:
    """Raises SequenceError: its steps are not even."""
    steps = np.diff(points)
    if len(points) < 2 or not steps[0] > 0 or np.abs(steps - steps[0]).max() > _EVEN * steps[0]:
        raise SequenceError(
            f"this is no waveform: its points along {axis} are not evenly spaced",
            remedy="Take a record of an instrument, or one of a turn of the loop.",
        )
    return Sampling(axis, float(points[0]), float((points[-1] - points[0]) / (len(points) - 1)))


def points_among(points: Array, record: Record) -> Array:
    """Those of some points, rising, at which a record has its values, but for what rounding does to them."""
    own = record.start + np.arange(len(record.values)) / record.rate
    above = np.clip(np.searchsorted(points, own), 1, len(points) - 1)
    return np.where(own - points[above - 1] <= points[above] - own, points[above - 1], points[above])
