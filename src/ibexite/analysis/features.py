"""Features of curves: plain functions on arrays. x and y have shape (n,); x is strictly rising, but for crossings and
slopes, which take the points as they come. NaN in y is left out, and nothing is ever interpolated across it. What
cannot be found is NaN, never a number."""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np

from ibexite.analysis.curve import Array
from ibexite.holes import NO_PEAK, NOT_REACHED


class Compression(NamedTuple):
    """Where a characteristic leaves the straight line: input and output there, gain of the straight line."""

    input: float
    output: float
    gain: float


class Resonance(NamedTuple):
    """A resonance: its frequency (unit of x), its quality factor, and the value of the peak (unit of the peak)."""

    frequency: float
    q: float
    peak: float


def crossings(
    x: Array, y: Array, level: float, *, rising: bool = True, falling: bool = True, log: bool = False
) -> Array:
    """All x at which y crosses a level, in the order of the points, shape (k,).

    Between neighbours y is taken to be straight over x, with `log` over the logarithm of x (then x > 0). A point that
    lies on the level counts once, where the curve passes through it, begins or ends there; not where it only touches.
    Holes are not bridged: behind one the curve begins anew. x may fall, or go up and down.

    Raises:
        ValueError: `log` with an x that is not positive.

    >>> crossings(np.array([0.0, 1.0, 2.0, 3.0]), np.array([0.0, 2.0, 0.0, 2.0]), 1.0, falling=False)
    array([0.5, 2.5])
    >>> crossings(np.array([9.0, 6.0, 4.0]), np.array([5.0, 5.0, 1.0]), 3.0)
    array([5.])
    """
    if log and len(x) and (x <= 0).any():
        raise ValueError("a logarithmic axis has only positive values")
    scale = np.log(x) if log else x
    above = y - level
    found: list[float] = []

    def reached(place: float, goes_up: bool) -> None:
        if rising if goes_up else falling:
            found.append(place)

    side = 0.0  # the last side of the level on which the curve was, 0 where it has begun (behind a hole) or begins
    touched = math.nan  # where it has been on the level since
    for i, height in enumerate(above):
        if np.isnan(height):
            if touched == touched and side:
                reached(touched, side < 0)  # it ended there
            side, touched = 0.0, math.nan
        elif height == 0:
            touched = scale[i] if math.isnan(touched) else touched
        else:
            now = math.copysign(1.0, height)
            if side and now != side:
                share = above[i - 1] / (above[i - 1] - height)
                between = scale[i - 1] + share * (scale[i] - scale[i - 1])
                reached(touched if touched == touched else between, now > 0)
            elif not side and touched == touched:
                reached(touched, now > 0)  # it began there
            side, touched = now, math.nan
    if touched == touched and side:
        reached(touched, side < 0)
    points = np.array(found)
    return np.exp(points) if log else points


def crossing(
    x: Array,
    y: Array,
    level: float,
    *,
    rising: bool = False,
    falling: bool = False,
    last: bool = False,
    log: bool = False,
) -> float:
    """The first (or last) x at which y crosses a level, in the order of the points; in the unit of x, NaN if it never
    does.

    Args:
        level: in the unit of y.
        rising, falling: only where the curve rises or falls through the level; neither means both.

    >>> crossing(np.array([1.0, 100.0]), np.array([0.0, 2.0]), 1.0, log=True).__round__(6)
    10.0
    """
    both = rising == falling
    found = crossings(x, y, level, rising=rising or both, falling=falling or both, log=log)
    return float(found[-1 if last else 0]) if len(found) else NOT_REACHED


def slope(x: Array, y: Array) -> float:
    """The slope of the straight line that fits best (least squares), in the unit of y over that of x.

    NaN for less than two points. Source: JCGM 100:2008 (GUM), H.3.2.

    >>> slope(np.array([0.0, 1.0, 2.0]), np.array([1.0, 3.0, 5.0]))
    2.0
    """
    good = ~np.isnan(y)
    if good.sum() < 2:
        return math.nan
    dx = x[good] - x[good].mean()
    return float(dx @ (y[good] - y[good].mean()) / (dx @ dx))


def integral(x: Array, y: Array) -> float:
    """The area below y over x by the trapezoid rule, in the product of their units; NaN if there is a hole."""
    return float(np.sum(np.diff(x) * (y[1:] + y[:-1]) / 2))


def _vertex(x: Array, y: Array, peak: int) -> float:
    """The height of the parabola through the highest point and its neighbours; that of the point where it has none."""
    if not 0 < peak < len(x) - 1 or np.isnan(y[peak - 1 : peak + 2]).any():
        return float(y[peak])
    (x0, x1, x2), (y0, y1, y2) = x[peak - 1 : peak + 2] - x[peak], y[peak - 1 : peak + 2]
    left, right = (y1 - y0) / (x1 - x0), (y2 - y1) / (x2 - x1)
    bend = (right - left) / (x2 - x0)
    slope = left + bend * (x1 - x0)
    return float(y1 - slope**2 / (4 * bend)) if bend < 0 else float(y1)


def _edges(x: Array, y: Array, drop: float, scale: str) -> tuple[float, float, float]:
    """The x where y falls by `drop` (dB, negative) below its peak, on the left and on the right, and that of the
    peak."""
    if np.isnan(y).all():
        return math.nan, math.nan, math.nan
    peak = int(np.nanargmax(y))
    log = bool(x[0] > 0)
    height = _vertex(np.log(x) if log else x, y, peak)
    level = height + drop if scale == "level" else height * 10 ** (drop / (10 if scale == "power" else 20))
    left = crossing(x[: peak + 1], y[: peak + 1], level, rising=True, last=True, log=log)
    right = crossing(x[peak:], y[peak:], level, falling=True, log=log)
    return left, right, float(x[peak])


