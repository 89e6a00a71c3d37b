"""Limits from many units: statistics against independent ones, who is left out and named, proposals and their approval."""

import contextlib
import csv
import functools
import math
import re
import sqlite3
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import beta, median_abs_deviation, norm

from ibexite.analysis import many_units
from ibexite.analysis.proportions import confidence_interval, incomplete_beta
from ibexite.companions.limits import read_limits
from ibexite.companions.masks import read_mask
from ibexite.demo.project import make_project
from tests.conftest import in_project

NAN = math.nan
ROWS = st.integers(1, 4).flatmap(lambda n: st.lists(st.lists(st.floats(-1e6, 1e6) | st.just(NAN), min_size=n, max_size=n), min_size=2, max_size=8))


@given(ROWS)
def test_spread_is_that_of_the_values_that_are_there(rows) -> None:
    found = many_units.spread_of(np.array(rows))
    for column, n, mean, deviation in zip(zip(*rows, strict=True), *found, strict=True):
        good = [x for x in column if x == x]
        assert n == len(good)
        assert (mean != mean) == (not good) and (deviation != deviation) == (len(good) < 2)
        if len(good) > 1:
            assert mean == pytest.approx(math.fsum(good) / n, rel=1e-9, abs=1e-9)
            assert deviation == pytest.approx(np.std(good, ddof=1), rel=1e-6, abs=1e-6)


def test_the_spread_of_values_with_a_large_mean_keeps_its_digits() -> None:
    values = 32768 + 1e-3 * np.array([[-1.0], [0.0], [1.0]])
    assert many_units.spread_of(values).deviation[0] == pytest.approx(1e-3, rel=1e-6)


@given(st.lists(st.floats(-100, 100), min_size=3, max_size=30))
def test_robust_spread_is_that_of_scipy(values) -> None:
    median, sigma = many_units.robust_spread(np.array(values)[:, None])
    assert median[0] == np.median(values)
    assert sigma[0] == pytest.approx(1.4826 * median_abs_deviation(values), abs=1e-9)


@pytest.mark.parametrize(("values", "outliers"), [
    ([1, 2, 3, 4, 5], []), ([1, 2, 3, 4, 50], [4]), ([5, 5, 5, 5, 6], [4]), ([1, 100], []), ([10.0, 10.1, 9.9, 10.05, 9.95, 12.0, 8.0], [5, 6]), ([3, 3, 3], []), ([1, 2, 50], []), ([1, 2, 3, 50], [])])  # fmt: skip
def test_units_like_no_other_are_found(values, outliers) -> None:
    assert many_units.outlying(np.array(values, dtype=float)[:, None]).tolist() == outliers


def test_a_curve_is_like_no_other_over_all_of_its_points() -> None:
    rng = np.random.default_rng(7)
    curves = np.sin(np.linspace(0, 6, 200)) + rng.normal(0, 0.01, (40, 200))
    curves[3] += 0.03  # nowhere far out, everywhere a little
    curves[9, 50] += 0.035  # once, as others by chance
    assert many_units.outlying(curves).tolist() == [3]


def test_curves_are_brought_to_one_level() -> None:
    shape = np.array([0.0, 1.0, 0.5])
    moved, moves = many_units.aligned_levels(shape + np.array([[0.0], [2.0], [-2.0]]))
    assert np.allclose(moved, shape) and np.allclose(moves, [0, -2, 2])


@given(st.floats(0.001, 0.999), st.floats(0.5, 200), st.floats(0.5, 200))
def test_the_incomplete_beta_function(x, a, b) -> None:
    assert incomplete_beta(x, a, b) == pytest.approx(beta.cdf(x, a, b), rel=1e-9, abs=1e-13)


@given(st.integers(1, 400).flatmap(lambda n: st.tuples(st.integers(0, n), st.just(n))), st.sampled_from([0.9, 0.95, 0.99]))
def test_confidence_intervals_are_those_of_clopper_and_pearson(counts, confidence) -> None:
    k, n = counts
    low, high = confidence_interval(k, n, confidence)
    tail = (1 - confidence) / 2
    assert low == pytest.approx(0.0 if k == 0 else beta.ppf(tail, k, n - k + 1), abs=1e-9)
    assert high == pytest.approx(1.0 if k == n else beta.ppf(1 - tail, k + 1, n - k), abs=1e-9)


# --- proposals -------------------------------------------------------------------------------------------------------

LOT = """sequence "Lot"
    product "P"
    serial ".*"
    limits "lot.csv"
params
    level = 5 V
    tilt = 1 V
    scale = 1 V
test dc "DC"
    let v_out = level
    check v_out
    let lower = tilt
    check lower
    check level - 1 V >= 0 V
test shape "Shape"
    sweep freq from 100 Hz to 10 kHz at 2 per decade
        let y = level + tilt * freq / 10 kHz
    check y >= -100 V
    sweep x over scale, scale * 2, scale * 3
        let z = level * 1
    check z >= 0 V
"""
HEAD = "test,name,variant,low,high,unit,source,approved\n"


