'''Writes and reads the files of references: TOML, in which each curve stands as a table of comma-separated columns.

    [reference]
    product = "FM-2 antenna lead"
    variant = ""
    [origin]
    run = "20261127-081022-k2v9pd"
    unit = "AL0017"
    ...
    [values.s21]
    test = "lead"
    kind = "quantity"
    unit = "dB"
    axes = ["freq"]
    conditions = { "analyser.power" = "-10 dBm" }
    points = """
    freq [Hz],s21 [dB]
    40000000.0,-0.21
    """

Numbers are those that were measured, in base units with all their digits.
'''

from __future__ import annotations

import csv
import io
import json
import math
import re
from collections.abc import Iterator
from pathlib import Path

from ibexite import units
from ibexite.column_file import heading_of
from ibexite.compound import fixed_text
from ibexite.errors import MistakeError, UnitError
from ibexite.plain_file import written_whole
from ibexite.reference import Axis, Origin, Reference, ReferenceValue
from ibexite.toml_reader import TomlTable, quoted, read_toml
from ibexite.units import Unit
from ibexite.values import TEXT, Compound, Connections, Quantity, Type, Words, stored_type

MOST_BYTES = 100_000_000
_HEAD = "# A known good unit. Whoever edits this file has it approved anew: ibexite golden approve {name}\n"
_RE, _IM = "re", "im"


# --- writing ---------------------------------------------------------------------------------------------------------


def write_reference(path: Path, reference: Reference, *, is_new: bool) -> None:
    """Writes a reference, whole or not at all.

    Raises:
        FileExistsError: it was to be new, and is there.
        MistakeError: it could not be read back; what is there stays.
    """
    text = "".join(_lines(reference))
    path.parent.mkdir(parents=True, exist_ok=True)
    with written_whole(path, is_new=is_new) as beside:
        beside.write_text(text, encoding="utf-8")
        read_reference(beside, reference.name)


def _lines(reference: Reference) -> Iterator[str]:
    origin = reference.origin
    yield _HEAD.format(name=reference.name)
    yield f"\n[reference]\nproduct = {quoted(reference.product)}\nvariant = {quoted(reference.variant)}\n"
    yield "\n[origin]\n"
    for key in ("run", "unit", "measured", "verdict"):
        yield f"{key} = {quoted(getattr(origin, key))}\n"
    yield "simulated = true\n" if origin.is_simulated else ""
    yield f"trial = [{', '.join(map(quoted, origin.trial))}]\n"
    yield f"notes = {_table(origin.notes)}\n"
    for value in reference.values.values():
        yield from _value_lines(value)


def _table(texts: dict[str, str]) -> str:
    inner = ", ".join(f"{quoted(key)} = {quoted(text)}" for key, text in texts.items())
    return f"{{ {inner} }}" if inner else "{}"


def _value_lines(value: ReferenceValue) -> Iterator[str]:
    kind = value.type
    yield f"\n[values.{quoted(value.name)}]\ntest = {quoted(value.test)}\nkind = {quoted(kind.stored)}\n"
    if isinstance(kind, Quantity):
        yield f"unit = {quoted(kind.unit)}\n"
        yield f"shown = {quoted(kind.shown)}\n" if kind.shown else ""
        yield "complex = true\n" if kind.is_complex else ""
    yield f"conditions = {_table(value.conditions)}\n"
    if isinstance(kind, Compound) and not value.axes:
        yield f"text = {_block(_spread_out(str(value.values[0])))}\n"
        return
    sampling = value.axes[0].sampling if value.axes else None
    if sampling is not None:
        unit = value.axes[0].type.unit
        yield f'sampled = {{ start = "{sampling[0]!r} {unit}", step = "{sampling[1]!r} {unit}" }}\n'
    yield f"axes = {_axes_text(value.axes)}\n" if value.axes else ""
    yield f"points = {_block(_points_text(value))}\n"


def _block(text: str) -> str:
    """Several lines as TOML has them: as they stand, where that can be done."""
    if "'''" not in text and not re.search(r"[\x00-\x08\x0b-\x1f\x7f]", text):
        return f"'''\n{text}\n'''"
    return '"""\n' + "\n".join(quoted(line)[1:-1] for line in text.split("\n")) + '\n"""'


def _axes_text(axes: tuple[Axis, ...]) -> str:
    return "[" + ", ".join(quoted(axis.name) for axis in axes) + "]"


def _spread_out(text: str) -> str:
    """The text of tables and connections, an entry a line, so that a comparison of versions shows what is otherwise."""
    data = json.loads(text)
    if isinstance(data, dict):
        inner = ",\n".join(f"{json.dumps(key)}: {_entries(part)}" for key, part in data.items())
        return "{\n" + inner + "\n}"
    return _entries(data)


