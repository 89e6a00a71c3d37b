"""What is computed from a record and the stimulus that was played, or from two records of it: each function takes the
judged parts of one kind, and knows how that kind is analysed.

Times of records are counted from the begin of the stimulus. A stimulus that was shaped to make its source flat is
compared as it was declared, as if the source were flat.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals import chirps, delays, noises, sine_fit, stepped, stimuli, transfer
from ibexite.analysis.signals.chirps import Response
from ibexite.analysis.signals.records import Record, window_of
from ibexite.holes import BEYOND_RATE
from ibexite.stimulus import DISTORTIONS, RESPONSES, SHORTEST_FADE, Chirp, Placed, Stepped, Stimulus, Tones

_PIECES = 32  # of noise, without their overlap


class Distortion(NamedTuple):
    """Frequencies in Hz, shape (m,), and amplitudes of the orders 1 to n in the unit of the record, shape (m, n)."""

    frequencies: Array
    orders: Array


def response(record: Record, stimulus: Stimulus) -> Response:
    """What came back over what was played, complex, in the unit of the record over V.

    Args:
        record: of the stimulus, from before its judged parts to behind them.
        stimulus: with judged parts of one kind: stepped, chirp, noise or tones.

    Returns:
        At the steps or tones, or on even lines within the band.

    Raises:
        ValueError: no such part, several kinds, or the record does not hold it.

    Source: as told for each kind in stepped.py, chirps.py, noises.py and sine_fit.py.
    """
    parts = stimulus.of_one_kind(*RESPONSES)
    kind = parts[0].part.kind
    if kind == "stepped":
        found = stepped.steps(record, parts, stimulus.rate)
        return Response(found.frequencies, found.phasors[:, 0] / _step_amplitudes(parts))
    (placed,) = parts
    played = stimuli.of_part(placed, stimulus.rate, {})
    if kind == "chirp":
        return chirps.response(record, placed, stimulus.rate, played, tail=tail_of(placed, stimulus))
    if kind == "noise":
        same_rate = played if record.rate == stimulus.rate else _resampled(played, stimulus.rate, record.rate)
        return _of_noise(record, Record(same_rate, record.rate, placed.begin / stimulus.rate), placed, stimulus).of_h1()
    against = _tones(Record(played, stimulus.rate, placed.begin / stimulus.rate), placed, stimulus.rate)
    found_tones = _tones(record, placed, stimulus.rate)
    return Response(found_tones.frequencies, found_tones.values / against.values)


def response_between(output: Record, source: Record, stimulus: Stimulus) -> Response:
    """One record over another one of the same play, complex, in the unit of the first over that of the second.

    Args, Returns, Raises: as `response`.
    """
    parts = stimulus.of_one_kind(*RESPONSES)
    kind = parts[0].part.kind
    if kind == "stepped":
        a, b = (stepped.steps(record, parts, stimulus.rate) for record in (output, source))
        return Response(a.frequencies, a.phasors[:, 0] / b.phasors[:, 0])
    (placed,) = parts
    if kind == "chirp":
        return chirps.response(output, placed, stimulus.rate, source, tail=tail_of(placed, stimulus))
    if kind == "noise":
        return _of_noise(output, source, placed, stimulus).of_h1()
    tones_out, tones_in = (_tones(record, placed, stimulus.rate) for record in (output, source))
    return Response(tones_out.frequencies, tones_out.values / tones_in.values)


def coherence(output: Record, source: Record, stimulus: Stimulus) -> Response:
    """How far two records of noise hang together, from 0 to 1, on even lines within its band.

    Raises:
        ValueError: no noise is judged, or a record does not hold it.
    """
    (placed,) = stimulus.of_one_kind("noise")
    found = _of_noise(output, source, placed, stimulus)
    return Response(found.frequencies, found.coherence)


def harmonics(record: Record, stimulus: Stimulus, *, orders: int) -> Distortion:
    """Amplitudes of the harmonics at each frequency that was played; NaN for orders beyond half the rate.

    Args:
        record: of the stimulus.
        stimulus: with judged stepped parts, or a rising chirp.
        orders: the highest order.

    Raises:
        ValueError: as `response`.
    """
    parts = stimulus.of_one_kind(*DISTORTIONS)
    if isinstance(parts[0].part, Chirp):
        tail = tail_of(parts[0], stimulus)
        return Distortion(*chirps.harmonics(record, parts[0], stimulus.rate, orders=orders, tail=tail))
    found = stepped.steps(record, parts, stimulus.rate, orders=orders)
    return Distortion(found.frequencies, np.abs(found.phasors))


def distortion(record: Record, stimulus: Stimulus, *, first: int = 2, last: int = 10) -> Response:
    """Harmonics of the orders from `first` to `last` over the fundamental, a plain ratio at each frequency that was
    played; NaN where not even the first of them lies below half the rate. Orders beyond it are left out.

    Raises:
        ValueError: the orders are none, or as `response`.

    Source: as tones.thd; high orders alone show rub and loose parts: S. Temme, Audio Distortion Measurements (1992).
    """
    if not 2 <= first <= last:
        raise ValueError(f"harmonics of orders {first} to {last} are none: from 2 on")
    found = harmonics(record, stimulus, orders=last)
    wanted = found.orders[:, first - 1 :]
    sums = np.sqrt(np.nansum(wanted**2, axis=1)) / found.orders[:, 0]
    return Response(found.frequencies, np.where(np.isnan(wanted[:, 0]), BEYOND_RATE, sums))


def one_order(record: Record, stimulus: Stimulus, order: int) -> Response:
    """One harmonic over the fundamental, a plain ratio at each frequency that was played; NaN where it lies beyond half
    the rate. Raises ValueError as `distortion`."""
    return distortion(record, stimulus, first=order, last=order)


def residual(record: Record, stimulus: Stimulus, *, orders: int = 10) -> stepped.Residual:
    """What is left of judged stepped parts without tone and harmonics: see stepped.residual."""
    return stepped.residual(record, stimulus.of_one_kind("stepped"), stimulus.rate, orders=orders)


def burst_times(record: Record, stimulus: Stimulus, *, orders: int = 10) -> Array:
    """When bursts begin in judged stepped parts: see stepped.burst_times."""
    return stepped.burst_times(record, stimulus.of_one_kind("stepped"), stimulus.rate, orders=orders)


def residual_wave(record: Record, stimulus: Stimulus, *, orders: int = 10) -> Array:
    """The same as a waveform: see stepped.residual_wave."""
    return stepped.residual_wave(record, stimulus.of_one_kind("stepped"), stimulus.rate, orders=orders)


def polarity(record: Record, stimulus: Stimulus) -> float:
    """1 if the record has the sign of what was played, -1 if it is turned round, NaN if that cannot be told: see
    transfer.polarity. Of a stimulus that was shaped it is what was really played that counts: sizes that were made even
    would not show the phase that belongs to them."""
    found = response(record, stimulus)
    gain = 1.0 if stimulus.gain is None else stimuli.gain_at(found.frequencies, stimulus.gain)
    return transfer.polarity(found.frequencies, found.values / gain)


def only_part(record: Record, stimulus: Stimulus) -> Record:
    """The samples of a record while the judged parts are played; they stand one behind another.

    Raises:
        ValueError: no part is judged, parts that are do not stand together, or the record does not hold them.
    """
    judged = [placed for placed in stimulus.placed if placed.part.is_judged]
    if not judged:
        raise ValueError(f"no part of {stimulus.name} is judged")
    for before, after in zip(judged, judged[1:], strict=False):
        if before.begin + before.count != after.begin:
            raise ValueError(f"{before.part.name} and {after.part.name} do not stand one behind another: name one part")
    end = judged[-1].begin + judged[-1].count
    return window_of(record, judged[0].begin / stimulus.rate, end / stimulus.rate)


def tail_of(placed: Placed, stimulus: Stimulus) -> float:
    """How long in s silence follows a part: what rings on in it still belongs to the part."""
    seconds, has_come = 0.0, False
    for other in stimulus.placed:
        if has_come and other.part.kind != "silence":
            break
        seconds += other.count / stimulus.rate if has_come else 0.0
        has_come = has_come or other == placed
    return seconds


def _step_amplitudes(parts: tuple[Placed, ...]) -> Array:
    found = []
    for placed in parts:
        assert isinstance(placed.part, Stepped)
        found += [stimuli.amplitude_of(placed.part.level)] * len(placed.part.frequencies)
    return np.array(found)


class _Noise(NamedTuple):
    frequencies: Array
    h1: Array
    coherence: Array

    def of_h1(self) -> Response:
        return Response(self.frequencies, self.h1)


def _of_noise(output: Record, source: Record, placed: Placed, stimulus: Stimulus) -> _Noise:
    """Estimates within the band, with the delay between the two taken off before and put back after."""
    begin, end = placed.begin / stimulus.rate, (placed.begin + placed.count) / stimulus.rate
    first = window_of(source, begin, end)
    late = delays.delay(window_of(output, begin, end).values, first.values, output.rate)
    shift = 0.0 if math.isnan(late) else round(late * output.rate) / output.rate
    shift = max(0.0, min(shift, tail_of(placed, stimulus) + (end - begin) / 4))
    second = window_of(output, begin + shift, min(end + shift, output.end))
    count = min(len(first.values), len(second.values))
    resolution = _PIECES / (end - begin)
    found = noises.estimates(second.values[:count], first.values[:count], output.rate, resolution=resolution)
    assert placed.part.band is not None
    low, high = placed.part.band
    inside = (found.frequencies >= low + resolution) & (found.frequencies <= high - resolution)
    if not inside.any():
        raise ValueError(f"no line lies within {low:g} to {high:g} Hz, they are {resolution:.4g} Hz apart")
    f = found.frequencies[inside]
    return _Noise(f, found.h1[inside] * np.exp(-2j * math.pi * f * shift), found.coherence[inside])


def _resampled(played: Array, rate: float, other_rate: float) -> Array:
    """Samples at another rate, by the Fourier sum: exact for what lies below half of both rates."""
    count = round(len(played) / rate * other_rate)
    spectrum = np.fft.rfft(played)
    wanted = count // 2 + 1
    fitted = spectrum[:wanted] if wanted <= len(spectrum) else np.pad(spectrum, (0, wanted - len(spectrum)))
    return np.fft.irfft(fitted, count) * (count / len(played))


def _tones(record: Record, placed: Placed, rate: float) -> Response:
    """The phasors of several tones, against the begin of the part, between its fades."""
    part = placed.part
    assert isinstance(part, Tones)
    begin = placed.begin / rate
    fading = 1.5 * SHORTEST_FADE * part.duration
    window = window_of(record, begin + fading, begin + part.duration - fading)
    frequencies = np.array(part.frequencies)
    found = sine_fit.fit(window.values, record.rate, frequencies).phasors
    return Response(frequencies, found * np.exp(-2j * math.pi * frequencies * (window.start - begin)))
