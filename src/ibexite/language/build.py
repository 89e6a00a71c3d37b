"""From lines to nodes: which line may stand where, and what each parse tree means."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from lark import Token, Tree

from ibexite import units
from ibexite.errors import UnitError, did_you_mean
from ibexite.language import nodes, words
from ibexite.language.grammar import parse_line
from ibexite.language.layout import Line, read_layout
from ibexite.language.source import Source, Span


def build_sequence(source: Source) -> nodes.Sequence:
    """The tree of a source; what cannot be understood is reported to the source and left out."""
    return _Builder(source).sequence(read_layout(source))


class _Builder:
    def __init__(self, source: Source) -> None:
        self.source = source
        self.offset = 0

    # --- lines -------------------------------------------------------------------------------------------------------

    def sequence(self, lines: list[Line]) -> nodes.Sequence:
        parts: dict[str, Any] = {
            "title": "",
            "product": "",
            "revision": "",
            "serial": "",
            "serial_span": Span(0, 1),
            "needs": (),
            "params": (),
            "before_unit": (),
            "tests": [],
            "after_unit": (),
        }
        seen: dict[str, Line] = {}
        for line in lines:
            tree = self._parse(line, "top_line", words.TOP_USAGE)
            if tree is None:
                continue
            if tree.data != "test":
                if tree.data in seen:
                    first = self.source.line_of(seen[tree.data].start)
                    self.source.report(line.span, "written twice", "", f"There is one on line {first} already.")
                    continue
                seen[tree.data] = line
            self._top(line, tree, parts)
        if "sequence" not in seen:
            self.source.report(
                Span(0, 1), "no sequence line", remedy='A file begins with a line such as: sequence "FM-2 final test"'
            )
        if not parts["tests"] and not self.source.has_mistakes:
            self.source.report(Span(0, 1), "no test", remedy='A sequence has at least one: test name "title"')
        return nodes.Sequence(**{**parts, "tests": tuple(parts["tests"])})

    def _top(self, line: Line, tree: Any, parts: dict[str, Any]) -> None:
        kind = tree.data
        if kind == "sequence":
            parts["title"] = _string(tree.children[0])
            self._header(line, parts)
        elif kind == "needs":
            parts["needs"] = tuple(need for child in line.children for need in self._need(child))
        elif kind == "params":
            parts["params"] = tuple(p for child in line.children if (p := self._param(child)))
        elif kind in ("before_unit", "after_unit"):
            parts[kind] = self._block(line)
        else:
            name, title, *gate = tree.children
            self._new_name(name)
            parts["tests"].append(
                nodes.Test(
                    self._span(name), str(name), _string(title) if title else str(name), bool(gate), self._block(line)
                )
            )

    def _parse(self, line: Line, start: str, usage: dict[str, str]) -> Any:
        self.offset = line.start
        if line.is_broken:
            return None
        word = line.first_word
        if word not in usage:
            kind = "verb" if start == "deed_line" else "word"
            end = line.start + (len(word) or 1)
            shown = word or line.text.strip()[:1]
            self.source.report(Span(line.start, end), f"unknown {kind} {shown!r}", "", self._why_not(word, usage))
            return None
        return parse_line(self.source, line.text, line.start, start, usage[word])

    def _why_not(self, word: str, usage: dict[str, str]) -> str:
        for where, table in (
            ("inside a test or before/after unit", words.USAGE),
            ("at the left margin", words.TOP_USAGE),
            ("below the sequence line", words.HEADER_USAGE),
        ):
            if word in table:
                return f"A '{word}' line stands {where}."
        return did_you_mean(word, usage)

    def _header(self, line: Line, parts: dict[str, Any]) -> None:
        for child in line.children:
            tree = self._parse(child, "header_line", words.HEADER_USAGE)
            self._no_block(child)
            if tree is None:
                continue
            if tree.data == "serial":
                parts["serial_span"] = self._span(tree.children[0])
            parts[tree.data] = _string(tree.children[0])

    def _need(self, line: Line) -> list[nodes.Need]:
        self.offset = line.start
        tree: Any = parse_line(self.source, line.text, line.start, "need_line", words.NEED_USAGE)
        self._no_block(line)
        if tree is None:
            return []
        *names, what = tree.children
        unit = self._unit(what) if tree.data == "need_signal" else None
        class_name = None if tree.data == "need_signal" else str(what)
        if class_name == "signal":
            self.source.report(self._span(what), "a signal without a unit", "", "Write: name : signal in V")
            return []
        for name in names:
            self._new_name(name)
        return [nodes.Need(self._span(name), str(name), class_name, unit) for name in names]

    def _param(self, line: Line) -> nodes.Param | None:
        self.offset = line.start
        tree: Any = parse_line(self.source, line.text, line.start, "param_line", words.PARAM_USAGE)
        self._no_block(line)
        if tree is None:
            return None
        name, default, extent, text = tree.children
        self._new_name(name)
        values = tuple(self.expr(child) for child in extent.children) if extent else ()
        bounds = (values[0], values[1]) if extent and extent.data == "bounds" else None
        return nodes.Param(
            self._span(name),
            str(name),
            self.expr(default),
            () if bounds else values,
            bounds,
            _string(text) if text else "",
        )

    def _no_block(self, line: Line) -> None:
        if line.children:
            self.source.report(
                line.children[0].span,
                "unexpected indentation",
                "",
                f"A '{line.first_word}' line has no block below it.",
            )

    def _block(self, line: Line) -> tuple[nodes.Statement, ...]:
        if not line.children:
            self.source.report(line.span, "an empty block", "", "Indent the lines that belong to it by four spaces.")
        return tuple(s for child in line.children if (s := self._deed(child)))

    def _deed(self, line: Line) -> nodes.Statement | None:
        tree = self._parse(line, "deed_line", words.USAGE)
        if line.first_word != "sweep":
            self._no_block(line)
        if tree is None:
            if line.first_word == "sweep":
                self._block(line)
            return None
        offset = self.offset
        statement: Callable[[Line, Tree], nodes.Statement] = getattr(self, f"_{tree.data}")
        result = statement(line, tree)
        self.offset = offset
        return result

    # --- deeds -------------------------------------------------------------------------------------------------------

    def _set(self, line: Line, tree: Any) -> nodes.Set:
        assignments = []
        for child in tree.children:
            role, setting, value = child.children
            span = Span(self._span(role).start, self._span(setting).end)
            assignments.append(nodes.Assignment(span, str(role), str(setting), self.expr(value)))
        return nodes.Set(line.span, tuple(assignments))

    def _read(self, line: Line, tree: Any) -> nodes.Read:
        readings = [self._reading(child) for child in tree.children if child.data.startswith("read_")]
        clauses = {str(c.data): c for c in tree.children if not c.data.startswith("read_")}
        averaging = 1
        if "averaging" in clauses:
            averaging = self._count(clauses["averaging"].children[0], "averaging")
        return nodes.Read(line.span, tuple(readings), "together" in clauses, averaging)

    def _reading(self, tree: Any) -> nodes.Reading:
        name = tree.children[0]
        span = self._span(name)
        self._new_name(name)
        if tree.data == "read_signal":
            return nodes.Reading(span, str(name), str(name))
        if tree.data == "read_renamed":
            return nodes.Reading(self._span(tree.children[1]), str(name), str(tree.children[1]))
        _, role, reading, *arguments = tree.children
        named = []
        for argument in arguments:
            if argument is None:
                continue
            if argument.data != "named_argument":
                self.source.report(
                    self._span(argument), "an argument without a name", "", "Write it as (channel = 103)."
                )
                continue
            named.append((str(argument.children[0]), self.expr(argument.children[1])))
        place = Span(self._span(role).start, self._span(reading).end)
        return nodes.Reading(place, str(name), str(reading), str(role), tuple(named))

    def _let(self, line: Line, tree: Any) -> nodes.Let:
        name, value, shown = tree.children
        self._new_name(name)
        return nodes.Let(self._span(name), str(name), self.expr(value), self._unit(shown) if shown else None)

    def _check(self, line: Line, tree: Any) -> nodes.Check:
        value, demand, *clauses = tree.children
        kinds = {"at_least": ">=", "at_most": "<=", "above": ">", "below": "<"}
        a, *b = (self.expr(child) for child in demand.children)
        criterion = nodes.Criterion(
            self._span(demand), kinds.get(demand.data, str(demand.data)), a, b[0] if b else None
        )
        found: dict[str, Any] = {}
        for clause in clauses:
            if clause.data in found:
                self.source.report(self._span(clause), f"two '{clause.data}' clauses", "", words.USAGE["check"])
            found[clause.data] = (
                self.expr(clause.children[0]) if clause.data == "where" else _string(clause.children[0])
            )
        return nodes.Check(line.span, self.expr(value), criterion, found.get("where"), found.get("label"))

    def _wait(self, line: Line, tree: Any) -> nodes.Wait:
        return nodes.Wait(line.span, self.expr(tree.children[0]))

    def _sweep_over(self, line: Line, tree: Any) -> nodes.Sweep:
        name, *values = tree.children
        return self._sweep(line, name, tuple(self.expr(v) for v in values), ())

    def _sweep_from(self, line: Line, tree: Any) -> nodes.Sweep:
        name, *segments = tree.children
        return self._sweep(line, name, (), tuple(self._segment(s) for s in segments))

    def _sweep(self, line: Line, name: Token, values: tuple, segments: tuple) -> nodes.Sweep:
        self._new_name(name)
        span = self._span(name)
        return nodes.Sweep(span, str(name), values, segments, self._block(line))

    def _segment(self, tree: Any) -> nodes.Segment:
        start, end, spacing = tree.children
        kind = {"by_step": "step", "in_points": "points", "in_log_points": "log"}[spacing.data]
        return nodes.Segment(
            self._span(tree), self.expr(start) if start else None, self.expr(end), kind, self.expr(spacing.children[0])
        )

    def _show(self, line: Line, tree: Any) -> nodes.Show:
        return nodes.Show(self._span(tree.children[0]), _string(tree.children[0]))

    def _ask_confirm(self, line: Line, tree: Any) -> nodes.AskConfirm:
        return nodes.AskConfirm(self._span(tree.children[0]), _string(tree.children[0]))

    def _plot(self, line: Line, tree: Any) -> nodes.Plot:
        *ys, x, by, title = tree.children
        return nodes.Plot(
            line.span, tuple(map(str, ys)), str(x), str(by) if by else None, _string(title) if title else None
        )

    # --- expressions -------------------------------------------------------------------------------------------------

    def expr(self, tree: Any) -> nodes.Expr:
        """The node of an expression."""
        result: nodes.Expr = getattr(self, f"_x_{tree.data}")(tree, self._span(tree))
        return result

    def _x_quantity(self, tree: Any, span: Span) -> nodes.Expr:
        try:
            return nodes.Literal(span, units.parse_quantity(str(tree.children[0])))
        except UnitError as error:
            self.source.report(span, error.what, "", error.remedy)
            return nodes.Literal(span, units.Quantity(units.Decimal(0), units.NO_UNIT))

    def _x_text(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Text(span, _string(tree.children[0]))

    def _x_word_value(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Word(span, str(tree.children[0]))

    def _x_name(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Name(span, str(tree.children[0]))

    def _x_result_of(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.ResultOf(span, str(tree.children[0]), str(tree.children[1]))

    def _x_call(self, tree: Any, span: Span) -> nodes.Expr:
        name, *arguments, along = tree.children
        named = tuple((str(a.children[0]), self.expr(a.children[1])) for a in arguments if a.data == "named_argument")
        plain = tuple(self.expr(a) for a in arguments if a.data != "named_argument")
        return nodes.Call(span, str(name), plain, named, str(along) if along else None)

    def _x_arithmetic(self, tree: Any, span: Span) -> nodes.Expr:
        left, op, right = tree.children
        return nodes.Arithmetic(span, str(op), self.expr(left), self.expr(right))

    def _x_to_the(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Arithmetic(span, "^", self.expr(tree.children[0]), self.expr(tree.children[1]))

    def _x_minus(self, tree: Any, span: Span) -> nodes.Expr:
        operand = self.expr(tree.children[1])
        if isinstance(operand, nodes.Literal):  # the sign belongs to the literal: -5 degC is 268.15 K
            quantity = operand.quantity
            written = (quantity.value - quantity.unit.offset) / quantity.unit.factor
            return nodes.Literal(span, units.Quantity(quantity.unit.to_base(-written), quantity.unit))
        return nodes.Minus(span, operand)

    def _x_compare(self, tree: Any, span: Span) -> nodes.Expr:
        left, sign, right = tree.children
        return nodes.Compare(span, str(sign.children[0]), self.expr(left), self.expr(right))

    def _x_both(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Logic(span, "and", tuple(self.expr(c) for c in tree.children))

    def _x_either(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Logic(span, "or", tuple(self.expr(c) for c in tree.children))

    def _x_contrary(self, tree: Any, span: Span) -> nodes.Expr:
        return nodes.Logic(span, "not", (self.expr(tree.children[0]),))

    # --- small things ------------------------------------------------------------------------------------------------

    def _span(self, item: Token | Tree) -> Span:
        if isinstance(item, Token):
            assert item.start_pos is not None and item.end_pos is not None
            return Span(self.offset + item.start_pos, self.offset + item.end_pos)
        tokens = list(item.scan_values(lambda value: isinstance(value, Token)))
        if not tokens:
            return Span(self.offset, self.offset + 1)
        return Span(self.offset + tokens[0].start_pos, self.offset + tokens[-1].end_pos)

    def _unit(self, token: Token) -> units.Unit:
        try:
            return units.parse_unit(str(token))
        except UnitError as error:
            self.source.report(self._span(token), error.what, "", error.remedy)
            return units.NO_UNIT

    def _count(self, token: Token, what: str) -> int:
        if str(token).isdigit() and int(token) > 0:
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


def _string(token: Token) -> str:
    return str(token)[1:-1]
