"""The canonical layout proves itself; every example vets, is tidy, and runs; the tables for editors and help are true."""

import json
import re
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from ibexite.classes import InstrumentClass, instrument_classes, lines_of_use
from ibexite.cli.explain import all_words, explain
from ibexite.cli.make_editor_grammar import editor_grammar
from ibexite.errors import MistakeError
from ibexite.language import words
from ibexite.language.check import vet
from ibexite.language.layout import read_layout
from ibexite.language.source import Source
from ibexite.language.tidy import tidy
from tests.runs import vetted
from tests.test_vetting import MISTAKES, WHOLE

ROOT = Path(__file__).parents[1]
EXAMPLES = sorted((ROOT / "src" / "ibexite" / "demo").rglob("*.ibx"))

UNTIDY = """#a head
sequence   "S"
    product "P"   # what
    serial "[0-9]+"
needs
    supply:power_supply
    v_in,v_out :signal in V
params
    low=7V  "lowest"
    highest = 16 V "highest"


test  a  "A"  gate
    # about the sweep
    sweep vin from low to 16V step 1.5V
        set supply.voltage=vin,
                supply.output = on   # goes on
        wait 20ms #settle
        let x=- vin*( low+2V )/highest^2
        let rate=vin/20ms in  V/s
    check   x>=-3   1/V where vin==8.5V
test b
    read v_in
"""
TIDY = """# a head
sequence "S"
    product "P"  # what
    serial  "[0-9]+"

needs
    supply      : power_supply
    v_in, v_out : signal in V

params
    low     = 7 V   "lowest"
    highest = 16 V  "highest"

test a "A" gate
    # about the sweep
    sweep vin from low to 16 V step 1.5 V
        set supply.voltage = vin,
                supply.output = on  # goes on
        wait 20 ms  # settle
        let x = -vin * (low + 2 V) / highest^2
        let rate = vin / 20 ms in V/s
    check x >= -3 1 / V where vin == 8.5 V

test b
    read v_in
"""


def test_there_is_one_layout_and_a_second_pass_changes_nothing() -> None:
    made = tidy(Source("t.ibx", UNTIDY))
    assert made == TIDY
    assert tidy(Source("t.ibx", made)) == made


@pytest.mark.parametrize("path", EXAMPLES, ids=lambda path: path.name)
def test_the_examples_are_tidy(path: Path) -> None:
    text = path.read_text()
    assert tidy(Source(path.name, text)) == text, f"run: ibexite tidy {path}"


def shaken(text: str, data) -> str:
    """A text with other blanks: around operators, at ends of lines, between lines."""
    lines = []
    for line in text.split("\n"):
        indent, code = re.match(r"( *)(.*)", line).groups()  # type: ignore[union-attr]
        if '"' not in code and "#" not in code:
            code = re.sub(r" ([=*+<>]=?) ", lambda m: data.draw(st.sampled_from([f" {m[1]} ", m[1], f"  {m[1]}"])), code)
        lines += [indent + code + data.draw(st.sampled_from(["", "  "]))] + [""] * data.draw(st.integers(0, 2))
    return "\n".join(lines)


@settings(max_examples=25, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data(), st.sampled_from(EXAMPLES))
def test_tidying_keeps_the_meaning_and_undoes_what_was_shaken(data, path: Path) -> None:
    text = path.read_text()
    made = tidy(Source("t.ibx", shaken(text, data)))
    assert [line for line in made.split("\n") if line] == [line for line in text.split("\n") if line]


def lines_of(text: str) -> list[str]:
    return text.split("\n")


@settings(max_examples=60, deadline=None, suppress_health_check=list(HealthCheck))
@given(st.data(), st.sampled_from([*EXAMPLES, None]))
def test_any_text_ends_in_a_report(data, path: Path | None) -> None:
    """Examples with lines cut, doubled, moved, words exchanged, and texts of any kind: never a traceback, never a hang."""
    text = path.read_text() if path else WHOLE
    lines = lines_of(text)
    for _ in range(data.draw(st.integers(1, 6))):
        i, j = (data.draw(st.integers(0, len(lines) - 1)) for _ in range(2))
        how = data.draw(st.sampled_from(["cut", "double", "swap", "word", "char", "line"]))
        if how == "cut":
            lines[i] = lines[i][: data.draw(st.integers(0, len(lines[i])))]
        elif how == "double":
            lines.insert(i, lines[j])
        elif how == "swap":
            lines[i], lines[j] = lines[j], lines[i]
        elif how == "word":
            parts, others = lines[i].split(" "), lines[j].split(" ")
            parts[data.draw(st.integers(0, len(parts) - 1))] = data.draw(st.sampled_from(others))
            lines[i] = " ".join(parts)
        elif how == "char":
            at = data.draw(st.integers(0, len(lines[i])))
            lines[i] = lines[i][:at] + data.draw(st.sampled_from(list('"(){},.=+-*/^<>#%1eé\t '))) + lines[i][at:]
        else:
            lines[i] = "    " * data.draw(st.integers(0, 3)) + data.draw(st.sampled_from([m for m, _ in MISTAKES])).split("\n")[0].strip()
    source = vetted("\n".join(lines))
    for finding in source.sorted_findings():
        assert source.render(finding).startswith("t.ibx:") and finding.title


