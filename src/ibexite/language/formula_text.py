"""A formula by itself, outside a sequence."""

from __future__ import annotations

from ibexite.language import nodes
from ibexite.language.build_expr import ExprBuilder
from ibexite.language.grammar import parse_line
from ibexite.language.source import Source

_BEFORE = "let x = "


def formula_of(source: Source) -> nodes.Expr | None:
    """The expression that is the whole text of a source; None after that has a finding."""
    tree = parse_line(source, _BEFORE + source.text, -len(_BEFORE), "deed_line", ("let",))
    if tree is None:
        return None
    builder = ExprBuilder(source)
    builder.offset = -len(_BEFORE)
    return builder.expr(tree.children[1])
