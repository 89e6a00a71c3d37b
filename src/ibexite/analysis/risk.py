"""What a decision may be worth: the probability that it is wrong, given the uncertainty of the measurement.

Source: JCGM 106:2012, The role of measurement uncertainty in conformity assessment, clauses 8 and 9. All distributions
are normal. Standard library only, but for the risks of a whole production.
"""

from __future__ import annotations

import math
from typing import NamedTuple


def below(x: float) -> float:
    """The part of the standard normal distribution below x.

    >>> below(0.0), round(below(1.6448536269514722), 12)
    (0.5, 0.95)
    """
    return 0.5 * math.erfc(-x / math.sqrt(2))


def specific_risk(value: float, low: float, high: float, u: float) -> float:
    """The probability that the true value lies beyond the limits, given a measured one and no other knowledge.

    Args:
        value: as it was measured; low, high: the limits as they are demanded, infinite where there is none.
        u: standard uncertainty, > 0; all in one unit.

    Source: JCGM 106:2012, 7.

    >>> round(specific_risk(5.0, -math.inf, 5.0, 0.1), 6), round(specific_risk(4.8, 4.0, 5.0, 0.1), 6)
    (0.5, 0.02275)
    """
    return below((low - value) / u) + below((value - high) / u)


class GlobalRisks(NamedTuple):
    """Of a production: how many of all items are accepted though they are beyond the limits, are rejected though they
    are within, and how many are within."""

    false_accept: float
    false_reject: float
    within: float


def global_risks(
    mean: float, deviation: float, u: float, low: float, high: float, *, accept_low: float, accept_high: float
) -> GlobalRisks:
    """The risks of a production that is measured with an uncertainty: probabilities of a bivariate normal distribution
    of true and measured value.

    Args:
        mean, deviation: of the true values; u: standard uncertainty; both > 0.
        low, high: the limits, infinite where there is none; accept_low, accept_high: the limits that measured values
            have to meet (those with their guards).

    Raises:
        ValueError: deviation or u is not above zero.

    Source: JCGM 106:2012, 9.5.2 to 9.5.4, equations (18) to (21): one integral over the true value, the other in closed
    form. The integrals are composite Gauss-Legendre sums.
    """
    if not deviation > 0 or not u > 0:
        raise ValueError("spread and uncertainty are above zero")
    import numpy as np

    nodes, weights = np.polynomial.legendre.leggauss(16)

    def integral(begin: float, end: float, *, accepted: bool) -> float:
        """Of items with a true value between two others: the part that is accepted, or is not."""
        begin, end = max(begin, mean - 9 * deviation), min(end, mean + 9 * deviation)
        if begin >= end:
            return 0.0
        edges = np.unique(np.clip(np.concatenate([
            np.linspace(begin, end, 65), *(at + u * np.linspace(-9, 9, 73) for at in (accept_low, accept_high)
                                           if math.isfinite(at)),
        ]), begin, end))  # fmt: skip
        middle, half = (edges[1:] + edges[:-1]) / 2, (edges[1:] - edges[:-1]) / 2
        y = middle[:, None] + half[:, None] * nodes
        density = np.exp(-(((y - mean) / deviation) ** 2) / 2) / (deviation * math.sqrt(2 * math.pi))
        cdf = np.vectorize(below, otypes=[float])
        rejected = cdf((accept_low - y) / u) + cdf((y - accept_high) / u)
        return float((density * (1 - rejected if accepted else rejected) * weights * half[:, None]).sum())

    false_accept = integral(-math.inf, low, accepted=True) + integral(high, math.inf, accepted=True)
    within = 1 - below((low - mean) / deviation) - below((mean - high) / deviation)
    return GlobalRisks(false_accept, integral(low, high, accepted=False), within)
