"""Functions of waveforms as compiled code calls them: the plain functions of analysis/signals on labelled curves.

A waveform is a curve along `time` with even steps, a spectrum or response one along `freq`. A waveform with a hole
gives a hole, bad or never measured as it is, unless only a part of it is looked at.
"""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable
from typing import Any

import numpy as np

from ibexite.analysis.curve import Array, ArrayCurve, Curve, SampledCurve, Sampling, StreamedCurve, never
from ibexite.analysis.pointwise import level_of_pressure as _level_of_pressure
from ibexite.analysis.pointwise import level_of_voltage as _level_of_voltage
from ibexite.analysis.signals import bands, by_part, chirps, delays, edges, spectra, tones, transfer, weighting, whole
from ibexite.analysis.signals.records import Record
from ibexite.analysis.stacking import stacked
from ibexite.analysis.waveform_rows import points_among, records_of
from ibexite.errors import SequenceError
from ibexite.holes import BAD, NEVER_MEASURED, hole_of
from ibexite.stimulus import Stimulus
from ibexite.untyped import Measured

_NEAR = 1e-3  # of a sample, to which times of long recordings are known
FREQ, TIME, ORDER, BURST = "freq", "time", "order", "burst"


def _hole(record: Record, looks_at_parts: bool = False) -> float | None:
    """The hole that a waveform stands for which has one (or only such, where parts of it are looked at); None for any
    other."""
    lost = np.isnan(record.values)
    if not len(lost):
        return NEVER_MEASURED
    if not (lost.all() if looks_at_parts else lost.any()):
        return None
    return NEVER_MEASURED if never(record.values).all() else BAD


def _is_bad(given: Iterable[Any]) -> bool:
    """Whether one of the arguments is a bad value: by nothing that is compared with it anything would be found."""
    return any(isinstance(a, float) and not math.isfinite(a) for a in given)


def _carried_out(name: str, function: Callable[..., Any], *given: Any, **options: Any) -> Any:
    if _is_bad(given):
        raise SequenceError(f"{name}: one of its arguments has no value", remedy="What it depends on is bad.")
    try:
        with np.errstate(all="ignore"):
            return function(*given, **options)
    except ValueError as error:
        raise SequenceError(f"{name}: {error}", remedy="Look at the record.") from None


def _finite(value: Any) -> Any:
    """What is too large for a number is a hole."""
    beyond = np.isinf(value)
    return np.where(beyond, math.nan, value)[()] if beyond.any() else value


def single(name: str, function: Callable[..., Any], *, looks_at_parts: bool = False) -> Callable[..., Any]:
    """A function of a record that gives a value: for each waveform of a curve. Those that look at parts say themselves
    where a hole is in their way."""

    def apply(curve: Curve, axis: str, *arguments: Measured, field: str = "", **options: Measured) -> Measured:
        records, rest, shape = records_of(curve, axis)
        found = []
        for record in records:
            value = BAD if _is_bad(arguments) else _hole(record, looks_at_parts)
            if value is None:
                made = _carried_out(name, function, record, *arguments, **options)
                value = float(_finite(getattr(made, field) if field else made))
            found.append(value)
        return ArrayCurve(rest, np.array(found).reshape(shape)) if rest else found[0]

    return apply


