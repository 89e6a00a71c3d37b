"""Parses one line by tables: a scanner that knows what may come next, and an LALR(1) parser (A. V. Aho, M. S. Lam,
R. Sethi, J. D. Ullman, Compilers, 2nd edition, 4.5 to 4.7) that builds a tree.

The tables are made of the grammar by Lark (ibexite.language.make_tables), which is not loaded here: loading it, and
compiling one large pattern for each state of its scanner, took longer than vetting a file.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from typing import Any, NamedTuple

END = "$END"


class Token(str):
    """A piece of a line: its text, the name of its terminal, and where it stands."""

    __slots__ = ("end_pos", "start_pos", "type")
    type: str
    start_pos: int
    end_pos: int

    @classmethod
    def made(cls, kind: str, text: str, start: int) -> Token:
        """A token of a kind, from its text and where that begins."""
        token = cls(text)
        token.type, token.start_pos, token.end_pos = kind, start, start + len(text)
        return token


class Tree:
    """A rule of the grammar with what it is made of: trees, tokens, and None where something may stand and does not."""

    __slots__ = ("children", "data")

    def __init__(self, data: str, children: list[Any]) -> None:
        self.data = data
        self.children = children  # trees, tokens, None: the grammar says of each rule which, and no type could

    def tokens(self) -> Iterator[Token]:
        """All tokens in it, in their order."""
        todo: list[Any] = [self]  # a list, not calls: of a thousand brackets, too, the mistake is told
        while todo:
            item = todo.pop()
            if isinstance(item, Token):
                yield item
            elif isinstance(item, Tree):
                todo.extend(reversed(item.children))


class SyntaxMistake(Exception):
    """Nothing in the grammar fits at a place of the line; `at` is its length where the line ends too early."""

    def __init__(self, at: int) -> None:
        super().__init__(at)
        self.at = at


class Rule(NamedTuple):
    """What is done when a rule is complete: its name, its length, the name of its tree; which parts become children
    (place, whether its children take its place, how many None stand before it), how many None follow; and whether a
    single child stands for all."""

    origin: str
    length: int
    data: str
    parts: tuple[tuple[int, bool, int], ...]
    following: int
    is_single: bool

    def tree(self, values: list[Tree | Token]) -> Tree | Token:
        """The tree of the parts."""
        children: list[Tree | Token | None] = []
        for place, is_open, before in self.parts:
            if before:
                children += [None] * before
            if is_open:
                opened = values[place]
                assert isinstance(opened, Tree)
                children += opened.children
            else:
                children.append(values[place])
        children += [None] * self.following
        only = children[0] if self.is_single and len(children) == 1 else None
        return only if only is not None else Tree(self.data, children)


class Terminal(NamedTuple):
    """A terminal: a text, or a pattern; of a pattern, which texts that it matches are terminals of their own."""

    name: str
    text: str
    pattern: str
    words: dict[str, str]


class Tables(NamedTuple):
    """All of it. `states` say for each terminal or rule what to do: go to a state (not negative), or complete a rule
    (the complement of its number). Terminals are in the order in which they are tried."""

    states: list[dict[str, int]]
    starts: dict[str, tuple[int, int]]  # first and last state of each kind of line
    rules: list[Rule]
    terminals: list[Terminal]
    ignored: frozenset[str]


Match = Callable[[str, int], "re.Match[str] | None"]
Tried = list[tuple[str, str, Match | None, dict[str, str]]]


class LineParser:
    """Parses lines by tables."""

    def __init__(self, tables: Tables) -> None:
        self._tables = tables
        self._matches: dict[str, Match] = {}
        self._tried: dict[int, Tried] = {}

    def parse(self, text: str, start: str) -> Tree:
        """The tree of a line of some kind. Raises SyntaxMistake."""
        states, rules = self._tables.states, self._tables.rules
        first, last = self._tables.starts[start]
        stack, at = [first], 0
        values: list[Tree | Token] = []
        while True:
            token = self._next(text, at, stack[-1])
            kind = token.type if token is not None else END
            while True:
                deed = states[stack[-1]].get(kind)
                if deed is None:
                    raise SyntaxMistake(token.start_pos if token is not None else len(text.rstrip()))
                if deed >= 0:
                    break
                rule = rules[~deed]
                parts = values[len(values) - rule.length :]
                del stack[len(stack) - rule.length :], values[len(values) - rule.length :]
                values.append(rule.tree(parts))
                stack.append(states[stack[-1]][rule.origin])
                if token is None and stack[-1] == last:
                    whole = values[-1]
                    assert isinstance(whole, Tree)
                    return whole
            assert token is not None  # the end of a line is no part of any rule
            stack.append(deed)
            values.append(token)
            at = token.end_pos

    def _next(self, text: str, at: int, state: int) -> Token | None:
        """The next token that may stand in a state; None at the end. Raises SyntaxMistake."""
        tried = self._tried.get(state) or self._made(state)
        ignored, end = self._tables.ignored, len(text)
        while at < end:
            for name, word, match, words in tried:
                if match is None:
                    if not text.startswith(word, at):
                        continue
                    value = word
                else:
                    found = match(text, at)
                    if found is None:
                        continue
                    value = found[0]
                    name = words.get(value, name)
                if name in ignored:
                    at += len(value)
                    break
                return Token.made(name, value, at)
            else:
                raise SyntaxMistake(at)
        return None

    def _made(self, state: int) -> Tried:
        """The terminals that may stand in a state, as they are tried: of a word that a pattern matches as well, the
        word is meant."""
        accepted = set(self._tables.states[state]) | self._tables.ignored
        terminals = [terminal for terminal in self._tables.terminals if terminal.name in accepted]
        words = {name for terminal in terminals for name in terminal.words.values()}
        self._tried[state] = [
            (t.name, t.text, self._match(t.pattern), {text: name for text, name in t.words.items() if name in accepted})
            for t in terminals
            if t.pattern or t.name not in words
        ]
        return self._tried[state]

    def _match(self, pattern: str) -> Match | None:
        if not pattern:
            return None
        if pattern not in self._matches:
            self._matches[pattern] = re.compile(pattern).match
        return self._matches[pattern]
