"""Edges of waveforms: when they pass a level, and what follows from that. Holes are not looked over: a waveform with
NaN has no edges to be trusted.

Source of all: IEC 60469:2013 (transitions, pulses and related waveforms): states by the histogram (5.2.2), reference
levels of 10, 50 and 90 % of the amplitude, instants between samples by straight lines.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array

_BINS = 256  # of the histogram of levels
_HYSTERESIS = 0.1  # of the amplitude, on both sides of a level: what turns round within is noise


class States(NamedTuple):
    """The two levels between which a waveform changes, in its unit."""

    low: float
    high: float

    @property
    def amplitude(self) -> float:
        """From one to the other."""
        return self.high - self.low

    def level(self, share: float) -> float:
        """The level at a share of the amplitude, 0 for the low state."""
        return self.low + share * self.amplitude


class Glitches(NamedTuple):
    """Pulses that are too narrow: how many, when the first begins and how wide the narrowest is, both in s (NaN if
    there is none)."""

    number: int
    first: float
    narrowest: float


def states(y: Array) -> States:
    """The low and the high state: the fullest bins of a histogram in the lower and in the upper half of its range.

    A waveform without flat parts, such as a sine, has its states near its ends.

    Args:
        y: in any unit, shape (n,).

    Raises:
        ValueError: it does not change, or has holes.

    Source: IEC 60469:2013, 5.2.2.1 (shorth and histogram methods).

    >>> wave = np.tile([0.0, 0.0, 0.0, 3.0, 3.0], 100)
    >>> states(wave)
    States(low=0.0, high=3.0)
    """
    if np.isnan(y).any():
        raise ValueError("it has holes")
    low, high = float(y.min()), float(y.max())
    if low == high:
        raise ValueError("it does not change")
    place = np.minimum(((y - low) * (_BINS / (high - low))).astype(int), _BINS - 1)
    counts = np.bincount(place, minlength=_BINS)
    half = _BINS // 2
    # A state is flat: of bins that are equally full the outer ones, not those of a ramp between.
    lower = int(np.argmax(counts[:half]))
    upper = _BINS - 1 - int(np.argmax(counts[half:][::-1]))
    return States(float(y[place == lower].mean()), float(y[place == upper].mean()))


def passes(y: Array, level: float, hysteresis: float) -> tuple[Array, Array]:
    """Where a waveform passes a level for good: positions in samples, between two of them by a straight line, and
    whether it rises there; both of shape (k,), by turns rising and falling.

    Args:
        y: in any unit, shape (n,), without holes.
        level, hysteresis: in the unit of y; what turns round within level +/- hysteresis does not count.
    """
    side = np.where(y > level + hysteresis, 1, np.where(y < level - hysteresis, -1, 0))
    outside = np.flatnonzero(side)
    turns = np.flatnonzero(np.diff(side[outside]))
    found, rising = np.empty(len(turns)), side[outside[turns + 1]] > 0
    for i, (begin, end, up) in enumerate(zip(outside[turns], outside[turns + 1], rising, strict=True)):
        piece = y[begin : end + 1]
        # The last time that it passes the level before it is beyond the hysteresis.
        k = int(np.flatnonzero((piece[:-1] < level) & (piece[1:] >= level) if up
                               else (piece[:-1] > level) & (piece[1:] <= level))[-1])  # fmt: skip
        found[i] = begin + k + (level - piece[k]) / (piece[k + 1] - piece[k])
    return found, rising


def middles(y: Array) -> tuple[Array, Array, States]:
    """Where a waveform passes the middle between its states, as `passes`, with the states."""
    found = states(y)
    return *passes(y, found.level(0.5), _HYSTERESIS * found.amplitude), found


def _rises(y: Array) -> Array:
    places, rising, _ = middles(y)
    return places[rising]


def frequency(y: Array, rate: float) -> float:
    """The mean frequency in Hz: whole periods between the first and the last rise through the middle; NaN with less
    than one period.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.

    Raises:
        ValueError: it does not change, or has holes.

    Source: IEC 60469:2013, 5.6 (waveform period and frequency).

    >>> t = np.arange(1000) / 1e4
    >>> round(frequency(np.sin(2 * np.pi * 123.4 * t + 1), 1e4), 2)
    123.4
    """
    rises = _rises(y)
    return math.nan if len(rises) < 2 else float((len(rises) - 1) * rate / (rises[-1] - rises[0]))


def period(y: Array, rate: float) -> float:
    """The mean period in s: 1 / frequency(y, rate)."""
    return 1 / frequency(y, rate)


def duty(y: Array, rate: float) -> float:
    """The share of a period that a waveform spends above the middle, over whole periods; NaN with less than one.

    Args, Raises: as `frequency`. Source: IEC 60469:2013, 5.6.3 (duty factor).

    >>> round(duty(np.tile([0.0, 0.0, 0.0, 1.0], 50), 1.0), 6)
    0.25
    """
    places, rising, _ = middles(y)
    rises = np.flatnonzero(rising)
    if len(rises) < 2:
        return math.nan
    places = places[rises[0] : rises[-1] + 1]
    return float((places[1::2] - places[:-1:2]).sum() / (places[-1] - places[0]))


def rise_time(y: Array, rate: float, *, low: float = 0.1, high: float = 0.9) -> float:
    """The duration in s of the first rising transition, from `low` to `high` of the amplitude; NaN if it never rises.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.
        low, high: shares of the amplitude.

    Raises:
        ValueError: it does not change, or has holes.

    Source: IEC 60469:2013, 5.3.3 (transition duration).

    >>> ramp = np.concatenate([np.zeros(50), np.linspace(0, 1, 101), np.ones(50)])
    >>> round(rise_time(ramp, 100.0), 6)
    0.8
    """
    return _transition(y, rate, low, high, is_rising=True)


def fall_time(y: Array, rate: float, *, low: float = 0.1, high: float = 0.9) -> float:
    """The same of the first falling transition."""
    return _transition(y, rate, low, high, is_rising=False)


def _transition(y: Array, rate: float, low: float, high: float, *, is_rising: bool) -> float:
    places, rising, found = middles(y)
    mine = places[rising == is_rising]
    if not len(mine):
        return math.nan
    middle = int(mine[0])
    first, last = (low, high) if is_rising else (high, low)
    sign = 1 if is_rising else -1
    before, after = sign * (y[: middle + 1] - found.level(first)), sign * (y[middle:] - found.level(last))
    starts, ends = np.flatnonzero(before <= 0), np.flatnonzero(after >= 0)
    if not len(starts) or not len(ends):
        return math.nan
    a, b = int(starts[-1]), int(ends[0])
    following = sign * (y[a + 1] - found.level(first))
    begin = a + before[a] / (before[a] - following)
    end = middle + b - (after[b] / (after[b] - after[b - 1]) if b else 0.0)
    return float(end - begin) / rate


def overshoot(y: Array, rate: float) -> float:
    """How far the first transition goes beyond its state, as a share of the amplitude; 0 if it does not; NaN without a
    transition.

    Args, Raises: as `frequency`. Source: IEC 60469:2013, 5.3.5 (overshoot percentage).

    >>> round(overshoot(np.concatenate([np.zeros(50), [1.2], np.ones(100)]), 1.0), 3)
    0.2
    """
    places, rising, found = middles(y)
    if not len(places):
        return math.nan
    begin, end = math.ceil(places[0]), len(y) if len(places) < 2 else math.ceil(places[1])
    beyond = y[begin:end].max() - found.high if rising[0] else found.low - y[begin:end].min()
    return max(0.0, float(beyond)) / found.amplitude


def settling_time(y: Array, rate: float, band: float) -> float:
    """The time in s from the middle of the first transition until a waveform stays within a band around its end.

    Args:
        y: in any unit, shape (n,); its last tenth is taken for what it settles to.
        rate: in Hz.
        band: half width of the band as a share of the amplitude, > 0.

    Returns:
        NaN if it does not stay within the band, or has no transition.

    Raises:
        ValueError: it does not change, has holes, or the band is none.

    Source: IEC 60469:2013, 5.3.7 (settling duration).

    >>> t = np.arange(0, 10, 1e-3)
    >>> step = np.where(t < 1, 0, 1 - np.exp(-(t - 1)))
    >>> round(settling_time(step, 1e3, 0.02), 1)  # ln(50) - ln(2) s
    3.2
    """
    if not band > 0:
        raise ValueError(f"a band of {band:g} is none")
    places, _, found = middles(y)
    if not len(places):
        return math.nan
    final = float(y[-max(1, len(y) // 10) :].mean())
    outside = np.flatnonzero(np.abs(y - final) > band * found.amplitude)
    if not len(outside) or outside[-1] >= len(y) - max(1, len(y) // 10):
        return math.nan
    k = int(outside[-1])
    edge = final + math.copysign(band * found.amplitude, y[k] - final)
    return max(0.0, float(k + (edge - y[k]) / (y[k + 1] - y[k]) - places[0]) / rate)


def jitter(y: Array, rate: float, *, of: str = "time") -> float:
    """RMS jitter of the rising edges in s; NaN with fewer than three.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.
        of: time: of the instants, against an even clock that fits best; period: of the periods against their mean;
            cycle: from each period to the next.

    Raises:
        ValueError: it does not change, has holes, or there is no such kind.

    Source: IEC 60469:2013, 5.9 (jitter); JESD65B (period and cycle-to-cycle jitter).

    >>> t = np.arange(200_000) / 1e6
    >>> wave = np.sin(2 * np.pi * 1e3 * t + 0.02 * np.sin(2 * np.pi * 40 * t))
    >>> bool(abs(jitter(wave, 1e6) / (0.02 / np.sqrt(2) / (2 * np.pi * 1e3)) - 1) < 0.01)
    True
    """
    rises = _rises(y) / rate
    if of not in ("time", "period", "cycle"):
        raise ValueError(f"there is no jitter of {of!r}, only of time, period and cycle")
    if len(rises) < 3:
        return math.nan
    if of == "time":
        n = np.arange(len(rises)) - (len(rises) - 1) / 2
        deviation = rises - rises.mean()
        left = deviation - (n @ deviation) / (n @ n) * n
        return math.sqrt(float(np.mean(left**2)))
    periods = np.diff(rises)
    return float(np.std(periods)) if of == "period" else math.sqrt(float(np.mean(np.diff(periods) ** 2)))


def glitches(y: Array, rate: float, narrower_than: float) -> Glitches:
    """Pulses, up or down, that are narrower than a time at the middle between the states.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.
        narrower_than: in s, more than one sampling interval: what is as short falls between the samples.

    Raises:
        ValueError: it does not change, or has holes; a time so short that no glitch would be seen.

    >>> wave = np.repeat([0.0, 1.0, 0.0, 1.0, 0.0], [50, 50, 3, 50, 50])
    >>> glitches(wave, 1.0, 10.0)
    Glitches(number=1, first=99.5, narrowest=3.0)
    """
    if not narrower_than * rate > 1:
        raise ValueError(f"pulses of {narrower_than:g} s are not seen, with {1 / rate:g} s between the samples")
    places, _, _ = middles(y)
    widths = np.diff(places) / rate
    narrow = np.flatnonzero(widths < narrower_than)
    if not len(narrow):
        return Glitches(0, math.nan, math.nan)
    return Glitches(len(narrow), float(places[narrow[0]] / rate), float(widths[narrow].min()))
