"""Decision rules: how a verdict is found where the uncertainty of a measurement is known, by name."""

from __future__ import annotations

import math

from ibexite.frozen import frozen

COVERAGE = 2.0  # of an expanded uncertainty, U = 2 u
LIMITS_TO_STANDARD = math.sqrt(3)  # of the half width of a rectangular distribution, such as a stated accuracy


@frozen
class Rule:
    """A rule: how it is written, and what it says, with its source. `{risk}` is filled in."""

    name: str
    usage: str
    told: str


SIMPLE, GUARDED, UNDECIDED, RISK = "simple", "guarded", "undecided", "risk"
RULES = {
    rule.name: rule
    for rule in (
        Rule(GUARDED, "guarded by t", "guarded acceptance: both limits moved inwards by the uncertainty "
             "(JCGM 106:2012, 8.3.2; ILAC-G8:09/2019, 4.2.2)"),
        Rule(RISK, "guarded by t risk 1 %", "guarded acceptance: both limits moved inwards so far that a value that is "
             "accepted is beyond its limit with a probability of at most {risk} (JCGM 106:2012, 8.3.2)"),
        Rule(UNDECIDED, "guarded by t or undecided", "conformity and nonconformity are both to be proven beyond the "
             "uncertainty, undecided between (ISO 14253-1; ILAC-G8:09/2019, 4.2.3)"),
        Rule(SIMPLE, "uncertain by t", "simple acceptance: the limits as they are demanded, the risk is shared "
             "(JCGM 106:2012, 8.2; ILAC-G8:09/2019, 4.2.1)"),
    )
}  # fmt: skip


def told(name: str, risk: float) -> str:
    """What a rule says.

    >>> told("simple", 0.0)[:18]
    'simple acceptance:'
    """
    return RULES[name].told.replace("{risk}", f"{100 * risk:.4g} %")


def guard_factor(risk: float) -> float:
    """How many standard uncertainties a limit is to be moved inwards so that a value that is accepted is beyond its
    limit with at most this probability.

    Args:
        risk: above 0 and below 0.5.

    Source: JCGM 106:2012, 8.3.2; the upper quantile of the standard normal distribution.

    >>> round(guard_factor(0.05), 6)
    1.644854
    """
    if not 0 < risk < 0.5:
        raise ValueError(f"a risk of {risk}")
    from statistics import NormalDist

    return -NormalDist().inv_cdf(risk)
