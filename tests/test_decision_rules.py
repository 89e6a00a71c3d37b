"""Decision rules: the probabilities against SciPy, and what each rule makes of a value near its limit."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import beta, multivariate_normal, norm

from ibexite.analysis.curve import ArrayCurve
from ibexite.analysis.risk import global_risks, specific_risk
from ibexite.decision_rules import RULES, guard_factor
from ibexite.engine.judge import Tally
from ibexite.events import Judged
from ibexite.language.check import vet
from ibexite.language.source import Source

_ = beta  # limits of proportions are tested with those of many units
SIZES = st.floats(0.01, 10)


@given(st.floats(-10, 10), st.floats(-10, 0), st.floats(0, 10), SIZES)
def test_the_risk_of_a_single_value(value, low, high, u) -> None:
    wanted = norm.cdf(low, value, u) + norm.sf(high, value, u)
    assert specific_risk(value, low, high, u) == pytest.approx(wanted, rel=1e-9, abs=1e-15)


@given(st.floats(1e-9, 0.49))
def test_limits_are_moved_as_far_as_a_risk_takes(risk) -> None:
    assert guard_factor(risk) == pytest.approx(norm.isf(risk), rel=1e-9)


@pytest.mark.parametrize("accept", [(-1.0, 1.0), (-0.8, 0.8), (-math.inf, 0.9), (-1.2, 1.3)])
@pytest.mark.parametrize(("mean", "deviation", "u"), [(0.0, 0.5, 0.1), (0.9, 0.3, 0.2), (0.2, 1.0, 0.01), (0.0, 0.1, 0.5), (1.5, 0.4, 0.4)])
def test_the_risks_of_a_production(mean, deviation, u, accept) -> None:
    """True and measured value are bivariate normal: the probability of a rectangle is found by four corners."""
    total = math.hypot(deviation, u)
    both = multivariate_normal([mean, mean], [[deviation**2, deviation**2], [deviation**2, total**2]], allow_singular=True, seed=1)

    def corner(x: float, y: float) -> float:
        if -math.inf in (x, y):
            return 0.0
        if x == math.inf or y == math.inf:
            return norm.cdf(y, mean, total) if x == math.inf else norm.cdf(x, mean, deviation)
        return both.cdf([x, y])

    def rectangle(a: float, b: float, c: float, d: float) -> float:
        return corner(b, d) - corner(a, d) - corner(b, c) + corner(a, c)

    found = global_risks(mean, deviation, u, -1.0, 1.0, accept_low=accept[0], accept_high=accept[1])
    within = norm.cdf(1.0, mean, deviation) - norm.cdf(-1.0, mean, deviation)
    accepted_outside = rectangle(-math.inf, -1.0, *accept) + rectangle(1.0, math.inf, *accept)
    assert found.within == pytest.approx(within, abs=1e-12)
    assert found.false_accept == pytest.approx(accepted_outside, abs=1e-5)
    assert found.false_reject == pytest.approx(within - rectangle(-1.0, 1.0, *accept), abs=1e-5)


@pytest.mark.parametrize(("rule", "verdict", "risk"), [
    ("", "pass", None), ("guarded by 40 mV", "pass", 0.0062), ("guarded by 60 mV", "fail", 0.952), ("guarded by 60 mV or undecided", "error", 0.0478),
    ("guarded by 40 mV or undecided", "pass", 0.0062), ("uncertain by 60 mV", "pass", 0.0478), ("uncertain by 400 mV", "pass", 0.401),
    ("guarded by 60 mV risk 5 %", "pass", 0.0478), ("guarded by 60 mV risk 4 %", "fail", 0.952)])  # fmt: skip
def test_what_a_rule_makes_of_a_value_near_its_limit(rehearse, rule, verdict, risk) -> None:
    run = rehearse(f"    read v_ok\n    check v_ok <= 5.05 V {rule}\n")  # it reads 5 V, 50 mV below
    (event,) = run.of(Judged)
    assert (event.verdict, event.risk) == (verdict, risk and pytest.approx(risk, rel=2e-2))
    assert bool(event.rule) == bool(rule) and (event.reason == "undecided: it lies nearer to a limit than the uncertainty") == (verdict == "error")


def test_beyond_the_uncertainty_a_value_fails_by_any_rule(rehearse) -> None:
    for rule in ("guarded by 20 mV", "guarded by 20 mV or undecided", "uncertain by 20 mV", "guarded by 20 mV risk 1 %"):
        run = rehearse(f"    read v_ok\n    check v_ok <= 4.97 V {rule}\n")
        assert (run.verdicts["a"], run.of(Judged)[0].risk < 0.01) == ("fail", True)


@given(st.lists(st.tuples(st.floats(-3, 3), st.floats(0, 0.9)), min_size=1, max_size=12), st.booleans())
def test_curves_are_judged_by_the_third_verdict_as_their_points_are(points, has_third) -> None:
    values, guards = (np.array(each) for each in zip(*points, strict=True))
    one, many = Tally(has_third_verdict=has_third), Tally(has_third_verdict=has_third)
    for place, (value, guard) in enumerate(points):
        one.guard = guard
        one.judge(value, -1.0, 1.0, (float(place),))
    axes = {"x": np.arange(len(points), dtype=float)}
    many.guard = ArrayCurve(axes, guards)
    many.judge_curve(ArrayCurve(axes, values), -1.0, 1.0, True)
    assert (one.judged, one.failed, one.undecided, one.failing) == (many.judged, many.failed, many.undecided, many.failing)
    assert one.verdict([])[0] == many.verdict([])[0]
    beyond = [abs(value) > 1 - guard for value, guard in points]
    if not has_third:
        assert (one.undecided, one.failed) == (0, sum(beyond))


def test_the_rule_and_the_risk_are_told_where_people_look(project, ibexite) -> None:
    (project / "r.ibx").write_text('sequence "R"\n    product "P"\n    serial ".*"\nneeds\n    v_out : signal in V\ntest t "T"\n    read v_out\n'
                                   '    check v_out within 5 V +/- 1 V guarded by 20 mV or undecided as "zone"\n'
                                   '    check v_out <= 4.99 V uncertain by 30 mV as "shared"\n')  # fmt: skip
    (project / "v.toml").write_text('[readings]\nv_out = "5.99 V"\n')
    ran = ibexite("run", "r.ibx", "--serial", "1", "--simulate", "--yes", "--readings", "v.toml")
    shown = ibexite("show", "last").stdout
    assert "zone error: undecided: it lies nearer to a limit than the uncertainty" in ran.stdout
    assert "guarded by 0.02 V: conformity and nonconformity are both to be proven" in shown and "simple acceptance" in shown
    assert "probability that it lies beyond its limit: 16 %" in shown and "probability that the verdict is wrong: below 0.01 %" in shown
    ibexite("report", "last", "--out", "r.html")
    assert "ISO 14253-1" in (project / "r.html").read_text()


@pytest.mark.parametrize(("rule", "title"), [
    ("guarded by 20 mV risk 3 V", "not a risk"), ("guarded by 20 mV risk 60 %", "not a risk"), ("guarded by 2 V", "the guard is wider than the tolerance"),
    ("guarded by 2 V risk 20 %", None), ("guarded by 3 V risk 20 %", "the guard is wider than the tolerance"), ("uncertain by 2 V", None), ("uncertain by 2 A", "wrong unit"),
    ("guarded by 20 mV guarded by 3 mV", "two 'guarded by' clauses"), ("guarded by 20 mV uncertain by 3 mV", "two 'guarded by' clauses"),
    ("guarded by 2 V or undecided", "the guard is wider than the tolerance"), ("uncertain by -2 mV", "a negative guard")])  # fmt: skip
def test_rules_are_vetted(rule, title) -> None:
    head = 'sequence "S"\n    product "P"\n    serial ".*"\nneeds\n    v : signal in V\ntest t "T"\n    read v\n'
    source = Source("t.ibx", f"{head}    check v within 5 V +/- 1 V {rule}\n")
    vet(source)
    titles = [finding.title for finding in source.findings]
    assert titles == ([title] if title else [])


def test_each_rule_has_a_name_of_its_own_and_its_source() -> None:
    assert len({rule.told for rule in RULES.values()}) == len(RULES) == 4 and all("JCGM" in r.told or "ISO" in r.told for r in RULES.values())
