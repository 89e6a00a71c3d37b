"""Mutants: small wrong changes of the code that decides, one at a time in a copy of the tree, and whether the tests
notice. `python benchmarks/mutants.py N SEED` draws N, tries them and lists the survivors, which are to be read: some
change nothing. With FIRST END behind it only that part of them is tried.

First the tests run once under coverage, so that each mutant is tried on the tests that run its line only. Two at a
time."""

import ast
import json
import os
import queue
import random
import shutil
import signal
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import NamedTuple

from coverage import CoverageData

import which_tests

ROOT = Path(__file__).parents[1]
TARGETS = [
    "verdicts.py",
    "holes.py",
    "engine/*.py",
    "bench/*.py",
    "language/check*.py",
    "language/facts.py",
    "language/constants.py",
    "language/points.py",
]
COMPARISONS = {ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==",
               ast.Is: "is not", ast.IsNot: "is", ast.In: "not in", ast.NotIn: "in"}  # fmt: skip
SIGNS = {ast.Add: "-", ast.Sub: "+", ast.Mult: "/", ast.Div: "*"}
# Modules that run isolated in a process of their own, where coverage does not see them, and the tests that try them.
UNSEEN = {"guardian_process.py": ("test_guardian", "test_survival", "test_laboratory", "test_session")}
PATIENCE = 60.0  # s, and three times what its tests take: a mutant that hangs is noticed
WORKERS = 2


class Mutant(NamedTuple):
    """A place in a file, and what stands there instead."""

    file: str
    line: int
    statement: int  # the line that its statement begins in; 0 if it is carried out when the module is loaded
    begin: int
    end: int
    instead: str


def mutants_of(path: Path) -> Iterator[Mutant]:
    """All mutants of a file; offsets are in its characters."""
    text = path.read_text()
    starts = [0]
    for line in text.splitlines(keepends=True):
        starts.append(starts[-1] + len(line))

    def span(node: ast.expr | ast.stmt) -> tuple[int, int]:
        lines = text.splitlines()
        ends = [len(lines[n - 1].encode()[:column].decode()) for n, column in
                ((node.lineno, node.col_offset), (node.end_lineno or 1, node.end_col_offset or 0))]  # fmt: skip
        return starts[node.lineno - 1] + ends[0], starts[(node.end_lineno or 1) - 1] + ends[1]

    for node, statement in _with_statements(ast.parse(text), 0, is_loaded=True):
        for where, instead in _changes(node):
            begin, end = span(where)
            yield Mutant(str(path.relative_to(ROOT)), where.lineno, statement, begin, end, instead)


def _with_statements(node: ast.AST, line: int, *, is_loaded: bool) -> Iterator[tuple[ast.AST, int]]:
    """A node and all below it, each with the line that its statement begins in, 0 outside of functions. Decorators and
    annotations decide nothing."""
    line = node.lineno if isinstance(node, ast.stmt) and not is_loaded else line
    yield node, line
    is_loaded = is_loaded and not isinstance(node, ast.FunctionDef | ast.Lambda)
    silent = [*getattr(node, "decorator_list", ()), getattr(node, "annotation", None), getattr(node, "returns", None)]
    for child in (child for child in ast.iter_child_nodes(node) if child not in silent):
        yield from _with_statements(child, line, is_loaded=is_loaded)


def _changes(node: ast.AST) -> Iterator[tuple[ast.expr | ast.stmt, str]]:
    match node:
        case ast.Compare(left=left, ops=[operation], comparators=[right]) if type(operation) in COMPARISONS:
            yield node, f"({ast.unparse(left)}) {COMPARISONS[type(operation)]} ({ast.unparse(right)})"
        case ast.BinOp(left=left, op=sign, right=right) if type(sign) in SIGNS and not isinstance(left, ast.Constant):
            yield node, f"(({ast.unparse(left)}) {SIGNS[type(sign)]} ({ast.unparse(right)}))"
        case ast.BoolOp(op=word, values=values):
            other = " or " if isinstance(word, ast.And) else " and "
            yield node, "(" + other.join(f"({ast.unparse(value)})" for value in values) + ")"
        case ast.UnaryOp(op=ast.Not(), operand=operand):
            yield node, f"({ast.unparse(operand)})"
        case ast.Constant(value=bool() as flag):
            yield node, str(not flag)
        case ast.Constant(value=int() as number):
            yield node, str(number + 1)
        case ast.If(test=test):
            yield test, "True"
            yield test, "False"
        case ast.Expr(value=ast.Call()):
            yield node, "pass"
        case ast.Return(value=ast.expr()) if not isinstance(node.value, ast.Constant):
            yield node, "return None"


