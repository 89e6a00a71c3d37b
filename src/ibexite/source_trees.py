"""Python source to trees and code, by one thread at a time: while CPython converts a tree, a collection of garbage may
let another thread in, and both then fail with SystemError (the depth of recursion is counted in one place for all)."""

from __future__ import annotations

import ast
import threading
from types import CodeType

_ONE_AT_A_TIME = threading.RLock()


def tree_of(text: str) -> ast.Module:
    """The tree of a text. Raises SyntaxError, ValueError, RecursionError, MemoryError."""
    with _ONE_AT_A_TIME:
        return ast.parse(text)


def code_of(tree: ast.Module, name: str) -> CodeType:
    """The code of a tree; `name` stands in tracebacks."""
    with _ONE_AT_A_TIME:
        return compile(tree, name, "exec")
