"""The functions that formulas may use: one table, from which checker, compiler, help and reference are made.

No NumPy here: the checker must start quickly. The computing itself is in ibexite.analysis.

Kinds:   point    value by value, on single values and curves alike
         consume  takes an axis of a curve away (named by `along`, or the only one)
         keep     a curve over the same axes
         special  called in a way of its own (at, crossing with all, onto, line, number)
Arguments (all but x, pairs and axis are classes of ibexite.language.function_arguments):
           x        a number with unit; for consume and keep a curve
           same     of the unit of x          plain    a plain number          decibel  a ratio in dB
           window   5 points, 3 per octave    unit     the symbol of a unit    pairs    x -> y, x -> y, …
           axis     axis = value, …
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from ibexite import units
from ibexite.errors import UnitError
from ibexite.units import Dimension

Rule = Callable[[Dimension, Dimension], Dimension]  # of x and of the axis: of the result


@dataclass(frozen=True, slots=True)
class Function:
    """One function. `fields` are the parts of its result (resonance(z).q), each with its rule."""

    name: str
    group: str
    kind: str
    usage: str
    help: str
    example: str
    target: str
    result: Rule
    arguments: tuple[str, ...] = ("x",)
    flags: tuple[str, ...] = ()
    fields: Mapping[str, Rule] = field(default_factory=dict)
    complexity: str = "real"  # which x: real, any (complex as well), complex (only), result_real, makes_complex

    def option_for(self, x: Dimension) -> str:
        """A further argument for what the computing must know of x, "" if nothing: whether it is a level, an amplitude
        or a power, or how it is averaged."""
        is_level = x.kind in ("level", "db")
        if self.name in ("bandwidth", "cutoff"):
            return "scale=" + repr("level" if is_level else "power" if x == units.WATT else "amplitude")
        if self.name == "smooth":
            return "kind=" + repr("level" if is_level else "angle" if x == units.RADIAN else "plain")
        return ""


def _same(x: Dimension, axis: Dimension) -> Dimension:
    return x


def _axis(x: Dimension, axis: Dimension) -> Dimension:
    return axis


def _plain(x: Dimension, axis: Dimension) -> Dimension:
    return units.PLAIN


def _difference(x: Dimension, axis: Dimension) -> Dimension:
    return units.difference(x)


def _not_a_level(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind in ("level", "db"):
        raise UnitError(
            "the mean of levels is not the level of the mean", remedy="Write mean_power(x), or mean(linear(x))."
        )
    return x


def _not_a_temperature(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind == "point":
        raise UnitError(
            f"this is {units.describe(x)}, which has no zero of its own",
            remedy="Take a difference first; that is in K.",
        )
    return _not_a_level(x, axis)


def _only_level(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind not in ("level", "db"):
        raise UnitError(f"this is {units.describe(x)}, not a level in dB", remedy="Write mean(x).")
    return x


def _to_decibel(x: Dimension, axis: Dimension) -> Dimension:
    if not x.is_plain:
        raise UnitError(f"a ratio is a plain number, this is {units.describe(x)}", remedy="Divide it by a reference.")
    return units.DECIBEL


def _from_decibel(x: Dimension, axis: Dimension) -> Dimension:
    if x != units.DECIBEL:
        raise UnitError(f"this is {units.describe(x)}, not a ratio in dB")
    return units.PLAIN


def _must_be_plain(x: Dimension, axis: Dimension) -> Dimension:
    if not x.is_plain:
        raise UnitError(f"it takes a plain number, this is {units.describe(x)}", remedy="Divide it by a reference.")
    return units.PLAIN


def _of_angle(x: Dimension, axis: Dimension) -> Dimension:
    if x != units.RADIAN and not x.is_plain:
        raise UnitError(f"it takes an angle, this is {units.describe(x)}")
    return units.PLAIN


def _angle(x: Dimension, axis: Dimension) -> Dimension:
    return units.RADIAN


_LEVEL_OF = {units.WATT: units.POWER_LEVEL, units.VOLT: units.VOLTAGE_LEVEL, units.PASCAL: units.PRESSURE_LEVEL}
_LEVEL_NAMES = {units.WATT: "power", units.VOLT: "voltage", units.PASCAL: "pressure"}


def _to_level(x: Dimension, axis: Dimension) -> Dimension:
    if x not in _LEVEL_OF:
        raise UnitError(
            f"there is no level of {units.describe(x)}",
            remedy="It takes a power (W), a voltage (V) or a pressure (Pa).",
        )
    return _LEVEL_OF[x]


def _to_linear(x: Dimension, axis: Dimension) -> Dimension:
    linear = {level: linear for linear, level in _LEVEL_OF.items()}
    if x not in linear:
        raise UnitError(f"{units.describe(x)} is not a level of a unit", remedy="It takes dBm, dBV or dBSPL.")
    return linear[x]


def _to_full_scale(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind != "linear":
        raise UnitError(f"this is {units.describe(x)}, not a value over a full scale")
    return units.FULL_SCALE_LEVEL


def _slope(x: Dimension, axis: Dimension) -> Dimension:
    return units.divide(units.difference(x), units.difference(axis))


def _area(x: Dimension, axis: Dimension) -> Dimension:
    return units.multiply(x, units.difference(axis))


def _size(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind in ("level", "point"):
        raise UnitError(
            f"this is {units.describe(x)}, which has no zero of its own",
            remedy=f"Take a difference first; that is in {units.symbol_of(units.difference(x))}.",
        )
    return x


def _root(x: Dimension, axis: Dimension) -> Dimension:
    return units.power(x, 0.5)


def _compressed(x: Dimension, axis: Dimension) -> Dimension:
    if x.kind != "level" or axis.kind != "level":
        raise UnitError("compression takes a level over a level", remedy="Sweep and measure in dBm or dBV.")
    return x


def _conductance(x: Dimension, axis: Dimension) -> Dimension:
    return units.divide(units.PLAIN, x)


_T = Function
_STATISTICS = (
    _T("max", "statistics", "consume", "max(x along axis)", "largest value", "let best = max(eff along iload)",
       "statistics.largest", _same),
    _T("min", "statistics", "consume", "min(x along axis)", "smallest value", "let least = min(v_out)",
       "statistics.smallest", _same),
    _T("span", "statistics", "consume", "span(x along axis)", "largest minus smallest value", "let ripple = span(gain)",
       "statistics.span", _difference),
    _T("mean", "statistics", "consume", "mean(x along axis)",
       "arithmetic mean (not of levels); of angles their mean direction",
       "let centre = mean(v_out along scan)", "statistics.mean", _not_a_level, complexity="any"),
    _T("mean_power", "statistics", "consume", "mean_power(x along axis)", "level of the mean power of levels",
       "let total = mean_power(level_out)", "statistics.mean_power", _only_level),
    _T("std", "statistics", "consume", "std(x along axis)", "sample standard deviation (n - 1)",
       "let noise = std(v_out along scan)", "statistics.deviation", _difference),
    _T("median", "statistics", "consume", "median(x along axis)", "median", "let middle = median(v_out)",
       "statistics.median", _same),
    _T("percentile", "statistics", "consume", "percentile(x, 95 % along axis)",
       "value below which such a part of the values lies, interpolated between neighbours in rank",
       "let usual = percentile(v_out, 95 % along scan)", "statistics.percentile", _same, ("x", "plain")),
    _T("rms", "statistics", "consume", "rms(x along axis)", "root of the mean square",
       "let effective = rms(i_out)", "statistics.rms", _not_a_temperature),
    _T("count", "statistics", "consume", "count(x along axis)", "how many values are no holes",
       "let good = count(v_out)", "statistics.count", _plain),
    _T("argmax", "statistics", "consume", "argmax(x along axis)", "place on the axis of the largest value",
       "let f_peak = argmax(gain along freq)", "statistics.argmax", _axis),
    _T("argmin", "statistics", "consume", "argmin(x along axis)", "place on the axis of the smallest value",
       "let f_dip = argmin(size along freq)", "statistics.argmin", _axis),
    _T("intermittent", "statistics", "special", "intermittent(wires along scan)",
       "in how many turns each pair of pins was not connected as in most of them: 0 for a contact that never changed",
       "let loose = intermittent(wires along scan)", "wiring.intermittent", _plain),
)  # fmt: skip
_FEATURES = (
    _T("at", "features", "special", "at(x, axis = value)",
       "value at a point of one axis or several, interpolated between neighbours only",
       "let eff_560 = at(eff, iload = 560 mA)",
       "catalog.at", _same, ("x", "axis"), ("log",), complexity="any"),
    _T("crossing", "features", "consume", "crossing(x, level along axis)",
       "place on the axis where x crosses a level, the first one in the order of measurement; a hole if it never does. "
       "With rising, falling, last, log (logarithmic axis), all (every crossing, over the axis `crossing`)",
       "let f_drop = crossing(gain, -3 dB, falling, log)",
       "features.crossing", _axis, ("x", "same"), ("rising", "falling", "last", "log", "all")),
    _T("slope", "features", "consume", "slope(x along axis)", "slope of the best straight line (least squares)",
       "let regulation = slope(v_out along vin)", "features.slope", _slope),
    _T("integral", "features", "consume", "integral(x along axis)", "area below the curve (trapezoid rule)",
       "let energy = integral(p_in along scan_elapsed)", "features.integral", _area),
    _T("bandwidth", "features", "consume", "bandwidth(x, -3 dB along axis)",
       "width between the points where x has fallen by so much below its peak (a level by dB, a power in W by 10 lg, "
       "all else by 20 lg)", "let width = bandwidth(gain, -3 dB)",
       "features.bandwidth", _axis, ("x", "decibel")),
    _T("cutoff", "features", "consume", "cutoff(x, -3 dB along axis)",
       "frequency above the peak where x has fallen by so much; with lower the one below it",
       "let f_low = cutoff(gain, -3 dB, lower)", "features.cutoff", _axis, ("x", "decibel"), ("lower",)),
    _T("compression", "features", "consume", "compression(x, 1 dB along axis).output",
       "where a level falls so far below the ideal line of slope 1; parts: input, output, gain",
       "let p_1db = compression(p_out, 1 dB).output", "features.compression", _compressed, ("x", "decibel"),
       fields={"input": _axis, "output": _compressed, "gain": lambda x, axis: units.subtract(x, axis)}),
    _T("resonance", "features", "consume", "resonance(z along axis).frequency",
       "resonance of an impedance (peak of the conductance; with parallel that of the resistance) or of an amplitude; "
       "parts: frequency, q, peak", "let q = resonance(z).q", "features.resonance", _axis, flags=("parallel",),
       fields={"frequency": _axis, "q": _plain, "peak": _conductance}, complexity="result_real"),
)  # fmt: skip
_SHAPES = (
    _T("smooth", "curves", "keep", "smooth(x, 3 per octave along axis)",
       "running mean over so many points (odd), or over a part of an octave; of levels that of their powers; "
       "near the ends the window shrinks alike on both sides", "let even = smooth(gain, 3 per octave)",
       "shaping.smooth_points", _same, ("x", "window"), complexity="any"),
    _T("derivative", "curves", "keep", "derivative(x along axis)", "local slope at each point",
       "let steepness = derivative(v_out along vin)", "shaping.derivative", _slope),
    _T("cumulative", "curves", "keep", "cumulative(x along axis)", "area below the curve up to each point",
       "let charge = cumulative(i_in along scan)", "shaping.cumulative", _area),
    _T("onto", "curves", "special", "onto(a, b)",
       "curve a at the points of curve b, interpolated; with log on a logarithmic axis",
       "let loss = gain - onto(lead, gain)", "catalog.onto", _same, ("x", "x"), ("log",), complexity="any"),
    _T("line", "curves", "special", "line(x1 -> y1, x2 -> y2, … along axis)",
       "straight lines through points; beyond its ends it has no value and judges nothing. With log on a "
       "logarithmic axis",
       "check gain >= line(2 kHz -> -3 dB, 9 kHz -> -3 dB along freq)", "catalog.line", _same, ("pairs",), ("log",)),
)  # fmt: skip
_POINTS = (
    _T("abs", "values", "point", "abs(x)", "size without sign; of a complex value its magnitude", "let size = abs(z)",
       "pointwise.absolute", _size, complexity="result_real"),
    _T("smaller", "values", "point", "smaller(a, b)", "the smaller of two values of one unit; min(a, b) is the same",
       "let v = smaller(v_in - 300 mV, 5 V)", "pointwise.smaller", _same, ("x", "same")),
    _T("larger", "values", "point", "larger(a, b)", "the larger of two values of one unit; max(a, b) is the same",
       "let v = larger(v_a, v_b)", "pointwise.larger", _same, ("x", "same")),
    _T("choose", "values", "special", "choose(condition, a, b)", "a where the condition holds, b where it does not",
       "let v = choose(v_in > 6 V, v_a, v_b)", "pointwise.chosen", _same, ("condition", "x", "same")),
    _T("sqrt", "values", "point", "sqrt(x)", "square root; of V^2 it is V", "let v = sqrt(p * r)",
       "pointwise.root", _root),
    _T("exp", "values", "point", "exp(x)", "e to the power of a plain number", "let k = exp(-t / tau)",
       "pointwise.exponential", _must_be_plain),
    _T("ln", "values", "point", "ln(x)", "natural logarithm of a plain number", "let n = ln(v_a / v_b)",
       "pointwise.natural_log", _must_be_plain),
    _T("log10", "values", "point", "log10(x)", "decimal logarithm of a plain number", "let d = log10(f_b / f_a)",
       "pointwise.decimal_log", _must_be_plain),
    _T("sin", "values", "point", "sin(angle)", "sine", "let s = sin(90 deg)", "pointwise.sine", _of_angle),
    _T("cos", "values", "point", "cos(angle)", "cosine", "let power_factor = cos(shift)",
       "pointwise.cosine", _of_angle),
    _T("tan", "values", "point", "tan(angle)", "tangent", "let ratio = tan(loss_angle)",
       "pointwise.tangent", _of_angle),
    _T("number", "values", "special", "number(x, unit)", "the bare number of x in a unit", "let n = number(v_out, mV)",
       "catalog.number", _plain, ("x", "unit")),
)  # fmt: skip
_LEVELS = (
    _T("db_amplitude", "levels", "point", "db_amplitude(ratio)", "20 lg of a ratio of voltages, currents or pressures; of a complex one that of its size",
       "let gain = db_amplitude(v_out / v_in)", "pointwise.db_amplitude", _to_decibel, complexity="result_real"),
    _T("db_power", "levels", "point", "db_power(ratio)", "10 lg of a ratio of powers",
       "let loss = db_power(p_out / p_in)",
       "pointwise.db_power", _to_decibel),
    _T("amplitude_ratio", "levels", "point", "amplitude_ratio(x)", "the ratio of amplitudes of a number of dB",
       "let factor = amplitude_ratio(6 dB)", "pointwise.amplitude_ratio", _from_decibel),
    _T("power_ratio", "levels", "point", "power_ratio(x)", "the ratio of powers of a number of dB",
       "let factor = power_ratio(3 dB)", "pointwise.power_ratio", _from_decibel),
    _T("level", "levels", "point", "level(x)", "a power as a level in dBm, a voltage in dBV, an RMS sound pressure in dBSPL (of 20 uPa)",
       "let p_level = level(p_out)", "", _to_level),
    _T("linear", "levels", "point", "linear(x)", "a level in dBm as a power, one in dBV as a voltage, one in dBSPL as a pressure",
       "let p = linear(level_out)", "", _to_linear),
    _T("level_fs", "levels", "point", "level_fs(x, full_scale)",
       "a size as a level of the largest one that there is, in dBFS: a peak, or an RMS value times sqrt(2)",
       "let head_room = level_fs(peak_in, 5 V)", "pointwise.level_of_full_scale", _to_full_scale, ("x", "same")),
)  # fmt: skip
_COMPLEX = (
    _T("complex", "complex values", "point", "complex(re, im)", "a complex value from its two parts",
       "let z = complex(r_x, x_x)", "pointwise.rectangular", _same, ("x", "same"), complexity="makes_complex"),
    _T("polar", "complex values", "point", "polar(size, angle)", "a complex value from magnitude and phase",
       "let z = polar(v / i, shift)", "pointwise.polar", _same, ("x", "angle"), complexity="makes_complex"),
    _T("re", "complex values", "point", "re(z)", "real part", "let r = re(z)", "pointwise.real_part", _same,
       complexity="result_real"),
    _T("im", "complex values", "point", "im(z)", "imaginary part", "let x = im(z)", "pointwise.imaginary_part", _same,
       complexity="result_real"),
    _T("phase", "complex values", "point", "phase(z)", "phase, from -180 deg to 180 deg", "let shift = phase(z) in deg",
       "pointwise.phase", _angle, complexity="result_real"),
)  # fmt: skip
FUNCTIONS = {f.name: f for f in (*_STATISTICS, *_FEATURES, *_SHAPES, *_POINTS, *_LEVELS, *_COMPLEX)}
IN_WAIT = {"drift": "drift(x)"}  # only in the condition of `wait reading`: change per second over the last readings


_OF_TWO = {"min": "smaller", "max": "larger"}


def function_named(name: str, arguments: int) -> Function | None:
    """The function that a call with so many arguments means; None where there is none."""
    return FUNCTIONS.get(_OF_TWO.get(name, name) if arguments == 2 else name)


def target_of(function: Function, x: Dimension, flags: frozenset[str], variant: str = "") -> str:
    """The function of ibexite.analysis that computes it, "module.function"; `variant` is what its arguments say."""
    if function.name == "level":
        return f"pointwise.level_of_{_LEVEL_NAMES[x]}"
    if function.name == "linear":
        return f"pointwise.{_LEVEL_NAMES[_to_linear(x, x)]}_of_level"
    if function.name == "crossing" and "all" in flags:
        return "catalog.crossings"
    if function.name == "mean" and x == units.RADIAN:
        return "statistics.mean_angle"
    if function.name == "smooth" and variant != "points":
        return "shaping.smooth_octaves"
    return function.target
