"""The floors of the house: who may import whom, and what must not be loaded at start-up."""

from __future__ import annotations

import ast
import os
import subprocess
import sys
from pathlib import Path

import pytest

import ibexite

SOURCE = Path(ibexite.__file__).parent
# Each part and the parts it may import, besides itself and `errors`.
ALLOWED = {
    "errors": set(), "file_lock": set(), "plain_file": set(), "verdicts": set(), "holes": {"verdicts"}, "offer": set(), "units": set(), "values": {"units"}, "events": {"holes", "values", "verdicts"}, "protocols": set(), "demo": set(), "stop": set(), "__init__": {"offer"},
    "classes": {"units"}, "functions": {"units"}, "toml_reader": {"units", "plain_file"}, "wording": {"units", "holes", "values"},
    "analysis": {"units", "holes"},
    "language": {"units", "classes", "functions", "plain_file", "values"},
    "instruments": {"units", "classes", "protocols", "toml_reader", "plain_file"},
    "simulate": {"units", "analysis", "protocols", "__init__"},
    "bench": {"units", "instruments", "protocols", "toml_reader", "file_lock", "holes", "values", "verdicts"},
    "outside": set(),
    "companions": {"units", "classes", "language", "toml_reader", "plain_file", "values"},
    "engine": {"units", "language", "bench", "instruments", "analysis", "events", "functions", "holes", "outside", "values", "verdicts", "wording", "stop", "__init__"},
    "records": {"events", "analysis", "units", "wording", "file_lock", "plain_file", "holes", "values", "verdicts"},
    "reports": {"records", "analysis", "units", "wording", "events", "holes", "values"},
    "station": {"engine", "records", "reports", "bench", "instruments", "simulate", "language", "companions", "analysis", "protocols", "units", "events", "stop", "values", "verdicts", "plain_file", "toml_reader"},
}  # fmt: skip


def imports_of(path: Path) -> set[str]:
    """The parts of ibexite that a module imports anywhere in it, except for types only."""
    tree = ast.parse(path.read_text())
    for node in ast.walk(tree):  # imports for types only do not count
        if isinstance(node, ast.If) and ast.unparse(node.test) == "TYPE_CHECKING":
            node.body = []
    found = set()
    for node in ast.walk(tree):
        names = [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
        if isinstance(node, ast.ImportFrom) and node.module:
            names = [node.module] if node.module != "ibexite" else [f"ibexite.{alias.name}" for alias in node.names]
        found |= {(name + ".__init__").split(".")[1] for name in names if name.split(".")[0] == "ibexite"}
    return {"__init__" if name.startswith("__version") else name for name in found}


@pytest.mark.parametrize("part", sorted(ALLOWED))
def test_imports_go_down_the_floors(part: str) -> None:
    files = [SOURCE / f"{part}.py"] if (SOURCE / f"{part}.py").exists() else sorted((SOURCE / part).rglob("*.py"))
    for path in files:
        beyond = imports_of(path) - ALLOWED[part] - {part, "errors"}
        assert not beyond, f"{path.name} imports {beyond}"


def test_every_part_has_its_floor() -> None:
    parts = {path.stem for path in SOURCE.iterdir() if path.suffix == ".py" or (path / "__init__.py").exists()}
    assert parts - {"cli", "__main__"} == set(ALLOWED)


def loaded_after(code: str) -> set[str]:
    program = f"import sys\n{code}\nprint(*{{name.split('.')[0] for name in sys.modules}})"
    environment = {key: value for key, value in os.environ.items() if not key.startswith("COVERAGE_")}
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True, env=environment)
    return set(done.stdout.split())


def test_help_and_vetting_load_no_heavy_library() -> None:
    heavy = {"numpy", "matplotlib", "jinja2", "scipy", "pandas", "orjson", "sqlite3"}
    assert not loaded_after("import ibexite.cli.main") & (heavy | {"lark", "decimal", "tomllib"})
    vetting = "from ibexite.cli import vet_command; import ibexite.engine.facts, ibexite.language.check, ibexite.station.stand_ins"
    assert not loaded_after(vetting) & (heavy | {"subprocess", "zipfile"})


def test_a_run_without_curves_loads_no_numpy() -> None:
    assert "numpy" not in loaded_after("import ibexite.cli.run_command, ibexite.engine.run, ibexite.records.store")
