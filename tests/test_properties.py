"""Properties that must hold for all inputs: formulas, tables, sweeps, and that the journal tells everything that was said."""

import math
from decimal import Decimal
from types import SimpleNamespace

import numpy as np
import pytest
from hypothesis import assume, example, given
from hypothesis import strategies as st

from ibexite import events, units
from ibexite.analysis.curve import ArrayCurve
from ibexite.engine.formula import HELPERS, Formulas, readings_behind
from ibexite.engine.tables import Axis, LoopTable
from ibexite.language import constants, nodes
from ibexite.language.source import Span
from ibexite.records.ingest import rows_of
from ibexite.simulate.device import ScpiDevice
from ibexite.values import YES_NO, Quantity
from tests.conftest import HEADER

HERE = Span(0, 1)
NUMBERS = st.decimals(-50, 50, places=2)
VALUES = st.floats(-9, 9).filter(lambda x: x == 0 or abs(x) > 1e-6)  # what instruments answer
ENDS = st.one_of(VALUES, st.sampled_from([1e200, -1e200, 1e308, -1e308, 1e-200]))  # and what is near the ends of float64


A, B = nodes.Name(HERE, "a"), nodes.Name(HERE, "b")


def literal(value: Decimal) -> nodes.Literal:
    return nodes.Literal(HERE, units.Amount(value, units.NO_UNIT))


def formulas(leaves):
    """Trees of arithmetic over some leaves."""
    return st.recursive(leaves, lambda inner: st.one_of(
        st.builds(lambda op, a, b: nodes.Arithmetic(HERE, op, a, b), st.sampled_from("+-*/"), inner, inner),
        st.builds(lambda a: nodes.Minus(HERE, a), inner)), max_leaves=8)  # fmt: skip


def value_by_hand(expr: nodes.Expr, names: dict[str, float]) -> float:
    match expr:
        case nodes.Literal(quantity=quantity):
            return float(quantity.value)
        case nodes.Name(name=name):
            return names[name]
        case nodes.Minus(operand=operand):
            return -value_by_hand(operand, names)
        case nodes.Arithmetic(op=op, left=left, right=right):
            a, b = value_by_hand(left, names), value_by_hand(right, names)
            return {"+": a + b, "-": a - b, "*": a * b, "/": a / b if b else math.nan}[op]
    raise AssertionError


@given(formulas(NUMBERS.map(literal)))
def test_what_is_known_before_the_run_is_computed_then(expr) -> None:
    known = constants.evaluate(expr, {})
    by_hand = value_by_hand(expr, {})
    if known is not None:
        assert float(known) == pytest.approx(by_hand, rel=1e-9, abs=1e-9)
        assert eval(Formulas({}, {}).source(expr), dict(HELPERS)) == float(known)
    else:
        assert math.isnan(by_hand)  # a division by zero


@given(formulas(st.one_of(NUMBERS.map(literal), st.sampled_from("ab").map(lambda n: nodes.Name(HERE, n)))),
       st.lists(ENDS, min_size=3, max_size=3), ENDS)  # fmt: skip
@example(nodes.Arithmetic(HERE, "/", A, nodes.Arithmetic(HERE, "*", B, B)), [0.0, 1.0, 2.0], 1e200)
def test_a_formula_means_the_same_on_values_and_on_curves(expr, a_values, b) -> None:
    names = constants.names_in(expr)
    assume("a" in names)
    source = Formulas({}, {}).source(expr)
    axis = np.arange(3.0)
    whole = eval(source, {**HELPERS, "v_a": ArrayCurve({"x": axis}, np.array(a_values)), "v_b": b})
    for i, a in enumerate(a_values):
        single = eval(source, {**HELPERS, "v_a": a, "v_b": b})
        assert not math.isinf(single) and whole.values[i] == pytest.approx(single, nan_ok=True)


def test_the_readings_behind_a_value_are_found_through_other_values() -> None:
    behind = {"power": frozenset({"v", "i"}), "v": frozenset({"v"})}
    expr = nodes.Arithmetic(HERE, "/", nodes.Name(HERE, "power"), nodes.Name(HERE, "v_in"))
    assert readings_behind(expr, behind) == {"v", "i", "v_in"}


class Sink:
    """What a table needs of a runtime; keeps the rows."""

    def __init__(self) -> None:
        self.rows: list[events.Row] = []
        self.emit = self.rows.append
        self.clock = SimpleNamespace(now=lambda: 0.0)
        self.began = 0.0
        self.bench = SimpleNamespace(bad=[], take_said=lambda: None)


@given(st.lists(st.lists(st.integers(0, 6), min_size=1, max_size=5), min_size=1, max_size=5), st.booleans())
def test_a_table_gives_back_each_value_at_its_place(inner: list[list[int]], is_ragged: bool) -> None:
    inner = inner if is_ragged else [inner[0]] * len(inner)
    sink, outer_axis, inner_axis = Sink(), Axis("a"), Axis("b")
    table = LoopTable(1, (outer_axis, inner_axis), ("y", "z"), sink, False)
    outer = [10.0 * i for i in range(len(inner))]
    for p, a in outer_axis.run(outer):
        points = [float(x) for x in inner[p]]
        for q, b in inner_axis.run(points):
            table((p, q), (a, b), (a + b, float(len(sink.rows))))
        part = table.curve("y", (p,))
        seen = part.values[~np.isnan(part.values)]
        assert sorted(seen) == sorted(a + b for b in points)
    whole = table.curve("y")
    assert list(whole.axes) == ["a", "b"]
    assert sorted(whole.values[~np.isnan(whole.values)]) == sorted(row.v[0] for row in sink.rows)
    filled = ~np.isnan(whole.values)
    sums = whole.axes["a"][:, None] + whole.axes["b"][None, :]
    assert np.array_equal(whole.values[filled], sums[filled])
    assert sorted(table.curve("z").values[filled]) == list(range(len(sink.rows)))