def runs_of(project, rows: str, name: str = "L7"):
    """Runs units of a lot, of which the rows say level, tilt and scale."""
    (project / "units.csv").write_text("serial,level,tilt,scale\n" + rows)
    return in_project(project, "run", "lot.ibx", "--table", "units.csv", "--lot", name, "--simulate", "--yes")


def with_lot(project):
    (project / "lot.ibx").write_text(LOT)
    (project / "lot.csv").write_text(HEAD + "dc,v_out,,,,V,,\ndc,lower,,0,,V,drawing,R. Tamm\n")
    return project


@pytest.fixture
def lot(project):
    """Runs units of a lot."""
    return functools.partial(runs_of, with_lot(project))


@pytest.fixture(scope="module")
def three(tmp_path_factory) -> Path:
    """A project with three units that were run; nothing changes it."""
    project = tmp_path_factory.mktemp("three") / "project"
    make_project(project)
    runs_of(with_lot(project), "U1,5 V,1 V,1 V\nU2,5.1 V,1 V,1 V\nU3,5.2 V,1 V,1 V\n")
    return project


ROWS_OF_LOT = "".join(f"U{n},{5 + 0.01 * (n % 5 - 2)} V,{1 + 0.002 * n} V,1 V\n" for n in range(8)) + "ODD,6.5 V,1.01 V,1 V\nAPART,5 V,1 V,2 V\n"


def test_a_lot_gives_limits_that_are_trials_until_somebody_approves_them(project, ibexite, lot) -> None:
    assert "no limit has been set yet" in lot(ROWS_OF_LOT).stdout
    proposed = ibexite("limits", "from", "--lot", "L7", "--sigma", "4", "--out", "lot.csv", "--replace", "--without-outliers")
    assert proposed.returncode == 0, proposed.stderr
    assert "like no other: ODD (dc.v_out)" in proposed.stdout and "expected yield: 90 % (9 of 10 units" in proposed.stdout
    assert "dc: level - 1 V >= 0 V: a formula" in proposed.stdout and (project / "lot.png").read_bytes().startswith(b"\x89PNG")
    rows = {row["name"]: row for row in csv.DictReader((project / "lot.csv").read_text().splitlines())}
    kept = [5 + 0.01 * (n % 5 - 2) for n in range(8)] + [5.0]
    mean, sigma = np.mean(kept), np.std(kept, ddof=1)
    assert 0 <= float(rows["v_out"]["high"]) - (mean + 4 * sigma) < 2e-3 and 0 <= (mean - 4 * sigma) - float(rows["v_out"]["low"]) < 2e-3
    assert rows["lower"]["high"] == "" and "of lot L7, mean +/- 4 sigma" in rows["lower"]["source"]  # one-sided as it was
    read_limits(project / "lot.csv").check()
    told = ibexite("limits", "from", "--lot", "L7", "--sigma", "2", "--out", "two.csv", "--without-outliers", "--uncertainty", "8 mV").stdout
    row = next(row for row in csv.DictReader((project / "two.csv").read_text().splitlines()) if row["name"] == "v_out")
    low, high, own = float(row["low"]), float(row["high"]), math.sqrt(sigma**2 - 0.004**2)  # what the units spread themselves
    x = np.linspace(mean - 9 * own, mean + 9 * own, 200_001)
    accepted = norm.pdf(x, mean, own) * (norm.cdf((high - x) / 0.004) - norm.cdf((low - x) / 0.004)) * (x[1] - x[0])
    wrong = accepted[(x < low) | (x > high)].sum(), norm.cdf(high, mean, own) - norm.cdf(low, mean, own) - accepted[(x >= low) & (x <= high)].sum()
    assert "accepted although beyond its limits: {:.2g} % of all units, rejected although within: {:.2g} %".format(*(100 * part for part in wrong)) in told
    assert "limits that nobody has approved: dc.v_out, dc.lower" in lot("N1,5 V,1 V,1 V\n", "L8").stdout
    done = ibexite("limits", "approve", "lot.csv", "--by", "R. Tamm", "--reason", "lot L7")
    assert done.returncode == 0 and "lot.csv approved by R. Tamm: lot L7" in done.stdout
    used = lot("N2,5 V,1 V,1 V\n", "L8").stdout
    assert "approved" not in used and "PASS" in used
    (project / "lot.csv").write_text((project / "lot.csv").read_text().replace("dc,v_out,,4.", "dc,v_out,,3."))
    assert "lot.csv: edited since R. Tamm approved it" in lot("N3,5 V,1 V,1 V\n", "L8").stdout
    assert "edited since R. Tamm approved it" in ibexite("limits", "list").stdout