def _entries(data: object) -> str:
    if not isinstance(data, list):
        return json.dumps(data, ensure_ascii=False)
    return "[\n" + ",\n".join(json.dumps(entry, ensure_ascii=False) for entry in data) + "\n]"


def _points_text(value: ReferenceValue) -> str:
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    axes = [axis for axis in value.axes if axis.sampling is None]
    writer.writerow([*(_heading(axis.name, axis.type) for axis in axes), *_value_headings(value)])
    places = _places(axes)
    for at, number in zip(places, value.values, strict=True) if axes else (((), n) for n in value.values):
        writer.writerow([*map(_cell, at), *_cells(number, value.type)])
    return out.getvalue().removesuffix("\n")


def _places(axes: list[Axis]) -> Iterator[tuple[float | str, ...]]:
    if not axes:
        return
    first, rest = axes[0], axes[1:]
    for point in first.points:
        if rest:
            yield from ((point, *more) for more in _places(rest))
        else:
            yield (point,)


def _heading(name: str, kind: Type) -> str:
    return f"{name} [{kind.unit}]" if isinstance(kind, Quantity) and kind.unit else name


def _value_headings(value: ReferenceValue) -> list[str]:
    if isinstance(value.type, Quantity) and value.type.is_complex:
        return [_heading(part, value.type) for part in (_RE, _IM)]
    return [_heading("value", value.type)]


def _cell(number: float | str) -> str:
    return number if isinstance(number, str) else repr(float(number))


def _cells(number: float | complex | str | None, kind: Type) -> list[str]:
    if isinstance(kind, Quantity) and kind.is_complex:
        return ["", ""] if number is None else [repr(complex(number).real), repr(complex(number).imag)]
    if isinstance(number, complex):
        raise TypeError(kind)
    return ["" if number is None else _cell(number)]


# --- reading ---------------------------------------------------------------------------------------------------------


def read_reference(path: Path, name: str) -> Reference:
    """Reads a reference.

    Raises:
        MistakeError: it is none, or something in it is no value; with the line or the row.
    """
    table = read_toml(path, what="reference", most=MOST_BYTES)
    head, origin = table.table("reference", needed=True), table.table("origin", needed=True)
    values = table.tables("values")
    product, variant = head.text("product"), head.text("variant", "")
    head.finish()
    run, unit, measured, verdict = (origin.text(key) for key in ("run", "unit", "measured", "verdict"))
    trial, notes = tuple(origin.texts("trial", [])), _texts(origin.table("notes"))
    is_simulated = origin.flag("simulated", False)
    origin.finish()
    if not values:
        table.note("values", "there are no values", "Save it anew: ibexite golden save")
    table.finish()
    found = {called: _value(called, entry) for called, entry in values.items()}
    return Reference(
        name,
        str(path),
        table.sha256,
        product,
        variant,
        Origin(run, unit, measured, verdict, trial, is_simulated, notes),
        found,
    )


def _texts(table: TomlTable) -> dict[str, str]:
    found = {key: table.text(key) for key in table}
    table.finish()
    return found


def _value(name: str, table: TomlTable) -> ReferenceValue:
    test, kind = table.text("test"), _type(table)
    conditions = _texts(table.table("conditions"))
    if isinstance(kind, Compound) and "axes" not in table:
        text = table.text("text")
        table.finish()
        return ReferenceValue(name, test, kind, (), (_compound(kind, text, table),), conditions)
    names, points = table.texts("axes", []), table.text("points")
    sampled = _sampled(table, names)
    table.finish()
    axes, values = _points(table, points, names, kind, sampled)
    if isinstance(kind, Compound):
        values = tuple(_compound(kind, str(each), table) if each else None for each in values)
    return ReferenceValue(name, test, kind.over(tuple(names)), axes, values, conditions)


def _sampled(table: TomlTable, names: list[str]) -> Axis | None:
    """An axis with even steps, None where all points stand in rows."""
    if "sampled" not in table:
        return None
    entry = table.table("sampled")
    start, step = (_quantity(entry, key) for key in ("start", "step"))
    entry.finish()
    if len(names) != 1 or start.dimension != step.dimension:
        table.fail("sampled", "not the steps of one axis", "Save it anew: ibexite golden save")
    return Axis(names[0], Quantity((), start.dimension), (), (float(start.value), float(step.value)))


