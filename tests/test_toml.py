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
    ("n = 'x'", lambda t: t.table("n"), "'x' does not fit"), ("nmae = 'x'", lambda t: t.text("name", ""), "is not a key"),
    ("n = 2027", lambda t: t.date("n"), "2027 does not fit")])  # fmt: skip
def test_values_that_do_not_fit_are_named(table, text: str, asked, what: str) -> None:
    read = table(text)
    with pytest.raises(MistakeError) as error:
        asked(read)
        read.finish()
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


def test_all_mistakes_of_a_file_are_told_at_once_each_with_its_line(table) -> None:
    read = table("""
name = 5
hieght = "3 m"
[one]
volts = "5 A"
ends = ["1 V", "x"]
[two.deep]
flag = "yes"
""")
    read.text("name"), read.table("one").quantity("volts", units.VOLT), read.table("one").extent("ends", units.VOLT)
    deep = read.table("two").table("deep")
    deep.flag("flag", False), deep.finish(), read.quantity("height", units.OHM)
    with pytest.raises(MistakeError) as error:
        read.finish()
    told = str(error.value)
    assert [re.findall(r"f[.]toml:?(\d*): ([\w.]+):", line)[0] for line in told.splitlines() if "f.toml" in line] == [
        ("2", "name"), ("5", "one.volts"), ("6", "one.ends"), ("8", "two.deep.flag"), ("", "height"), ("3", "hieght")]  # fmt: skip
    assert "Did you mean height?" in told and told.count("f.toml") == 6


def test_what_is_made_of_a_broken_table_tells_what_broke_it(table) -> None:
    read = table("name = 5")
    name = read.text("name")
    with pytest.raises(MistakeError, match="5 does not fit"):
        read.fail("name", f"{name!r} is no known name")


def test_a_file_is_laid_over_another_one_key_by_key(table, tmp_path: Path) -> None:
    base = table("a = 1\nb = 2\n[t.x]\nwrite = 'V'\nask = 7\n[t.y]\nn = 4\n")
    (tmp_path / "upper.toml").write_text("b = 3\n[t.x]\nwrite = 8\n[t.z]\nn = 5\n")
    laid = read_toml(tmp_path / "upper.toml", what="test file").over(base)
    assert (laid.integer("a"), laid.integer("b")) == (1, 3)
    inner = laid.tables("t")
    assert {name: entry.integer("n", 0) for name, entry in inner.items()} == {"x": 0, "y": 4, "z": 5}
    inner["x"].text("write"), inner["x"].text("ask")
    with pytest.raises(MistakeError) as error:
        inner["x"].finish()
    told = [f"{tmp_path}/upper.toml:3: t.x.write", f"{tmp_path}/f.toml:5: t.x.ask"]
    assert all(place in str(error.value) for place in told), "each in the file that it comes from"
