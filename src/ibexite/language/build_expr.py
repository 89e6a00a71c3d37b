"""From parse trees to the nodes of expressions, and the small things that every line is built of."""

from __future__ import annotations

from decimal import Decimal

from ibexite import units
from ibexite.errors import UnitError
from ibexite.language import nodes, words
from ibexite.language.parser import Token, Tree
from ibexite.language.source import Source, Span

MOST_DEPTH = 60  # of a formula; each term of a sum is one deeper than the one before
FILE_WORDS = ("mask", "mask_low", "mask_high", "golden")  # they look like functions and name files
_NAMED = '"name"'
CRITERIA = {"at_least": ">=", "at_most": "<=", "above": ">", "below": "<", "equal": "==", "is_word": "is"}


class ExprBuilder:
    """Builds expressions of one source; `offset` is where the line begins that is being built."""

    def __init__(self, source: Source) -> None:
        self.source = source
        self.offset = 0
        self._depth, self._is_too_deep = 0, False

    def expr(self, tree: Tree) -> nodes.Expr:
        """The node of an expression."""
        if tree.data in ("pair", "window_points", "window_octave", "unit_argument"):
            self.source.report(
                self._span(tree), "not a value", "", "This belongs into a function: line(), smooth(), number()."
            )
            return nodes.Name(self._span(tree), nodes.REPORTED)
        self._depth += 1
        try:
            if self._depth > MOST_DEPTH:
                if not self._is_too_deep:  # once for a formula
                    self.source.report(
                        self._span(tree), "a formula that is too long or nested too deeply", "",
                        "Split it: let part = …",
                    )  # fmt: skip
                self._is_too_deep = True
                return nodes.Name(self._span(tree), nodes.REPORTED)
            result: nodes.Expr = getattr(self, f"_x_{tree.data}")(tree, self._span(tree))
            return result
        finally:
            self._depth -= 1
            self._is_too_deep = self._is_too_deep and self._depth > 0

    def _x_named_argument(self, tree: Tree, span: Span) -> nodes.Expr:
        self.source.report(span, "an argument with a name where a value is needed")
        return nodes.Text(span, "")

    def _x_quantity(self, tree: Tree, span: Span) -> nodes.Expr:
        try:
            return nodes.Literal(span, units.parse_quantity(str(tree.children[0])))
        except UnitError as error:
            self.source.report(span, error.what, "", error.remedy)
            unit = error.unit if isinstance(error, units.TooLargeError) else units.NO_UNIT
            return nodes.Literal(span, units.Amount(Decimal(0), unit))

    def _x_text(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Text(span, string(tree.children[0]))

    def _x_word_value(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Word(span, str(tree.children[0]))

    def _x_name(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Name(span, str(tree.children[0]))

    def _x_result_of(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.ResultOf(span, str(tree.children[0]), str(tree.children[1]))

    def _x_call(self, tree: Tree, span: Span) -> nodes.Expr:
        name, *arguments, along = tree.children
        if str(name) in FILE_WORDS:
            return self._from_file(str(name), arguments, along, span)
        named = tuple((str(a.children[0]), self.expr(a.children[1])) for a in arguments if a.data == "named_argument")
        plain = tuple(self.argument(a) for a in arguments if a.data != "named_argument")
        return nodes.Call(span, str(name), plain, named, str(along) if along else None)

    def _from_file(self, kind: str, arguments: list[Tree], along: Token | None, span: Span) -> nodes.Expr:
        if len(arguments) == 1 and arguments[0].data == "text" and along is None:
            return nodes.FromFile(span, kind, string(arguments[0].children[0]))
        self.source.report(span, f"'{kind}' is called otherwise", "", f"Write {kind}({_NAMED}), a file of the project.")
        return nodes.Name(span, nodes.REPORTED)

    def _x_field_of(self, tree: Tree, span: Span) -> nodes.Expr:
        call = self.expr(tree.children[0])
        assert isinstance(call, nodes.Call)
        return nodes.Call(span, call.function, call.arguments, call.named, call.along, str(tree.children[1]))

    def argument(self, tree: Tree) -> nodes.Argument:
        """The node of an argument that has no name."""
        if isinstance(tree, Tree):
            span = self._span(tree)
            first = tree.children[0]
            if tree.data == "pair":
                return nodes.Pair(span, self.expr(tree.children[0]), self.expr(tree.children[1]))
            if tree.data in ("window_points", "window_octave"):
                return nodes.Window(span, self.expr(tree.children[0]), str(tree.data).removeprefix("window_"))
            if tree.data == "unit_argument":
                if str(first).isidentifier() and not _is_unit(str(first)):
                    return nodes.Name(span, str(first))  # it only looks like one: ph, pm
                return nodes.UnitArgument(span, self._unit(first))
        return self.expr(tree)

    def _x_arithmetic(self, tree: Tree, span: Span) -> nodes.Expr:
        left, op, right = tree.children
        return nodes.Arithmetic(span, str(op), self.expr(left), self.expr(right))

    def _x_to_the(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Arithmetic(span, "^", self.expr(tree.children[0]), self.expr(tree.children[1]))

    def _x_minus(self, tree: Tree, span: Span) -> nodes.Expr:
        operand = self.expr(tree.children[1])
        if isinstance(operand, nodes.Literal):  # the sign belongs to the literal: -5 degC is 268.15 K
            quantity = operand.quantity
            written = (quantity.value - quantity.unit.offset) / quantity.unit.factor
            return nodes.Literal(span, units.Amount(quantity.unit.to_base(-written), quantity.unit))
        return nodes.Minus(span, operand)

    def _x_compare(self, tree: Tree, span: Span) -> nodes.Expr:
        left, sign, right = tree.children
        return nodes.Compare(span, str(sign.children[0]), self.expr(left), self.expr(right))

    def _x_inside_between(self, tree: Tree, span: Span) -> nodes.Expr:
        operand, a, b = (self.expr(child) for child in tree.children)
        return nodes.Inside(span, operand, nodes.Criterion(span, "between", a, b))

    def _x_inside_within(self, tree: Tree, span: Span) -> nodes.Expr:
        operand, a, b = (self.expr(child) for child in tree.children)
        return nodes.Inside(span, operand, nodes.Criterion(span, "within", a, b))

    def criterion(self, tree: Tree) -> nodes.Criterion:
        """The node of what a check or a watch demands."""
        span = self._span(tree)
        if tree.data == "matches":
            text = nodes.Text(self._span(tree.children[0]), string(tree.children[0]))
            return nodes.Criterion(span, "matches", text, None)
        if tree.data == "is_word":
            word = nodes.Word(self._span(tree.children[0]), str(tree.children[0]))
            return nodes.Criterion(span, "is", word, None)
        a, *b = (self.expr(child) for child in tree.children)
        if tree.data == "same_as":
            return nodes.Criterion(span, "same_as", a, None, tuple(b))
        return nodes.Criterion(span, CRITERIA.get(tree.data, str(tree.data)), a, b[0] if b else None)

    def _x_both(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Logic(span, "and", tuple(self.expr(c) for c in tree.children))

    def _x_either(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Logic(span, "or", tuple(self.expr(c) for c in tree.children))

    def _x_contrary(self, tree: Tree, span: Span) -> nodes.Expr:
        return nodes.Logic(span, "not", (self.expr(tree.children[0]),))

    # --- small things ------------------------------------------------------------------------------------------------

    def _span(self, item: Token | Tree) -> Span:
        if isinstance(item, Token):
            return Span(self.offset + item.start_pos, self.offset + item.end_pos)
        tokens = list(item.tokens())
        if not tokens:
            return Span(self.offset, self.offset + 1)
        first, last = self._span(tokens[0]), self._span(tokens[-1])
        return Span(first.start, last.end)

    def _unit(self, token: Token) -> units.Unit:
        try:
            return units.parse_unit(str(token))
        except UnitError as error:
            self.source.report(self._span(token), error.what, "", error.remedy)
            return units.NO_UNIT

    def _count(self, token: Token, what: str, *, least: int = 1) -> int:
        if str(token).isdigit() and int(token) >= least:
            return int(token)
        self.source.report(self._span(token), "not a whole number", "", f"'{what}' takes a number such as 10.")
        return 1

    def _new_name(self, token: Token) -> None:
        """Reports a name that is a word of the language or looks like a unit."""
        name = str(token)
        if name in words.RESERVED:
            self.source.report(
                self._span(token), f"'{name}' cannot be a name", "a word of the language", "Choose another name."
            )
        elif name in units.UNITS:
            self.source.report(
                self._span(token),
                f"'{name}' cannot be a name",
                f"the unit {name}",
                f"Choose a longer name, such as {name}_value.",
            )


def string(token: Token) -> str:
    """The text between the quotes."""
    return str(token)[1:-1]


def _is_unit(symbol: str) -> bool:
    try:
        units.parse_unit(symbol)
    except UnitError:
        return False
    return True
