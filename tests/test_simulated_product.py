"""The physics of the simulated board: energy is conserved, units differ, faults are always the same."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.simulate.build import MAKERS, build
from ibexite.simulate.plan import SimulationPlan, StandIn
from ibexite.simulate.products import PRODUCTS, connectable
from ibexite.simulate.products.fm2_control_board import SHUNT_IN, SHUNT_OUT, Fm2ControlBoard, fault_of
from ibexite.simulate.world import Sink, Source, Stimuli, World
from tests.conftest import GOOD, SHORT, WEAK


def point(serial: str, voltage: float, load: float, limit: float = 1.3) -> tuple[dict[str, float], Source, Sink]:
    source, sink = Source(voltage, limit, True), Sink(load, True)
    return Fm2ControlBoard(serial).operating_point(Stimuli({"battery": source}, {"output": sink})), source, sink


@given(st.floats(4.5, 16), st.floats(0, 1.2), st.integers(0, 99_999))
def test_no_board_gives_more_power_than_it_takes(voltage: float, load: float, number: int) -> None:
    at, source, _ = point(f"FC{number:05d}", voltage, load, limit=50)
    power_in = at["battery_voltage"] * at["battery_shunt"] / SHUNT_IN
    power_out = at["output_voltage"] * at["output_shunt"] / SHUNT_OUT
    assert 0 <= power_out < power_in
    assert at["battery_voltage"] == voltage and not source.is_limiting


def test_below_drop_out_the_output_follows_the_input() -> None:
    high, low = point(GOOD, 9, 0.7)[0]["output_voltage"], point(GOOD, 4.8, 0.7)[0]["output_voltage"]
    assert high == pytest.approx(5.0, abs=0.05)
    assert 4.2 < low < 4.5
    assert point(GOOD, 3.9, 0.7)[0]["output_voltage"] == 0


def test_a_supply_in_its_limit_lowers_its_voltage_and_says_so() -> None:
    at, source, _ = point(SHORT, 9, 0)
    assert source.is_limiting
    assert at["battery_voltage"] < 3
    assert at["battery_shunt"] / SHUNT_IN == pytest.approx(1.3, rel=1e-3)


def test_serial_numbers_have_their_own_spread_and_faults() -> None:
    assert (fault_of(GOOD), fault_of(WEAK), fault_of(SHORT)) == ("", "weak_inductor", "short")
    assert Fm2ControlBoard(GOOD).parts == Fm2ControlBoard(GOOD).parts != Fm2ControlBoard("FC00401").parts
    share = sum(bool(fault_of(f"FC{i:05d}")) for i in range(5000)) / 5000
    assert share == pytest.approx(0.19, abs=0.02)


@pytest.mark.parametrize("product", PRODUCTS)
def test_each_kind_of_instrument_is_built_around_each_product(product: str) -> None:
    stand_ins = [StandIn(kind, kind, f"Simulated,{kind}", "127.0.0.1", 0, dict(enumerate(connectable(product, kind), 1)))
                 for kind in MAKERS]  # fmt: skip
    for stand_in, device in build(SimulationPlan(product, GOOD, tuple(stand_ins)), lambda: 0.0):
        device.receive("*IDN?")
        assert (device.take_output() or "").startswith(f"Simulated,{stand_in.kind}")


def test_quantities_settle_exponentially() -> None:
    now = [0.0]
    world = World(Fm2ControlBoard(GOOD), lambda: now[0])
    world.stimuli.source["battery"] = Source(9.0, 1.0, True)
    world.changed()
    tau = Fm2ControlBoard.time_constants["battery_voltage"]
    for elapsed, part in ((0.0, 0.0), (tau, 1 - 1 / 2.718281828), (20 * tau, 1.0)):
        now[0] = elapsed
        assert world.value("battery_voltage") == pytest.approx(9 * part, abs=1e-6)
