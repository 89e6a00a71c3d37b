"""Loads the parser of one line, from tables made beforehand, and puts syntax errors into words.

The tables (ibexite.tables) are made by `python -m ibexite.language.make_tables`.
"""

from __future__ import annotations

import hashlib
import json
import re
from functools import cache
from pathlib import Path

from ibexite import units
from ibexite.errors import UnitError, did_you_mean, nearest
from ibexite.language import words
from ibexite.language.parser import LineParser, Rule, SyntaxMistake, Tables, Terminal, Tree
from ibexite.language.source import Source, Span

FOLDER = Path(__file__).parent
TABLES = "ibexite.tables"
_WORD = re.compile(r'"[^"\n]*"?|[A-Za-z_]\w*|\d[\w.]*|\S')


def grammar_text() -> str:
    """The grammar, as shipped."""
    return FOLDER.joinpath("ibexite.lark").read_text("utf-8")


def digest() -> str:
    """What the tables are marked with: the hash of the grammar that they were made of."""
    return hashlib.sha256(grammar_text().encode()).hexdigest()


def packed(mark: str, tables: Tables) -> bytes:
    """Tables as they are shipped."""
    return json.dumps([mark, *tables[:-1], sorted(tables.ignored)], separators=(",", ":")).encode()


def shipped() -> tuple[str, Tables]:
    """The mark of the shipped tables, and the tables."""
    mark, states, starts, rules, terminals, ignored = json.loads(FOLDER.joinpath(TABLES).read_bytes())
    made = [Rule(*rule) for rule in rules], [Terminal(*terminal) for terminal in terminals]
    return mark, Tables(states, starts, *made, frozenset(ignored))


@cache
def line_parser() -> LineParser:
    """The parser of one logical line."""
    return LineParser(shipped()[1])


def parse_line(source: Source, text: str, offset: int, start: str, usage: tuple[str, ...]) -> Tree | None:
    """The parse tree of a line; None after reporting what is wrong with it."""
    try:
        return line_parser().parse(text, start)
    except SyntaxMistake as mistake:
        _report_syntax(source, text, offset, mistake.at, words.usage_for(usage, text))
        return None


def _report_syntax(source: Source, text: str, offset: int, at: int, usage: str) -> None:
    usage_line = f"This line reads: {usage}"
    match = _WORD.match(text, at) if at < len(text) else None
    if match is None:
        end = offset + len(text.rstrip())
        source.report(Span(end, end + 1), "the line ends too early", "something is missing here", usage_line)
        return
    word = match[0]
    span = Span(offset + at, offset + match.end())
    before = text[:at].rstrip()
    if re.search(r"(?:^|[\s(=,*/+-])\d+(?:\.\d+)?$", before) and re.match(r"[A-Za-z%]", word):
        whole = re.match(r"[\w%/^*]+", text[at:])
        _report_unit(source, Span(span.start, span.start + (whole.end() if whole else 1)), whole[0] if whole else word)
    elif re.search(r"\bin$", before) and re.match(r"[A-Za-z%]", word) and word not in words.RESERVED:
        _report_unit(source, span, word)
    elif re.match(r"[A-Z]", word) and word.lower() != word:
        source.report(span, f"unexpected {word}", "", "Names and words are written in lower_snake_case. " + usage_line)
    elif word in words.RESERVED:
        source.report(span, f"unexpected '{word}'", "a word of the language", usage_line)
    elif word == "=" and usage.startswith(("check", "sweep")):
        source.report(span, "unexpected '='", "a comparison is written ==", usage_line)
    else:
        source.report(span, f"unexpected {word!r}" if '"' not in word else "unexpected text", "", usage_line)


def _report_unit(source: Source, span: Span, word: str) -> None:
    try:
        units.parse_unit(word)
        remedy = "One space at most stands between a number and its unit."
    except UnitError as error:
        remedy = error.remedy
    near = nearest(word, words.RESERVED)
    if near and near != word and not remedy.startswith("Did you"):
        remedy = did_you_mean(word, words.RESERVED)
    source.report(span, f"unknown unit {word}" if word not in words.RESERVED else f"unexpected '{word}'", "", remedy)