def bandwidth(x: Array, y: Array, drop: float, *, scale: str = "level") -> float:
    """The width of a pass band, in the unit of x: between the points nearest to the peak where y has fallen by `drop`.

    Args:
        x: strictly rising.
        drop: in dB, negative (-3 for the half-power bandwidth).
        scale: y is a level in dB ("level"), an amplitude that falls by 20 lg ("amplitude"), or a power that falls by
            10 lg ("power").

    NaN if the curve does not fall that far on both sides. Interpolated on a logarithmic axis where x is positive.
    Source: IEC 60268-3, 14.11 (frequency range at -3 dB).
    """
    left, right, _ = _edges(x, y, drop, scale)
    return right - left


def cutoff(x: Array, y: Array, drop: float, *, lower: bool = False, scale: str = "level") -> float:
    """The cut-off frequency, in the unit of x: where y has fallen by `drop` dB above its peak, with `lower` below it.

    Arguments, interpolation and source as for `bandwidth`; NaN if the curve does not fall that far.
    """
    left, right, _ = _edges(x, y, drop, scale)
    return left if lower else right


def compression(x: Array, y: Array, drop: float, *, points: int = 3) -> Compression:
    """Where the output level y falls by `drop` dB below the ideal line, and the small-signal gain.

    The ideal line has slope 1 and runs through the mean of the first `points` points, which must lie in the linear
    region.

    Args:
        x, y: input and output level, in dBm or dBV.
        drop: in dB, positive (1 for the 1 dB compression point).

    Returns:
        Input and output level at the compression point (NaN when it is not reached), gain in dB.

    Source: IEEE Std 1139 usage of the 1 dB compression point; D. M. Pozar, Microwave Engineering, 4th ed., 10.3.

    >>> x = np.arange(-30.0, 11.0, 1.0)
    >>> y = 20 + x - 10 * np.log10(1 + 10 ** ((x - 0.0) / 10))  # 1 dB down at -5.868; the line is 0.006 dB low
    >>> round(compression(x, y, 1.0).input, 2)
    -5.85
    """
    good = ~np.isnan(y)
    if good.sum() <= points:
        return Compression(math.nan, math.nan, math.nan)
    gain = float(np.mean(y[good][:points] - x[good][:points]))
    at = crossing(x, y - x - gain, -drop, falling=True)
    return Compression(at, at + gain - drop, gain)


def resonance(x: Array, y: Array, *, parallel: bool = False) -> Resonance:
    """Frequency and quality factor of a resonance.

    For a complex impedance y (ohm): the peak of the conductance Re(1/y) (series resonance), with `parallel` the peak of
    the resistance Re(y). For a real y: the peak of its square (a response in amplitude). All three are, near a
    resonance, G(x) = G0 / (1 + Q^2 (x/x0 - x0/x)^2). With x = x_p exp(t) that is 1/G = a + b (cosh 2t - 1) + c sinh 2t,
    which is fitted to the points above half the peak (at least the five around it): exact, linear, and few and noisy
    points will do. x must be positive.

    Returns:
        frequency in the unit of x, Q, peak in S, ohm, or the unit of y squared. NaN where there is no peak within x.

    Source: IEC 60444-5 (admittance of a resonator); K. S. Van Dyke's equivalent circuit, IEEE Std 176, 6.4.

    >>> f = np.linspace(900.0, 1100.0, 41)
    >>> z = 5 * (1 + 1j * 50 * (f / 1000 - 1000 / f))
    >>> r = resonance(f, z)
    >>> round(r.frequency, 1), round(r.q), round(r.peak, 2)
    (1000.0, 50, 0.2)
    """
    nothing = Resonance(NO_PEAK, NO_PEAK, NO_PEAK)
    good = ~np.isnan(y)
    x, y = x[good], y[good]
    if len(x) < 5:
        return nothing
    height = y**2 if not np.iscomplexobj(y) else y.real if parallel else (1 / y).real
    peak = int(np.argmax(height))
    if peak in (0, len(x) - 1) or height[peak] <= 0:
        return nothing
    left = right = peak
    while left > 0 and (height[left - 1] > height[peak] / 2 or peak - left < 2):
        left -= 1
    while right < len(x) - 1 and (height[right + 1] > height[peak] / 2 or right - peak < 2):
        right += 1
    part = slice(left, right + 1)
    if (height[part] <= 0).any() or x[left] <= 0:
        return nothing
    t = 2 * np.log(x[part] / x[peak])
    # Weighted by the square of the height: an error of a high point weighs as much in 1/height as that of a low one.
    weight = (height[part] / height[peak]) ** 2
    basis = np.column_stack([np.ones_like(t), np.cosh(t) - 1, np.sinh(t)]) * weight[:, None]
    a, b, c = np.linalg.lstsq(basis, weight / height[part], rcond=None)[0]
    steepness = math.sqrt(b * b - c * c) if b > abs(c) else 0.0  # 2 Q^2 / G0
    lowest = a - b + steepness  # 1 / G0
    if steepness <= 0 or lowest <= 0:
        return nothing
    frequency = float(x[peak] * math.exp(math.atanh(-c / b) / 2))
    return Resonance(frequency, math.sqrt(steepness / lowest / 2), float(1 / lowest))
