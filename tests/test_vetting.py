"""Vetting: every message exactly as in messages.txt, all mistakes at once, and the bench looked at as well."""

import json
from pathlib import Path

import pytest

from ibexite.bench.file import read_bench
from ibexite.engine.bench_facts import bench_facts
from ibexite.errors import MistakeError
from ibexite.language.check import vet
from ibexite.language.facts import vet_against
from ibexite.language.source import Source, decode_text, read_source
from tests.conftest import HEADER
from tests.runs import vetted

WHOLE = """sequence "FM-2 control board"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"

needs
    supply       : power_supply
    load         : electronic_load
    meter        : multimeter
    v_in, v_out  : signal in V
    i_in         : signal in A
    t_board      : signal in degC
    level        : signal in dBm

params
    vin_low = 7 V    "lowest supply voltage"
    mode    = "slow" of "slow", "fast"

before unit
    set supply.output = on, load.input = on

test first "First"
    read v_early = v_out
    let twice_early = 2 * v_early

test second "Second"
    sweep vin from vin_low to 16 V step 1.5 V
        set supply.voltage = vin
        sweep iload over 0 A, 50 mA
            read v_out, i_in, t_board, level
            let power = v_out * i_in
    let most = max(power along iload)
    check power <= 3 W where iload > 10 mA
"""


def cases() -> list[tuple[str, str]]:
    """The lines and reports of messages.txt."""
    found = []
    for block in Path(__file__).with_name("messages.txt").read_text().split("\n\n")[1:]:
        lines = block.strip("\n").split("\n")
        typed = [line[2:] for line in lines if line.startswith("+ ")]
        found.append(("\n".join(typed), "\n".join(line for line in lines if not line.startswith("+ "))))
    return found


MISTAKES = cases()


def report(text: str, level: str = "mistake") -> str:
    source = vetted(text)
    return "\n".join(source.render(finding) for finding in source.sorted_findings() if finding.level == level)


def test_the_whole_has_no_mistakes() -> None:
    assert report(WHOLE) == ""


@pytest.mark.parametrize(("lines", "expected"), MISTAKES, ids=[" ".join(lines.split()) for lines, _ in MISTAKES])
def test_each_mistake_gets_its_message(lines: str, expected: str) -> None:
    assert report(WHOLE + lines + "\n") == expected


@pytest.mark.parametrize(("old", "new", "where", "title", "remedy"), [
    ('    product "FM-2 control board"\n', "", "2:13", "no product", "Below the sequence line write"),
    ('serial  "FC[0-9]{5}"', 'serial "FC[0-9"', "3:12", "not a regular expression", "Write, for example"),
    ("supply       : power_supply", "supply : power_suply", "6:5", "unknown instrument class", "Did you mean power_supply"),
    ("level        : signal in dBm", "level : signal in dbm", "12:23", "unknown unit dbm", "Did you mean dBm?"),
    ("level        : signal in dBm", "supply : signal in V", "12:5", "'supply' is needed twice", ""),
    ('mode    = "slow" of', 'mode = "fat" of', "16:12", "mode is not one of its choices", "Choose one of: slow, fast."),
    ("vin_low = 7 V ", "vin_low = 7 V between 8 V and 9 V ", "15:15", "vin_low is out of its bounds", "between 8 V and 9"),
    ("vin_low = 7 V ", "vin_low = 7 V between 8 A and 9 V ", "15:27", "wrong unit", "vin_low is a voltage (V)."),
    ("set supply.output = on, ", "set ", "27:13", "nothing switches it on", "Write: set supply.output = on"),
    ("test second", "test first", "25:6", "'first' is declared twice", "another name"),
    ("vin_low = 7 V ", "vin_low = 7 V \n    vin_low = 8 V ", "16:5", "'vin_low' is declared twice", ""),
    ("    let twice_early = 2 * v_early", "    let twice_early = twice_early", "23:23", "'twice_early' has no value yet", "It gets one by this very line."),
    ("    let twice_early = 2 * v_early", "    let twice = early\n    let early = v_early", "23:17", "'early' has no value yet", "It gets one on line 24."),
    ("vin_low = 7 V ", "vin_low = abs(7 V) ", "15:15", "not known before the run", "A default is made of numbers"),
    ('test first "First"', 'test first "First" keeps state', "21:6", "no test before it", "begins with the state that the test before left"),
    ("before unit", "before noon", "18:8", "unexpected 'noon'", "This line reads: before unit"),
    ('sequence "FM-2 control board"', "", "1:1", "no sequence line", "A file begins with")])  # fmt: skip
