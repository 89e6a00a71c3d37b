"""References of known good units: their files, what a sequence may judge by them, and the commands that make them."""

import cmath
import contextlib
import math
import re
import sqlite3
import time
from concurrent.futures import ThreadPoolExecutor

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite import units
from ibexite.companions.approvals import approve, objection, read_approvals
from ibexite.companions.files import Files
from ibexite.companions.references import read_reference, write_reference
from ibexite.conditions import differences
from ibexite.errors import MistakeError
from ibexite.events import Conditions, Judged
from ibexite.language.check import vet
from ibexite.language.source import Source
from ibexite.plain_file import written_whole
from ibexite.reference import Axis, Origin, Reference, ReferenceValue
from ibexite.values import TEXT, YES_NO, Connections, Quantity, Table, Waveform

VOLTS, OHMS, HERTZ = Quantity((), units.VOLT), Quantity((), units.OHM, "kohm"), Quantity((), units.HERTZ)
ORIGIN = Origin("20261123-080000-aaaaaa", "R", "2026-11-23T08:00:00.000+00:00", "pass", ("halted",), False, {"bench": 'one "of" two\\'})
NUMBERS = st.floats(-1e12, 1e12).map(lambda x: x + 0.0) | st.sampled_from([0.1, 1e-300, 5e-324, 123456789.123456789])
TEXTS = st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), max_size=8).map(lambda text: text.replace("\r", "").replace("\x00", ""))


def file_of(*values: ReferenceValue, product: str = "none", variant: str = "", origin: Origin = ORIGIN, folder=None) -> str:
    """The text of a reference."""
    path = folder / "made.toml"
    write_reference(path, Reference("ref", str(path), "", product, variant, origin, {value.name: value for value in values}), is_new=False)
    return path.read_text()


def number(value: float = 5.0, kind: Quantity = VOLTS, **conditions: str) -> ReferenceValue:
    return ReferenceValue("v_ok", "a", kind, (), (value,), {key.replace("_", ".", 1): text for key, text in conditions.items()})


def curve(values: tuple, points: tuple = (1.0, 2.0, 3.0), kind: Quantity = VOLTS, axis: str = "x", unit: Quantity = VOLTS, **conditions: str) -> ReferenceValue:
    told = {key.replace("_", ".", 1): text for key, text in conditions.items()}
    return ReferenceValue("y", "a", kind.over((axis,)), (Axis(axis, unit, points),), values, told)


@st.composite
def values_of_all_kinds(draw: st.DrawFn) -> ReferenceValue:
    """A value of any kind, over no, one or two axes, or an evenly sampled one."""
    which = draw(st.sampled_from(["number", "complex", "text", "yes", "curve", "complex curve", "texts", "two axes", "sampled", "wires", "scans", "table"]))
    conditions = draw(st.dictionaries(TEXTS.filter(bool), TEXTS, max_size=2))
    some = draw(st.lists(NUMBERS | st.none(), min_size=2, max_size=4))
    points = tuple(float(i) * 1.5 for i in range(len(some)))
    both = tuple(None if n is None else complex(n, n / 2) for n in some)
    kind, axes, values = {
        "number": (OHMS, (), (draw(NUMBERS),)), "complex": (Quantity((), units.OHM, None, True), (), (complex(draw(NUMBERS), draw(NUMBERS)),)),
        "text": (TEXT, (), (draw(TEXTS),)), "yes": (YES_NO, (), (1.0,)),
        "curve": (OHMS, (Axis("freq", HERTZ, points),), tuple(some)),
        "complex curve": (Quantity((), units.OHM, None, True), (Axis("freq", HERTZ, points),), both),
        "texts": (TEXT, (Axis("k", TEXT, ("a", 'b "c"', "")),), ("x", "'''", "y,z")),
        "two axes": (VOLTS, (Axis("k", TEXT, ("lo", "hi")), Axis("x", VOLTS, points)), (*some, *some)),
        "sampled": (Waveform((), units.VOLT), (Axis("time", Quantity((), units.SECOND), (), (-1e-7, 1e-9)),), tuple(some)),
        "wires": (Connections(), (), ('{"nets":[["A","B"],["C"]],"resistance":[["A","B",0.25]]}',)),
        "scans": (Connections(), (Axis("scan", Quantity(), points),), ('[["A","B"],["C"]]',) * len(points)),
        "table": (Table(), (), ('[["counter","","",["crc","it\'s"]],["delay","s","us",[3e-06,null]]]',)),
    }[which]  # fmt: skip
    return ReferenceValue("y", "a", kind.over(tuple(axis.name for axis in axes)), axes, values, conditions)