@given(st.text(max_size=300))
def test_text_of_any_kind_ends_in_a_report(text: str) -> None:
    source = vetted(text)
    read_layout(source)
    assert source.has_mistakes


@pytest.mark.parametrize(("old", "new", "warning"), [
    ("    read v_out, i_in, t_board, level\n", "    read v_out, i_in\n", "'t_board' is never used"),
    ('    mode    = "slow"', '    idle    = 3 V\n    mode    = "slow"', "'idle' is never used"),
    ('test second "Second"', 'test second "Second" needs pass of first', "'second' can never run"),
    ('test first "First"', 'test first "First" gate', "'second' can never run"),
    ("    check power <= 3 W", "    check 3 W <= 3.3 W\n    check power <= 3 W", "this check cannot fail"),
    ("    check power <= 3 W", "    check vin_low >= 16 V\n    check power <= 3 W", "this check cannot pass"),
    *(("    check power <= 3 W", f"    check vin_low {limits}\n    check power <= 3 W", f"this check cannot {what}") for limits, what in (
        ("within 8 V +/- 1 V", "fail"), ("within 8 V +/- 0.9 V", "pass"), ("within 6 V +/- 1 V", "fail"), ("within 6 V +/- 0.9 V", "pass"),
        ("within 7.5 V +/- 7 %", "fail"), ("within 7.5 V +/- 6 %", "pass"), ("between 7 V and 8 V", "fail"), ("between 7.1 V and 8 V", "pass"),
        ("between 6 V and 7 V", "fail"), ("between 6 V and 6.9 V", "pass"), ("== 7 V", "fail"), ("== 7.1 V", "pass"), ("> 7 V", "pass"), ("> 6.9 V", "fail"),
        ("< 7 V", "pass"), ("< 7.1 V", "fail"), ("<= 7 V", "fail"), (">= 7 V", "fail")))])  # fmt: skip
def test_what_is_surely_not_meant_is_a_warning(old: str, new: str, warning: str) -> None:
    source = vetted(WHOLE.replace(old, new, 1))
    assert not source.has_mistakes, [source.render(f) for f in source.findings]
    assert warning in {f.title for f in source.findings if f.level == "warning"}


def test_every_word_is_explained_with_an_example() -> None:
    for kind, known in all_words().items():
        for word in known:
            text = explain(word)
            assert ("Example" in text or kind == "keys of files") and len(text) > 40, (kind, word)
    switch = explain("switch")  # a class, and a key of files
    assert "switch, an instrument class" in switch and "switch, a key" in switch
    assert 'set x.mode = "current"' in explain("electronic_load")
    assert "Did you mean sweep?" in str(pytest.raises(MistakeError, explain, "swep").value)
    assert set(words.VERBS) | set(words.TOP_USAGE) - {"needs"} <= {w for known in all_words().values() for w in known}


@pytest.mark.parametrize("known", instrument_classes().values(), ids=lambda known: known.name)
def test_the_lines_on_the_page_of_a_class_can_be_written_so(known: InstrumentClass) -> None:
    lines = lines_of_use(known)
    on = f"set x.{known.switch} = on"
    lines += [on] if known.switch and on not in lines else []
    off = f"set x.{known.switch} = off" if known.switch else 'note "nothing was switched on"'
    head = f'sequence "S"\n    product "P"\n    serial "S"\nneeds\n    x : {known.name}\ntest t "T"\n'
    source = vet(Source("t.ibx", head + "".join(f"    {line}\n" for line in lines) + f"after unit\n    {off}\n")).source
    assert not source.has_mistakes, [source.render(one) for one in source.findings]


def test_the_grammar_for_editors_is_made_from_the_words_of_the_language() -> None:
    path = ROOT / "editors" / "ibexite.tmLanguage.json"
    assert path.read_text() == editor_grammar(), "run: make tables"
    for pattern in json.loads(path.read_text())["patterns"]:
        re.compile(pattern.get("match") or pattern["begin"])


@pytest.mark.parametrize(("sequence", "serial", "verdict"), [
    ("sensor_parts.ibx", "FP0107", 5), ("sensor_parts.ibx", "FP0005", 1), ("sensor_parts.ibx", "FP0037", 1), ("characterise.ibx", "FC00400", 5),
    ("characterise.ibx", "FC00427", 1), ("sensor_parts.ibx", "FP0105", 1), ("lot.ibx", "FC00510", 1)])  # fmt: skip
def test_the_examples_run(ibexite, project: Path, sequence: str, serial: str, verdict: int) -> None:
    done = ibexite("run", sequence, "--serial", serial, "--simulate", "--yes", "--no-report")
    assert done.returncode == verdict, done.stdout + done.stderr
    assert "NOT OFF" not in done.stdout and "internal error" not in done.stdout
    preview = ibexite("preview", sequence)
    assert preview.returncode == 0 and "(last run" in preview.stdout


@pytest.mark.parametrize("sequence", ["sensor_parts.ibx", "characterise.ibx"])
def test_the_points_of_the_examples_are_drawn(ibexite, project: Path, sequence: str) -> None:
    assert ibexite("preview", sequence, "--plot", "points.png").returncode == 0
    assert (project / "points.png").read_bytes().startswith(b"\x89PNG")