def test_declarations_are_checked(old: str, new: str, where: str, title: str, remedy: str) -> None:
    text = WHOLE.replace(old, new, 1)
    found = [block for block in report(text).split("t.ibx:") if block.startswith(where + ": " + title)]
    assert found, report(text)
    assert remedy in found[0]


def test_all_mistakes_of_a_file_are_told_in_one_go() -> None:
    source = vetted(WHOLE + "    sett x = 1\n    read vout\n    wait 5\n    let y = 2 V + 3 A\n")
    assert [source.position(f.span.start)[0] for f in source.sorted_findings()] == [33, 34, 35, 36]
    data = json.loads(json.dumps([source.as_data(f) for f in source.sorted_findings()]))
    assert data[1] == {"file": "t.ibx", "line": 34, "column": 10, "end_line": 34, "end_column": 14, "severity": "mistake",
                       "title": "unknown signal 'vout'", "mark": "", "remedy": "Did you mean v_out?"}  # fmt: skip


@pytest.mark.parametrize("formula", [" + ".join(["1"] * 300), "-" * 5000 + "1", "abs(" * 2000 + "1" + ")" * 2000])
def test_a_formula_without_end_is_one_mistake_and_shown_in_part(formula: str) -> None:
    told = report(WHOLE + f"    let long = {formula}\n    check long >= 1\n")
    assert told.count("t.ibx:33:") == told.count("t.ibx:") == told.count("too long or nested too deeply") == 1
    line, mark = told.split("\n")[1:3]
    assert len(line) < 220 and 0 <= mark.index("^") < mark.rindex("^") + 1 <= len(line)


def test_a_forgotten_switch_is_told_once() -> None:
    text = WHOLE.replace("set supply.output = on, ", "set ") + "    set supply.voltage = 9 V\n"
    assert report(text).count("nothing switches it on") == 1


def test_lines_go_on_after_a_comma_and_in_brackets() -> None:
    text = ("    read later = v_out,\n        other = v_in   # a comment with a \" in it\n"
            "    let sum = (later\n        + other)\n    check sum >= 0 V\n")  # fmt: skip
    assert report(WHOLE + text) == ""
    assert "a comma at the end" in report(WHOLE + "    read later = v_out,\n    check later >= 0 V\n")


@pytest.mark.parametrize(("given", "what"), [
    ({"vin_low": "5 A"}, "'5 A' is a current (A)"), ({"vin_low": "five"}, "not a number with a unit"),
    ({"vinlow": "5 V"}, "there is no parameter 'vinlow'"), ({"mode": "fat"}, "mode is not one of its choices")])  # fmt: skip
def test_parameters_from_outside_are_checked(given: dict, what: str) -> None:
    with pytest.raises(MistakeError, match=".") as error:
        vet(Source("t.ibx", WHOLE), given)
    assert what in str(error.value)


@pytest.mark.parametrize(("old", "new", "expected"), [
    ("vin_high  = 15.5 V", "vin_high = 18.5 V", "46:30: beyond the ceiling|18.5 V at vin = 18.5 V|"
     "supply.voltage may be at most 17 V (bench.toml: roles.supply.ceiling.voltage)."),
    ("set load.current = 0 A", "set load.current = 5 A", "beyond the range|profile scpi-electronic-load"),
    ("to 1.08 A step 160 mA", "to 1.4 A step 160 mA", "beyond the ceiling|1.4 A at iload = 1.4 A"),
    ("rail_3v3    : signal in V", "rail_5v : signal in V", "no signal 'rail_5v' on this bench|Add [signals.rail_5v]"),
    ("rail_3v3    : signal in V", "rail_3v3 : signal in A", "on the bench rail_3v3 is a voltage (V)"),
    ("load        : electronic_load", "load : power_supply", "on the bench load is a electronic_load"),
    ("read idle = i_in", "read idle = supply.current(channel = 1 V)", "wrong unit|channel is a plain number."),
    ("read idle = i_in", "read idle = supply.current(range = 1 A)", "current has no argument 'range'|There is: channel."),
    ("needs\n", "needs\n    chamber : multimeter\n", "no role 'chamber' on this bench|Add [roles.chamber]")])  # fmt: skip
