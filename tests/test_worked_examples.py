"""Each function has a worked example, and it gives what the reference says."""

import pytest

from ibexite.cli.explain import explain
from ibexite.functions import FUNCTIONS
from ibexite.functions.worked import data, data_in
from tests import worked

EXAMPLES = [(name, formula, found) for name, formulas in worked.examples().items() for formula, found in formulas.items()]


def test_each_function_has_one() -> None:
    assert {name for name, _, _ in EXAMPLES} == set(FUNCTIONS) and all(name in formula for name, formula, _ in EXAMPLES)


@pytest.mark.parametrize(("name", "formula", "found"), EXAMPLES)
def test_it_gives_what_the_reference_says(name: str, formula: str, found: str) -> None:
    assert worked.carried_out(formula) == found
    assert f"{formula}   is {found}" in explain(name)


def test_all_data_are_described_and_all_that_is_described_is_used() -> None:
    made = {name.partition(".")[0] if name.startswith("ping") else name for name in worked.data()} | {"ping"}
    described = {name for names in data() for name in names.split(", ")}
    assert made == described
    assert {names for _, formula, _ in EXAMPLES for names in data_in(formula)} == set(data())
