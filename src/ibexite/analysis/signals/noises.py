"""The response to noise: estimates from averaged cross spectra, and how far two waveforms hang together.

Source: J. S. Bendat, A. G. Piersol, Random Data, 4th ed., 6.2 and 11.6: H1 = Sxy / Sxx is not touched by noise at the
output, H2 = Syy / Syx not by noise at the input; the coherence is H1 / H2.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.analysis.signals.spectra import pieces_of
from ibexite.analysis.signals.windows import window


class Estimates(NamedTuple):
    """Frequencies in Hz, both estimates of the response (complex), the coherence from 0 to 1; all of shape (m,)."""

    frequencies: Array
    h1: Array
    h2: Array
    coherence: Array


def estimates(output: Array, source: Array, rate: float, *, resolution: float, overlap: float = 0.5) -> Estimates:
    """The response of an output to a source, from pieces of both.

    A delay between them of more than a small part of a piece makes the response too small: take off what is known.

    Args:
        output, source: in any units, shape (n,), sampled together.
        rate: in Hz.
        resolution: distance of the lines in Hz: a piece lasts for 1 / resolution.
        overlap: share that a piece has in common with the next.

    Raises:
        ValueError: fewer than two pieces: of one piece the coherence is always 1.

    >>> rng = np.random.default_rng(1)
    >>> noise = rng.normal(size=100_000)
    >>> found = estimates(2 * noise, noise, 1e4, resolution=100.0)
    >>> np.abs(found.h1).round(6).max(), found.coherence.round(6).min()
    (np.float64(2.0), np.float64(1.0))
    """
    pieces, size = pieces_of(source, rate, resolution, overlap)
    if len(pieces) < 2:
        raise ValueError(f"{len(source) / rate:.4g} s hold fewer than two pieces of {1 / resolution:.4g} s")
    shaped_by = window("hann", size).values
    sxx, syy = np.zeros(size // 2 + 1), np.zeros(size // 2 + 1)
    sxy = np.zeros(size // 2 + 1, dtype=complex)
    for begin in pieces:
        mine = slice(begin, begin + size)
        x, y = (np.fft.rfft((w[mine] - w[mine].mean()) * shaped_by) for w in (source, output))
        sxx += np.abs(x) ** 2
        syy += np.abs(y) ** 2
        sxy += x.conj() * y
    with np.errstate(all="ignore"):
        h1, h2, coherence = sxy / sxx, syy / sxy.conj(), np.abs(sxy) ** 2 / (sxx * syy)
    return Estimates(np.arange(size // 2 + 1) * (rate / size), h1, h2, coherence)


def error_of(coherence: Array, pieces: int) -> Array:
    """The standard deviation of the size of an estimate over the size, shape of the coherence: sqrt((1 - c) / (2 n c)).

    Source: Bendat, Piersol, Table 9.6.
    """
    return np.sqrt((1 - coherence) / (2 * pieces * coherence)) if pieces else np.full_like(coherence, math.nan)
