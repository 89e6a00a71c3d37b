"""The files beside a sequence: limit tables, shared files, value files, declarations of Python files and manifests."""

from decimal import Decimal
from pathlib import Path

import openpyxl
import pytest

from ibexite import events, units
from ibexite.companions.declared import read_manifest, read_python
from ibexite.companions.files import Files
from ibexite.companions.limits import read_limits
from ibexite.companions.sheet import read_sheet
from ibexite.errors import MistakeError
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.values import Quantity
from tests.conftest import HEADER

VOLTS = Quantity((), units.VOLT)
HEAD = "test,name,variant,revision,low,high,nominal,tolerance,unit,source,approved\n"


def limits(tmp_path: Path, *rows: str):
    path = tmp_path / "limits.csv"
    path.write_text(HEAD + "\n".join(rows) + "\n")
    return read_limits(path)


@pytest.mark.parametrize(("row", "kind", "low", "high", "approved"), [
    ("t,v,,,4.9,5.1,,,V,data sheet,R. Tamm", VOLTS, "4.9", "5.1", True), ("t,v,,,4900 mV,,,,,x,y", VOLTS, "4.9", None, True),
    ("t,v,,,,,5,2 %,V,x,", VOLTS, "4.9", "5.1", False), ("t,v,,,,,5 V,50 mV,,,y", VOLTS, "4.95", "5.05", False),
    ("t,v,,,,,-20,3,dBm,x,y", Quantity((), units.POWER_LEVEL), "-23", "-17", True),
    ("t,v,,,,,25,2,degC,x,y", Quantity((), units.CELSIUS), "296.15", "300.15", True),
    ('t,v,,,"4,9",,,,V,x,y', VOLTS, "4.9", None, True), ("t,v,,,,,,,V,,", VOLTS, None, None, False)])  # fmt: skip
def test_a_row_gives_exact_limits(tmp_path: Path, row, kind, low, high, approved) -> None:
    found = limits(tmp_path, row).row("t", "v", "", "", kind)
    assert found is not None and "row 2" in found.origin
    assert [None if x is None else str(x.normalize()) for x in (found.low, found.high)] == [low, high]
    assert found.is_approved is approved


@pytest.mark.parametrize(("row", "what"), [
    ("t,v,,,4.9,5.1,,,A,x,y", "'4.9' A is a current (A)"), ("t,v,,,5.1,4.9,,,V,x,y", "low is above high"),
    ("t,v,,,4.9,,5,2 %,V,x,y", "neither limits nor a nominal value"), ("t,v,,,,,5,,V,x,y", "neither limits nor"),
    ("t,v,,,five,,,,V,x,y", "'five' is not a number with a unit"),
    ("t,v,,,,,5,-2 %,V,x,y", "a negative tolerance"), ("t,v,,,,,5,-50 mV,V,x,y", "a negative tolerance")])  # fmt: skip
def test_a_row_that_is_wrong_is_named(tmp_path: Path, row: str, what: str) -> None:
    with pytest.raises(MistakeError) as error:
        limits(tmp_path, row).row("t", "v", "", "", VOLTS)
    assert what in str(error.value) and "limits.csv: row 2" in error.value.where


def test_the_row_that_fits_variant_and_revision_best_is_taken(tmp_path: Path) -> None:
    table = limits(tmp_path, "t,v,,,1,,,,V,x,y", "t,v,A,,2,,,,V,x,y", "t,v,A,C,3,,,,V,x,y", "t,v,B,D,4,,,,V,x,y")
    found = {(v, r): str(table.row("t", "v", v, r, VOLTS).low) for v in "ABX" for r in "CD"}  # type: ignore[union-attr]
    assert found == {("A", "C"): "3", ("A", "D"): "2", ("B", "C"): "1", ("B", "D"): "4", ("X", "C"): "1", ("X", "D"): "1"}
    assert table.row("t", "other", "", "", VOLTS) is None
    with pytest.raises(MistakeError, match="two rows have limits"):
        limits(tmp_path, "t,v,A,,1,,,,V,x,y", "t,v,,C,2,,,,V,x,y").row("t", "v", "A", "C", VOLTS)


