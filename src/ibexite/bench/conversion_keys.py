"""Reads from a bench file how a signal is converted: `zero`, `shunt`, `divider`, `sensitivity`, `gain` and `offset`,
`polynomial`, `table`, `thermistor`, `rtd`; carried out in this order, whatever the order in which they stand there."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from ibexite import units
from ibexite.analysis import thermometers
from ibexite.bench.conversions import Chain, Interpolation, Step, curved, linear, polynomial, solved
from ibexite.errors import MistakeError, UnitError
from ibexite.toml_reader import TomlTable
from ibexite.units import Amount, Dimension

_PER_KELVIN = units.parse_unit("1/K").dimension


def chain_of(table: TomlTable, dimension: Dimension, folder: Path) -> tuple[Chain, Dimension]:
    """The conversion of a signal whose reading has a dimension, and the dimension of what it gives."""
    steps: list[Step] = []
    for key, read in _STEPS.items():
        if key in table:
            step = read(table, dimension, folder)
            if step is not None:
                steps.append(step)
                dimension = step.dimension
    return Chain(tuple(steps)), dimension


def _zero(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    zero = table.quantity("zero", units.difference(dimension))
    shown = units.format_value(zero, units.difference(dimension))
    return linear(f"zero at {shown}", dimension, 1.0, -zero)


def _shunt(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    resistance = table.quantity("shunt", units.OHM)
    if dimension != units.VOLT:
        what = "a shunt turns a voltage into a current, but this reading is " + units.describe(dimension)
        table.note("shunt", what)
    elif not resistance > 0:
        table.note("shunt", "is not above zero", "Write the resistance of the shunt.")
    else:
        return linear("shunt " + units.format_value(resistance, units.OHM), units.AMPERE, 1 / resistance)
    return None


def _divider(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    ratio = _amount(table, "divider")
    if ratio is None or not _is_linear(table, "divider", dimension):
        return None
    if not ratio.dimension.is_plain or not float(ratio) > 0:
        table.note("divider", "is no ratio above zero", 'Write what it divides by, as divider = "10.02".')
        return None
    return linear(f"divider {units.plain_number(float(ratio), 9)}", dimension, float(ratio))


def _sensitivity(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    amount = _amount(table, "sensitivity")
    if amount is None or not _is_linear(table, "sensitivity", dimension):
        return None
    if not float(amount) > 0:
        table.note("sensitivity", "is not above zero", 'Write, for example: sensitivity = "9.8 mV/Pa"')
        return None
    try:
        wanted = units.divide(dimension, amount.dimension)
    except UnitError as error:
        table.note("sensitivity", error.what, error.remedy)
        return None
    return linear(f"sensitivity {table.text('sensitivity')}", wanted, 1 / float(amount))


def _gain(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    amount = _amount(table, "gain")
    if amount is None or not _is_linear(table, "gain", dimension):
        return None
    if float(amount) == 0:
        table.note("gain", "is 0", 'Write, for example: gain = "2.004", or gain = "100 A/V"')
        return None
    try:
        wanted = units.multiply(dimension, amount.dimension)
    except UnitError as error:
        table.note("gain", error.what, error.remedy)
        return None
    return linear(f"gain {table.text('gain')}", wanted, float(amount))


def _offset(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    offset = table.quantity("offset", units.difference(dimension))
    return linear(f"offset {table.text('offset')}", dimension, 1.0, offset)


def _polynomial(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    entry = table.table("polynomial")
    texts, extent = entry.texts("coefficients"), entry.extent("of", dimension)
    entry.finish()
    if extent is None and "of" not in entry:
        entry.note("of", "is missing", 'It says for which readings it holds: of = ["0 V", "5 V"]')
    amounts = [_parsed(entry, "coefficients", text) for text in texts]
    known = [amount for amount in amounts if amount is not None]
    if len(known) < max(2, len(texts)) or extent is None:
        if len(texts) < 2:
            entry.note("coefficients", "not two or more", 'Write, for example: ["0 degC", "100 K/V"]')
        return None
    out = known[0].dimension
    slope = units.difference(out)
    for power, amount in enumerate(known[1:], 1):
        try:
            wanted = units.divide(slope, units.power(dimension, power))
        except UnitError as error:
            entry.note("coefficients", error.what, error.remedy)
            return None
        if amount.dimension != wanted:
            told = f"coefficient {power} is {units.describe(amount.dimension)}"
            entry.note("coefficients", told, f"It is {units.describe(wanted)}, lowest power first.")
            return None
    low, high = extent
    plain = polynomial([float(amount) for amount in known])
    inverse = solved(plain, low, high)
    return curved("polynomial", out, lambda x: plain(x) if low <= x <= high else float("nan"), inverse)


def _table(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    from ibexite.column_file import read_columns

    name = table.text("table")
    try:
        columns = read_columns(folder / name, what="table of a sensor")
    except MistakeError as error:
        table.note("table", f"{error.where}: {error.what}" if error.where else error.what, error.remedy)
        return None
    if len(columns) != 2 or columns[0].dimension != dimension:
        found = ", ".join(f"{column.name} is {units.describe(column.dimension)}" for column in columns)
        table.note("table", found, f"It has two columns: {units.describe(dimension)}, and what that means.")
        return None
    x, y = columns[0].values, columns[1].values
    if any(b <= a for a, b in zip(x, x[1:], strict=False)):
        table.note("table", f"{columns[0].name} does not rise from row to row")
        return None
    pairs = sorted(zip(y, x, strict=True))
    is_one_way = len({(b > a) - (b < a) for a, b in zip(y, y[1:], strict=False)} - {0}) == 1 and len(set(y)) == len(y)
    backward = Interpolation([a for a, _ in pairs], [b for _, b in pairs]) if is_one_way else lambda _: float("nan")
    return curved(f"table {name}", columns[1].dimension, Interpolation(x, y), backward)


def _thermistor(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    entry = table.table("thermistor")
    if dimension != units.OHM:
        table.note("thermistor", "it turns a resistance into a temperature", "Read it with a reading in ohm.")
    if "beta" in entry or "r25" in entry:
        r25, beta = entry.quantity("r25", units.OHM), entry.quantity("beta", units.KELVIN)
        entry.finish()
        if r25 <= 0 or beta <= 0:
            example = 'Write, for example: thermistor = { r25 = "10 kohm", beta = "3950 K" }'
            table.note("thermistor", "is not above zero", example)
        return curved(
            f"thermistor {units.format_value(r25, units.OHM)} at 25 degC", units.CELSIUS,
            lambda x: thermometers.beta_temperature(x, r25, beta), lambda t: thermometers.beta_resistance(t, r25, beta),
        )  # fmt: skip
    a, b, c = (entry.quantity(key, _PER_KELVIN) for key in ("a", "b", "c"))
    entry.finish()
    if not (b > 0 and c > 0):
        table.note(
            "thermistor", "b and c are not above zero", 'Write, as { a = "1.13e-3 1/K", b = "2.34e-4 1/K", c = … }'
        )
        return None
    return curved(
        "thermistor by Steinhart and Hart", units.CELSIUS, lambda x: thermometers.steinhart_temperature(x, a, b, c),
        lambda t: thermometers.steinhart_resistance(t, a, b, c),
    )  # fmt: skip


def _rtd(table: TomlTable, dimension: Dimension, folder: Path) -> Step | None:
    entry = table.table("rtd")
    r0 = entry.quantity("r0", units.OHM)
    entry.finish()
    if dimension != units.OHM:
        table.note("rtd", "it turns a resistance into a temperature", "Read it with a reading in ohm.")
    if not r0 > 0:
        table.note("rtd", "r0 is not above zero", 'Write: rtd = { r0 = "100 ohm" }')
        return None
    return curved(
        f"platinum {units.format_value(r0, units.OHM)} (IEC 60751)", units.CELSIUS,
        lambda x: thermometers.platinum_temperature(x, r0), lambda t: thermometers.platinum_resistance(t, r0),
    )  # fmt: skip


def _amount(table: TomlTable, key: str) -> Amount | None:
    return _parsed(table, key, table.text(key))


def _parsed(table: TomlTable, key: str, text: str) -> Amount | None:
    if not text:
        return None
    try:
        return units.parse_quantity(text)
    except UnitError as error:
        table.note(key, error.what, error.remedy)
        return None


def _is_linear(table: TomlTable, key: str, dimension: Dimension) -> bool:
    if dimension.kind == "linear":
        return True
    table.note(
        key, f"the reading is {units.describe(dimension)}, which is not multiplied", "A level takes an offset in dB."
    )
    return False


_STEPS: dict[str, Callable[[TomlTable, Dimension, Path], Step | None]] = {
    "zero": _zero, "shunt": _shunt, "divider": _divider, "sensitivity": _sensitivity, "gain": _gain, "offset": _offset,
    "polynomial": _polynomial, "table": _table, "thermistor": _thermistor, "rtd": _rtd,
}  # fmt: skip
