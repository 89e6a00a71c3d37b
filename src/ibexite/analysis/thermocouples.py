"""Thermocouples by the International Temperature Scale of 1990: voltage from temperature, and back.

Source: G. W. Burns and others, NIST Monograph 175 (1993), reference functions, which are those of IEC 60584-1:2013. The
way back is solved from the same functions, so that both agree to the last digit; the standard's own inverse polynomials
are approximations of it.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import cache

from ibexite.frozen import frozen

ZERO_CELSIUS = 273.15  # K


@frozen
class Piece:
    """A reference function between two temperatures in degC: a polynomial that gives mV, lowest power first."""

    low: float
    high: float
    coefficients: tuple[float, ...]


_BUMP = (0.118597600000e00, -0.118343200000e-03, 0.126968600000e03)  # a0 exp(a1 (t - a2)^2), of type K above 0 degC

TYPES: dict[str, tuple[Piece, ...]] = {
    "B": (
        Piece(0.0, 630.615, (
            0.0, -0.246508183460e-03, 0.590404211710e-05, -0.132579316360e-08, 0.156682919010e-11, -0.169445292400e-14,
            0.629903470940e-18)),
        Piece(630.615, 1820.0, (
            -0.389381686210e01, 0.285717474700e-01, -0.848851047850e-04, 0.157852801640e-06, -0.168353448640e-09,
            0.111097940130e-12, -0.445154310330e-16, 0.989756408210e-20, -0.937913302890e-24)),
    ),
    "E": (
        Piece(-270.0, 0.0, (
            0.0, 0.586655087080e-01, 0.454109771240e-04, -0.779980486860e-06, -0.258001608430e-07, -0.594525830570e-09,
            -0.932140586670e-11, -0.102876055340e-12, -0.803701236210e-15, -0.439794973910e-17, -0.164147763550e-19,
            -0.396736195160e-22, -0.558273287210e-25, -0.346578420130e-28)),
        Piece(0.0, 1000.0, (
            0.0, 0.586655087100e-01, 0.450322755820e-04, 0.289084072120e-07, -0.330568966520e-09, 0.650244032700e-12,
            -0.191974955040e-15, -0.125366004970e-17, 0.214892175690e-20, -0.143880417820e-23, 0.359608994810e-27)),
    ),
    "J": (
        Piece(-210.0, 760.0, (
            0.0, 0.503811878150e-01, 0.304758369300e-04, -0.856810657200e-07, 0.132281952950e-09, -0.170529583370e-12,
            0.209480906970e-15, -0.125383953360e-18, 0.156317256970e-22)),
        Piece(760.0, 1200.0, (
            0.296456256810e03, -0.149761277860e01, 0.317871039240e-02, -0.318476867010e-05, 0.157208190040e-08,
            -0.306913690560e-12)),
    ),
    "K": (
        Piece(-270.0, 0.0, (
            0.0, 0.394501280250e-01, 0.236223735980e-04, -0.328589067840e-06, -0.499048287770e-08, -0.675090591730e-10,
            -0.574103274280e-12, -0.310888728940e-14, -0.104516093650e-16, -0.198892668780e-19, -0.163226974860e-22)),
        Piece(0.0, 1372.0, (
            -0.176004136860e-01, 0.389212049750e-01, 0.185587700320e-04, -0.994575928740e-07, 0.318409457190e-09,
            -0.560728448890e-12, 0.560750590590e-15, -0.320207200030e-18, 0.971511471520e-22, -0.121047212750e-25)),
    ),
    "N": (
        Piece(-270.0, 0.0, (
            0.0, 0.261591059620e-01, 0.109574842280e-04, -0.938411115540e-07, -0.464120397590e-10, -0.263033577160e-11,
            -0.226534380030e-13, -0.760893007910e-16, -0.934196678350e-19)),
        Piece(0.0, 1300.0, (
            0.0, 0.259293946010e-01, 0.157101418800e-04, 0.438256272370e-07, -0.252611697940e-09, 0.643118193390e-12,
            -0.100634715190e-14, 0.997453389920e-18, -0.608632456070e-21, 0.208492293390e-24, -0.306821961510e-28)),
    ),
    "R": (
        Piece(-50.0, 1064.18, (
            0.0, 0.528961729765e-02, 0.139166589782e-04, -0.238855693017e-07, 0.356916001063e-10, -0.462347666298e-13,
            0.500777441034e-16, -0.373105886191e-19, 0.157716482367e-22, -0.281038625251e-26)),
        Piece(1064.18, 1664.5, (
            0.295157925316e01, -0.252061251332e-02, 0.159564501865e-04, -0.764085947576e-08, 0.205305291024e-11,
            -0.293359668173e-15)),
        Piece(1664.5, 1768.1, (
            0.152232118209e03, -0.268819888545e00, 0.171280280471e-03, -0.345895706453e-07, -0.934633971046e-14)),
    ),
    "S": (
        Piece(-50.0, 1064.18, (
            0.0, 0.540313308631e-02, 0.125934289740e-04, -0.232477968689e-07, 0.322028823036e-10, -0.331465196389e-13,
            0.255744251786e-16, -0.125068871393e-19, 0.271443176145e-23)),
        Piece(1064.18, 1664.5, (
            0.132900444085e01, 0.334509311344e-02, 0.654805192818e-05, -0.164856259209e-08, 0.129989605174e-13)),
        Piece(1664.5, 1768.1, (
            0.146628232636e03, -0.258430516752e00, 0.163693574641e-03, -0.330439046987e-07, -0.943223690612e-14)),
    ),
    "T": (
        Piece(-270.0, 0.0, (
            0.0, 0.387481063640e-01, 0.441944343470e-04, 0.118443231050e-06, 0.200329735540e-07, 0.901380195590e-09,
            0.226511565930e-10, 0.360711542050e-12, 0.384939398830e-14, 0.282135219250e-16, 0.142515947790e-18,
            0.487686622860e-21, 0.107955392700e-23, 0.139450270620e-26, 0.797951539270e-30)),
        Piece(0.0, 400.0, (
            0.0, 0.387481063640e-01, 0.332922278800e-04, 0.206182434040e-06, -0.218822568460e-08, 0.109968809280e-10,
            -0.308157587720e-13, 0.454791352900e-16, -0.275129016730e-19)),
    ),
}  # fmt: skip
# Where the voltage has one temperature only, in degC. Type B has a minimum near 21 degC: up to 42 degC its voltage is
# that of another temperature too.
RISES_FROM = {"B": 43.0}
_ROUNDING = 1e-9  # K, of temperatures that are told in K


def extent(kind: str) -> tuple[float, float]:
    """The temperatures for which a type is defined, in K."""
    pieces = TYPES[kind]
    return pieces[0].low + ZERO_CELSIUS, pieces[-1].high + ZERO_CELSIUS


def voltage(kind: str, temperature: float) -> float:
    """The voltage of a thermocouple whose other junction is at 0 degC.

    Args:
        kind: its type, one of TYPES.
        temperature: of the measuring junction, in K.

    Returns:
        V; NaN beyond the range of the type.

    >>> round(voltage("K", 373.15) * 1000, 3)   # mV at 100 degC
    4.096
    """
    celsius = temperature - ZERO_CELSIUS
    piece = _piece_at(kind, celsius)
    return _millivolts(kind, piece, celsius) / 1000 if piece is not None else math.nan


def temperature(kind: str, volts: float) -> float:
    """The temperature of the measuring junction, the other one being at 0 degC.

    Args:
        kind: its type, one of TYPES.
        volts: its voltage, in V.

    Returns:
        K; NaN beyond the range of the type, and of type B below 43 degC, where the voltage does not tell it.

    >>> round(temperature("K", 4.096e-3) - 273.15, 1)
    100.0
    """
    return _table(kind).value(volts * 1000) + ZERO_CELSIUS


def _piece_at(kind: str, celsius: float) -> Piece | None:
    for piece in TYPES[kind]:
        if piece.low - _ROUNDING <= celsius <= piece.high + _ROUNDING:
            return piece
    return None


def _millivolts(kind: str, piece: Piece, celsius: float) -> float:
    value = _polynomial(piece.coefficients, celsius)
    if kind == "K" and piece.low == 0.0:
        a0, a1, a2 = _BUMP
        value += a0 * math.exp(a1 * (celsius - a2) ** 2)
    return value


def _slope(kind: str, piece: Piece, celsius: float) -> float:
    """mV/K."""
    value = _polynomial([n * c for n, c in enumerate(piece.coefficients)][1:], celsius)
    if kind == "K" and piece.low == 0.0:
        a0, a1, a2 = _BUMP
        value += a0 * math.exp(a1 * (celsius - a2) ** 2) * 2 * a1 * (celsius - a2)
    return value


def _polynomial(coefficients: Sequence[float], x: float) -> float:
    value = 0.0
    for coefficient in reversed(coefficients):
        value = value * x + coefficient
    return value


_Cell = tuple[float, float, float, float]
_UNMADE: _Cell = (math.nan,) * 4


class _Table:
    """The way back, each part made when it is first needed: knots lie evenly in voltage, a cubic between two of them
    (Hermite, of values and slopes); where that is not exact enough, as near absolute zero, it is solved each time."""

    CELLS = 1024
    EXACT = 2e-5  # K
    ROUNDING = 1e-9  # mV: by so much a voltage at an end of the range may lie beyond it

    def __init__(self, kind: str) -> None:
        self._kind = kind
        pieces = TYPES[kind]
        self._low = max(pieces[0].low, RISES_FROM.get(kind, -math.inf))
        self._high = pieces[-1].high
        self._first, self._last = (self._at(t) for t in (self._low, self._high))
        self._step = (self._last - self._first) / self.CELLS
        self._cells: list[_Cell | None] = [_UNMADE] * self.CELLS

    def _at(self, celsius: float) -> float:
        piece = _piece_at(self._kind, celsius)
        assert piece is not None
        return _millivolts(self._kind, piece, celsius)

    def _slope_at(self, celsius: float) -> float:
        piece = _piece_at(self._kind, celsius)
        assert piece is not None
        return _slope(self._kind, piece, celsius)

    def _cell(self, i: int) -> _Cell | None:
        """The cubic of a cell; None where it would not be exact enough."""
        h, knot = self._step, self._first + i * self._step
        t0, t1 = self._solved(knot), self._solved(min(knot + h, self._last))
        d0, d1 = h / self._slope_at(t0), h / self._slope_at(t1)
        c2, c3 = 3 * (t1 - t0) - 2 * d0 - d1, 2 * (t0 - t1) + d0 + d1
        for x in (0.25, 0.5, 0.75):
            if abs(t0 + x * (d0 + x * (c2 + x * c3)) - self._solved(knot + x * h)) > self.EXACT:
                return None
        return t0, d0, c2, c3

    def value(self, millivolts: float) -> float:
        """degC; NaN beyond the range."""
        if not self._first <= millivolts <= self._last:
            if not self._first - self.ROUNDING <= millivolts <= self._last + self.ROUNDING:
                return math.nan
            millivolts = min(max(millivolts, self._first), self._last)
        place = (millivolts - self._first) / self._step
        i = min(int(place), self.CELLS - 1)
        cell = self._cells[i]
        if cell is _UNMADE:
            cell = self._cells[i] = self._cell(i)
        if cell is None:
            return self._solved(millivolts)
        x = place - i
        return cell[0] + x * (cell[1] + x * (cell[2] + x * cell[3]))

    def _solved(self, millivolts: float) -> float:
        """By halving down to a thousandth, then Newton's steps: the functions rise all the way."""
        low, high = self._low, self._high
        while high - low > 1e-3:
            middle = (low + high) / 2
            low, high = (middle, high) if self._at(middle) < millivolts else (low, middle)
        celsius = (low + high) / 2
        for _ in range(2):
            celsius -= (self._at(celsius) - millivolts) / self._slope_at(celsius)
            celsius = min(max(celsius, self._low), self._high)
        return celsius


@cache
def _table(kind: str) -> _Table:
    return _Table(kind)
