"""Confidence limits of a proportion. Standard library only."""

from __future__ import annotations

import math
from collections.abc import Callable

TINY, CLOSE, STEPS = 1e-300, 1e-15, 500


def incomplete_beta(x: float, a: float, b: float) -> float:
    """The regularised incomplete beta function I_x(a, b).

    Args:
        x: from 0 to 1; a, b: above 0.

    Source: NIST Digital Library of Mathematical Functions, 8.17.22 (continued fraction), evaluated by the modified
    method of Lentz.

    >>> round(incomplete_beta(0.5, 2.0, 3.0), 12)
    0.6875
    """
    if x <= 0 or x >= 1:
        return float(x >= 1)
    if x > (a + 1) / (a + b + 2):
        return 1 - incomplete_beta(1 - x, b, a)
    front = math.exp(
        math.lgamma(a + b) - math.lgamma(a) - math.lgamma(b) + a * math.log(x) + b * math.log1p(-x)
    )  # fmt: skip
    c, d = 1.0, 1 / _not_zero(1 - (a + b) * x / (a + 1))
    fraction = d
    for m in range(1, STEPS):
        even = m * (b - m) * x / ((a + 2 * m - 1) * (a + 2 * m))
        odd = -(a + m) * (a + b + m) * x / ((a + 2 * m) * (a + 2 * m + 1))
        for term in (even, odd):
            d, c = 1 / _not_zero(1 + term * d), _not_zero(1 + term / c)
            fraction *= d * c
        if abs(d * c - 1) < CLOSE:
            break
    return front * fraction / a


def _not_zero(x: float) -> float:
    return x if abs(x) > TINY else TINY


def confidence_interval(successes: int, trials: int, confidence: float = 0.95) -> tuple[float, float]:
    """The exact confidence interval of a proportion.

    Args:
        successes: from 0 to trials; trials: above 0.

    Source: C. J. Clopper, E. S. Pearson, Biometrika 26 (1934), 404.

    >>> [round(x, 6) for x in confidence_interval(38, 40)]
    [0.830803, 0.993886]
    """
    if not 0 <= successes <= trials or trials < 1:
        raise ValueError(f"{successes} of {trials}")
    tail = (1 - confidence) / 2
    k, n = successes, trials
    low = 0.0 if k == 0 else _where(lambda p: incomplete_beta(p, k, n - k + 1), tail)
    high = 1.0 if k == n else _where(lambda p: incomplete_beta(p, k + 1, n - k), 1 - tail)
    return low, high


def _where(rising: Callable[[float], float], level: float) -> float:
    """Where a function that rises from 0 to 1 has a value."""
    begin, end = 0.0, 1.0
    for _ in range(100):
        middle = (begin + end) / 2
        begin, end = (middle, end) if rising(middle) < level else (begin, middle)
    return (begin + end) / 2