@given(values_of_all_kinds())
def test_a_reference_is_read_back_as_it_was_written(tmp_path_factory, value) -> None:
    folder = tmp_path_factory.mktemp("golden")
    text = file_of(value, folder=folder)
    found = read_reference(folder / "made.toml", "ref")
    assert (found.origin, found.product) == (ORIGIN, "none")
    assert repr(found.values["y"]) == repr(value), text


@pytest.mark.parametrize(("old", "new", "what"), [
    ("3.0,30.0", "3.0", "1 cells in place of 2"), ("3.0,30.0", "3.0,?", "'?' is no number"), ("3.0,30.0", "3.0,nan", "'nan' is no number"),
    ("[V]\n1.0", "[A]\n1.0", "the column is a current (A), the value a voltage (V)"), ('kind = "quantity"', 'kind = "number"', "no kind of value"),
    ('unit = "V"', 'unit = "Q"', "Q"), ("[origin]", "[orign]", "is missing"), ('run = "', 'ran = "', "is missing"), ("x [V]", "x [?]", "'x [?]'"),
    ("[values", "[vales", "there are no values"), ("points = '''", "points = '''\n", None), ("product = ", "product : ", "not valid TOML")])  # fmt: skip
def test_what_is_wrong_with_a_reference_is_told(tmp_path, old, new, what) -> None:
    text = file_of(curve((10.0, 20.0, 30.0)), folder=tmp_path)
    assert old in text
    (tmp_path / "ref.toml").write_text(text.replace(old, new, 1))
    if what is None:
        assert read_reference(tmp_path / "ref.toml", "ref").values["y"].values == (10.0, 20.0, 30.0)
        return
    with pytest.raises(MistakeError) as told:
        read_reference(tmp_path / "ref.toml", "ref")
    everything = f"{told.value.where} {told.value.what} {getattr(told.value, 'errors', '')}"
    assert what in everything or what in str(told.value) and "ref.toml" in everything


def test_what_cannot_be_read_back_takes_no_place(tmp_path) -> None:
    good = file_of(number(), folder=tmp_path)
    with pytest.raises(MistakeError, match="'nan' is no number"):
        file_of(number(math.nan), folder=tmp_path)
    assert (tmp_path / "made.toml").read_text() == good and [path.name for path in tmp_path.iterdir()] == ["made.toml"]


@pytest.mark.parametrize(("then", "now", "told"), [
    ({"a.b": "9 V"}, {"a.b": "9 V"}, []), ({"a.b": "9 V"}, {"a.b": "9000.0001 mV"}, []), ({"a.b": "9 V"}, {"a.b": "9.1 V"}, ["a.b is 9.1 V, was 9 V"]),
    ({"a.b": "on"}, {"a.b": "off"}, ["a.b is off, was on"]), ({"a.b": "1 V to 2 V"}, {"a.b": "1 V to 2000 mV"}, []),
    ({"a.b": "1 V to 2 V"}, {"a.b": "1 V to 3 V"}, ["a.b is 1 V to 3 V, was 1 V to 2 V"]), ({"a.b": "1 V to 2 V"}, {"a.b": "1 V"}, ["a.b is 1 V, was 1 V to 2 V"]),
    ({"a.b": "9 V"}, {"c.d": "9 V"}, []), ({"a.b": "9 V"}, {"a.b": "9 A"}, ["a.b is 9 A, was 9 V"]), ({"a.b": "20 degC"}, {"a.b": "293.15 K"}, ["a.b is 293.15 K, was 20 degC"])])  # fmt: skip