def test_the_bench_is_looked_at_before_power(project: Path, old: str, new: str, expected: str, monkeypatch) -> None:
    monkeypatch.chdir(project)
    text = (project / "fm2_final.ibx").read_text()
    assert old in text
    source = Source("t.ibx", text.replace(old, new))
    vet_against(vet(source), bench_facts(read_bench("bench.toml")))
    told = "\n".join(source.render(finding) for finding in source.sorted_findings())
    for part in expected.split("|"):
        assert part in told


def test_what_is_known_only_in_the_run_is_noted(project: Path) -> None:
    source = vetted(HEADER + 'test t "T"\n    read v_in\n    set supply.voltage = v_in + 1 V\n    check v_in >= 1 V\n', project)
    found = [(f.level, f.title, f.remedy.split(";")[0]) for f in source.findings if "will be" in f.title]
    assert set(found) == {("note", "will be watched", "supply.voltage is known only when the line runs")}


@pytest.mark.parametrize(("reading", "expected"), [
    ("dc_voltage(channel = 101, range = 10 V)", ""), ("dc_voltage(range = 10 V)", ""),
    ("dc_voltage", ""), ("resistance(integration = 10)", ""),
    ("dc_voltage(range = 10 A)", "wrong unit|range is a voltage (V)."),
    ("dc_voltage(rang = 10 V, range = 1 V)", "dc_voltage has no argument 'rang'|Did you mean range?"),
    ("diode(channel = 101)", "this bench cannot read it|Profile scpi-scanning-multimeter has no reading diode.")])  # fmt: skip
def test_readings_of_roles_are_compared_with_the_profile(project: Path, reading: str, expected: str) -> None:
    text = HEADER.replace("needs\n", "needs\n    meter : multimeter\n") + f'test t "T"\n    read x = meter.{reading}\n'
    source = vetted(text, project)
    told = "\n".join(source.render(f) for f in source.sorted_findings() if f.level == "mistake")
    assert bool(told) == bool(expected)
    for part in expected.split("|"):
        assert part in told


def test_what_a_measurement_does_is_looked_at_on_the_roles_that_play_it(project) -> None:
    measurement = (
        'measurement raw_load "Raw"\n    needs\n        sink : electronic_load\n    outputs\n        x in V\n    send sink "LOAD:FAST"\n    let x = 5 V\n\n'
    )
    source = vetted(measurement + HEADER + 'test t "T"\n    measure raw_load(sink = load) as it\n    check it.x >= 1 V\n', project)
    assert [(f.title, source.line_of(f.span.start)) for f in source.findings if f.level == "mistake"] == [("raw commands are not allowed here", 6)]
    path = project / "bench.toml"
    path.write_text(path.read_text().replace("[roles.load]", "[roles.load]\nraw = true"))
    source.findings.clear()
    vet_against(vet(source), bench_facts(read_bench(path)))
    assert not source.has_mistakes


def test_so_many_nested_loops_that_their_ends_alone_are_too_many_are_vetted_all_the_same(project: Path) -> None:
    loops = "".join("    " * (i + 1) + f"sweep x{i}_v over 0, 1\n" for i in range(15))
    value = " + ".join(f"x{i}_v" for i in range(15))
    source = vetted(HEADER + 'test t "T"\n' + loops + "    " * 16 + f"set supply.voltage = 1.2 V * ({value})\n", project)
    assert [f.mark[:6] for f in source.findings if f.title == "beyond the ceiling"] == ["18 V a"]


