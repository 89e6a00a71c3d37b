"""The whole chain against the physics: what is stored is what the simulated board really did."""

import math
from pathlib import Path

import pytest

from ibexite import events
from ibexite.records.gateway import open_lookup
from ibexite.simulate.products.fm2_control_board import Fm2ControlBoard
from ibexite.simulate.world import Sink, Source, Stimuli
from tests.conftest import GOOD, WEAK


def truth(serial: str, vin: float, iload: float) -> tuple[float, float]:
    """Efficiency and losses in W of a board that has settled, from its physical model."""
    at = Fm2ControlBoard(serial).operating_point(Stimuli({"battery": Source(vin, 1.3, True)}, {"output": Sink(iload, True)}))
    power_in = at["battery_voltage"] * at["battery_current"]
    power_out = at["output_voltage"] * at["output_current"]
    return power_out / power_in, power_in - power_out


@pytest.mark.parametrize("serial", [GOOD, WEAK])
def test_every_stored_point_agrees_with_the_model_of_the_board(ibexite, project: Path, serial: str) -> None:
    done = ibexite("run", "fm2_final.ibx", "--serial", serial, "--simulate", "--yes", "--no-report")
    assert done.returncode in (1, 5), done.stdout
    lookup = open_lookup(project / "records")
    test = next(t for t in lookup.run(lookup.find(serial)).tests if t.row["name"] == "efficiency")
    grid = test.grid_with("eff")
    assert grid is not None and len(grid.column("eff")) == 70
    for vin, iload, eff, loss in zip(*(grid.column(n) for n in ("vin", "iload", "eff", "p_loss")), strict=True):
        wanted_eff, wanted_loss = truth(serial, vin, iload)
        assert eff == pytest.approx(wanted_eff, abs=0.006), (vin, iload)
        assert loss == pytest.approx(wanted_loss, abs=0.02), (vin, iload)
    results = {result["label"]: result for result in test.results}
    worst = max(truth(serial, v, i)[1] for v, i in zip(grid.column("vin"), grid.column("iload"), strict=True))
    assert results["p_loss"]["verdict"] == ("pass" if worst <= 0.78 else "fail")
    assert results["p_loss"]["value"] == max(grid.column("p_loss"))


def test_one_bad_channel_of_a_scan_is_the_only_hole(perform) -> None:
    """The range of one channel is too small: it alone is overloaded; the others of the same scan are kept."""
    run = perform('test t "T"\n    read v_in, v_out, rail_3v3 together\n    check v_in >= 8 V\n    check v_out >= 4 V\n',
                  change=lambda text: text.replace("{ channel = 103, range = \"10 V\" }", "{ channel = 103, range = \"1 V\" }"))  # fmt: skip
    values = {event.name: event for event in run.of(events.Value)}
    assert values["v_out"].value is None and values["v_out"].bad[0].reason.code == "overload"
    assert math.isfinite(values["v_in"].value) and math.isfinite(values["rail_3v3"].value)
    assert [event.verdict for event in run.of(events.Judged)] == ["pass", "fail"]
