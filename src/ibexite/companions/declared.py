"""What Python files and manifests declare: functions and measurements. Python files are read, not run, for this."""

from __future__ import annotations

import ast
import hashlib
from decimal import Decimal
from pathlib import Path

from ibexite import units
from ibexite.classes import classes_around
from ibexite.errors import MistakeError, UnitError, did_you_mean
from ibexite.frozen import replaced
from ibexite.language import nodes
from ibexite.language.program import MeasurementFacts
from ibexite.language.python_function import PythonFunction
from ibexite.language.source import Span
from ibexite.plain_file import is_file, read_plain
from ibexite.source_trees import tree_of
from ibexite.toml_reader import TomlTable, read_toml
from ibexite.untyped import Fields
from ibexite.values import SINGLE_WORDS, TEXT, WORDS, YES_NO, Quantity, Type, declared

MAX_BYTES = 1_000_000
MANIFEST = ".measurement.toml"  # end of the name of a file that declares an outside program


def read_python(path: Path) -> tuple[dict[str, PythonFunction], dict[str, MeasurementFacts]]:
    """The functions and measurements that a Python file offers with the decorators of Ibexite.

    Raises:
        MistakeError: missing, not Python, or a declaration that is not written out or names an unknown unit.
    """
    text, digest = _text(path)
    try:
        tree = tree_of(text)
    except (SyntaxError, ValueError, RecursionError, MemoryError) as error:
        line = getattr(error, "lineno", None) or 1
        raise MistakeError(
            f"this is not Python: {getattr(error, 'msg', error)}", where=f"{path}:{line}", remedy="Mend it there."
        ) from None
    functions: dict[str, PythonFunction] = {}
    measurements: dict[str, MeasurementFacts] = {}
    version = _version(tree)
    for item in tree.body:
        if not isinstance(item, ast.FunctionDef):
            continue
        for decorator in item.decorator_list:
            kind = _decorator(decorator)
            if kind:
                assert isinstance(decorator, ast.Call)
                declared = _declared(decorator, path)
                where = f"{path}:{item.lineno}"
                if kind == "function":
                    functions[item.name] = _function(item, declared, str(path), where)
                else:
                    facts = _facts(item.name, declared, "python", str(path), where)
                    facts.sha256, facts.version = digest, version
                    _same_arguments(item, facts, where)
                    measurements[item.name] = facts
    return functions, measurements


def _text(path: Path) -> tuple[str, str]:
    data = read_plain(path, what="Python file", most=MAX_BYTES)
    try:
        return data.decode("utf-8-sig"), hashlib.sha256(data).hexdigest()
    except UnicodeDecodeError:
        raise MistakeError("this is not UTF-8 text", where=str(path), remedy="Save it as UTF-8.") from None


def _version(tree: ast.Module) -> str:
    for item in tree.body:
        names = [t.id for t in getattr(item, "targets", ()) if isinstance(t, ast.Name)]
        if isinstance(item, ast.Assign) and isinstance(item.value, ast.Constant) and "__version__" in names:
            return str(item.value.value)
    return ""


def _decorator(decorator: ast.expr) -> str:
    """function or measurement, "" for any other decorator."""
    if not isinstance(decorator, ast.Call):
        return ""
    called = decorator.func
    if isinstance(called, ast.Attribute) and isinstance(called.value, ast.Name) and called.value.id == "ibexite":
        return called.attr if called.attr in ("function", "measurement") else ""
    return called.id if isinstance(called, ast.Name) and called.id in ("function", "measurement") else ""


def _declared(decorator: ast.Call, path: Path) -> Fields:
    declared: Fields = {}
    try:
        if decorator.args:
            declared["title"] = ast.literal_eval(decorator.args[0])
        for keyword in decorator.keywords:
            if keyword.arg is not None:
                declared[keyword.arg] = ast.literal_eval(keyword.value)
    except ValueError:
        raise MistakeError(
            "a declaration must be written out", where=f"{path}:{decorator.lineno}",
            remedy="Its arguments are read without running the file: texts and dictionaries of texts.",
        ) from None  # fmt: skip
    return declared


def _unit(text: object, where: str) -> units.Unit:
    if text == "":
        return units.NO_UNIT
    try:
        return units.parse_unit(str(text))
    except UnitError as error:
        raise MistakeError(error.what, where=where, remedy=error.remedy) from None


def _function(item: ast.FunctionDef, declared: Fields, file: str, where: str) -> PythonFunction:
    declared.pop("title", None)
    timeout = _seconds(declared.pop("timeout", "10 s"), where)
    if "returns" not in declared:
        raise MistakeError(f"{item.name} does not say what it returns", where=where, remedy='Write: returns="dB"')
    unit = _unit(declared.pop("returns"), where)
    names = [argument.arg for argument in item.args.args]
    arguments, taken = [], []
    for name in names:
        if name not in declared:
            raise MistakeError(f"{item.name} has no unit for {name}", where=where, remedy=f'Write: {name}="V"')
        text = str(declared.pop(name))
        own = _unit(text.removesuffix("[]"), where)
        taken.append(own)
        arguments.append((name, own.dimension, text.endswith("[]")))
    if declared:
        raise MistakeError(
            f"{item.name} has no argument {next(iter(declared))}",
            where=where,
            remedy=did_you_mean(next(iter(declared)), names),
        )
    if "axis" in names and not any(is_whole for name, _, is_whole in arguments if name != "axis"):
        raise MistakeError(
            f"{item.name} takes an axis but no curve", where=where, remedy='Write, for example: axis="s[]", echo="V[]"'
        )
    help_text = (ast.get_docstring(item) or "").split("\n")[0]
    return PythonFunction(
        item.name, file, tuple(arguments), unit.dimension, unit.symbol or None, help_text, timeout, tuple(taken), unit
    )