def over(
    axis_made: str, name: str, function: Callable[..., Any], *, looks_at_parts: bool = False
) -> Callable[..., Any]:
    """A function of a record that gives a curve, its points and values: for each waveform of a curve."""

    def apply(curve: Curve, axis: str, *arguments: Measured, field: str = "", **options: Measured) -> Measured:
        records, rest, shape = records_of(curve, axis)
        others = [records_of(a, axis)[0] if isinstance(a, Curve) else [a] * len(records) for a in arguments]
        points: Array | None = None
        rows: list[Array | None] = []
        for record, *given in zip(records, *others, strict=True):
            heard = [record, *(one for one in given if isinstance(one, Record))]
            if any(_hole(one, looks_at_parts) is not None for one in heard):
                rows.append(None)
                continue
            made = _carried_out(name, function, record, *given, **options)
            mine = made[0]
            if points is not None and not np.array_equal(points, mine):
                raise SequenceError(
                    f"{name}: the waveforms of the turns are not of one length and rate",
                    remedy="Compute it in the loop, for each turn by itself.",
                )
            points = mine
            rows.append(_finite(getattr(made, field) if field else made[1]))
        if points is None:
            return ArrayCurve({**rest, axis_made: np.zeros(1)}, np.full((*shape, 1), BAD))
        if not rest and rows[0] is not None and _is_even(points):
            return SampledCurve(Sampling(axis_made, float(points[0]), float(points[1] - points[0])), rows[0])
        values = np.array([np.full(len(points), BAD) if row is None else row for row in rows])
        return ArrayCurve({**rest, axis_made: points}, values.reshape(*shape, len(points)))

    return apply


