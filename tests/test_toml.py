"""TOML files: each value that does not fit is named, with its place."""

import re
from pathlib import Path

import pytest

from ibexite import units
from ibexite.errors import MistakeError
from ibexite.toml_reader import read_toml


@pytest.fixture
def table(tmp_path: Path):
    """Reads a TOML text."""

    def read(text: str):
        (tmp_path / "f.toml").write_text(text)
        return read_toml(tmp_path / "f.toml", what="test file")

    return read


@pytest.mark.parametrize(("text", "asked", "what"), [
    ("", lambda t: t.text("name"), "is missing"), ("name = 5", lambda t: t.text("name"), "5 does not fit"),
    ("n = true", lambda t: t.integer("n"), "True does not fit"), ("n = 'x'", lambda t: t.flag("n", False), "'x' does not fit"),
    ("n = ['a', 5]", lambda t: t.texts("n"), "not all of these are texts"),
    ("n = '5 A'", lambda t: t.quantity("n", units.VOLT), "'5 A' is a current"),
    ("n = ['5 V', '4 V']", lambda t: t.extent("n", units.VOLT), "the first is not below"),
    ("n = 'x'", lambda t: t.table("n"), "'x' does not fit"), ("nmae = 'x'", lambda t: [t.text("name", ""), t.finish()], "is not a key"),
    ("n = 2027", lambda t: t.date("n"), "2027 does not fit")])  # fmt: skip
def test_values_that_do_not_fit_are_named(table, text: str, asked, what: str) -> None:
    with pytest.raises(MistakeError) as error:
        asked(table(text))
    assert what in error.value.what and re.fullmatch(r".*f[.]toml(:1)?: n\w*", error.value.where)


@pytest.mark.parametrize(("content", "what"), [
    (b"\xff\xfe", "this is not UTF-8 text"), (b"a = = 1", "not valid TOML: Invalid value (at line 1, column 5)"),
    (b"#" * 1_100_000, "a test file has at most 1,000,000")])  # fmt: skip
def test_files_that_are_no_toml_are_named(tmp_path: Path, content: bytes, what: str) -> None:
    (tmp_path / "x.toml").write_bytes(content)
    with pytest.raises(MistakeError) as error:
        read_toml(tmp_path / "x.toml", what="test file")
    assert what in error.value.what
    for path in (tmp_path, tmp_path / "missing.toml"):
        with pytest.raises(MistakeError):
            read_toml(path, what="test file")