def test_conditions_are_compared_as_quantities(then, now, told) -> None:
    assert differences(then, now) == told


# --- judging by them -------------------------------------------------------------------------------------------------

READ = "    read v_ok\n"
SWEEP = "    sweep x from 1 V to 3 V step 1 V\n        set supply.voltage = x\n        read v_ok\n        let y = x * 10\n"


@pytest.mark.parametrize(("lines", "value", "verdict", "said"), [
    (READ + '    check v_ok within golden("ref") +/- 1 %\n', number(), "pass", ""), (READ + '    check v_ok >= golden("ref") + 1 mV\n', number(), "fail", ""),
    (READ + '    check v_ok within golden("ref.v_ok") +/- 1 %\n', number(), "pass", ""),
    (READ + '    check v_ok within golden("ref") +/- 1 %\n', number(supply_voltage="9 V", load_current="100 mA"), "pass", ""),
    (READ + '    check v_ok within golden("ref") +/- 1 %\n', number(supply_voltage="8 V"), "error", "supply.voltage is 9 V, was 8 V"),
    (READ + '    check v_ok within golden("ref") +/- 1 %\n', number(9.0, supply_voltage="8 V"), "error", "supply.voltage is 9 V, was 8 V"),
    (READ + '    check v_ok within golden("ref") +/- 1 % not older than 59 min\n', number(9.0), "error", "is 1 h 00 min old, it may be 59 min 00 s"),
    (READ + '    let rel = v_ok / golden("ref")\n    check rel between 0.9 and 1.1 not older than 61 min\n', number(), "pass", ""),
    (READ + '    let rel = v_ok / golden("ref")\n    let twice = 2 * rel\n    check twice between 1.8 and 2.2 not older than 59 min\n', number(), "error", "is 1 h 00 min old, it may be 59 min 00 s"),
    (SWEEP + '    let rel = y / onto(golden("ref"), y)\n    check rel between 0.9 and 1.1\n', curve((10.0, 20.0), (1.0, 2.0)), "error", "has nothing"),
    (READ + '    let rel = v_ok / golden("ref")\n    check rel between 0.9 and 1.1\n', number(supply_voltage="3 V"), "error", "was measured otherwise: supply.voltage"),
    (READ + '    check v_ok within golden("ref") +/- 1 %\n', number(v_ok_range="10 V"), "pass", ""),
    (READ + '    let d = v_ok * 2\n    check d within golden("ref") +/- 1 %\n', number(10.0, supply_output="off"), "error", "supply.output is on, was off"),
    (READ + '    check v_ok - golden("ref") within 0 V +/- 1 mV\n', number(supply_voltage="8 V"), "error", "supply.voltage is 9 V, was 8 V"),
    ("    set supply.voltage = 8 V\n" + READ + '    set supply.voltage = 7 V\n    check v_ok within golden("ref") +/- 1 %\n', number(supply_voltage="8 V"), "pass", ""),
    (SWEEP + '    let most = mean(v_ok)\n    check most within golden("ref") +/- 1 %\n', number(supply_voltage="1 V to 3 V"), "pass", ""),
    (SWEEP + '    let most = mean(v_ok)\n    check most within golden("ref") +/- 1 %\n', number(supply_voltage="1 V to 4 V"), "error", "was 1 V to 4 V"),
    (READ + '    check v_ok within golden("ref") +/- 1 % not older than 61 min\n', number(), "pass", ""),
    (READ + '    check v_ok within golden("ref") +/- 1 % not older than 59 min\n', number(), "error", "is 1 h 00 min old, it may be 59 min 00 s"),
    (READ + '    check v_ok within golden("gone") +/- 1 %\n', number(), "error", "there is no reference 'gone' yet"),
    (READ + '    check v_ok - golden("gone") within 0 V +/- 1 V where v_ok > 1 V\n', number(), "error", "there is no reference 'gone' yet"),
    (READ + '    check v_ok >= golden("ref") + 1 mV\n    check v_ok within golden("gone") +/- 1 %\n', number(), "error", "there is no reference 'gone' yet"),
    (SWEEP + '    check y within golden("ref") +/- 1 %\n', curve((10.0, 20.0, 30.0)), "pass", ""),
    (SWEEP + '    check y within golden("ref") +/- 1 %\n', curve((10.0, 20.0, 33.0)), "fail", ""),
    (SWEEP + '    check y within golden("ref") +/- 1 % aligned by 6 %\n', curve((10.5, 21.0, 31.5)), "pass", ""),
    (SWEEP + '    check y within golden("ref") +/- 1 %\n', curve((10.0, None, 30.0)), "error", "undecided: 1 of 3 bad"),
    (SWEEP + '    check y - golden("ref") within 0 V +/- 1 mV\n', curve((10.0, None, 30.0)), "error", "undecided: 1 of 3 bad"),
    (SWEEP + '    check y within golden("ref") +/- 1 % where x > 2 V\n', curve((10.0, None, 30.0)), "pass", ""),
    (SWEEP + '    check y within onto(golden("ref"), y) +/- 1 %\n', curve((10.0, 20.0), (1.0, 2.0)), "error", "the reference ref has nothing at x = 3 V"),
    (SWEEP + '    check y within onto(golden("ref"), y) +/- 1 % where x < 3 V\n', curve((10.0, 20.0), (1.0, 2.0)), "pass", ""),
    (SWEEP + '    check v_ok within golden("ref") +/- 1 %\n', curve((5.0, 5.0), (1.0, 2.0), supply_voltage="1 V to 2 V"), "error", "supply.voltage is 1 V to 3 V, was 1 V to 2 V"),
    (SWEEP + '    check y within golden("ref") +/- 1 %\n', curve((10.0, 20.0), (1.0, 2.0)), "error", "two curves have different points on the axis x"),
    (SWEEP + '    check y within onto(golden("ref"), y) +/- 1 %\n', curve((10.0, 30.0), (1.0, 3.0)), "pass", "")])  # fmt: skip
