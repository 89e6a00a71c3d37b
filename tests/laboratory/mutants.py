"""Mutants: small wrong changes of the code that decides, one at a time in a copy of the tree, and whether the tests notice.
`python -m tests.laboratory.mutants N SEED` does N and lists the survivors, which are to be read: some change nothing."""

from __future__ import annotations

import ast
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

ROOT = Path(__file__).parents[2]
TARGETS = [
    "verdicts.py",
    "holes.py",
    "engine/*.py",
    "bench/*.py",
    "language/check*.py",
    "language/constants.py",
    "language/points.py",
]
COMPARISONS = {ast.Lt: "<=", ast.LtE: "<", ast.Gt: ">=", ast.GtE: ">", ast.Eq: "!=", ast.NotEq: "==", ast.Is: "is not", ast.IsNot: "is",
               ast.In: "not in", ast.NotIn: "in"}  # fmt: skip
SIGNS = {ast.Add: "-", ast.Sub: "+", ast.Mult: "/", ast.Div: "*"}
PATIENCE = 900  # s for the tests of one mutant; one that hangs is noticed


class Mutant(NamedTuple):
    """A place in a file, and what stands there instead."""

    file: str
    line: int
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

    for node in ast.walk(ast.parse(text)):
        for where, instead in _changes(node):
            begin, end = span(where)
            yield Mutant(str(path.relative_to(ROOT)), where.lineno, begin, end, instead)


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


def is_noticed(mutant: Mutant, tree: Path) -> bool:
    """Whether a test fails in a tree with the mutant."""
    path = tree / mutant.file
    text = path.read_text()
    path.write_text(text[: mutant.begin] + mutant.instead + text[mutant.end :])
    try:
        done = subprocess.run([sys.executable, "-m", "pytest", "-x", "-q", "-n", "2", "-p", "no:cacheprovider", "tests", "src"], cwd=tree,
                              env={**os.environ, "PYTHONPATH": str(tree / "src")}, capture_output=True, timeout=PATIENCE, check=False)  # fmt: skip
        return done.returncode != 0
    except subprocess.TimeoutExpired:
        return True
    finally:
        path.write_text(text)


def main() -> None:
    """Draws so many and lists the survivors."""
    number, seed = int(sys.argv[1]) if len(sys.argv) > 1 else 300, int(sys.argv[2]) if len(sys.argv) > 2 else 1
    files = sorted({path for pattern in TARGETS for path in (ROOT / "src" / "ibexite").glob(pattern)})
    every = [mutant for path in files for mutant in mutants_of(path)]
    drawn = random.Random(seed).sample(every, min(number, len(every)))
    survivors = 0
    with tempfile.TemporaryDirectory() as folder:
        tree = Path(folder) / "tree"
        shutil.copytree(ROOT, tree, ignore=shutil.ignore_patterns(".venv", ".git", "demo", "__pycache__", ".*_cache"))
        for i, mutant in enumerate(drawn, 1):
            noticed = is_noticed(mutant, tree)
            survivors += not noticed
            if not noticed:
                was = (ROOT / mutant.file).read_text()[mutant.begin : mutant.end]
                print(f"{i}: {mutant.file}:{mutant.line}: {was!r} -> {mutant.instead!r}", flush=True)
    print(
        f"{len(drawn)} of {len(every)} mutants; {survivors} survived: {100 - 100 * survivors / len(drawn):.0f} % noticed"
    )


if __name__ == "__main__":
    main()
