"""Bounds of two settings together: whatever the way the command takes, nothing beyond them is sent."""

from pathlib import Path

import pytest

from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.errors import CeilingError, InstrumentError, MistakeError
from tests.laboratory.stub_bench import MemoryLink, memory_bench

RANGED = """extends = "scpi-power-supply"
[settings.current_limit]
after  = ["voltage"]
ranges = [
    { when = { voltage = ["0 V", "8 V"] }, range = ["0 A", "3.2 A"] },
    { when = { voltage = ["8 V", "36 V"] }, range = ["0 A", "1.6 A"] },
]
"""


@pytest.fixture
def supply(tmp_path: Path):
    """A bench from memory with a supply of these ceilings, and what its instrument was told since the beginning."""
    MemoryLink.heard = []

    def start(ceiling: str = "", profile: str = "") -> Bench:
        path = memory_bench(tmp_path).path
        text = path.read_text().replace('ceiling = { voltage = "17 V", current_limit = "1.5 A" }', f"ceiling = {{ {ceiling} }}, raw = true")
        if profile:
            (tmp_path / "ranged.toml").write_text(profile)
            text = text.replace('"scpi-power-supply"', '"ranged.toml"')
        path.write_text(text)
        bench = Bench(read_bench(path), Pool(MemoryLink.opening))
        bench.connect(["psu"])
        MemoryLink.heard.clear()
        return bench

    return start


def told() -> list[str]:
    return [line for name, line in MemoryLink.heard if name == "psu"]


def test_a_range_follows_another_setting_also_one_of_the_same_line(supply) -> None:
    bench = supply(profile=RANGED)
    current, both = bench.set_line([("supply", "current_limit")]), bench.set_line([("supply", "current_limit"), ("supply", "voltage")])
    current(3.0)  # at 0 V, which was asked
    with pytest.raises(CeilingError, match=r"supply.current_limit = 3 A is beyond 1.6 A, its range while voltage is 12 V"):
        bench.set_line([("supply", "voltage")])(12.0)
    with pytest.raises(CeilingError, match=r"current_limit = 1.7 A is beyond 1.6 A"):
        both(1.7, 12.0)
    assert told() == ["SOUR1:CURR 3"], "nothing was sent"
    both(1.5, 12.0)
    assert told()[-2:] == ["SOUR1:VOLT 12", "SOUR1:CURR 1.5"], "in the order that the profile says"
    with pytest.raises(CeilingError, match="beyond 1.6 A"):
        current(2.0)


def test_a_range_by_a_word(supply) -> None:
    words = RANGED.replace('voltage = ["0 V", "8 V"]', 'sense = ["local"]').replace('voltage = ["8 V", "36 V"]', 'sense = "remote"')
    bench = supply(profile=words)
    bench.state["supply", "sense"] = "local"
    bench.set_line([("supply", "current_limit")])(3.0)
    with pytest.raises(CeilingError, match="current_limit = 3 A is beyond 1.6 A, its range while sense is remote"):
        bench.set_line([("supply", "sense")])("remote")


def test_what_cannot_be_asked_must_be_set_first(supply) -> None:
    blind = RANGED + '[settings.voltage]\nask = ""\n'
    bench = supply(profile=blind)
    with pytest.raises(CeilingError, match="depends on voltage, which nobody knows"):
        bench.set_line([("supply", "current_limit")])(1.0)
    assert told() == []
    bench.set_line([("supply", "voltage"), ("supply", "current_limit")])(5.0, 1.0)
    bench.set_line([("supply", "current_limit")])(2.0)
    assert told()[-1] == "SOUR1:CURR 2"


def test_the_product_of_two_settings_has_a_ceiling(supply) -> None:
    bench = supply('power = "12 W"')
    both = bench.set_line([("supply", "voltage"), ("supply", "current_limit")])
    both(6.0, 2.0)
    with pytest.raises(CeilingError, match=r"supply.voltage times supply.current_limit is 14 W, beyond 12 W \(the ceiling of supply.power\)"):
        bench.set_line([("supply", "voltage")])(7.0)
    with pytest.raises(CeilingError, match="is 12.06 W, beyond 12 W"):
        both(12.06, 1.0)
    assert told() == ["SOUR1:VOLT 6", "SOUR1:CURR 2"]
    both(12.0, 1.0)
    assert told()[-2:] == ["SOUR1:CURR 1", "SOUR1:VOLT 12"], "what falls goes first: on the way it is never 24 W"
    both(6.0, 2.0)
    assert told()[-2:] == ["SOUR1:VOLT 6", "SOUR1:CURR 2"]


@pytest.mark.parametrize("deed", ["raw_send", "do"])
def test_nor_do_raw_text_and_actions_lead_beyond_it(supply, deed: str, monkeypatch) -> None:
    bench = supply('power = "12 W"')
    bench.set_line([("supply", "current_limit"), ("supply", "output")])(2.0, True)
    monkeypatch.setitem(bench.sessions["psu"].profile.actions, "clear_protection", "SOUR1:VOLT 9")
    with pytest.raises(InstrumentError, match="supply.power was found at 18 W, beyond its ceiling of 12 W; it was switched off"):
        bench.raw_send("supply", "SOUR1:VOLT 9") if deed == "raw_send" else bench.do("supply", "clear_protection")
    assert told()[-1] == "OUTP1 OFF"


def test_an_order_in_a_circle_is_as_written(supply) -> None:
    circle = RANGED.split("ranges")[0] + '[settings.voltage]\nafter = ["current_limit"]\n'
    bench = supply(profile=circle)
    bench.set_line([("supply", "current_limit"), ("supply", "voltage"), ("supply", "output")])(1.0, 2.0, True)
    assert told() == ["SOUR1:VOLT 2", "SOUR1:CURR 1", "OUTP1 ON"], "an output never goes on before what stands before it"


@pytest.mark.parametrize(
    ("ceiling", "what"), [('power = "12 V"', "'12 V' is a voltage"), ('pwoer = "12 W"', "no such setting"), ('output = "1 V"', "no such setting")]
)
def test_mistakes_in_ceilings_are_named(supply, ceiling: str, what: str) -> None:
    with pytest.raises(MistakeError, match=what):
        supply(ceiling)