def test_a_value_is_judged_by_a_reference(rehearse, tmp_path, lines, value, verdict, said) -> None:
    run = rehearse(lines, files={"golden/none/ref.toml": file_of(value, folder=tmp_path)})
    assert run.verdicts["a"] == verdict and said in run.ended["a"][1]
    codes = {reason.code for reason in run.trial}
    assert ("unapproved" in codes) == ('golden("ref' in lines) and ("reference" in codes) == (
        bool(said) and not any(word in said for word in ("axis", "bad", "nothing"))
    )


@pytest.mark.parametrize(
    ("factor", "turn"), [(1.0, 0.0), (1.0, 30.0), (1.11, 0.0), (1.13, 0.0), (0.9, 2.0), (0.88, 180.0), (1.04, 1.0), (1.0, 2.9), (1.0, 2.8)]
)
@pytest.mark.parametrize(("tolerance", "naive"), [
    ("1 dB", lambda z, ref: abs(20 * math.log10(abs(z) / abs(ref))) <= 1), ("0.1 V", lambda z, ref: abs(z - ref) <= 0.1),
    ("5 %", lambda z, ref: abs(z - ref) <= 0.05 * abs(ref)), ("800 ppm", lambda z, ref: abs(z - ref) <= 800e-6 * abs(ref))])  # fmt: skip
def test_a_complex_value_is_judged_by_its_size_or_by_its_distance(rehearse, tmp_path, factor, turn, tolerance, naive) -> None:
    points = (1.0, 2.0, 3.0)
    values = tuple(cmath.rect(x * factor, math.radians(30 + turn)) for x in points)
    made = ReferenceValue("z", "a", Quantity(("x",), units.VOLT, None, True), (Axis("x", VOLTS, points),), values, {})
    lines = (
        f'    sweep x from 1 V to 3 V step 1 V\n        read v_ok\n        let z = polar(x, 30 deg)\n    check z within golden("ref") +/- {tolerance} as "z"\n'
    )
    run = rehearse(lines, files={"golden/none/ref.toml": file_of(made, folder=tmp_path)})
    is_inside = all(naive(cmath.rect(x, math.radians(30)), value) for x, value in zip(points, values, strict=True))
    assert run.verdicts["a"] == ("pass" if is_inside else "fail"), run.ended


