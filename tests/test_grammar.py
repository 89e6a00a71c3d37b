"""The grammar: no conflict is resolved in silence, the shipped tables are its own, its units are those of ibexite.units."""

import json
import re
from functools import cache
from typing import Any, get_args

import lark
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ibexite import units
from ibexite.engine.compile import Compiler
from ibexite.language import grammar, make_tables, nodes, words
from ibexite.language.build_deeds import DeedBuilder
from ibexite.language.check import vet
from ibexite.language.check_deeds import DeedChecker
from ibexite.language.parser import SyntaxMistake
from ibexite.language.source import Source
from tests.test_vetting import MISTAKES, WHOLE


@cache
def reference() -> lark.Lark:
    """The parser that Lark makes; in its strict mode, in which a conflict of the grammar is an error."""
    return lark.Lark(grammar.grammar_text(), strict=True, **make_tables.OPTIONS)


def test_the_grammar_has_no_conflicts() -> None:
    reference()


def test_the_shipped_tables_belong_to_the_grammar() -> None:
    mark, shipped = grammar.shipped()
    made = json.loads(grammar.packed(grammar.digest(), make_tables.made_tables()))
    assert (mark, json.loads(grammar.packed(mark, shipped))) == (grammar.digest(), made), "run: make tables"


LINES = [line for lines in (WHOLE, *(lines for lines, _ in MISTAKES)) for line in map(str.strip, lines.splitlines()) if line]


def plain(found: Any) -> Any:
    """A tree of either parser as plain data, with where its tokens stand."""
    if hasattr(found, "children"):
        return (str(found.data), [plain(child) for child in found.children])
    return None if found is None else (found.type, str(found), found.start_pos, found.end_pos)


def by_reference(line: str, start: str) -> Any:
    """The tree that Lark itself makes of a line, or where it says that nothing fits."""
    try:
        return plain(reference().parse(line, start=start))
    except lark.exceptions.UnexpectedInput as error:
        is_end = isinstance(error, lark.exceptions.UnexpectedToken) and error.token.type == "$END"
        return len(line.rstrip()) if is_end else error.pos_in_stream


@settings(max_examples=400, deadline=None)
@given(st.data())
def test_lines_are_parsed_as_by_the_maker_of_the_tables(data) -> None:
    line, start = (data.draw(st.sampled_from(LINES)), data.draw(st.sampled_from(make_tables.STARTS[-1:] * 4 + make_tables.STARTS)))
    for _ in range(data.draw(st.integers(0, 2))):
        at, cut = data.draw(st.integers(0, len(line))), data.draw(st.integers(0, 6))
        line = line[:at] + data.draw(st.sampled_from(["", " ", "(", ")", ",", "=", "5 V", " in", " on", "x.y", "-", "^2", '"a"', "%"])) + line[at + cut :]
    try:
        found = plain(grammar.line_parser().parse(line, start))
    except SyntaxMistake as mistake:
        found = mistake.at
    assert found == by_reference(line, start)


def test_every_verb_of_the_grammar_is_built_checked_and_compiled() -> None:
    rules = {rule.data for rule in grammar.shipped()[1].rules if rule.origin == "deed_line"}
    assert rules and {name for name in rules if not hasattr(DeedBuilder, f"_{name}")} == {"else_if"}  # as else is
    for kind in get_args(nodes.Statement):
        for part in (DeedChecker, Compiler):
            assert hasattr(part, f"_{kind.__name__.lower()}"), (kind, part)


@pytest.mark.parametrize("symbol", sorted(units.UNITS))
def test_every_unit_is_one_token_with_its_number(symbol: str) -> None:
    tree = grammar.line_parser().parse(f"wait 5 {symbol}", "deed_line")
    assert tree.children[0].children == [f"5 {symbol}"]


@pytest.mark.parametrize("word", sorted(words.RESERVED))
def test_no_word_of_the_language_is_taken_for_a_unit(word: str) -> None:
    assert word not in units.UNITS
    (quantity,) = [terminal.pattern for terminal in grammar.shipped()[1].terminals if terminal.name == "QUANTITY"]
    found = re.match(quantity, f"5 {word}")
    assert found is not None and found[0] == "5"


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.text(alphabet=st.characters(codec="utf-8"), max_size=300))
def test_any_text_ends_in_a_report(text: str) -> None:
    vet(Source("any.ibx", text))


@settings(max_examples=150, deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.data())
def test_any_mutilated_sequence_ends_in_a_report(data) -> None:
    text = data.draw(st.sampled_from([WHOLE, *(WHOLE + "\n    " + lines for lines, _ in MISTAKES)]))
    for _ in range(data.draw(st.integers(1, 4))):
        at = data.draw(st.integers(0, len(text)))
        cut = data.draw(st.integers(0, 12))
        put = data.draw(st.sampled_from(["", " ", "\n", "    ", "\t", '"', "(", ")", ",", "=", "5 V", "sweep", "#", "é"]))
        text = text[:at] + put + text[at + cut :]
    source = Source("mutilated.ibx", text)
    vet(source)
    for finding in source.sorted_findings():
        assert source.render(finding)