def test_a_sweep_that_visits_a_value_twice_keeps_both() -> None:
    sink, axis = Sink(), Axis("x")
    table = LoopTable(1, (axis,), ("y",), sink, False)
    for place, x in axis.run([1.0, 2.0, 1.0]):
        table((place,), (x,), (10.0 * place,))
    curve = table.curve("y")
    assert curve.axes["x"].tolist() == [1, 2, 1] and curve.values.tolist() == [0, 10, 20]
    assert axis.curve().values.tolist() == [1, 2, 1]


def test_the_journal_tells_everything_that_reached_the_instruments(perform, monkeypatch) -> None:
    """What the simulated instruments received, in their order, is what the events say was sent to them."""
    received: dict[str, list[str]] = {}
    original = ScpiDevice.receive

    def receive(self: ScpiDevice, message: str) -> None:
        if not self.is_trial:  # such a one is looked at before it is built
            name = self.identity.split("SIMULATED-")[1].split(",")[0]
            received.setdefault(name, []).append(message)
        original(self, message)

    monkeypatch.setattr(ScpiDevice, "receive", receive)
    run = perform("""test t "T"
    sweep iload over 0 A, 100 mA
        set load.current = iload
        wait 5 ms
        read v_in, i_in together
        read v_out
        check v_out >= 4 V
test u "U" gate
    set supply.voltage = 7 V
    read rail_3v3 averaging 3
    check rail_3v3 >= 9 V
after unit
    set load.input = off, supply.output = off
""")
    sent: dict[str, list[str]] = {}
    for line in run.traffic:
        name, mark, text = line.partition("> ")
        if mark:
            sent.setdefault(name, []).extend(text.split("\n"))
    assert sent == received
    assert run.tests == {"t": "pass", "u": "fail"}


def test_rows_of_a_run_that_was_only_begun_tell_what_was_left() -> None:
    begun = {"e": "RunStarted", "run": "r", "started": "2026-11-23T09:00:00.000+01:00", "serial": "x", "operator": "", "station": "", "software": "",
             "sequence": {"title": "", "product": "", "revision": "", "file": "", "sha256": ""},
             "bench": {"name": "", "file": "", "sha256": ""}, "params": [],
             "tests": [{"test": "a", "title": "A", "gate": False}]}  # fmt: skip
    rows = rows_of([begun])
    assert rows is not None
    assert (rows.run["verdict"], rows.run["is_safe"], rows.tests[0].test["verdict"]) == ("aborted", False, "skipped")
    assert rows_of([]) is None


@pytest.mark.parametrize("formula", ["1 / zero", "1 / (zero * 3)", "sqrt(-1 - zero)", "db_power(zero) / 1 dB", "zero ^ -1", "10 ^ (999 + zero)"])
def test_a_formula_without_a_value_is_a_hole_and_never_passes(perform, formula: str) -> None:
    run = perform(f'test t "T"\n    read v_in\n    let zero = 0 * v_in / 1 V\n    check {formula} >= -1 as "direct"\n'
                  f'    let x = {formula}\n    check x between -1E9 and 1E9 as "named"\n')  # fmt: skip
    assert [(j.verdict, j.reason) for j in run.of(events.Judged)] == [("error", "undecided: a value could not be computed")] * 2


@pytest.mark.parametrize(("line", "what"), [
    ("wait 1 s / zero", "the time is not a number of seconds"),
    ("set load.current = 1 A / zero", "load.current cannot be set: the value is not a number"),
    ("sweep u from 0 to 1 / zero in 3 points\n        wait 1 ms", "an end of sweep u is not a number"),
    ("sweep u from 0 to 1 + zero step 0.3\n        wait 1 ms", "sweep u: the step does not fit"),
    ("set load.current = 1.3 A + zero * 1 A", "load.current = 1.3 A is beyond 1.25 A (the ceiling of load.current)")])  # fmt: skip
def test_what_cannot_be_done_is_an_error_with_its_line(perform, line: str, what: str) -> None:
    run = perform(f'test t "T"\n    read v_in\n    let zero = 0 * v_in / 1 V\n    {line}\n    check v_in >= 1 V\n')
    assert run.of(events.TestEnded)[0].reason.text.startswith(f"test.ibx:20: {what}")
    assert run.verdict == "error"


@pytest.mark.parametrize(("text", "shown"), [
    ('show "{volts} and {volts:mV}"', "2.5 V and 2500"), ('show "{serial} {ok} {mode}"', "FC00400 yes slow"),
    ('show "{part}, {part:%}"', "12.5 %, 12.5"), ('show "no gaps"', "no gaps")])  # fmt: skip
def test_texts_are_filled_with_values_and_units(perform, text: str, shown: str) -> None:
    header = HEADER.replace("before unit", 'params\n    volts = 2.5 V\n    mode = "slow"\n    part = 12.5 %\n\nbefore unit')
    run = perform(f'test t "T"\n    let ok = volts > 1 V\n    {text}\n    read v_in\n    check v_in >= 1 V\n', header=header)
    assert run.of(events.Shown)[0].text == shown


def test_types_read_as_people_say_them() -> None:
    assert str(Quantity(("vin", "iload"), units.VOLT)) == "a voltage (V) over vin, iload"
    assert str(YES_NO) == "a yes/no value"
