"""Lengths for which a Fourier transform is quick, and its zoom."""

from __future__ import annotations

import math
from bisect import bisect_left

import numpy as np

from ibexite.analysis.curve import Array


def _quick_lengths(most: int) -> list[int]:
    found = []
    three = 1
    while three < most:
        five = three
        while five < most:
            two = five
            while two < most:
                found.append(two)
                two *= 2
            five *= 5
        three *= 3
    return sorted(found)


_QUICK = _quick_lengths(1 << 31)


def padded(count: int) -> int:
    """The least number of samples, at least so many, that has no prime factor above 5: transforms of these are quick.

    >>> padded(1021), padded(1024)
    (1024, 1024)
    """
    return _QUICK[bisect_left(_QUICK, count)]


def zoomed(y: Array, rate: float, first: float, step: float, count: int) -> Array:
    """The Fourier sum of samples at evenly spaced frequencies of one's own, shape (count,), complex: the sum over n of
    y[n] exp(-2 pi i f n / rate).

    Args:
        y: shape (n,), in any unit.
        rate: in Hz.
        first, step: in Hz, of the frequencies.

    Source: L. R. Rabiner, R. W. Schafer, C. M. Rader, The chirp z-transform algorithm, Bell System Technical Journal 48
    (1969).

    >>> abs(zoomed(np.ones(8), 8.0, 0.0, 0.5, 3)).round(6)
    array([8.      , 5.125831, 0.      ])
    """
    n, k = np.arange(len(y)), np.arange(count)
    reach = max(len(y), count)
    half_turn = math.pi * step / rate
    chirp = np.exp(-1j * half_turn * np.arange(reach) ** 2)
    size = padded(len(y) + count)
    kernel = np.zeros(size, dtype=complex)
    kernel[:count] = chirp[:count].conj()
    kernel[size - len(y) + 1 :] = chirp[1 : len(y)][::-1].conj()
    turned = y * np.exp(-2j * math.pi * first / rate * n) * chirp[: len(y)]
    product = np.fft.ifft(np.fft.fft(turned, size) * np.fft.fft(kernel))
    found: Array = product[:count] * chirp[k]
    return found
