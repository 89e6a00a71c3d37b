"""A model of one's own product, from a text file: formulas of the sequence language for what can be measured.

What it is: values of each unit (nominal, with spread by its serial number), terminals to which instruments apply
something, quantities by formulas of both, faults that some units have. The formulas are vetted here, units and all, and
handed to the simulated bench as code.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from decimal import Decimal
from functools import partial
from pathlib import Path

from ibexite import units
from ibexite.classes import InstrumentClass, classes_around
from ibexite.connections import KINDS
from ibexite.engine.formula import Formulas
from ibexite.errors import UnitError, did_you_mean
from ibexite.frozen import frozen
from ibexite.language import constants, nodes
from ibexite.language.formula_text import formula_of
from ibexite.language.source import Source
from ibexite.language.types import Typer
from ibexite.simulate.plan import STIMULUS, SWITCH
from ibexite.toml_reader import TomlTable, read_toml
from ibexite.untyped import Fields
from ibexite.values import YES_NO, Quantity, Type

SETTLING = 2e-4  # s, of a quantity that names none
MOST_SHARE = 1.0
_NAME = re.compile(r"[a-z][a-z0-9_]*(\.[a-z][a-z0-9_]*)?")
# What a terminal of a kind has in formulas; it is 0 (or the air of the room) while it is switched off.
PARTS = {
    "source": ("voltage", "current_limit", "output"), "sink": ("current", "input"),
    "tone": ("frequency", "amplitude", "offset", "output"), "carrier": ("frequency", "level", "output"),
    "climate": ("temperature", "output"),
}  # fmt: skip


@frozen
class ProductModel:
    """A model that was read and found right: plain data for the simulated bench, and what can be connected to what."""

    name: str
    data: Fields
    sha256: str

    def connectable(self, class_name: str) -> tuple[str, ...]:
        """The terminals for an instrument that applies something, else the quantities."""
        terminals = self.data["terminals"]
        kinds = (STIMULUS.get(class_name), f"settings {class_name}")
        mine = tuple(name for name, kind in terminals.items() if kind in kinds)
        applied = [name for name, value in self.data["defaults"].items() if not isinstance(value, str)]
        if class_name == SWITCH and not mine:
            mine = tuple(terminals)
            return mine + tuple(name.replace(".", "_") for name in (*self.data["formulas"], *applied))
        found = mine or tuple(name.replace(".", "_") for name in (*self.data["formulas"], *applied))
        return (*found, *self.data["connections"])


def read_model(path: Path) -> ProductModel:
    """A product model from a file.

    Raises:
        MistakeError: all that is wrong in it.
    """
    table = read_toml(path, what="model of a product")
    classes = classes_around(path.parent)
    types: dict[str, Type] = {}
    defaults: dict[str, float | str] = {}
    terminals = _terminals(table.table("terminals"), classes, types, defaults)
    values, spread = _values(table.table("values"), types)
    faults = _faults(table, values, types)
    formulas, used = _formulas(table.table("quantities"), types)
    settling = _settling(table.table("settling"), formulas)
    wired = {name: _connections(entry, types, used) for name, entry in table.tables("connections").items()}
    table.text("help", "")
    table.finish()
    data = {
        "name": path.stem, "terminals": terminals, "values": values, "spread": spread, "faults": faults,
        "formulas": formulas, "used": used, "settling": settling,
        "defaults": defaults, "connections": wired,
    }  # fmt: skip
    return ProductModel(path.stem, data, hashlib.sha256(path.read_bytes()).hexdigest())


def _terminals(
    table: TomlTable, classes: Mapping[str, InstrumentClass], types: dict[str, Type],
    defaults: dict[str, float | str],
) -> dict[str, str]:  # fmt: skip
    """The kind of each terminal; gives what it has in formulas its type, and what it is before anything was set."""
    kinds = {}
    for name in table:
        class_name = table.text(name)
        if not _NAME.fullmatch(name) or "." in name:
            table.note(name, f"{name!r} is no name", "Write lower_snake_case.")
        if class_name not in classes:
            table.note(name, f"there is no class {class_name!r}", did_you_mean(class_name, classes))
            continue
        known = classes[class_name]
        kind = STIMULUS.get(class_name, "")
        kinds[name] = kind or f"settings {class_name}"
        for setting in PARTS.get(kind, tuple(known.settings)):
            feature = known.settings[setting]
            types[f"{name}.{setting}"] = feature.type
            defaults[f"{name}.{setting}"] = feature.choices[0] if feature.choices else 0.0
    return kinds


def _values(table: TomlTable, types: dict[str, Type]) -> tuple[dict[str, float], dict[str, float]]:
    """Nominal value and standard deviation of each, in base units: "5.02 V" or "5.02 V +/- 0.25 %"."""
    values, spread = {}, {}
    for name in table:
        if not _NAME.fullmatch(name) or "." in name:
            table.note(name, f"{name!r} is no name", "Write lower_snake_case.")
        text, _, deviation = (part.strip() for part in table.text(name).partition("+/-"))
        try:
            nominal = units.parse_quantity(text)
            values[name], types[name] = float(nominal), Quantity((), nominal.dimension)
            spread[name] = _deviation(deviation, nominal) if deviation else 0.0
        except UnitError as error:
            table.note(name, error.what, error.remedy or 'Write, for example: "5.02 V +/- 0.25 %".')
    return values, spread


def _deviation(text: str, nominal: units.Amount) -> float:
    amount = units.parse_quantity(text)
    if amount.unit.symbol in ("%", "ppm") and nominal.dimension.kind == "linear":
        return abs(float(amount) * float(nominal))
    if amount.dimension != units.difference(nominal.dimension):
        wanted = units.describe(units.difference(nominal.dimension))
        raise UnitError(f"{text} is {units.describe(amount.dimension)}", remedy=f"A spread here is {wanted}, or in %.")
    return float(amount)


def _faults(table: TomlTable, values: dict[str, float], types: dict[str, Type]) -> dict[str, Fields]:
    found: dict[str, Fields] = {}
    total = 0.0
    for name, entry in table.tables("faults").items():
        share, units_with = entry.quantity("share", units.PLAIN, 0.0), entry.texts("units", [])
        total += share
        if not 0 <= share <= MOST_SHARE or total > MOST_SHARE:
            entry.note("share", "shares lie between 0 % and 100 %, together as well")
        changed = {}
        for key in entry:
            if key in ("share", "units"):
                continue
            if key not in values:
                entry.note(key, "is not one of the values", did_you_mean(key, values))
                continue
            changed[key] = entry.quantity(key, types[key].dimension)
        entry.finish()
        found[name] = {"share": share, "units": units_with, "values": changed}
    return found


def _formulas(table: TomlTable, types: dict[str, Type]) -> tuple[dict[str, str], dict[str, str]]:
    """The code of each quantity, in an order in which each knows those before it; and the functions in it."""
    texts = {name: table.text(name) for name in table}
    for name in texts:
        if not _NAME.fullmatch(name):
            table.note(name, f"{name!r} is no name", 'Write "output.voltage", or shunt.')
        elif name in types:
            table.note(name, "is what an instrument applies there, or a value", "Call the quantity otherwise.")
    parsed: dict[str, tuple[Source, nodes.Expr]] = {}
    sources = {name: Source(table.where(name), text) for name, text in texts.items()}
    for name, source in sources.items():
        expr = formula_of(source)
        if expr is not None:
            parsed[name] = (source, expr)
    code: dict[str, str] = {}
    used: dict[str, str] = {}
    for name in _in_order(table, parsed):
        source, expr = parsed[name]
        found = dict[nodes.Expr, Type]()
        typer = Typer(source, found, {}, {})
        kind = typer.type_of(expr, lambda node, source=source: _known(source, node, types, texts))  # type: ignore[misc]
        if kind is not None and not isinstance(kind, Quantity) and kind != YES_NO:
            table.note(name, f"gives {kind}", "A quantity is a number, or yes or no.")
        if kind is not None:
            types[name] = kind
            writer = Formulas(found, {}, [*types])
            code[name] = writer.source(expr)
            used |= writer.used
    for name, source in sources.items():
        _tell(table, name, source)
    return code, used


def _known(
    source: Source, node: nodes.Name | nodes.ResultOf, types: dict[str, Type], texts: Mapping[str, str]
) -> Type | None:
    name = node.name if isinstance(node, nodes.Name) else f"{node.test}.{node.name}"
    if name in types:
        return types[name]
    if name not in texts:  # else it was told, or is told with that one
        source.report(node.span, f"unknown name {name!r}", "", did_you_mean(name, [*types, *texts]))
    return None


def _in_order(table: TomlTable, parsed: Mapping[str, tuple[Source, nodes.Expr]]) -> list[str]:
    """The quantities, each behind those that it needs; one that needs itself is a mistake."""
    done: list[str] = []
    waiting = dict(parsed)
    while waiting:
        ready = [name for name, (_, expr) in waiting.items() if not _names(expr) & waiting.keys()]
        if not ready:
            what = f"it needs itself, by way of others perhaps: {', '.join(waiting)}"
            table.note(next(iter(waiting)), what, "Take out one of them.")
            break
        done += ready
        for name in ready:
            del waiting[name]
    return done


def _names(expr: nodes.Expr) -> set[str]:
    return set(constants.names_in(expr)) | set(result_names(expr))


def result_names(expr: object) -> set[str]:
    """The names with a point in an expression: battery.voltage."""
    if isinstance(expr, nodes.ResultOf):
        return {f"{expr.test}.{expr.name}"}
    found: set[str] = set()
    for field in getattr(type(expr), "__match_args__", ()):
        value = getattr(expr, field)
        for one in value if isinstance(value, tuple) else (value,):
            if hasattr(type(one), "__match_args__") and not isinstance(one, units.Amount | Decimal):
                found |= result_names(one)
    return found


def _connections(table: TomlTable, types: dict[str, Type], used: dict[str, str]) -> dict[str, list[list[str]]]:
    """What a tester finds of a thing: by kind, pairs of pins with the code of what is measured between them; and pins
    that are alone."""
    found: dict[str, list[list[str]]] = {"alone": [[pin] for pin in table.texts("alone", [])]}
    for kind, about in KINDS.items():
        entries = table.value(kind) if kind in table else []
        if not isinstance(entries, list) or any(not _is_pair(entry) for entry in entries):
            table.note(
                kind, "not pairs of pins with a formula", f'Write: {kind} = [["J1.1", "J2.1", "1 {about.unit}"]]'
            )
            continue
        unit = units.parse_unit(about.unit)
        found[kind] = []
        for first, second, text in entries:
            source = Source(table.where(kind), text)
            expr, types_of = formula_of(source), dict[nodes.Expr, Type]()
            known = Typer(source, types_of, {}, {}).type_of(expr, partial(_named, source, types)) if expr else None
            if known is not None and (not isinstance(known, Quantity) or known.dimension != unit.dimension):
                table.note(kind, f"{text!r} gives {known}", f"It is {units.describe(unit.dimension)}.")
            elif known is not None and expr is not None:
                writer = Formulas(types_of, {}, [*types])
                found[kind].append([first, second, writer.source(expr)])
                used |= writer.used
            _tell(table, kind, source)
    table.finish()
    return found


def _is_pair(entry: object) -> bool:
    return isinstance(entry, list) and len(entry) == 3 and all(isinstance(part, str) and part for part in entry)


def _named(source: Source, types: dict[str, Type], node: nodes.Name | nodes.ResultOf) -> Type | None:
    return _known(source, node, types, {})


def _tell(table: TomlTable, key: str, source: Source) -> None:
    """Notes the mistakes of a formula."""
    for finding in source.sorted_findings():
        if finding.level == "mistake":
            mark = f": {finding.mark}" if finding.mark else ""
            table.note(key, f"{finding.title}{mark}", finding.remedy)


def _settling(table: TomlTable, formulas: Mapping[str, str]) -> dict[str, float]:
    found = {}
    for name in table:
        if name not in formulas:
            table.note(name, "is not one of the quantities", did_you_mean(name, formulas))
            continue
        found[name] = table.quantity(name, units.SECOND)
        if not found[name] > 0:
            table.note(name, "is not above zero", "Leave it out for what follows at once.")
    return found
