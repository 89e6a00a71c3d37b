"""How limits are made from the values of many units, as options name it."""

from __future__ import annotations

from typing import TYPE_CHECKING, NamedTuple

from ibexite import units as quantities
from ibexite.errors import MistakeError, UnitError

if TYPE_CHECKING:
    from ibexite.analysis.curve import Array
    from ibexite.analysis.many_units import Proposal, Spread


class Method(NamedTuple):
    """How limits are made: `kind` is sigma, percentile, tolerance or capability, `amount` its number (a tolerance in
    base units; capability: the Cpk that the limits give)."""

    kind: str
    amount: float
    told: str
    dimension: quantities.Dimension | None = None  # of a tolerance

    def limits(self, values: Array) -> tuple[Spread, Proposal]:
        """Centre and spread of values of shape (units, points), and the limits of each point."""
        from ibexite.analysis import many_units

        spread = many_units.spread_of(values)
        if self.kind == "percentile":
            return spread, many_units.by_percentile(values, self.amount)
        if self.kind == "tolerance":
            return spread, many_units.by_tolerance(spread, self.amount)
        return spread, many_units.by_sigma(spread, 3 * self.amount if self.kind == "capability" else self.amount)


def method_of(sigma: float | None, percentile: float | None, tolerance: str | None, capability: float | None) -> Method:
    """The method that options name; four standard deviations where they name none.

    Raises:
        MistakeError: they name several, or a number that makes no limits.
    """
    given = [name for name, value in (("sigma", sigma), ("percentile", percentile), ("tolerance", tolerance),
                                      ("capability", capability)) if value is not None]  # fmt: skip
    if len(given) > 1:
        raise MistakeError(f"--{given[0]} and --{given[1]}", remedy="Limits are made in one way.")
    if tolerance is not None:
        return _by_tolerance(tolerance)
    if percentile is not None:
        _refuse(not 0 < percentile < 50, "--percentile", percentile, "It lies between 0 and 50.")
        return Method("percentile", percentile, f"{percentile:g} and {100 - percentile:g} % percentiles")
    if capability is not None:
        _refuse(not 0 < capability < 100, "--capability", capability, "It is a Cpk such as 1.33.")
        return Method("capability", capability, f"for a Cpk of {capability:g}")
    factor = 4.0 if sigma is None else sigma
    _refuse(not 0 < factor < 1000, "--sigma", factor, "It is a number such as 4.")
    return Method("sigma", factor, f"mean +/- {factor:g} sigma")


def _refuse(is_wrong: bool, option: str, value: float, remedy: str) -> None:
    if is_wrong:
        raise MistakeError(f"{option} {value:g} makes no limits", remedy=remedy)


def _by_tolerance(text: str) -> Method:
    try:
        amount = quantities.parse_quantity(text)
    except UnitError as error:
        raise MistakeError(error.what, where="--tolerance", remedy=error.remedy) from None
    dimension = amount.dimension
    size = float(amount)
    if dimension.kind == "point":  # 5 degC is a difference of 5 K
        size, dimension = float(amount.value - amount.unit.offset), quantities.difference(dimension)
    _refuse(not size > 0, "--tolerance", size, "It is above zero.")
    return Method("tolerance", size, f"mean +/- {text.strip()}", dimension)


def parts_of_octave(text: str) -> float:
    """The number of "3/octave"; 0 for no text. Raises MistakeError."""
    number, slash, word = text.partition("/")
    if not text:
        return 0.0
    if slash and word.strip() == "octave" and number.strip().isdigit() and int(number):
        return float(number)
    raise MistakeError(f"--smooth {text!r}", remedy="Write, for example: --smooth 3/octave")
