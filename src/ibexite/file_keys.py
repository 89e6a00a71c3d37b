"""The keys of bench files, profiles, classes and product models, from file_keys.toml."""

from __future__ import annotations

import tomllib
from functools import cache
from pathlib import Path
from typing import Any, NamedTuple


class Key(NamedTuple):
    """A key: the places where it may stand, what it means, and an example in TOML for the first of them."""

    places: tuple[str, ...]
    text: str
    example: str


@cache
def file_keys() -> dict[str, Key]:
    """All keys by their names."""
    return {name: Key(tuple(key["places"]), key["text"], key["example"]) for name, key in _data()["keys"].items()}


def places() -> dict[str, str]:
    """The places where keys may stand, and how people call them."""
    return _data()["places"]


@cache
def _data() -> dict[str, dict[str, Any]]:
    return tomllib.loads(Path(__file__).with_suffix(".toml").read_text("utf-8"))