def test_a_curve_gives_a_mask(project, ibexite, lot) -> None:
    lot(ROWS_OF_LOT)
    done = ibexite("limits", "from", "--lot", "L7", "--curve", "shape.y", "--sigma", "3", "--as", "shape", "--without", "ODD")
    assert done.returncode == 0, done.stderr
    assert "from 9 units" in done.stdout and "left out: ODD (left out on demand)" in done.stdout and 'check y inside mask("shape")' in done.stdout
    mask = read_mask(project / "masks" / "shape.csv", "shape")
    assert mask.axis == "freq" and mask.is_log_axis and len(mask.pieces[0].low) == 5
    assert mask.pieces[0].low[0][1] < 5.01 < mask.pieces[0].high[0][1]
    text = (project / "lot.ibx").read_text().replace("    check y >= -100 V\n", '    check y inside mask("shape")\n')
    lot_of = lambda rows: (project / "lot.ibx").write_text(text) and lot(rows, "L9")  # noqa: E731
    assert "masks/shape.csv: nobody has approved it" in lot_of("N1,5 V,1.02 V,1 V\n").stdout
    assert "y fail" in lot_of("N2,5.4 V,1.02 V,1 V\n").stdout
    shaped = ibexite("limits", "from", "--lot", "L7", "--curve", "shape.y", "--tolerance", "0.3 V", "--aligned", "--as", "flat", "--smooth", "3/octave")
    assert re.search(r'check y inside mask\("flat"\) aligned by 1\.[45]\d* V', shaped.stdout), shaped.stdout
    other = ibexite("limits", "from", "--lot", "L7", "--curve", "shape.z", "--sigma", "3")
    assert "left out: APART (other points of x)" in other.stdout or "left out: APART (measured otherwise" in other.stdout


def test_the_points_of_most_units_count_and_not_those_of_the_first(ibexite, lot) -> None:
    lot("FIRST,5 V,1 V,3 V\n" + "".join(f"U{n},{5 + 0.1 * n} V,1 V,1 V\n" for n in range(4)))
    done = ibexite("limits", "from", "--lot", "L7", "--curve", "shape.z")
    assert "from 4 units" in done.stdout and "left out: FIRST (other points of x)" in done.stdout, done


READS = """sequence "Reads"
    product "FM-2 control board"
    serial "FC00[0-9]+"
    limits "lot.csv"
needs
    supply : power_supply
    i_in   : signal in A
params
    level = 9 V
before unit
    set supply.current_limit = 1 A, supply.voltage = level, supply.output = on
    wait 100 ms
test idle "Idle"
    read current = i_in
    check current
    let power = current * level
    check power <= 3 W
after unit
    set supply.output = off
"""


def runs_of_units(project, ibexite, levels: str):
    (project / "reads.ibx").write_text(READS)
    (project / "lot.csv").write_text(HEAD + "idle,current,,,,A,,\n")
    rows = "".join(f"FC004{n:02},{level} V\n" for n, level in enumerate(levels.split()))
    (project / "units.csv").write_text("serial,level\n" + rows)
    done = ibexite("run", "reads.ibx", "--table", "units.csv", "--lot", "L7", "--simulate", "--yes")
    assert done.returncode == 3 and not done.stderr, done.stderr  # the limits are to come from them


def test_units_that_were_measured_under_other_conditions_or_simulated_make_no_limits(project, ibexite) -> None:
    runs_of_units(project, ibexite, "12 9 9 9 9")
    done = ibexite("limits", "from", "--lot", "L7", "--out", "new.csv").stdout
    assert "left out: FC00400 (measured otherwise: idle.current supply.voltage is 12 V, was 9 V" in done and "n = 4" in done and "4 units" in done
    with contextlib.closing(sqlite3.connect(project / "records" / "ibexite.sqlite")) as db, db:
        db.execute("UPDATE runs SET trial = '[]' WHERE unit_id NOT IN (SELECT id FROM units WHERE serial = 'FC00402')")
    done = ibexite("limits", "from", "--lot", "L7", "--out", "new.csv", "--replace").stdout
    assert re.search(r"left out: FC00402 \(run \S+ was simulated, others were not\)", done) and "n = 3" in done


def test_conditions_that_are_each_unit_s_own_leave_none_out_and_are_told(project, ibexite) -> None:
    runs_of_units(project, ibexite, "9 9.1 9.2 9.2")
    done = ibexite("limits", "from", "--lot", "L7", "--out", "new.csv").stdout
    assert "of idle.current no 3 units were measured alike (supply.voltage is 9 V, was 9.2 V; level is 9 V, was 9.2 V); all are taken" in done
    assert "n = 4" in done and "left out" not in done


