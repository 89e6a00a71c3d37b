"""Loads the parser of one line, from tables made beforehand, and puts syntax errors into words.

The tables (ibexite.tables) are made by `python -m ibexite.language.grammar`. They are used when they were made by this
version of Lark from this grammar; else the parser is built from the grammar, which takes longer and does the same.
"""

from __future__ import annotations

import hashlib
import io
import pickle
import re
from functools import cache
from pathlib import Path
from typing import Any

import lark

from ibexite import units
from ibexite.errors import UnitError, did_you_mean, nearest
from ibexite.language import words
from ibexite.language.source import Source, Span

STARTS = ["top_line", "header_line", "need_line", "param_line", "section_line", "output_line", "deed_line"]
OPTIONS: dict[str, Any] = {"parser": "lalr", "lexer": "contextual", "start": STARTS, "maybe_placeholders": True}
_FOLDER = Path(__file__).parent
_WORD = re.compile(r'"[^"\n]*"?|[A-Za-z_]\w*|\d[\w.]*|\S')


def grammar_text() -> str:
    """The grammar, as shipped."""
    return _FOLDER.joinpath("ibexite.lark").read_text("utf-8")


def make_tables() -> bytes:
    """The parser tables with the versions they belong to."""
    text = grammar_text()
    buffer = io.BytesIO()
    lark.Lark(text, **OPTIONS).save(buffer)
    return pickle.dumps((lark.__version__, hashlib.sha256(text.encode()).hexdigest(), buffer.getvalue()))


@cache
def line_parser() -> lark.Lark:
    """The parser of one logical line."""
    text = grammar_text()
    try:
        version, digest, tables = pickle.loads(_FOLDER.joinpath("ibexite.tables").read_bytes())
    except (FileNotFoundError, pickle.UnpicklingError, ValueError, EOFError):
        version = digest = ""
    if (version, digest) == (lark.__version__, hashlib.sha256(text.encode()).hexdigest()):
        return lark.Lark.load(io.BytesIO(tables))
    return lark.Lark(text, **OPTIONS)


def parse_line(
    source: Source, text: str, offset: int, start: str, usage: tuple[str, ...]
) -> lark.Tree[lark.Token] | None:
    """The parse tree of a line; None after reporting what is wrong with it."""
    try:
        return line_parser().parse(text, start=start)
    except lark.exceptions.UnexpectedInput as error:
        at = error.pos_in_stream if error.pos_in_stream is not None and error.pos_in_stream >= 0 else len(text)
        if isinstance(error, lark.exceptions.UnexpectedToken) and error.token.type == "$END":
            at = len(text.rstrip())
        _report_syntax(source, text, offset, at, words.usage_for(usage, text))
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


if __name__ == "__main__":
    from pathlib import Path

    _FOLDER.joinpath("ibexite.tables").write_bytes(make_tables())
