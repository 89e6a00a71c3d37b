"""Sines that fit samples best: all analyses of tones begin here.

Frequencies need not fit into the window: sines, cosines and the mean are solved for together (least squares).

Source: IEEE Std 1057-2017, Annex A (sine fits with known and with unknown frequency).
"""

from __future__ import annotations

import math
from collections.abc import Callable
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.spectra import peak

_KEPT = 16_384  # samples times orders, up to which sines are kept: 0.25 MB
_AT_ONCE = 16_384  # samples for which sines are held: they stay in the processor's cache


class Fit(NamedTuple):
    """Tones in a waveform.

    phasors: complex amplitude of each frequency, shape (k,): amplitude (not RMS) and the phase of a sine at the first
    sample. mean: in the unit of y. left: what is left of y, shape (n,).
    """

    phasors: Array
    mean: float
    left: Array


def fit(y: Array, rate: float, frequencies: Array) -> Fit:
    """The tones of known frequencies that fit best.

    Args:
        y: in any unit, shape (n,).
        rate: in Hz.
        frequencies: in Hz, shape (k,), different ones between 0 and half the rate.

    Raises:
        ValueError: more unknowns than samples.

    >>> t = np.arange(100) / 1e3
    >>> found = fit(0.5 + 2 * np.sin(2 * np.pi * 33 * t + 0.1), 1e3, np.array([33.0]))
    >>> np.abs(found.phasors).round(6), np.angle(found.phasors).round(6), round(found.mean, 6)
    (array([2.]), array([0.1]), 0.5)
    """
    turns = 2 * math.pi / rate * np.asarray(frequencies, dtype=float)
    return _solved(y, turns, lambda n: np.exp(1j * np.outer(turns, n)))


def fit_harmonics(y: Array, rate: float, frequency: float, orders: int) -> Fit:
    """The same for a fundamental in Hz and its harmonics, orders 1 to `orders`."""
    turn = 2 * math.pi * frequency / rate
    if len(y) * orders <= _KEPT:
        found, basis = _in_short(y, turn, orders)
        return Fit(found[:orders] + 1j * found[orders:-1], float(found[-1]), y - np.einsum("i,ij->j", found, basis))
    return _solved(y, turn * np.arange(1, orders + 1), lambda n: _powers(np.exp(1j * turn * n), orders))


def harmonic_phasors(y: Array, rate: float, frequency: float, orders: int) -> Array:
    """The phasors alone of a fundamental and its harmonics, complex, shape (orders,): see Fit."""
    turn = 2 * math.pi * frequency / rate
    if len(y) * orders > _KEPT:
        return fit_harmonics(y, rate, frequency, orders).phasors
    found, _ = _in_short(y, turn, orders)
    phasors: Array = found[:orders] + 1j * found[orders:-1]
    return phasors


def _in_short(y: Array, turn: float, orders: int) -> tuple[Array, Array]:
    """The weights of sines, cosines and 1 in a short waveform, shape (2 orders + 1,), and these, a row each."""
    basis, solving = _prepared(turn, orders, len(y))
    # Sums of so few numbers are not worth the threads that a product of matrices would wake up.
    weights: Array = np.einsum("ij,j->i", solving, np.einsum("ij,j->i", basis, y))
    return weights, basis


@lru_cache(maxsize=256)  # the steps of a stimulus, of which several functions take several records
def _prepared(turn: float, orders: int, count: int) -> tuple[Array, Array]:
    """Sines, cosines and 1 of a fundamental of so many radians a sample, shape (2 orders + 1, count), and the inverse
    of their products.

    Raises:
        ValueError: more unknowns than samples.
    """
    if 2 * orders + 1 > count:
        raise ValueError(f"{count} samples are too few for {orders} tones")
    waves = _powers(np.exp(1j * turn * np.arange(count)), orders)
    basis = np.concatenate([waves.imag, waves.real, np.ones((1, count))])
    return basis, np.linalg.inv(_products(turn * np.arange(1, orders + 1), count))


def _powers(first: Array, orders: int) -> Array:
    """first^1 to first^orders, shape (orders, n): one after another by multiplying."""
    found = np.empty((orders, len(first)), dtype=complex)
    found[0] = first
    for k in range(1, orders):
        np.multiply(found[k - 1], first, out=found[k])
    return found


