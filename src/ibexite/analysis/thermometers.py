"""Resistance thermometers: platinum by IEC 60751, thermistors by their beta or by Steinhart and Hart."""

from __future__ import annotations

import math

ZERO_CELSIUS = 273.15  # K
ROOM = 298.15  # K; 25 degC, at which the resistance of a thermistor is told
A, B, C = 3.9083e-3, -5.775e-7, -4.183e-12  # 1/degC, 1/degC^2, 1/degC^4; IEC 60751:2008, 4.2
LOWEST, HIGHEST = -200.0, 850.0  # degC; IEC 60751:2008, 4.2


def platinum_resistance(temperature: float, r0: float = 100.0) -> float:
    """The resistance of an industrial platinum thermometer.

    Args:
        temperature: in K.
        r0: its resistance at 0 degC, in ohm.

    Returns:
        ohm; NaN beyond -200 degC to 850 degC.

    Source: IEC 60751:2008, 4.2: R = R0 (1 + A t + B t^2 + C (t - 100 degC) t^3), C = 0 above 0 degC.

    >>> round(platinum_resistance(373.15), 2), round(platinum_resistance(173.15), 2)
    (138.51, 60.26)
    """
    t = temperature - ZERO_CELSIUS
    if not LOWEST - 1e-9 <= t <= HIGHEST + 1e-9:
        return math.nan
    return r0 * (1 + t * (A + t * (B + (C * (t - 100) * t if t < 0 else 0.0))))


def platinum_temperature(resistance: float, r0: float = 100.0) -> float:
    """The temperature of an industrial platinum thermometer: `platinum_resistance` solved.

    Args:
        resistance: in ohm.
        r0: its resistance at 0 degC, in ohm.

    Returns:
        K; NaN beyond -200 degC to 850 degC.

    Source: IEC 60751:2008, 4.2. Above 0 degC the root of the quadratic; below, Newton's steps from there.

    >>> round(platinum_temperature(60.26) - 273.15, 1)
    -100.0
    """
    ratio = resistance / r0
    root = A * A - 4 * B * (1 - ratio)
    if not root >= 0:
        return math.nan
    t = (-A + math.sqrt(root)) / (2 * B)
    if t < 0:
        for _ in range(4):
            value = 1 + t * (A + t * (B + C * (t - 100) * t))
            t -= (value - ratio) / (A + t * (2 * B + C * t * (4 * t - 300)))
    return t + ZERO_CELSIUS if LOWEST - 1e-6 <= t <= HIGHEST + 1e-6 else math.nan


def beta_temperature(resistance: float, r25: float, beta: float) -> float:
    """The temperature of an NTC thermistor by its B-value.

    Args:
        resistance, r25: in ohm; r25 at 25 degC.
        beta: in K.

    Returns:
        K; NaN for a resistance that is not positive.

    Source: IEC 60539-1:2016, 3.13: R = r25 exp(beta (1/T - 1/298.15 K)).
    """
    return 1 / (math.log(resistance / r25) / beta + 1 / ROOM) if resistance > 0 else math.nan


def beta_resistance(temperature: float, r25: float, beta: float) -> float:
    """The resistance in ohm of an NTC thermistor at a temperature in K: `beta_temperature` solved."""
    return r25 * math.exp(beta * (1 / temperature - 1 / ROOM)) if temperature > 0 else math.nan


def steinhart_temperature(resistance: float, a: float, b: float, c: float) -> float:
    """The temperature of an NTC thermistor by three coefficients.

    Args:
        resistance: in ohm.
        a, b, c: coefficients in 1/K, for a resistance in ohm.

    Returns:
        K; NaN for a resistance that is not positive, or where the coefficients give no temperature.

    Source: J. S. Steinhart, S. R. Hart, Calibration curves for thermistors, Deep-Sea Research 15 (1968) 497-503:
    1/T = a + b ln R + c (ln R)^3.
    """
    if not resistance > 0:
        return math.nan
    x = math.log(resistance)
    inverse = a + b * x + c * x**3
    return 1 / inverse if inverse > 0 else math.nan


def steinhart_resistance(temperature: float, a: float, b: float, c: float) -> float:
    """The resistance in ohm at a temperature in K: `steinhart_temperature` solved, which has one real solution for
    coefficients above zero (Cardano)."""
    if not temperature > 0:
        return math.nan
    p, q = b / c, (a - 1 / temperature) / c
    root = math.sqrt(q * q / 4 + p**3 / 27)
    return math.exp(math.cbrt(-q / 2 + root) + math.cbrt(-q / 2 - root))
