"""Worked examples of functions: what they give over data that are described; the tests carry them out."""

from __future__ import annotations

import re
import tomllib
from functools import cache
from pathlib import Path

from ibexite.untyped import Fields

_FILE = Path(__file__).parent / "worked.toml"


@cache
def _tables() -> Fields:
    with _FILE.open("rb") as file:
        return tomllib.load(file)


def data() -> dict[str, str]:
    """What the names in the examples stand for, in words."""
    return dict(_tables()["data"])


def examples_of(function: str) -> dict[str, str]:
    """Formulas with a function, and what each gives."""
    return dict(_tables()["examples"].get(function, {}))


def data_in(formula: str) -> dict[str, str]:
    """What the names in a formula stand for."""
    return {
        names: text for names, text in data().items() if any(_stands_in(name, formula) for name in names.split(", "))
    }


def _stands_in(name: str, formula: str) -> bool:
    return re.search(rf"(?<![\w.]){re.escape(name)}(?!\w)", formula) is not None