def _solved(y: Array, turns: Array, waves: Callable[[Array], Array]) -> Fit:
    """The fit of exp(i turns n), which `waves` computes at some n."""
    unknowns = 2 * len(turns) + 1
    if unknowns > len(y):
        raise ValueError(f"{len(y)} samples are too few for {len(turns)} tones")
    onto = np.zeros(len(turns), dtype=complex)
    for mine in _blocks(len(y)):
        onto += waves(np.arange(mine.start, mine.stop)) @ y[mine]
    found = np.linalg.solve(_products(turns, len(y)), np.concatenate([onto.imag, onto.real, [y.sum()]]))
    phasors, mean = found[: len(turns)] + 1j * found[len(turns) : -1], float(found[-1])
    left = np.empty(len(y))
    for mine in _blocks(len(y)):
        left[mine] = y[mine] - mean - (phasors @ waves(np.arange(mine.start, mine.stop))).imag
    return Fit(phasors, mean, left)


def _blocks(count: int) -> list[slice]:
    return [slice(begin, min(begin + _AT_ONCE, count)) for begin in range(0, count, _AT_ONCE)]


def _products(turns: Array, count: int) -> Array:
    """The sums over n of the products of all sines, cosines and 1: geometric series."""
    apart, together, alone = (_series(x, count) for x in (turns[:, None] - turns, turns[:, None] + turns, turns))
    sines, cosines = (apart - together).real / 2, (apart + together).real / 2
    mixed, mean = (apart + together).imag / 2, np.array([[float(count)]])
    return np.block([
        [sines, mixed, alone.imag[:, None]], [mixed.T, cosines, alone.real[:, None]],
        [alone.imag[None, :], alone.real[None, :], mean],
    ])  # fmt: skip


def _series(turn: Array, count: int) -> Array:
    """The sum of exp(i turn n) for n from 0 to count - 1."""
    half = np.asarray(turn) / 2
    below = np.sin(half)
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.where(np.abs(below) < 1e-15, count * np.cos(half * (count - 1)), np.sin(count * half) / below)
    found: Array = np.exp(1j * half * (count - 1)) * ratio
    return found


def refined(y: Array, rate: float, frequency: float) -> float:
    """The frequency in Hz near to a given one at which a sine fits best, NaN if there is none near.

    Newton's steps on the frequency, each with a fit of sine, cosine and what a change of frequency would do.

    Source: IEEE Std 1057-2017, A.2 (four-parameter fit).
    """
    middle, line, start = (len(y) - 1) / 2, rate / len(y), frequency
    n = np.arange(len(y)) - middle  # from the middle, so that frequency and phase are independent
    basis = np.empty((4, len(y)))
    basis[2] = 1
    for _ in range(12):
        wave = np.exp(2j * math.pi * frequency / rate * n)
        basis[0], basis[1] = wave.imag, wave.real
        a, b, _mean = np.linalg.solve(basis[:3] @ basis[:3].T, basis[:3] @ y)
        basis[3] = n * (a * basis[1] - b * basis[0])
        step = float(np.linalg.solve(basis @ basis.T, basis @ y)[-1]) * rate / (2 * math.pi)
        frequency += float(np.clip(step, -line / 2, line / 2))
        if abs(frequency - start) > 2 * line or not 0 < frequency < rate / 2:
            return math.nan
        if abs(step) < 1e-7 * line:  # the next one would be of the size of its square
            break
    return frequency


def fundamental(y: Array, rate: float, near: float | None = None) -> float:
    """The frequency of the strongest tone in Hz, or of the one near a given frequency; NaN where there is none.

    Args:
        y: in any unit, shape (n,), n >= 8, two cycles or more of the tone.
        rate: in Hz.
        near: in Hz; the tone is looked for within two lines of the spectrum, or 2 %, of it.

    >>> t = np.arange(5000) / 48e3
    >>> round(fundamental(np.sin(2 * np.pi * 997.3 * t), 48e3), 4)
    997.3
    """
    reach = math.inf if near is None else max(2 * rate / len(y), 0.02 * near)
    middle = 0.0 if near is None else near
    found = peak(y, rate, low=max(middle - reach, 0.0), high=middle + reach).frequency
    if math.isnan(found) or found * len(y) / rate < 1.5:
        return math.nan
    return refined(y, rate, found)
