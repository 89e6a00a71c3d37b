"""The delay between two waveforms, and whether they have the same polarity.

Source: C. H. Knapp, G. C. Carter, The generalized correlation method for estimation of time delay, IEEE Trans.
Acoustics, Speech and Signal Processing 24 (1976); the peak is looked for between samples on the correlation itself,
which its Fourier sum gives at any time.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.fast_fourier import padded
from ibexite.analysis.signals.spectra import analytic

# Between neighbours of a sought peak that is found among others: smaller ones than this share are no rivals.
RIVAL = 0.8


class Match(NamedTuple):
    """Where a waveform is found in another one.

    delay: in s. likeness: the normalised correlation there, from -1 to 1. rival: the size of the largest one elsewhere.
    """

    delay: float
    likeness: float
    rival: float


def delay(later: Array, earlier: Array, rate: float) -> float:
    """By how much one waveform comes later than another, in s; negative if it comes earlier. One may be the other with
    its sign changed.

    Args:
        later, earlier: in any units, shapes (n,) and (m,), sampled together; their means are taken off.
        rate: in Hz.

    Returns:
        The delay at the largest size of their correlation, to a small part of a sample; NaN if one of them is silent.

    >>> t = np.arange(2000) / 1e4
    >>> pulse = lambda at: np.exp(-(((t - at) / 2e-3) ** 2))
    >>> round(delay(pulse(0.0512345), pulse(0.05), 1e4), 6)
    0.001234
    """
    a, b = later - later.mean(), earlier - earlier.mean()
    if not a.any() or not b.any():
        return math.nan
    size = padded(len(a) + len(b))
    spectrum = np.fft.rfft(a, size) * np.fft.rfft(b, size).conj()
    spectrum[-1] = 0  # a line at half the rate has no phase to be turned
    correlation = np.fft.irfft(spectrum, size)
    at = int(np.argmax(np.abs(correlation)))
    at = at - size if at > len(a) else at
    return _summit(spectrum, size, at) / rate


def _summit(spectrum: Array, size: int, at: int) -> float:
    """The place in samples near `at` where the size of the real Fourier sum is largest: Newton's steps on its slope."""
    turns = 2 * math.pi / size * np.arange(len(spectrum))
    place, sign = float(at), 0.0
    for _ in range(20):
        turned = spectrum * _turns_of(2 * math.pi / size * place, len(spectrum))
        if not sign:
            sign = math.copysign(1.0, float(turned.real.sum()))
        slope, bend = -float((turns * turned.imag).sum()), -float((turns**2 * turned.real).sum())
        if bend * sign >= 0:
            break
        step = float(np.clip(-slope / bend, -0.5, 0.5))
        place += step
        if abs(step) < 1e-9:
            break
    return place if abs(place - at) < 1.5 else float(at)


def _turns_of(angle: float, count: int) -> Array:
    """exp(i k angle) for k from 0 on, shape (count,): as products, which are quicker than so many exponentials."""
    step = 512
    coarse = np.exp(1j * angle * step * np.arange(-(-count // step)))
    found: Array = np.outer(coarse, np.exp(1j * angle * np.arange(step))).ravel()[:count]
    return found


def found_in(record: Array, sought: Array, rate: float) -> Match:
    """Where a short waveform begins in a record, by the envelope of the normalised correlation: whatever turns its
    phase on the way does not move it.

    Args:
        record: in any unit, shape (n,), without holes.
        sought: in any unit, shape (m,), m <= n, not silent.
        rate: in Hz.

    Returns:
        The best match; a likeness below about 0.3 is what noise gives.

    Raises:
        ValueError: the record is shorter than what is sought.

    >>> rng = np.random.default_rng(1)
    >>> chirp = np.sin(np.linspace(0, 20, 400) ** 2 / 2)
    >>> record = rng.normal(0, 0.1, 3000)
    >>> record[1000:1400] += chirp
    >>> found = found_in(record, chirp, 1e3)
    >>> round(found.delay, 4), found.likeness > 0.9, found.rival < 0.5
    (1.0, True, True)
    """
    if len(record) < len(sought):
        raise ValueError(f"the record has {len(record)} samples, what is sought in it {len(sought)}")
    size = padded(len(record) + len(sought))
    spectrum = np.fft.fft(record, size) * np.fft.fft(analytic(sought), size).conj()
    correlation = np.fft.ifft(spectrum)[: len(record) - len(sought) + 1]
    sums = np.concatenate([[0.0], np.cumsum(record**2)])
    energy = sums[len(sought) :] - sums[: len(correlation)]
    floor = 1e-12 * float(energy.max(initial=0.0))
    if not floor:
        return Match(math.nan, 0.0, 0.0)
    norm = np.sqrt(np.maximum(energy, floor) * float(np.sum(sought**2)))
    likeness = np.abs(correlation) / norm
    at = int(np.argmax(likeness))
    rivals = likeness.copy()
    lobe = max(8, len(sought) // 8)
    rivals[max(0, at - lobe) : at + lobe] = 0
    best = correlation[at]
    return Match(
        (at + _between(record, sought, at)) / rate,
        float(likeness[at]) * (1 if best.real >= 0 else -1),
        float(rivals.max(initial=0.0)),
    )


def _between(record: Array, sought: Array, at: int) -> float:
    """How far from `at`, in samples, the size of the complex correlation has its peak: Newton's steps on its square.
    Only what lies under the sought waveform counts, so that a short transform will do."""
    begin = max(0, at - 8)
    under = record[begin : at + len(sought) + 8]
    size = padded(2 * len(under))
    turns = 2 * math.pi * np.fft.fftfreq(size)
    around = np.fft.fft(under, size) * np.fft.fft(analytic(sought), size).conj() * np.exp(1j * turns * (at - begin))
    place = 0.0
    for _ in range(20):
        turned = around * np.exp(1j * turns * place)
        value, slope, bend = turned.sum(), (1j * turns * turned).sum(), (-(turns**2) * turned).sum()
        first = 2 * (value.conj() * slope).real
        second = 2 * (abs(slope) ** 2 + (value.conj() * bend).real)
        if second >= 0:
            return place
        step = float(np.clip(-first / second, -0.5, 0.5))
        place += step
        if abs(step) < 1e-9:
            break
    return place if abs(place) < 1.5 else 0.0