def _is_even(points: Array) -> bool:
    """Whether points lie evenly. They do, or their ratios are even: some of them tell."""
    count = len(points)
    if count < 64:  # of a few points the points themselves are as short
        return False
    start, step = float(points[0]), float(points[1] - points[0])
    return all(abs(points[k] - start - k * step) <= 1e-6 * abs(step) for k in (count // 3, count // 2, count - 1))


def keeping(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A function of a record that gives a waveform, a Record: for a single waveform, or for each of a curve."""

    def apply(curve: Curve, axis: str, *arguments: Measured, **options: Measured) -> Curve:
        records, rest, shape = records_of(curve, axis)
        if not rest and not len(records[0].values):
            return curve  # never measured
        if not rest:
            made = _carried_out(name, function, records[0], *arguments, **options)
            return SampledCurve(Sampling(axis, made.start, 1 / made.rate), made.values)
        points, found = curve.axes[axis], {}
        for place, record in zip(np.ndindex(shape), records, strict=True):
            if np.isnan(record.values).all():
                found[place] = ArrayCurve({axis: points}, record.values)
                continue
            made = _carried_out(name, function, record, *arguments, **options)
            found[place] = ArrayCurve({axis: points_among(points, made)}, made.values)
        return stacked(rest, [axis], found)

    return apply


# --- along freq ------------------------------------------------------------------------------------------------------


def _responses(curve: Curve, axis: str) -> tuple[Array, Array, dict[str, Array], tuple[int, ...]]:
    place = list(curve.axes).index(axis)
    moved = np.moveaxis(curve.values, place, -1)
    rest = {name: points for name, points in curve.axes.items() if name != axis}
    points = curve.axes[axis]
    order = np.argsort(points, kind="stable")
    rows = moved.reshape(math.prod(moved.shape[:-1]), len(points))[:, order]
    return points[order], rows, rest, moved.shape[:-1]


def single_of_response(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A function of frequencies and values that gives a value: for each response of a curve."""

    def apply(curve: Curve, axis: str, *arguments: Measured, **options: Measured) -> Measured:
        points, rows, rest, shape = _responses(curve, axis)
        found = [_carried_out(name, function, points, row, *arguments, **options) for row in rows]
        return ArrayCurve(rest, np.array(found).reshape(shape)) if rest else float(found[0])

    return apply


def keeping_response(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A function of frequencies and values that gives values at the same frequencies: for each response of a curve."""

    def apply(curve: Curve, axis: str, *arguments: Measured, **options: Measured) -> Curve:
        points, rows, rest, shape = _responses(curve, axis)
        made = [_carried_out(name, function, points, row, *arguments, **options) for row in rows]
        back = np.argsort(np.argsort(curve.axes[axis], kind="stable"), kind="stable")
        values = np.array(made)[:, back].reshape(*shape, len(points))
        place = list(curve.axes).index(axis)
        return curve.with_values(np.moveaxis(values, -1, place))

    return apply


def of_samples(name: str, function: Callable[..., Any]) -> Callable[..., Any]:
    """A function of samples and their rate that gives a value: for each waveform of a curve."""
    return single(name, lambda record, *given: function(record.values, record.rate, *given))


def _weighting(*, a: bool = False, c: bool = False, bs468: bool = False) -> str:
    chosen = [name for name, is_chosen in (("a", a), ("c", c), ("bs468", bs468)) if is_chosen]
    if len(chosen) > 1:
        raise ValueError(f"one weighting at a time, not {' and '.join(chosen)}")
    return chosen[0] if chosen else "z"


def _noise(record: Record, **weightings: bool) -> float:
    return weighting.weighted_rms(record.values, record.rate, weighting=_weighting(**weightings))


def _self_noise(record: Record, sensitivity: float, **weightings: bool) -> float:
    return _noise(record, **weightings) / sensitivity


def _thd_n(record: Record, near: float | None = None, **weightings: bool) -> float:
    return tones.thd_n(record.values, record.rate, near, weighting=_weighting(**weightings))


def _jitter(record: Record, *, period: bool = False, cycle: bool = False) -> float:
    return edges.jitter(record.values, record.rate, of="period" if period else "cycle" if cycle else "time")


def _mixed(function: Callable[..., float]) -> Callable[..., float]:
    def found(record: Record, low: float, high: float, *, third: bool = False) -> float:
        return function(record.values, record.rate, low, high, order=3 if third else 2)

    return found


def _whole_number(value: float, what: str) -> int:
    if value != round(value) or value < 1:
        raise ValueError(f"{what} is a whole number from 1 on, not {value:g}")
    return round(value)


def _spectrum(record: Record, *, flat_top: bool = False, blackman_harris: bool = False, rectangle: bool = False) -> Any:
    shape = "flat_top" if flat_top else "blackman_harris" if blackman_harris else "rectangle" if rectangle else "hann"
    return spectra.amplitude_spectrum(record.values, record.rate, shape=shape)


def _density(record: Record, resolution: float) -> Any:
    return spectra.power_density(record.values, record.rate, resolution=resolution)


def _zoom(record: Record, low: float, high: float, step: float) -> Any:
    return spectra.zoom(record.values, record.rate, low, high, step)


def _octaves(record: Record, per_octave: float, low: float, high: float) -> Any:
    parts = _whole_number(per_octave, "the parts of an octave")
    return bands.band_values(record.values, record.rate, per_octave=parts, low=low, high=high)


def _harmonics(record: Record, orders: float, near: float | None = None) -> Any:
    highest = _whole_number(orders, "an order")
    return np.arange(1.0, highest + 1), tones.harmonics(record.values, record.rate, near, orders=highest)


def _harmonic(record: Record, part: Stimulus, order: float) -> Any:
    return by_part.one_order(record, part, _whole_number(order, "an order"))


def _high_order(record: Record, part: Stimulus, first: float, last: float) -> Any:
    return by_part.distortion(
        record, part, first=_whole_number(first, "an order"), last=_whole_number(last, "an order")
    )


def _sensitivity(frequencies: Array, values: Array, frequency: float) -> float:
    sizes = np.abs(values)
    if not frequencies[0] * (1 - 1e-9) <= frequency <= frequencies[-1] * (1 + 1e-9):
        raise ValueError(f"{frequency:g} Hz lies beyond the response, {frequencies[0]:g} to {frequencies[-1]:g} Hz")
    near = np.searchsorted(frequencies, frequency)
    around = sizes[max(0, near - 1) : near + 1]
    if np.isnan(around).any() or not (around > 0).all():
        return math.nan
    return float(np.exp(np.interp(math.log(frequency), np.log(frequencies), np.log(np.where(sizes > 0, sizes, 1.0)))))


def _impulse(curve: Curve, axis: str) -> Curve:
    def made(points: Array, row: Array) -> tuple[Array, float]:
        transfer.even_step(points)
        if np.isnan(row).any():
            raise ValueError("it has holes")
        return chirps.impulse(chirps.Response(points, row))

    points, rows, rest, shape = _responses(curve, axis)
    found = [_carried_out("impulse", made, points, row) for row in rows]
    samples, rate = found[0]
    sampling = Sampling(TIME, -(len(samples) // 2) / rate, 1 / rate)
    if not rest:
        return SampledCurve(sampling, samples)
    values = np.array([one for one, _ in found]).reshape(*shape, len(samples))
    return ArrayCurve({**rest, TIME: sampling.points(len(samples))}, values)


def _polarity(record: Record, part: Stimulus) -> float:
    """1 for yes, 0 for no, a hole where it cannot be told."""
    found = by_part.polarity(record, part)
    return found if math.isnan(found) else float(found > 0)


def _part_rms(record: Record, part: Stimulus) -> float:
    values = by_part.only_part(record, part).values
    return math.sqrt(float(np.mean((values - values.mean()) ** 2)))


def _level_of(level: Callable[[float], float]) -> Callable[..., Any]:
    return single("level_of", lambda record, part: level(_part_rms(record, part)), looks_at_parts=True)


def _cut(record: Record, begin: float, end: float) -> Record:
    first = math.ceil((begin - record.start) * record.rate - 1e-6)
    values = whole.between(record.values, record.rate, begin - record.start, end - record.start)
    return Record(values, record.rate, record.start + first / record.rate)


def _envelope(record: Record) -> Record:
    if np.isnan(record.values).any():
        return record._replace(values=np.full(len(record.values), BAD))
    return record._replace(values=whole.envelope(record.values))


def _residual_wave(record: Record, part: Stimulus) -> Record:
    return record._replace(values=by_part.residual_wave(record, part))


def _burst_times(curve: Curve, axis: str, part: Stimulus) -> Curve:
    """Over the axis `burst` (1, 2, …); turns with fewer have no point there."""
    records, rest, shape = records_of(curve, axis)
    found: dict[tuple[int, ...], Curve] = {}
    for place, record in zip(np.ndindex(shape), records, strict=True):
        hole = _hole(record, looks_at_parts=True)
        times = [hole] if hole is not None else _carried_out("burst_times", by_part.burst_times, record, part)
        found[place] = ArrayCurve({BURST: np.arange(1.0, len(times) + 1)}, np.array(times, dtype=float))
    return stacked(rest, [BURST], found) if rest else found[()]


def _delay(curve: Curve, axis: str, earlier: Curve) -> Measured:
    """Of two waveforms with one time base; what they begin at counts as well."""
    records, rest, shape = records_of(curve, axis)
    others = records_of(earlier, axis)[0]
    pairs = list(zip(records, others, strict=False))
    holes = [[hole for hole in map(_hole, pair) if hole is not None] for pair in pairs]
    heard = [pair for pair, missing in zip(pairs, holes, strict=True) if not missing]
    if len(others) != len(records) or any(abs(late.rate / early.rate - 1) > 1e-9 for late, early in heard):
        raise SequenceError("delay: the two waveforms were not sampled alike", remedy="Record both in one line.")
    found = [
        hole_of(*missing) if missing else delays.delay(late.values, early.values, late.rate) + late.start - early.start
        for (late, early), missing in zip(pairs, holes, strict=True)
    ]
    return ArrayCurve(rest, np.array(found).reshape(shape)) if rest else found[0]


def _glitches(record: Record, narrower_than: float) -> edges.Glitches:
    found = edges.glitches(record.values, record.rate, narrower_than)
    return found._replace(first=found.first + record.start)


def _band_rms(record: Record, low: float, high: float) -> float:
    return weighting.weighted_rms(record.values, record.rate, low=low, high=high)


peak = single("peak", lambda record: whole.peak(record.values))
crest = single("crest", lambda record: whole.crest(record.values))
frequency = of_samples("frequency", edges.frequency)
period = of_samples("period", edges.period)
duty = of_samples("duty", edges.duty)
rise_time = of_samples("rise_time", edges.rise_time)
fall_time = of_samples("fall_time", edges.fall_time)
overshoot = of_samples("overshoot", edges.overshoot)
settling_time = of_samples("settling_time", edges.settling_time)
jitter = single("jitter", _jitter)
glitches = single("glitches", _glitches)
delay = _delay
envelope = keeping("envelope", _envelope)
_cut_whole = keeping("cut", _cut)


def cut(curve: Curve, axis: str, begin: float, end: float) -> Curve:
    """The samples from one time to another; of a recording no more than these are read."""
    if isinstance(curve, StreamedCurve) and not _is_bad((begin, end)):
        low, high = ((t - curve.sampling.start) / curve.sampling.step for t in (begin, end))
        if 0 <= low < high <= curve.count - 1:
            return curve.part(math.ceil(low - _NEAR), math.floor(high + _NEAR) + 1)
    found: Curve = _cut_whole(curve, axis, begin, end)
    return found


def spectrogram(curve: Curve, axis: str, resolution: float) -> Curve:
    """RMS values over time and frequency; with a hole in the waveform all of it is one."""
    records, rest, _ = records_of(curve, axis)
    if rest:
        raise SequenceError(
            "spectrogram: these are several waveforms", remedy="Compute it in the loop, for each turn by itself."
        )
    record = records[0]
    hole = _hole(record)
    if hole is not None or _is_bad((resolution,)):
        return ArrayCurve({axis: np.array([record.start]), FREQ: np.zeros(1)}, np.full((1, 1), hole or BAD))
    made = _carried_out("spectrogram", spectra.spectrogram, record.values, record.rate, resolution)
    return ArrayCurve({axis: made.times + record.start, FREQ: made.frequencies}, made.values)


spectrum = over(FREQ, "spectrum", _spectrum)
density = over(FREQ, "density", _density)
zoom = over(FREQ, "zoom", _zoom)
strongest = of_samples("strongest", spectra.peak)
band_rms = single("band_rms", _band_rms)
octaves = over(FREQ, "octaves", _octaves)

thd = of_samples("thd", tones.thd)
thd_n = single("thd_n", _thd_n)
sinad = of_samples("sinad", tones.sinad)
snr = of_samples("snr", tones.snr)
sfdr = of_samples("sfdr", tones.sfdr)
enob = of_samples("enob", tones.enob)
harmonics = over(ORDER, "harmonics", _harmonics)
modulation_distortion = single("modulation_distortion", _mixed(tones.modulation_distortion))
difference_distortion = single("difference_distortion", _mixed(tones.difference_distortion))
noise = single("noise", _noise)
hum = of_samples("hum", tones.hum)
dynamic_range = of_samples("dynamic_range", tones.dynamic_range)

response = over(FREQ, "response", by_part.response, looks_at_parts=True)
response_between = over(FREQ, "response", by_part.response_between, looks_at_parts=True)
coherence = over(FREQ, "coherence", by_part.coherence, looks_at_parts=True)
polarity = single("polarity", _polarity, looks_at_parts=True)
impulse = _impulse
gate = keeping_response("gate", transfer.gated)
group_delay = keeping_response("group_delay", transfer.group_delay)
minimum_phase = keeping_response("minimum_phase", transfer.minimum_phase)
sensitivity = single_of_response("sensitivity", _sensitivity)

thd_of_part = over(FREQ, "thd", by_part.distortion, looks_at_parts=True)
harmonic = over(FREQ, "harmonic", _harmonic, looks_at_parts=True)
high_order = over(FREQ, "high_order", _high_order, looks_at_parts=True)
residual = over(FREQ, "residual", by_part.residual, looks_at_parts=True)
burst_times = _burst_times
residual_wave = keeping("residual_wave", _residual_wave)
part_of = keeping("part_of", by_part.only_part)
level_of_voltage = _level_of(_level_of_voltage)
level_of_pressure = _level_of(_level_of_pressure)
self_noise = single("self_noise", _self_noise)