def test_of_each_reading_it_is_told_how_it_was_set_up(rehearse) -> None:
    lines = ('    read first = v_ok\n    sweep x over 3 V, 1 V, 2 V\n        set supply.voltage = x, load.current = 10 mA\n        read v_ok\n        let y = v_ok / x\n'
             "    let most = max(y)\n    set supply.output = off\n    read last = v_ok\n")  # fmt: skip
    told = {tuple(e.names): e.conditions for e in rehearse(lines, before="params\n    unused = 3 V\n    speed = 2 V\n").of(Conditions, test="a")}
    assert told["first",]["supply.voltage"] == "9 V" and told["v_ok", "y", "most"]["supply.voltage"] == "1 V to 3 V"
    assert told["v_ok", "y", "most"]["load.input"] == "off" and "load.current" not in told["v_ok", "y", "most"]  # its input is off
    assert told["last",]["supply.output"] == "off" and "supply.voltage" not in told["last",]
    assert told["first",]["first.range"] == "10 V" and "channel" not in str(told) and "unused" not in str(told)


def test_a_reference_of_a_simulated_bench_makes_a_trial_on_a_real_one(rehearse, tmp_path) -> None:
    made = file_of(number(), origin=Origin(*ORIGIN_FIELDS[:5], True, {}), folder=tmp_path)
    run = rehearse(READ + '    check v_ok within golden("ref") +/- 1 %\n', files={"golden/none/ref.toml": made})
    assert "the reference ref was measured on a simulated bench" in [reason.text for reason in run.trial]


ORIGIN_FIELDS = (ORIGIN.run, ORIGIN.unit, ORIGIN.measured, ORIGIN.verdict, ORIGIN.trial)


@pytest.mark.parametrize(("line", "title"), [
    ('check v_ok within golden("amps") +/- 1 %', "wrong unit"), ('let d = v_ok - golden("gone")', "there is no reference 'gone' yet"),
    ('check v_ok within golden("two") +/- 1 %', "which of its values?"), ('check v_ok within golden("two.z") +/- 1 %', "which of its values?"),
    ('check v_ok within golden("other") +/- 1 %', "a reference of another, variant B"), ('check v_ok within golden("curve") +/- 1 %', "a limit over other axes"),
    ('check y within golden("hertz") +/- 1 %', "its axis x is a frequency (Hz)"), ('check v_ok within golden("ref", 3) +/- 1 %', "'golden' is called otherwise"),
    ('check v_ok >= 1 V not older than 1 h', "nothing that grows old"), ('check v_ok >= golden("ref") not older than 3 V', "wrong unit"),
    ('check v_ok same as golden("ref")', "nothing to list differences of"), ('check v_ok within golden("bad") +/- 1 %', "bad.toml"),
    ('check w >= 1 V', "a complex value"), ('check w within golden("complex") +/- 1 A', "wrong unit"), ('check w within golden("complex") +/- 1 %', None),
    ('check abs(golden("complex")) <= v_ok', None), ('check v_ok <= golden("complex")', "wrong unit")])  # fmt: skip