@pytest.mark.parametrize(("arguments", "told"), [
    (["--lot", "none"], "there are no such runs"), ([], "which runs?"), (["--lot", "L7", "--sigma", "3", "--percentile", "1"], "--sigma and --percentile"),
    (["--lot", "L7", "--percentile", "60"], "--percentile 60 makes no limits"), (["--lot", "L7", "--tolerance", "3 A"], "a tolerance in a current (A)"),
    (["--lot", "L7", "--curve", "shape.q"], "no unit has a curve shape.q"), (["--lot", "L7", "--curve", "shape"], "is not TEST.NAME"), (["--where", "colour=red"], "runs cannot be chosen by 'colour'"),
    (["--where", "lot"], "is not KEY=VALUE"), (["--lot", "L7", "--smooth", "3"], "--aligned, --smooth and --as are for a curve"), (["--lot", "L7", "--out", "lot.csv"], "there is such a file"),
    (["--lot", "L7", "--curve", "shape.y", "--smooth", "three"], "--smooth 'three'"), (["--lot", "L7", "--tolerance", "-1 V"], "makes no limits"), (["U1", "U2"], "too few to propose limits from"),
    (["--lot", "L7", "--uncertainty", "3 A"], "no value here has an uncertainty of 3 A"), (["--lot", "L7", "--uncertainty", "0 V"], "an uncertainty is above zero"),
    (["--lot", "L7", "--curve", "shape.y", "--uncertainty", "3 mV"], "--uncertainty is for single numbers"), (["--lot", "L7", "--out", "x.xlsx"], "'x.xlsx' is no name of a limit table"), (["--lot", "L7", "--out", "lot.ibx/x.csv"], "cannot be written (File exists: lot.ibx)"),
    (["--lot", "L7", "--curve", "shape.y", "--as", "../x"], "'../x' cannot be the name of a mask"), (["nobody"], "there is no run 'nobody'")])  # fmt: skip
def test_what_no_limits_can_be_made_from_is_told(three, arguments, told) -> None:
    done = in_project(three, "limits", "from", *arguments)
    assert done.returncode == 2 and told in done.stderr, done.stderr


def test_broken_runs_older_ones_and_units_without_values_are_named(project, ibexite, lot) -> None:
    lot(ROWS_OF_LOT)
    lot("U1,5 V,1 V,1 V\n")
    text = (project / "lot.ibx").read_text()
    (project / "lot.ibx").write_text(text.replace("    let v_out = level\n", '    if level > 4.9 V\n        skip "bad day"\n    let v_out = level\n'))
    lot("NEW,5 V,1 V,1 V\n")
    done = ibexite("limits", "from", "--lot", "L7", "--capability", "1.33").stdout
    assert re.search(r"left out: U1 \(run \S+: a later one counts\)", done) and "not whole: NEW (2 of its values are missing)" in done
    assert "expected yield: 90.9 % (10 of 11 units" in done and "for a Cpk of 1.33" in (project / "proposed_limits.csv").read_text()


def test_no_limit_comes_from_a_handful_of_values_or_from_several_sequences(project, ibexite, lot) -> None:
    (project / "lot.ibx").write_text(
        LOT.replace(
            "    let lower = tilt\n",
            "    let lower = tilt\n    if level > 5.05 V\n        check level <= 9 V\n        let rare = level\n        check rare <= 9 V\n",
        )
    )
    lot("".join(f"U{n},{level} V,{1 + 0.01 * n} V,1 V\n" for n, level in enumerate((5, 5.01, 5.02, 5.1, 5.2))))
    done = ibexite("limits", "from", "--lot", "L7").stdout
    proposed = (project / "proposed_limits.csv").read_text()
    assert "no limits proposed: dc.rare (2)" in done and "dc,v_out" in proposed and "rare" not in proposed and "nan" not in proposed
    (project / "lot.ibx").write_text(LOT.replace('"Lot"', '"Other"'))
    lot("U9,5 V,1 V,1 V\n")
    refused = ibexite("limits", "from", "--lot", "L7", "--out", "x.csv")
    assert refused.returncode == 2 and "these are runs of 2 sequences: Lot; Other" in refused.stderr and not (project / "x.csv").exists()


@pytest.mark.parametrize(
    ("file", "told"), [("none.csv", "there is no such file"), ("README.md", "more cells than columns"), ("masks/bad.csv", "there is no column of a line")]
)
def test_only_limits_can_be_approved(project, ibexite, file, told) -> None:
    (project / "masks").mkdir(exist_ok=True)
    (project / "masks" / "bad.csv").write_text("a,b\n1,2\n")
    done = ibexite("limits", "approve", file, "--by", "R", "--reason", "x")
    assert done.returncode == 2 and told in done.stderr
