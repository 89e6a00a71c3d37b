"""The grammar: no conflict is resolved in silence, the shipped tables are its own, its units are those of ibexite.units."""

from __future__ import annotations

import pickle

import lark
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ibexite import units
from ibexite.language import grammar, words
from ibexite.language.check import vet
from ibexite.language.source import Source
from tests.test_vetting import MISTAKES, WHOLE


def test_the_grammar_has_no_conflicts() -> None:
    lark.Lark(grammar.grammar_text(), strict=True, **grammar.OPTIONS)


def test_the_shipped_tables_belong_to_the_grammar() -> None:
    shipped = pickle.loads((grammar._FOLDER / "ibexite.tables").read_bytes())  # type: ignore[operator]
    assert shipped[1] == pickle.loads(grammar.make_tables())[1], "run: make tables"


@pytest.mark.parametrize("symbol", sorted(units.UNITS))
def test_every_unit_is_one_token_with_its_number(symbol: str) -> None:
    tree = grammar.line_parser().parse(f"wait 5 {symbol}", start="deed_line")
    assert tree.children[0].children == [f"5 {symbol}"]


@pytest.mark.parametrize("word", sorted(words.RESERVED))
def test_no_word_of_the_language_is_taken_for_a_unit(word: str) -> None:
    assert word not in units.UNITS
    tokens = [t for t in grammar.line_parser().lex(f"wait 5 {word}") if t.type == "QUANTITY"]
    assert [str(t) for t in tokens] == ["5"]


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
        put = data.draw(
            st.sampled_from(["", " ", "\n", "    ", "\t", '"', "(", ")", ",", "=", "5 V", "sweep", "#", "é"])
        )
        text = text[:at] + put + text[at + cut :]
    source = Source("mutilated.ibx", text)
    vet(source)
    for finding in source.sorted_findings():
        assert source.render(finding)