def test_references_that_do_not_fit_are_told_before_the_run(tmp_path, line, title) -> None:
    amps, z = Quantity((), units.AMPERE), Quantity((), units.VOLT, None, True)
    made = {
        "ref": [number()], "amps": [number(kind=amps)], "two": [number(), curve((1.0, 2.0, 3.0))], "curve": [curve((1.0, 2.0, 3.0))],
        "hertz": [curve((1.0, 2.0, 3.0), unit=HERTZ)], "complex": [ReferenceValue("z", "a", z, (), (1 + 2j,), {})],
    }  # fmt: skip
    folder = tmp_path / "golden" / "none"
    folder.mkdir(parents=True)
    for name, values in made.items():
        (folder / f"{name}.toml").write_text(file_of(*values, folder=tmp_path))
    (folder / "other.toml").write_text(file_of(number(), product="another", variant="B", folder=tmp_path))
    (folder / "bad.toml").write_text("[reference]\n")
    head = 'sequence "S"\n    product "none"\n    serial ".*"\nneeds\n    v_ok : signal in V\ntest t "T"\n'
    source = Source(
        str(tmp_path / "s.ibx"), f"{head}    read v_ok\n    sweep x from 1 V to 3 V step 1 V\n        let y = x\n    let w = polar(v_ok, 3 deg)\n    {line}\n"
    )
    vet(source, None, Files(tmp_path))
    titles = [finding.title for finding in source.findings if finding.level == "mistake"]
    assert (not titles) if title is None else any(title in found for found in titles), titles


def test_a_variant_has_its_own_reference(tmp_path) -> None:
    folder = tmp_path / "golden" / "none"
    folder.mkdir(parents=True)
    for name, variant in {"ref": "", "ref.B": "B"}.items():
        (folder / f"{name}.toml").write_text(file_of(number(), variant=variant, folder=tmp_path))
    found = [Files(tmp_path).golden("ref", "none", variant) for variant in ("", "A", "B")]
    assert [one and one.path.rsplit("/")[-1] for one in found] == ["ref.toml", "ref.toml", "ref.B.toml"]
    assert Files(tmp_path).golden("ref", "some other product", "") is None
    (folder / "ref.B.toml").unlink()
    (folder / "ref.B.toml").symlink_to("nowhere")
    with pytest.raises(MistakeError, match=r"ref.B.toml: there is no such reference"):  # and not the one of all variants
        Files(tmp_path).golden("ref", "none", "B")


# --- approvals -------------------------------------------------------------------------------------------------------


def test_only_the_file_that_was_approved_last_counts(tmp_path) -> None:
    path, digest = tmp_path / "m.csv", {}
    for text in ("one", "two"):
        path.write_text(text)
        digest[text] = approve(tmp_path, path, 'R. "Ray" Tamm', "2026-11-20T10:00:00+00:00", f"because of {text}").sha256
    assert [a.reason for a in read_approvals(tmp_path)] == ["because of one", "because of two"]
    assert objection(tmp_path, path, digest["two"]) == ""
    assert objection(tmp_path, path, digest["one"]) == 'edited since R. "Ray" Tamm approved it on 2026-11-20'
    assert objection(tmp_path, tmp_path / "other.csv", digest["two"]) == "nobody has approved it"
    for by, reason, what in (("", "x", "nobody is named"), ("R", " ", "there is no reason")):
        with pytest.raises(MistakeError, match=what):
            approve(tmp_path, path, by, "2026-11-20T10:00:00+00:00", reason)
    with pytest.raises(MistakeError, match="does not lie in the project"):
        approve(tmp_path / "inner", path, "R", "2026-11-20T10:00:00+00:00", "x")


# --- the commands ----------------------------------------------------------------------------------------------------

LEADS = """sequence "Leads"
    product "FM-2 leads"
    serial "FU[0-9]{4}"
needs
    tester : connection_tester
    vna    : network_analyser
    to_vna : route
params
    level = -10 dBm
test wires "Wires"
    set tester.voltage = 4.5 V, tester.current = 200 mA, tester.threshold = 8 ohm, tester.output = on
    read wires = tester.wires
    check wires same as golden("leads.wires") +/- 12 % +/- 80 mohm
test lead "Antenna lead"
    connect to_vna
    set vna.lowest = 780 MHz, vna.highest = 960 MHz, vna.points = 11, vna.level = level, vna.output = on
    read s21 = vna.s21
    let loss = -db_amplitude(abs(s21))
    check loss within golden("leads.loss") +/- 0.3 dB not older than 24 h
    check abs(s21 - golden("leads.s21")) <= 0.1
after unit
    set tester.output = off, vna.output = off
"""