class Tests:
    """Which tests run which lines, and how long each takes."""

    def __init__(self, tree: Path) -> None:
        """Runs them all once in a tree. Raises ChildProcessError: they do not pass without any mutant."""
        config, durations = tree.parent / "coveragerc", tree.parent / "durations.json"
        config.write_text(which_tests.CONFIG.format(data=tree.parent / "coverage"))
        coverage = [sys.executable, "-m", "coverage"]
        whole = [*coverage, "run", f"--rcfile={config}", "-m", "pytest", "-n", str(WORKERS), "-p", "which_tests"]
        # Each program that a test starts reads the configuration anew, and with it the name of the test.
        environment = {**_environment(tree, durations), "COVERAGE_PROCESS_START": str(config)}
        done = subprocess.run(whole, cwd=tree, env=environment, capture_output=True, text=True, check=False)
        if done.returncode:
            raise ChildProcessError(done.stdout[-3000:])
        subprocess.run([*coverage, "combine", f"--rcfile={config}"], cwd=tree, capture_output=True, check=True)
        data = CoverageData(str(tree.parent / "coverage"))
        data.read()
        self.of_line = {file: data.contexts_by_lineno(file) for file in data.measured_files()}
        self.durations: dict[str, float] = json.loads(durations.read_text())

    def of(self, mutant: Mutant, tree: Path) -> list[str]:
        """Those that run its statement, the quick ones first; where it is carried out when its module is loaded, those
        that run anything of the module."""
        if (unseen := UNSEEN.get(Path(mutant.file).name)) is not None:
            chosen = [test for test in self.durations if Path(test.split("::")[0]).stem in unseen]
        else:
            lines = self.of_line.get(str(tree / mutant.file), {})
            numbers = [mutant.line, mutant.statement] if mutant.statement else lines
            found = {test for number in numbers for test in lines.get(number, [])}
            chosen = [test for test in self.durations if test in found or found == {""}]
        return sorted(chosen, key=self.durations.__getitem__)


def _environment(tree: Path, durations: Path | None = None) -> dict[str, str]:
    # No compiled files: one of the tree before, of the same size and second, would be taken for the mutant's.
    return {
        **os.environ,
        "PYTHONDONTWRITEBYTECODE": "1",
        "PYTHONPATH": os.pathsep.join((str(tree / "src"), str(tree / "benchmarks"))),
        which_tests.DURATIONS: str(durations),
    }


def is_noticed(mutant: Mutant, tree: Path, tests: list[str], seconds: float) -> bool:
    """Whether one of these tests fails in a tree with the mutant."""
    path = tree / mutant.file
    text = path.read_text()
    path.write_text(text[: mutant.begin] + mutant.instead + text[mutant.end :])
    order = [sys.executable, "-m", "pytest", "-x", "-q", f"--basetemp={tree.parent / 'temporary'}", *tests]
    process = subprocess.Popen(order, cwd=tree, env=_environment(tree), stdout=subprocess.DEVNULL,
                               stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL, start_new_session=True)  # fmt: skip
    try:
        return process.wait(PATIENCE + 3 * seconds) != 0
    except subprocess.TimeoutExpired:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()
        return True
    finally:
        path.write_text(text)


def survivors_of(drawn: list[Mutant], folder: Path) -> Iterator[tuple[Mutant, int]]:
    """The mutants that no test notices, and how many tests run their lines."""
    trees: queue.Queue[Path] = queue.Queue()
    for number in range(WORKERS):
        tree = folder / str(number) / "tree"
        for name in ("src", "tests", "docs", "editors", "benchmarks"):
            shutil.copytree(ROOT / name, tree / name, ignore=shutil.ignore_patterns("__pycache__"))
        for path in ROOT.iterdir():
            if path.is_file():
                shutil.copy(path, tree)
        trees.put(tree)
    first = trees.queue[0]
    tests = Tests(first)

    def survives(mutant: Mutant) -> tuple[Mutant, int] | None:
        chosen = tests.of(mutant, first)
        if not chosen:
            return mutant, 0
        tree = trees.get()
        try:
            noticed = is_noticed(mutant, tree, chosen, sum(tests.durations[test] for test in chosen))
        finally:
            trees.put(tree)
        return None if noticed else (mutant, len(chosen))

    with ThreadPoolExecutor(WORKERS) as pool:
        yield from (found for found in pool.map(survives, drawn) if found is not None)


def main() -> None:
    """Draws so many and lists the survivors."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 300, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    files = sorted({path for pattern in TARGETS for path in (ROOT / "src" / "ibexite").glob(pattern)})
    every = [mutant for path in files for mutant in mutants_of(path)]
    drawn = random.Random(seed).sample(every, min(number, len(every)))
    if len(sys.argv) > 4:
        drawn = drawn[int(sys.argv[3]) : int(sys.argv[4])]
    survivors = 0
    with tempfile.TemporaryDirectory() as folder:
        for mutant, tests in survivors_of(drawn, Path(folder)):
            survivors += 1
            was = (ROOT / mutant.file).read_text()[mutant.begin : mutant.end]
            print(f"{mutant.file}:{mutant.line}, run by {tests} tests: {was!r} -> {mutant.instead!r}", flush=True)
    noticed = len(drawn) - survivors
    print(f"{noticed} of {len(drawn)} mutants (of {len(every)}) were noticed, {100 * noticed / len(drawn):.0f} %")


if __name__ == "__main__":
    main()
