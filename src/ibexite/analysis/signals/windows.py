"""Windows of spectra, with what they do to tones and to noise.

Source: F. J. Harris, On the use of windows for harmonic analysis with the discrete Fourier transform, Proc. IEEE 66
(1978); flat top: G. Heinzel, A. Ruediger, R. Schilling, Spectrum and spectral density estimation by the DFT (2002),
there named HFT95.
"""

from __future__ import annotations

import math
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array

# Amplitudes of the cosines of 0, 1, 2 … turns, with alternating signs.
COSINES = {
    "rectangle": (1.0,),
    "hann": (0.5, 0.5),
    "blackman_harris": (0.35875, 0.48829, 0.14128, 0.01168),
    "flat_top": (1.0, 1.9383379, 1.3045202, 0.4028270, 0.0350665),
}
MAIN_LOBE = {"rectangle": 1, "hann": 2, "blackman_harris": 4, "flat_top": 5}  # lines from its middle to its first zero


class Window(NamedTuple):
    """A window: its values, shape (n,), and what follows from them.

    gain: mean value, by which a tone is too small. noise_bandwidth: in lines, of the noise that passes.
    """

    values: Array
    gain: float
    noise_bandwidth: float


@lru_cache(maxsize=16)
def window(name: str, count: int) -> Window:
    """A window of so many samples, periodic, so that its cosines have whole turns.

    Raises:
        ValueError: there is no window of that name.

    >>> round(window("hann", 4096).noise_bandwidth, 6), round(window("flat_top", 4096).noise_bandwidth, 4)
    (1.5, 3.8112)
    """
    if name not in COSINES:
        raise ValueError(f"there is no window {name!r}, only {', '.join(COSINES)}")
    turn = 2 * math.pi * np.arange(count) / count
    values = np.zeros(count)
    for k, amplitude in enumerate(COSINES[name]):
        values += (-1) ** k * amplitude * np.cos(k * turn)
    values.flags.writeable = False
    gain, power = float(values.mean()), float(np.mean(values**2))
    return Window(values, gain, power / gain**2)