@pytest.mark.parametrize(("lines", "expected"), [
    ("sweep u from 0 V to 12 V step 1 V\n        set supply.voltage = u * (12 V - u) / 1 V", ["20 V at u = 2 V"]),
    ("sweep u from 0 V to 12 V step 1 mV\n        sweep w over 1, 2, 3\n            set supply.voltage = u * (12 V - u) / 1 V * w / 3", ["17.007836 V at u = 1.642 V, w = 3"]),
    ("repeat k 10 times\n        set supply.voltage = k * (10 - k) * 1 V", ["21 V at k = 3"]),
    ("repeat k 100000 times\n        set supply.voltage = 2e-8 V * k * (100000 - k)", [" at k = "]),
    ("search u from 0 V to 12 V resolution 10 mV until v_out > 1 V\n        set supply.voltage = u * (12 V - u) / 1 V\n        read v_out", [" at u = "]),
    ("sweep u from 0 V to 12 V step 1 V refine where y bends at most 20 points\n        set supply.voltage = u * (12 V - u) / 1 V\n        read y = v_out", [" at u = "]),
    ("repeat k 4 times\n        set supply.voltage = k * 4.4 V", ["17.6 V at k = 4"]), ("search u from 1 V to 17.4 V resolution 1 V until v_out > 1 V\n        set supply.voltage = u\n        read v_out", ["at u = 17."]),
    ("repeat k until v_out > 1 V every 1 ms timeout 1 s\n        sweep u over 1 V, 18 V\n            set supply.voltage = u\n            read v_out", ["18 V at u = 18 V"]),
    ("sweep u over 1 V, 17 V\n        set supply.voltage = u", []), ("repeat k 1 times\n        set supply.voltage = k * 17 V", [])])  # fmt: skip
def test_a_ceiling_is_looked_at_between_the_ends_of_every_loop(project: Path, lines: str, expected: list[str]) -> None:
    source = vetted(HEADER + f'test t "T"\n    {lines}\n', project)
    found = [f.mark for f in source.findings if f.title == "beyond the ceiling"]
    assert len(found) == len(expected) and all(part in mark for part, mark in zip(expected, found, strict=True)), found


@pytest.mark.parametrize("text", ['sequence "T"\r\n    product "P"\r\n', '\ufeffsequence "T"\n    product "P"\n'])
def test_line_ends_and_marks_of_other_systems_are_understood(tmp_path: Path, text: str) -> None:
    body = '    serial "X"\ntest t "T"\n    let x = 1\n    check x >= 1\n'.replace("\n", "\r\n" if "\r" in text else "\n")
    (tmp_path / "t.ibx").write_bytes((text + body).encode())
    source = read_source(tmp_path / "t.ibx")
    program = vet(source)
    assert source.findings == [] and program.sequence.product == "P"
    with pytest.raises(MistakeError):
        decode_text(b"\xff\xfes\0e\0", "utf16.ibx")


def test_nesting_has_an_end() -> None:
    lines = [f"{'    ' * (depth + 1)}sweep n{depth} over 1" for depth in range(17)]
    source = Source("deep.ibx", 'sequence "T"\n    product "P"\ntest t "T"\n' + "\n".join(lines) + "\n" + "    " * 18 + "wait 1 s\n")
    vet(source)
    assert {finding.title for finding in source.findings} >= {"nested too deeply"}


@pytest.mark.parametrize(("lines", "title"), [
    ("    check t_board within 31 degC +/- tolerance\n", "wrong unit"), ("    check t_board within 31 degC +/- 1 degC\n", ""),
    ("    check t_board within 31 degC +/- 1 K\n", ""), ("    sweep x from 20 degC to 30 degC step 5 degC\n        wait 1 s\n", ""),
    ("    sweep x from 20 degC to 30 degC step tolerance\n        wait 1 s\n", "wrong unit"),
    ("after unit\n    read last = t_board\n    check last >= 1 degC\n", "a check after the verdict")])  # fmt: skip
def test_a_temperature_is_never_taken_for_a_difference(lines: str, title: str) -> None:
    text = HEADER.replace("rail_3v3     : signal in V", "t_board : signal in degC")
    text = text.replace("before unit", "params\n    tolerance = 1 degC\n\nbefore unit") + 'test t "T"\n    read t_board\n'
    source = vetted(text + lines)
    assert [f.title for f in source.findings if f.level == "mistake"] == ([title] if title else [])