@pytest.fixture
def leads(project, ibexite):
    """Runs the leads of a unit on the service bench."""
    (project / "leads.ibx").write_text(LEADS)
    return lambda serial, *more: ibexite("run", "leads.ibx", "--bench", "service.toml", "--serial", serial, "--simulate", "--yes", *more)


def test_of_approvals_and_references_that_are_made_at_once_none_is_lost(tmp_path) -> None:
    paths = [tmp_path / f"{i}.csv" for i in range(12)]
    for path in paths:
        path.write_text(path.name)
    with ThreadPoolExecutor(12) as pool:
        list(pool.map(lambda path: approve(tmp_path, path, "R. Tamm", "2026-11-20T10:00:00+00:00", "seen"), paths))
    assert sorted(one.file for one in read_approvals(tmp_path)) == sorted(path.name for path in paths)

    def make(number: int) -> int | None:
        with contextlib.suppress(FileExistsError), written_whole(tmp_path / "new", is_new=True) as side:
            side.write_text(str(number))
            time.sleep(0.01)
        return number if (tmp_path / "new").read_text() == str(number) else None

    with ThreadPoolExecutor(8) as pool:
        made = [number for number in pool.map(make, range(8)) if number is not None]
    assert made == [int((tmp_path / "new").read_text())] and not list(tmp_path.glob(".ibexite*"))


def test_a_good_unit_becomes_a_reference_that_others_are_judged_by(project, ibexite, leads) -> None:
    first = leads("FU0042")
    assert first.returncode == 3 and "there is no reference 'leads' yet" in first.stdout
    saved = ibexite("golden", "save", "last", "wires.wires", "loss", "s21", "--as", "leads")
    assert saved.returncode == 0 and 'golden("leads.loss")   a ratio in dB over freq, 11 points' in saved.stdout
    path = project / "golden" / "fm-2-leads" / "leads.toml"
    text = path.read_text()
    assert '"vna.level" = "-10 dBm"' in text and 'unit = "FU0042"' in text and "simulated = true" in text
    assert leads("FU0042").returncode == 5
    other = leads("FU0043")
    assert other.returncode == 1 and "swapped       J2.3 and J2.4" in other.stdout
    otherwise = leads("FU0042", "--with", "level=-20 dBm")
    assert otherwise.returncode == 3 and "vna.level is -20 dBm, was -10 dBm" in otherwise.stdout
    assert "nobody has approved it" in ibexite("golden", "list").stdout
    assert ibexite("golden", "approve", "leads", "--by", "R. Tamm", "--reason", "pilot lot").returncode == 0
    assert "approved" in ibexite("golden", "list").stdout and "approve" not in leads("FU0042").stdout
    path.write_text(text.replace("0.14", "0.15", 1))
    assert f"{path.relative_to(project)}: edited since R. Tamm approved it" in leads("FU0042").stdout
    shown = ibexite("golden", "show", "leads").stdout
    assert "vna.level = -10 dBm" in shown and "abs(s21) against freq" in shown and "J1.1 J2.1" in shown
    again = ibexite("golden", "save", "FU0043", "loss", "--as", "worse")
    assert again.returncode == 2 and "not known to be good: wires failed" in again.stderr
    assert ibexite("golden", "save", "FU0043", "loss", "--as", "worse", "--although", "its lead is good").returncode == 0
    compared = ibexite("golden", "compare", "leads", "worse").stdout
    assert re.search(r"^loss   apart by at most \S+ m?dB at freq = \d+ MHz", compared, re.MULTILINE) and "wires   only in leads" in compared
    (project / "golden").rename(project / "silver")
    (project / "golden").touch()
    assert "cannot be written (Not a directory" in ibexite("golden", "save", "FU0042", "loss", "--as", "more").stderr
    with contextlib.closing(sqlite3.connect(project / "records" / "ibexite.sqlite")) as db, db:
        db.execute("UPDATE runs SET verdict = 'error', reason = 'after unit, line 9', reason_code = 'after_unit'")
    assert "its run ended in an error (after unit, line 9)" in ibexite("golden", "save", "FU0042", "loss", "--as", "broken").stderr