def _quantity(table: TomlTable, key: str) -> units.Amount:
    try:
        return units.parse_quantity(table.text(key))
    except UnitError as error:
        table.fail(key, error.what, error.remedy)


def _type(table: TomlTable) -> Type:
    entry = {"kind": table.text("kind"), "unit": table.text("unit", ""), "shown": table.text("shown", "")}
    is_complex = table.flag("complex", False)
    try:
        found = stored_type(entry)
    except KeyError:
        table.fail("kind", f"there is no kind of value {entry['kind']!r}", "Save it anew: ibexite golden save")
    except UnitError as error:
        table.fail("unit", error.what, error.remedy)
    return Quantity((), found.dimension, found.shown, is_complex) if is_complex else found


def _compound(kind: Compound, text: str, table: TomlTable) -> str:
    try:
        data = json.loads(text)
        fixed = kind.form.text(data) if isinstance(kind, Connections) else fixed_text(data)
        kind.form.rows(fixed)
        return fixed
    except (ValueError, KeyError, TypeError, IndexError, AttributeError) as error:
        table.fail("text", f"no {kind.stored} ({error})", "Save it anew: ibexite golden save")


def _points(
    table: TomlTable, text: str, names: list[str], kind: Type, sampled: Axis | None
) -> tuple[tuple[Axis, ...], tuple[float | complex | str | None, ...]]:
    where = table.where("points")
    rows = [row for row in csv.reader(io.StringIO(text.removesuffix("\n"))) if row]
    in_rows = [] if sampled else names
    width = len(in_rows) + (2 if isinstance(kind, Quantity) and kind.is_complex else 1)
    for number, row in enumerate(rows, 1):
        if len(row) != width:
            raise MistakeError(f"{len(row)} cells in place of {width}", where=f"{where}, row {number}",
                               remedy="Its columns are the axes and the value.")  # fmt: skip
    if len(rows) < 2:
        raise MistakeError("there are no points", where=where, remedy="Save it anew: ibexite golden save")
    heads = [heading_of(cell, where) for cell in rows[0]]
    columns = list(zip(*rows[1:], strict=True))
    values = _values(kind, columns[len(in_rows) :], heads[len(in_rows) :], where)
    if sampled:
        return (sampled,), values
    given = [_axis_cells(column, head, where) for column, head, _ in zip(columns, heads, in_rows, strict=False)]
    points = [tuple(dict.fromkeys(cells)) if len(given) > 1 else tuple(cells) for cells, _ in given]
    axes = tuple(Axis(name, axis_kind, mine) for name, mine, (_, axis_kind) in zip(names, points, given, strict=True))
    _refuse_gaps(list(zip(*(cells for cells, _ in given), strict=True)), list(axes), where)
    return axes, values


def _refuse_gaps(rows: list[tuple[float | str, ...]], axes: list[Axis], where: str) -> None:
    if axes and rows != list(_places(axes)):
        raise MistakeError(
            "its rows are not all points of all axes, the last axis running fastest", where=where,
            remedy="Save it anew: ibexite golden save",
        )  # fmt: skip


def _axis_cells(column: tuple[str, ...], head: tuple[str, Unit], where: str) -> tuple[list[float | str], Type]:
    numbers = [_number(cell) for cell in column]
    if None in numbers and not head[1].symbol:
        return list(column), TEXT
    return [_needed(cell, head[1], where) for cell in column], Quantity((), head[1].dimension)


def _values(
    kind: Type, columns: list[tuple[str, ...]], heads: list[tuple[str, Unit]], where: str
) -> tuple[float | complex | str | None, ...]:
    if isinstance(kind, Words):
        return tuple(columns[0])
    for _, unit in heads:
        if unit.dimension != kind.dimension:
            raise MistakeError(
                f"the column is {units.describe(unit.dimension)}, the value {units.describe(kind.dimension)}",
                where=where, remedy="Unit and heading belong together.",
            )  # fmt: skip
    parts = [[None if not cell else _needed(cell, head[1], where) for cell in column]
             for column, head in zip(columns, heads, strict=True)]  # fmt: skip
    if len(parts) == 1:
        return tuple(parts[0])
    return tuple(None if re is None or im is None else complex(re, im) for re, im in zip(*parts, strict=True))


def _needed(cell: str, unit: Unit, where: str) -> float:
    number = _number(cell)
    if number is None:
        raise MistakeError(f"{cell!r} is no number", where=where, remedy="Units stand in the headings.")
    return number * float(unit.factor) + float(unit.offset)


def _number(cell: str) -> float | None:
    try:
        number = float(cell)
    except ValueError:
        return None
    return number if math.isfinite(number) and "_" not in cell else None