def test_a_number_that_a_workbook_shows_in_per_cent_is_in_per_cent(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    sheet = book.active
    assert sheet is not None
    sheet.append(["test", "name", "nominal", "tolerance", "unit"])
    sheet.append(["t", "v", 5, 0.023, "V"])
    for number, value, shown in (("D2", 0.023, "0.0%"), ("D2", 2.3, '0.0"%"'), ("D2", 2.3, r"0.0\ \%"), ("D2", 0.023, "0.0%;[Red]-0.0%")):
        sheet[number].value, sheet[number].number_format = value, shown
        book.save(tmp_path / "limits.xlsx")
        row = read_limits(tmp_path / "limits.xlsx").row("t", "v", "", "", VOLTS)
        assert row is not None and (row.low, row.high) == (Decimal("4.885"), Decimal("5.115")), shown


def test_workbooks_and_semicolons_are_tables_too_and_mistakes_name_the_row(tmp_path: Path) -> None:
    book = openpyxl.Workbook()
    for row in (["test", "name", "low", "unit"], [], ["t", "v", 4.75, "V"]):
        book.active.append(row)  # type: ignore[union-attr]
    book.save(tmp_path / "limits.xlsx")
    assert str(read_limits(tmp_path / "limits.xlsx").row("t", "v", "", "", VOLTS).low) == "4.75"  # type: ignore[union-attr]
    book.active.append(["t", "f", "=4.75 + 0", "V"])  # type: ignore[union-attr]
    book.save(tmp_path / "limits.xlsx")
    with pytest.raises(MistakeError, match="the result of the formula =4.75 [+] 0 is not in the file") as error:
        read_limits(tmp_path / "limits.xlsx")
    assert error.value.where.endswith("limits.xlsx: row 4")
    (tmp_path / "a.csv").write_text("# a comment\nx;y\n1;2\n\n3;4\n")
    assert [(r.number, r.cells) for r in read_sheet(tmp_path / "a.csv", what="table").rows] == [
        (3, {"x": "1", "y": "2"}), (5, {"x": "3", "y": "4"})]  # fmt: skip
    for text, what in (("x,x\n1,2\n", "two columns"), ("x\n1,2\n", "row 2: more cells"), ("", "is empty"), ('x\n"1\n', "not a table")):
        (tmp_path / "b.csv").write_text(text)
        with pytest.raises(MistakeError) as error:
            read_sheet(tmp_path / "b.csv", what="table")
        assert what in str(error.value)
    (tmp_path / "no.xlsx").write_text("no workbook")
    with pytest.raises(MistakeError, match="this is not a workbook"):
        read_sheet(tmp_path / "no.xlsx", what="table")


def report(folder: Path, text: str, header: str = HEADER, **files: str) -> str:
    for name, content in files.items():
        (folder / name.replace("__", ".")).write_text(content)
    source = Source(str(folder / "t.ibx"), header + text)
    program = vet(source, None, Files(folder))
    return "\n".join(s.render(f) for s in program.sources for f in s.sorted_findings() if f.level != "note")


LIMITED = HEADER.replace('    serial  "FC[0-9]{5}"', '    serial  "FC[0-9]{5}"\n    limits "limits.csv"')
READ = 'test t "T"\n    read v_in\n    check v_in\n'


@pytest.mark.parametrize(("rows", "expected"), [
    ("t,v_in,,,8,10,,,V,x,y\n", ""), ("t,v_in,,,,,,,V,x,y\n", "warning: its limits are not set yet"),
    ("t,v_out,,,8,10,,,V,x,y\n", "no limits for t.v_in"), ("t,v_in,,,8,10,,,V,x,y\nt,gone,,,1,2,,,V,x,y\n", "rows of the limit table that no check uses"), ("t,v_in,,,8,10,,,A,x,y\n", "'8' A is a current"),
])  # fmt: skip
def test_a_check_takes_its_limits_from_the_table(tmp_path: Path, rows: str, expected: str) -> None:
    told = report(tmp_path, READ, LIMITED, limits__csv=HEAD + rows)
    told = told.replace("'v_out'", "").replace("'i_in'", "")
    assert expected in told if expected else "check v_in" not in told


@pytest.mark.parametrize(("rows", "near"), [("t,v_in,,,8.2,,,,V,x,y\n", 8.25), ("t,v_in,,,,9.3,,,V,x,y\n", 9.25)])
def test_a_sweep_is_refined_near_the_limits_of_the_table(perform, rows: str, near: float) -> None:
    lines = ("    sweep u from 7.5 V to 10 V step 0.5 V refine where v_in near its limit at most 7 points\n        set supply.voltage = u\n"
             "        wait 12 ms\n        read v_in\n    check v_in\n")  # fmt: skip
    run = perform('test t "T"\n' + lines, header=LIMITED, files={"limits.csv": HEAD + rows})
    assert [row.x[0] for row in run.of(events.Row)][6:] == [near]


def test_a_placeholder_makes_a_trial_and_a_limit_that_is_not_set_an_error(perform) -> None:
    rows = HEAD + "t,v_in,,,8,10,,,V,,\nt,v_out,,,,,,,V,x,y\nt,i_in,,,1,80,,,mA,data sheet,R. Tamm\n"
    run = perform('test t "T"\n    read v_in, v_out, i_in\n    check v_in\n    check v_out\n    check i_in\n', header=LIMITED,
                  files={"limits.csv": rows})  # fmt: skip
    assert "limits that nobody has approved: t.v_in" in [reason.text for reason in run.trial]
    assert {label: run.result(label).verdict for label in ("v_in", "v_out", "i_in")} == {
        "v_in": "pass", "v_out": "error", "i_in": "pass"}  # fmt: skip
    assert run.result("v_out").reason == "undecided: no limit has been set yet"
    assert "limits.csv: row 4; data sheet; approved R. Tamm" in run.result("i_in").origin


@pytest.mark.parametrize(("check", "told"), [
    ("check v_in guarded by 1.2 V", "the guard is wider than the tolerance"), ("check v_in guarded by 0.9 V", ""), ("check v_in + 1 V", "not a name with a unit"),
    ('check v_in guarded by -1 mV', "a negative guard"), ("check v_in guarded by 1 A", "wrong unit")])  # fmt: skip
def test_a_limit_from_the_table_is_as_good_as_one_in_the_line(tmp_path: Path, check: str, told: str) -> None:
    lines = f'test t "T"\n    read v_in\n    {check}\n'
    found = [line for line in report(tmp_path, lines, LIMITED, limits__csv=HEAD + "t,v_in,,,8,10,,,V,x,y\n").split("\n") if "t.ibx:" in line]
    mistakes = [line for line in found if "warning" not in line]
    assert len(mistakes) == bool(told) and all(told in line for line in mistakes), found


def test_a_program_that_is_called_must_be_there(tmp_path: Path) -> None:
    lines = 'test t "T"\n    read v_in\n    call "gone.py" gives x in V timeout 1 s\n    check x >= 1 V\n'
    assert "there is no program 'gone.py'" in report(tmp_path, lines) and "no program" not in report(tmp_path, lines, gone__py="")


SHARED = """constants
    v_least = 8 V "least input"
    v_most  = v_least + 2 V

measurement input_range "Input"
    needs
        tap : signal in V
    outputs
        value in V
    read value = tap
"""


def test_shared_files_bring_constants_and_measurements(tmp_path: Path, perform) -> None:
    use = HEADER.replace("needs\n", 'use "shared.ibx"\n\nneeds\n', 1)
    text = 'test t "T"\n    measure input_range(tap = v_in) as x\n    check x.value between v_least and v_most\n'
    assert perform(text, header=use, files={"shared.ibx": SHARED}).outcome.verdict == "pass"
    assert "a circle of use lines" in report(tmp_path, text, use, shared__ibx='use "shared.ibx"\n' + SHARED)
    assert "'test' in a shared file" in report(tmp_path, text, use, shared__ibx=SHARED + '\ntest u "U"\n    wait 1 s\n')
    broken = report(tmp_path, text, use, shared__ibx=SHARED.replace("tap : signal in V", "tap : signal in A"))
    assert f"{tmp_path / 'shared.ibx'}:9:9: another type than its value" in broken
    assert "unknown measurement 'input_range'" in report(tmp_path, text)
    both = use.replace('use "shared.ibx"\n', 'use "shared.ibx"\nuse "other.ibx"\n')
    told = report(tmp_path, text, both, shared__ibx=SHARED, other__ibx=SHARED)
    assert "'v_least' comes from two files" in told and "measurement 'input_range' comes from two files" in told
    assert f"The other one is in {tmp_path / 'shared.ibx'}" in told
    choices = SHARED.replace("v_least = 8 V", "v_least = 8 V of 8 V, 9 V")
    assert "a constant has neither choices nor bounds" in report(tmp_path, text, use, shared__ibx=choices)
    twice = SHARED + SHARED[SHARED.index("measurement") :]
    assert "'input_range' is declared twice" in report(tmp_path, text, use, shared__ibx=twice)


@pytest.mark.parametrize(("content", "sweep", "expected"), [
    ("freq [Hz]\n100\n1 kHz\n", "freq", ""), ("a,freq in kHz\n1,2\n", "freq", ""), ("only\n5 Hz\n6 Hz\n", "freq", ""),
    ("a,b\n1,2\n", "freq", "there is no column 'freq'"), ("freq\n5 Hz\n6 V\n", "freq", "'6 V' is a voltage"),
    ("freq\n", "freq", "there are no values"), ("freq\nx\n", "freq", "row 2: 'x' is not a number")])  # fmt: skip
def test_sweeps_over_the_values_of_a_file(tmp_path: Path, content: str, sweep: str, expected: str) -> None:
    text = f'test t "T"\n    sweep {sweep} over file "f.csv"\n        let k = 2 * {sweep}\n    check k >= 1 Hz\n'
    told = report(tmp_path, text, f__csv=content)
    assert expected in told and ("mistake" in told or "f.csv" in told) == bool(expected)
    assert ("is a frequency (Hz) over" in report(tmp_path, text.replace("1 Hz", "1 V"), f__csv=content)) != bool(expected)


PYTHON = '''import ibexite
__version__ = "2.1"
raise SystemExit("must not be executed to be read")

@ibexite.function(returns="dB", drive="V", echo="V")
def loss(drive, echo):
    """How much is lost."""

@ibexite.measurement("Level", needs={"tap": "V"}, inputs={"n": "3"}, outputs={"f": "Hz", "g": "dB over f"})
def level(bench, n):
    pass
'''


def test_python_declarations_are_read_without_running_the_file(tmp_path: Path) -> None:
    path = tmp_path / "maths.py"
    path.write_text(PYTHON)
    functions, measurements = read_python(path)
    assert functions["loss"].arguments == (("drive", units.VOLT, False), ("echo", units.VOLT, False))
    assert (functions["loss"].result, functions["loss"].help) == (units.DECIBEL, "How much is lost.")
    facts = measurements["level"]
    assert (facts.version, len(facts.sha256), facts.outputs["g"].axes, facts.outputs["f"].axes) == ("2.1", 64, ("f",), ("f",))
    for old, new, what in (
        ('returns="dB"', 'returns=UNIT', "must be written out"), ('drive="V"', 'drive="Volt"', "there is no unit"),
        ('drive="V", ', "", "has no unit for drive"), ('echo="V"', 'echo="V", x="V"', "has no argument x"),
        ("def level(bench, n)", "def level(n)", "def level(bench, n)"), ('"g": "dB over f"', '"g": "dB over h"', "no output"),
        ('{"tap": "V"}', '{"tap": "power_suply"}', "no instrument class"), ("import ibexite", "import (", "not Python"),
    ):  # fmt: skip
        path.write_text(PYTHON.replace(old, new))
        with pytest.raises(MistakeError) as error:
            read_python(path)
        assert what in str(error.value) and "maths.py" in error.value.where, str(error.value)


def test_a_manifest_describes_a_program(tmp_path: Path) -> None:
    (tmp_path / "run.py").write_text("")
    text = '[measurement]\ntitle = "X"\nprogram = "run.py"\n[needs]\ntap = "V"\n[outputs]\nx = "V"\n'
    path = tmp_path / "probe.measurement.toml"
    path.write_text(text)
    facts = read_manifest(path)
    assert (facts.name, facts.kind, facts.needs["tap"].words) == ("probe", "program", "signal in V")
    for old, new, what in (("run.py", "no.py", "there is no file"), ("title", "titel", "is missing"), ('"V"\n[out', '"Vv"\n[out', "no unit")):
        path.write_text(text.replace(old, new, 1))
        with pytest.raises(MistakeError, match=".") as error:
            read_manifest(path)
        assert what in str(error.value)
