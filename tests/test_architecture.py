"""The floors of the house: who may import whom, and what must not be loaded at start-up."""

import ast
import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

import ibexite

SOURCE = Path(ibexite.__file__).parent
# Each part and the parts it may import, besides itself, `errors`, `frozen` and `untyped`.
ALLOWED = {
    "errors": set(), "frozen": set(), "untyped": set(), "file_lock": set(), "plain_file": set(), "verdicts": set(), "holes": {"verdicts"}, "offer": set(), "units": set(), "file_keys": set(), "mask": {"units"}, "stimulus": set(), "conditions": {"units"}, "event_parts": {"values"}, "decision_rules": set(), "differences": {"compound", "connections", "holes", "units"}, "reference": {"values"}, "source_trees": set(), "compound": {"units"}, "connections": {"compound", "units"}, "values": {"units", "compound", "connections"}, "events": {"event_parts", "holes", "values", "verdicts"}, "protocols": {"units"}, "demo": set(), "stop": set(), "surroundings": set(), "__init__": {"offer"},
    "classes": {"units", "values", "toml_reader", "plain_file"}, "functions": {"stimulus", "units"}, "toml_reader": {"units", "plain_file"}, "column_file": {"units", "plain_file"}, "touchstone": {"plain_file"}, "wave_file": {"plain_file"}, "wording": {"units", "holes", "values"},
    "analysis": {"decision_rules", "units", "holes", "connections", "mask", "stimulus"},
    "language": {"stimulus", "decision_rules", "mask", "reference", "units", "classes", "functions", "plain_file", "values", "connections"},
    "instruments": {"units", "classes", "connections", "values", "protocols", "toml_reader", "plain_file", "surroundings"},
    "simulate": {"wave_file", "compound", "connections", "units", "analysis", "holes", "protocols", "__init__"},
    "bench": {"classes", "stimulus", "compound", "connections", "units", "plain_file", "column_file", "touchstone", "analysis", "instruments", "protocols", "toml_reader", "file_lock", "holes", "values", "verdicts"},
    "outside": {"surroundings"},
    "companions": {"wave_file", "file_lock", "column_file", "compound", "holes", "mask", "reference", "source_trees", "units", "classes", "language", "toml_reader", "plain_file", "values"},
    "engine": {"stimulus", "wave_file", "decision_rules", "conditions", "differences", "mask", "reference", "source_trees", "units", "compound", "connections", "plain_file", "classes", "language", "bench", "instruments", "analysis", "events", "functions", "holes", "outside", "values", "verdicts", "wording", "stop", "__init__"},
    "records": {"conditions", "events", "analysis", "units", "wording", "file_lock", "plain_file", "holes", "values", "verdicts"},
    "reports": {"verdicts", "records", "plain_file", "compound", "analysis", "units", "wording", "events", "holes", "values"},
    "exports": {"records", "plain_file", "values"},
    "station": {"wave_file", "__init__", "conditions", "decision_rules", "holes", "wording", "reference", "connections", "classes", "engine", "records", "reports", "bench", "instruments", "simulate", "language", "companions", "analysis", "protocols", "file_lock", "units", "events", "stop", "values", "verdicts", "plain_file", "toml_reader"},
    # Options, views and exit codes; what it computes with (analysis, companions, links) it asks the station for.
    "cli": {"reference", "station", "file_keys", "engine", "records", "reports", "exports", "bench", "instruments", "simulate", "language", "classes", "functions", "events", "holes", "stop", "verdicts", "wording", "units", "compound", "values", "demo", "plain_file", "surroundings", "toml_reader", "__init__"},
}  # fmt: skip


def modules_imported(path: Path) -> set[str]:
    """What a module imports anywhere in it, also for types only: `from a import b` may mean a and a.b."""
    tree = ast.parse(path.read_text())
    found: set[str] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Import):
            found |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module:
            found |= {node.module, *(f"{node.module}.{alias.name}" for alias in node.names)}
    return found


def imports_of(path: Path) -> set[str]:
    """The parts of ibexite that a module imports."""
    parts = {name.split(".")[1] for name in modules_imported(path) if name.startswith("ibexite.")}
    return {"__init__" if name.startswith("__version") else name for name in parts}


@pytest.mark.parametrize("part", sorted(ALLOWED))
def test_imports_go_down_the_floors(part: str) -> None:
    files = [SOURCE / f"{part}.py"] if (SOURCE / f"{part}.py").exists() else sorted((SOURCE / part).rglob("*.py"))
    for path in files:
        beyond = imports_of(path) - ALLOWED[part] - {part, "errors", "frozen", "untyped"}
        assert not beyond, f"{path.name} imports {beyond}"


def test_every_part_has_its_floor() -> None:
    parts = {path.stem for path in SOURCE.iterdir() if path.suffix == ".py" or (path / "__init__.py").exists()}
    assert parts - {"__main__"} == set(ALLOWED)


def test_no_import_goes_in_a_circle() -> None:
    """Not even one that is made late, inside a function, or for types only: such a circle only hides that two modules are
    one."""
    dotted = {".".join(path.relative_to(SOURCE.parent).with_suffix("").parts): path for path in SOURCE.rglob("*.py")}
    modules = {name.removesuffix(".__init__"): path for name, path in dotted.items()}
    left = {name: modules_imported(path) & set(modules) - {name} for name, path in modules.items()}
    while free := [name for name, needs in left.items() if not needs]:  # whoever needs nobody is in no circle
        left = {name: needs - set(free) for name, needs in left.items() if name not in free}
    assert not left, f"in a circle, or above one: {left}"


def test_modules_can_be_held_in_the_head() -> None:
    lengths = {path.name: len(path.read_text().splitlines()) for path in SOURCE.rglob("*.py")}
    assert {name: length for name, length in lengths.items() if length > 450} == {}


def loaded_after(code: str) -> set[str]:
    program = f"import sys\n{code}\nprint(*{{name.split('.')[0] for name in sys.modules}})"
    environment = {key: value for key, value in os.environ.items() if not key.startswith("COVERAGE_")}
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True, env=environment)
    return set(done.stdout.split())


def test_help_and_vetting_load_no_heavy_library() -> None:
    heavy = {"numpy", "soundfile", "matplotlib", "jinja2", "lark", "orjson", "pandas", "pyarrow", "scipy", "sqlalchemy", "sqlite3"}
    assert not loaded_after("import ibexite.cli.main") & (heavy | {"decimal", "tomllib"})
    vetting = "from ibexite.cli import vet_command; import ibexite.engine.bench_facts, ibexite.language.check, ibexite.station.stand_ins"
    assert not loaded_after(vetting) & (heavy | {"subprocess", "zipfile"})


def test_a_run_without_curves_loads_no_numpy() -> None:
    assert "numpy" not in loaded_after("import ibexite.cli.run_command, ibexite.engine.run, ibexite.records.store")


def test_one_module_knows_the_kind_of_database() -> None:
    words = re.compile(r"\b(sqlite3|PRAGMA|rowid|lastrowid|instr\(|group_concat|BEGIN IMMEDIATE)")
    knowing = {path.name for path in SOURCE.rglob("*.py") if words.search(path.read_text())}
    assert knowing == {"sqlite_file.py"}