def _seconds(text: object, where: str) -> float:
    try:
        quantity = units.parse_quantity(str(text))
    except UnitError as error:
        raise MistakeError(error.what, where=where, remedy=error.remedy) from None
    if quantity.dimension != units.SECOND or quantity.value <= 0:
        raise MistakeError(f"{text!r} is not a time", where=where, remedy='Write, for example: timeout="30 s"')
    return float(quantity)


def _facts(name: str, declared: Fields, kind: str, file: str, where: str) -> MeasurementFacts:
    known = ("title", "needs", "inputs", "outputs", "timeout", "version")
    for key in declared:
        if key not in known:
            raise MistakeError(f"a measurement has no {key!r}", where=where, remedy=did_you_mean(key, known))
    facts = MeasurementFacts(name, str(declared.get("title", name)), kind, {}, {}, {}, {}, file)
    for need, text in (declared.get("needs") or {}).items():
        facts.needs[need] = _need(need, str(text), where)
    for key, text in (declared.get("inputs") or {}).items():
        facts.inputs[key], facts.defaults[key] = _input(text, where)
    for key, text in (declared.get("outputs") or {}).items():
        facts.outputs[key] = _output(str(text), where)
    for axis in {axis for output in facts.outputs.values() for axis in output.axes}:
        if axis not in facts.outputs:
            raise MistakeError(
                f"the axis {axis!r} is no output", where=where, remedy=f'Add it to the outputs: "{axis}": "Hz"'
            )
        facts.outputs[axis] = replaced(facts.outputs[axis], axes=(axis,))
    facts.timeout = _seconds(declared.get("timeout", "60 s"), where)
    facts.version = str(declared.get("version", ""))
    return facts


def _need(name: str, text: str, where: str) -> nodes.Need:
    span = Span(0, 1)
    classes = classes_around(Path(where).parent)
    if text in classes:
        return nodes.Need(span, name, text)
    if text in SINGLE_WORDS:
        return nodes.Need(span, name, None, declared(text))
    if "_" in text:
        raise MistakeError(f"there is no instrument class {text!r}", where=where, remedy=did_you_mean(text, classes))
    return nodes.Need(span, name, None, declared(_unit(text, where)))


def _input(text: object, where: str) -> tuple[Type, bool | str | Decimal]:
    if isinstance(text, bool):
        return YES_NO, text
    try:
        quantity = units.parse_quantity(str(text))
    except UnitError:
        return TEXT, str(text)
    return Quantity((), quantity.dimension, quantity.unit.symbol or None), quantity.value


def _output(text: str, where: str) -> Type:
    unit, over, axes = text.partition(" over ")
    names = tuple(axis.strip() for axis in axes.split(",")) if over else ()
    if unit in WORDS:
        if over and unit not in SINGLE_WORDS:
            raise MistakeError(f"{text!r} is no type of an output", where=where, remedy=f"Write: {unit}")
        return declared(unit, names)
    return declared(_unit(unit, where), names)


def _same_arguments(item: ast.FunctionDef, facts: MeasurementFacts, where: str) -> None:
    names = [argument.arg for argument in item.args.args]
    wanted = ["bench", *facts.inputs]
    if names[:1] != ["bench"] or set(names) != set(wanted):
        raise MistakeError(
            f"{item.name} takes {', '.join(names) or 'nothing'}", where=where,
            remedy=f"Write: def {item.name}({', '.join(wanted)})",
        )  # fmt: skip


def read_manifest(path: Path) -> MeasurementFacts:
    """The measurement that a manifest (NAME.measurement.toml) describes: a program beside it.

    Raises:
        MistakeError: with the path to the value that is wrong.
    """
    table = read_toml(path, what="manifest of a measurement")
    head = table.table("measurement", needed=True)
    program = path.parent / head.text("program")
    declared: Fields = {
        "title": head.text("title"), "timeout": head.text("timeout", "60 s"), "version": head.text("version", ""),
        "needs": _texts(table.table("needs")), "inputs": _texts(table.table("inputs")),
        "outputs": _texts(table.table("outputs")),
    }  # fmt: skip
    if not is_file(program):
        head.fail("program", f"there is no file {program.name!r}", "It lies beside the manifest.")
    head.finish()
    table.finish()
    facts = _facts(path.name.removesuffix(MANIFEST), declared, "program", str(program), str(path))
    facts.sha256 = hashlib.sha256(program.read_bytes()).hexdigest()
    return facts


def _texts(table: TomlTable) -> dict[str, str]:
    return {key: table.text(key) for key in table}
