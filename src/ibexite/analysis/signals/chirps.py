"""Chirps: response, impulse response and harmonics from one logarithmic chirp.

The linear response is the spectrum of the record over that of what was played. Harmonics are taken apart in time: the
k-th one is a chirp that came L ln k earlier, L being the time in which the frequency grows by e.

Source: A. Farina, Simultaneous measurement of impulse response and distortion with a swept-sine technique, AES
Convention 108 (2000); A. Novak, P. Lotton, L. Simon, Synchronized swept-sine, J. Audio Eng. Soc. 63 (2015).
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.fast_fourier import padded, zoomed
from ibexite.analysis.signals.records import Record
from ibexite.analysis.signals.stimuli import amplitude_of, fade, of_part
from ibexite.holes import BEYOND_RATE
from ibexite.stimulus import FADE, Chirp, Placed

_BEFORE = 0.1  # of the time between two orders: what of an order comes before its place


class Response(NamedTuple):
    """Frequencies in Hz, evenly spaced, and complex values there, both of shape (m,)."""

    frequencies: Array
    values: Array


def lines(record: Record, begin: float, end: float, size: int) -> Array:
    """The Fourier sum of what of a record lies between two times in s, on size // 2 + 1 lines from 0 to half its rate;
    phases are counted from `begin`."""
    inside = record.values[_index(record, begin) : _index(record, end)]
    first = record.start + _index(record, begin) / record.rate
    frequencies = np.arange(size // 2 + 1) * (record.rate / size)
    turned: Array = np.fft.rfft(inside, size) * np.exp(-2j * math.pi * frequencies * (first - begin))
    return turned


def _index(record: Record, time: float) -> int:
    return min(max(math.ceil((time - record.start) * record.rate - 1e-6), 0), len(record.values))


def played_lines(played: Array, rate: float, other_rate: float, size: int) -> Array:
    """The Fourier sum of samples that were played at a rate, on the lines of a record with another one; scaled as if
    they had been taken at that rate. Shape (size // 2 + 1,)."""
    count = size // 2 + 1
    if rate == other_rate:
        return np.fft.rfft(played, size)
    return zoomed(played, rate, 0.0, other_rate / size, count) * (other_rate / rate)


def response(record: Record, placed: Placed, rate: float, played: Array | Record, *, tail: float) -> Response:
    """The complex response on the lines within the band of a chirp, or of any other part that fills its band.

    Args:
        record: what came back, in any unit.
        placed: the part.
        rate: of the stimulus in Hz.
        played: its samples, shape (placed.count,), or another record, to which the first is compared.
        tail: how long in s what follows the part still belongs to it.

    Returns:
        Lines whose distance is that of the part's duration with its tail, or closer.

    Raises:
        ValueError: the record ends before the part, or no line lies in the band.
    """
    begin, size = whole_part(record, placed, rate, tail)
    end = begin + placed.count / rate + tail
    if isinstance(played, Record):
        below = lines(played, begin, end, size)
    else:
        below = played_lines(played, rate, record.rate, size)
    inside = _band(placed, record.rate, size)
    frequencies = np.arange(size // 2 + 1) * (record.rate / size)
    return Response(frequencies[inside], lines(record, begin, end, size)[inside] / below[inside])


def whole_part(record: Record, placed: Placed, rate: float, tail: float) -> tuple[float, int]:
    """When a part begins in s, and the length of its transform. Raises ValueError: the record has not all of it."""
    begin = placed.begin / rate
    if record.start > begin + 1e-9 or record.end < begin + placed.count / rate - 1e-9:
        raise ValueError(
            f"the record lasts from {record.start:.4g} to {record.end:.4g} s,"
            f" {placed.part.name} from {begin:.4g} to {begin + placed.count / rate:.4g} s"
        )
    return begin, padded(math.ceil((placed.count / rate + tail) * record.rate))


def _band(placed: Placed, rate: float, size: int) -> slice:
    assert placed.part.band is not None
    low, high = placed.part.band
    first, last = math.ceil(low * size / rate - 1e-9), math.floor(high * size / rate + 1e-9)
    if last <= first or last > size // 2:
        raise ValueError(f"no lines from {low:g} to {high:g} Hz at a rate of {rate:g} Hz")
    return slice(first, last + 1)


def impulse(found: Response) -> tuple[Array, float]:
    """The impulse response of a band: real samples, shape (n,), and their rate in Hz.

    The band is faded at its ends by a cosine over a twentieth, so that the impulse does not ring longer than it must.
    The samples begin at half their duration before time 0: index n // 2 is time 0.
    """
    step = float(found.frequencies[1] - found.frequencies[0])
    first, count = round(float(found.frequencies[0]) / step), len(found.values)
    size = padded(2 * (first + count))
    spectrum = np.zeros(size // 2 + 1, dtype=complex)
    spectrum[first : first + count] = found.values * fade(count, max(1, count // 20))
    return np.fft.fftshift(np.fft.irfft(spectrum, size)), size * step


def harmonics(record: Record, placed: Placed, rate: float, *, orders: int, tail: float) -> tuple[Array, Array]:
    """Frequencies of the chirp in Hz, shape (m,), and the amplitudes of orders 1 to `orders` in the unit of the record
    while it passes them, shape (m, orders); NaN where an order lies beyond half the rate.

    Args:
        record, placed, rate, tail: as `response`; the part is a rising chirp.
        orders: the highest order, of which each has its own place in time.

    Raises:
        ValueError: the chirp falls, or the record ends before it.

    Source: Novak (2015), (12) to (17).
    """
    part = placed.part
    assert isinstance(part, Chirp)
    if part.last < part.first:
        raise ValueError("harmonics are taken apart of a chirp that rises")
    begin = placed.begin / rate
    played = Record(np.pad(of_part(placed, rate, {}), (0, round(tail * rate))), rate, begin)
    apart, alone = (_apart(one, placed, rate, tail) for one in (record, played))
    scale = part.time_constant
    points = np.geomspace(part.first, part.last, max(8, math.ceil(48 * math.log2(part.last / part.first))) + 1)
    found = np.full((len(points), orders), BEYOND_RATE)
    for k in range(1, orders + 1):
        inside = points * k < record.rate / 2 * 0.98
        if inside.any():
            found[inside, k - 1] = _order(apart, record.rate, scale, k, points[inside] * k)
    # What the ends of the band do to the fundamental they do to what was played as well.
    found[:, 0] *= amplitude_of(part.level) / _order(alone, rate, scale, 1, points)
    return points, found


def _apart(record: Record, placed: Placed, rate: float, tail: float) -> Array:
    """A record of a chirp with an impulse for each order, one behind another; time 0, at the first sample, is that of
    the fundamental."""
    part = placed.part
    assert isinstance(part, Chirp)
    begin, size = whole_part(record, placed, rate, tail)
    size = padded(2 * size)
    frequencies = np.arange(size // 2 + 1) * (record.rate / size)
    reached = FADE * part.duration  # phases are to be counted from where the chirp passes its first frequency
    spectrum = lines(record, begin, begin + placed.count / rate + tail, size)
    turned = spectrum * np.exp(2j * math.pi * frequencies * reached)
    return np.fft.irfft(turned * _inverse(frequencies, part.first, part.time_constant), size)


def _inverse(frequencies: Array, first: float, scale: float) -> Array:
    """What makes an impulse of an endless chirp of amplitude 1 (Novak 2015, (16)), but for a phase of 45 deg."""
    with np.errstate(all="ignore"):
        found: Array = 2 * np.sqrt(frequencies / scale) * np.exp(
            -2j * math.pi * frequencies * scale * (1 - np.log(frequencies / first))
        )  # fmt: skip
    found[0] = 0
    return found


def _order(apart: Array, rate: float, scale: float, order: int, frequencies: Array) -> Array:
    """The size of what lies at the place of one order, at frequencies in Hz."""
    place = -scale * math.log(order)
    after = scale * math.log(order / (order - 1)) if order > 1 else scale * math.log(2)
    before = scale * math.log((order + 1) / order)
    first, last = round((place - _BEFORE * before) * rate), round((place + (1 - 1.5 * _BEFORE) * after) * rate)
    mine = np.take(apart, np.arange(first, last), mode="wrap")
    edge = max(1, round(_BEFORE * before * rate / 2))
    mine = mine * fade(len(mine), min(edge, len(mine) // 4))
    size = padded(max(len(mine), 1 << 14))
    sizes = np.abs(np.fft.rfft(mine, size)) / rate
    found: Array = np.interp(frequencies, np.arange(len(sizes)) * (rate / size), sizes)
    return found