def test_a_sequence_may_teach_the_first_good_unit_and_is_a_trial_then(project, ibexite, leads) -> None:
    taught = LEADS.replace("    check loss", '    golden save loss, s21, wires.wires as "leads"\n    check loss')
    (project / "leads.ibx").write_text(taught)
    run = lambda serial: ibexite("run", "leads.ibx", "--bench", "service.toml", "--serial", serial, "--simulate", "--yes")  # noqa: E731
    first = run("FU0042")
    assert "taught: golden/fm-2-leads/leads.toml, not approved yet" in first.stdout and "the unit is taught as the reference leads" in first.stdout
    assert run("FU0042").returncode == 5
    failed = run("FU0043")
    assert failed.returncode == 1 and "not taught as leads: " in failed.stdout + failed.stderr and "wires failed" in failed.stdout + failed.stderr
    assert 'unit = "FU0042"' in (project / "golden" / "fm-2-leads" / "leads.toml").read_text()


@pytest.mark.parametrize(("line", "title"), [
    ('golden save v as "Bad Name"', "this cannot be the name of a reference"), ('golden save w as "x"', "unknown name 'w'"), ('golden save t.q as "x"', "no test 't'"),
    ('golden keep v as "x"', "")])  # fmt: skip
def test_what_cannot_be_taught_is_told_before_the_run(line, title) -> None:
    head = 'sequence "S"\n    product "P"\n    serial ".*"\nneeds\n    v : signal in V\ntest a "T"\n    read v\n'
    source = Source("t.ibx", f'{head}    {line}\n    sweep k over 1 V, 2 V\n        golden save v as "x"\n')
    vet(source)
    titles = [finding.title for finding in source.findings if finding.level == "mistake"]
    assert any(title in found for found in titles) and "not within a test and behind its loops" in titles


@pytest.mark.parametrize(("arguments", "told"), [
    (["last", "los", "--as", "x"], "there is no value 'los'"), (["last", "loss", "--as", "X y"], "cannot be the name of a reference"),
    (["nothing", "loss", "--as", "x"], "there is no run 'nothing'"), (["last", "lead.loss", "loss", "--as", "x"], "two of the values have one name")])  # fmt: skip
def test_what_cannot_be_saved_is_told(ibexite, leads, arguments, told) -> None:
    leads("FU0042")
    done = ibexite("golden", "save", *arguments)
    assert done.returncode == 2 and told in done.stderr, done.stderr
    if "loss" in arguments[1:2]:
        assert ibexite("golden", "save", "last", "loss", "--as", "y").returncode == 0
        assert "there is a reference 'y'" in ibexite("golden", "save", "last", "loss", "--as", "y").stderr


def test_bad_values_are_no_reference(project, ibexite) -> None:
    (project / "b.ibx").write_text('sequence "B"\n    product "P"\n    serial ".*"\nneeds\n    v_out : signal in V\ntest t "T"\n    read v_out\n'
                                   "    check v_out >= 0 V allowing 1 bad\n")  # fmt: skip
    (project / "r.toml").write_text('[readings]\nv_out = "overload"\n')
    ibexite("run", "b.ibx", "--serial", "1", "--simulate", "--yes", "--readings", "r.toml")
    done = ibexite("golden", "save", "last", "v_out", "--as", "x", "--although", "try")
    assert done.returncode == 2 and "v_out has bad values: overload" in done.stderr


def test_judged_by_a_reference_tells_where_it_comes_from(rehearse, tmp_path) -> None:
    run = rehearse(READ + '    check v_ok within golden("ref") +/- 1 %\n', files={"golden/none/ref.toml": file_of(number(), folder=tmp_path)})
    (event,) = run.of(Judged)
    assert event.origin.endswith("golden/none/ref.toml: unit R, run 20261123-080000-aaaaaa") and math.isclose(event.low, 4.95)
