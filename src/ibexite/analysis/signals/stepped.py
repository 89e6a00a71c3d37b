"""Stepped sines: what is in a record while each step is played. The fundamental and all harmonics come from one fit
over whole cycles of the settled part of a step.

A record is its samples, shape (n,), its rate in Hz and its start: the time in s of its first sample, counted from the
first sample of the stimulus. The two rates may differ.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals import sine_fit
from ibexite.analysis.signals.records import Record, window_of
from ibexite.holes import BEYOND_RATE, NO_TONE
from ibexite.stimulus import Placed, Stepped

_BESIDE = 10  # orders that are fitted in any case, so that they do not leak into the fundamental
_SETTLING = 0.4  # of a step, before bursts in it are looked for
_BURST = 8.0  # times the usual size of what is left, which noise does not reach: from there on it is a burst


class Steps(NamedTuple):
    """What was found in each step.

    frequencies: in Hz, in the order in which they were played, shape (k,). phasors: complex amplitudes of the orders 1
    to n, against a sine that begins with the step, shape (k, n); NaN where an order lies beyond half the rate.
    """

    frequencies: Array
    phasors: Array


class Residual(NamedTuple):
    """What is left of each step without its tone and harmonics; all of shape (k,).

    frequencies: in Hz. rms: in the unit of the record. crest: peak over RMS. bursts: how many; NaN where there are none
    and the tone does not stand out of what is left: nothing was heard that could be without them. first: when the first
    one comes, in s from the begin of the stimulus, NaN without one.
    """

    frequencies: Array
    rms: Array
    crest: Array
    bursts: Array
    first: Array


def steps(record: Record, parts: Sequence[Placed], rate: float, *, orders: int = 1) -> Steps:
    """Fundamental and harmonics of each step.

    Args:
        record: of any unit.
        parts: stepped ones, in their places.
        rate: of the stimulus in Hz.
        orders: the highest order that is wanted.

    Raises:
        ValueError: the record does not hold a step, or its rate is too low for it.

    Source: sine_fit.fit_harmonics, over whole cycles.
    """
    frequencies, phasors = [], []
    for begin, frequency, cycles in _each(parts, rate):
        used = max(2, cycles // 2)
        guard = (cycles - used) // 10  # what comes late does not bring the next step into the window
        last = begin + (cycles - guard) / frequency
        window = window_of(record, last - used / frequency, last)
        many = min(max(orders, _BESIDE), math.ceil(record.rate / 2 / frequency) - 1, (len(window.values) - 1) // 2)
        if many < 1:
            raise ValueError(f"{frequency:g} Hz lies beyond half the rate of the record, {record.rate / 2:g} Hz")
        found = sine_fit.harmonic_phasors(window.values, record.rate, frequency, many)
        turned = found * np.exp(-2j * math.pi * frequency * (window.start - begin) * np.arange(1, many + 1))
        frequencies.append(frequency)
        phasors.append(np.concatenate([turned, np.full(max(0, orders - many), BEYOND_RATE)])[:orders])
    return Steps(np.array(frequencies), np.array(phasors))


def residual(record: Record, parts: Sequence[Placed], rate: float, *, orders: int = 10) -> Residual:
    """What loose parts and clicks leave beside the tone and its harmonics of each step.

    The fit takes orders 1 to `orders`; a burst is where the envelope of what is left, over a quarter of a cycle, is
    more than eight times its median, and nothing is one that lies below a thousandth of the tone's.

    Args, Raises: as `steps`.

    Source: P. Brunet, S. Temme, Enhancements for loose particle detection in loudspeakers, AES Convention 116 (2004):
    transients of the envelope of a residual, not its energy.
    """
    rows = []
    for frequency, left, rms, times in _heard(record, parts, rate, orders):
        crest = float(np.abs(left).max()) / rms if rms else math.nan
        first = times[0] if len(times) else math.nan
        rows.append((frequency, rms, crest, NO_TONE if np.isnan(times).any() else len(times), first))
    return Residual(*np.array(rows, dtype=float).T)


def burst_times(record: Record, parts: Sequence[Placed], rate: float, *, orders: int = 10) -> Array:
    """When the bursts of all steps begin, as `residual` counts them: in s from the begin of the stimulus, rising, shape
    (k,); behind them a NaN for each step in which nothing was heard that could be without.

    Args, Raises: as `steps`.
    """
    found = [times for *_, times in _heard(record, parts, rate, orders)]
    return np.sort(np.concatenate(found)) if found else np.empty(0)


def _heard(
    record: Record, parts: Sequence[Placed], rate: float, orders: int
) -> Iterator[tuple[float, Array, float, Array]]:
    """Of each step its frequency, what is left without tone and harmonics, the RMS value of that, and when bursts in it
    begin: one NO_TONE where there are none and the tone does not stand out of what is left."""
    for begin, frequency, cycles in _each(parts, rate):
        left, tone, start = _left(record, begin, frequency, cycles, orders)
        rms = math.sqrt(float(np.mean(left**2)))
        places = bursts(left, max(1, round(record.rate / frequency / 4)), 1e-3 * tone)
        is_heard = bool(len(places)) or tone / math.sqrt(2) > rms
        yield frequency, left, rms, start + places / record.rate if is_heard else np.array([NO_TONE])


def residual_wave(record: Record, parts: Sequence[Placed], rate: float, *, orders: int = 10) -> Array:
    """What is left of the record without tone and harmonics, in its unit, shape (n,); 0 where no step is settled."""
    found = np.zeros(len(record.values))
    for begin, frequency, cycles in _each(parts, rate):
        left, _, start = _left(record, begin, frequency, cycles, orders)
        at = round((start - record.start) * record.rate)
        found[at : at + len(left)] = left
    return found


def bursts(left: Array, quarter: int, least: float) -> Array:
    """The samples at which bursts begin, shape (k,): the envelope, a mean of sizes over so many samples, goes beyond
    eight times its median and `least`."""
    size = np.convolve(np.abs(left), np.ones(quarter) / quarter, mode="same")
    above = size > max(_BURST * float(np.median(size)), least)
    return np.flatnonzero(above & ~np.concatenate([[False], above[:-1]]))


def _left(record: Record, begin: float, frequency: float, cycles: int, orders: int) -> tuple[Array, float, float]:
    """What is left in the settled part of a step, the amplitude of the tone, and when it begins."""
    settled = min(math.ceil(cycles * _SETTLING), cycles - 2)
    window = window_of(record, begin + settled / frequency, begin + cycles / frequency)
    many = min(orders, math.ceil(record.rate / 2 / frequency) - 1, (len(window.values) - 1) // 4)
    found = sine_fit.fit_harmonics(window.values, record.rate, frequency, max(many, 1))
    return found.left, abs(found.phasors[0]), window.start


def _each(parts: Sequence[Placed], rate: float) -> Iterator[tuple[float, float, int]]:
    """Of each step when it begins in s, its frequency and its cycles."""
    for placed in parts:
        assert isinstance(placed.part, Stepped)
        for begin, frequency, cycles in placed.part.steps:
            yield placed.begin / rate + begin, frequency, cycles
