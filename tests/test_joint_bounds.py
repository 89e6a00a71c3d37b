"""Bounds of two settings together: whatever the way the command takes, nothing beyond them is sent."""

from pathlib import Path

import pytest

from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.errors import CeilingError, InstrumentError, MistakeError
from tests.laboratory.stub_bench import MemoryLink, memory_bench
from tests.runs import vetted

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


@pytest.mark.parametrize(
    ("ceiling", "profile", "why"),
    [
        ('current_limit = "50 mA"', "", "supply.current_limit is 100 mA, beyond its ceiling of 50 mA"),
        ('over_voltage = "20 V"', "", "supply.over_voltage is 40 V, beyond its ceiling of 20 V"),
        ('current_limit = "1 A"', 'extends = "scpi-power-supply"\n[settings.current_limit]\nask = ""\n', "depends on current_limit, which nobody knows"),
    ],
)
def test_no_output_goes_on_with_what_its_instrument_came_with_beyond_a_ceiling(supply, ceiling: str, profile: str, why: str) -> None:
    bench = supply(ceiling, profile)
    bench.set_line([("supply", "voltage")])(5.0)
    with pytest.raises(CeilingError, match=why):
        bench.set_line([("supply", "output")])(1.0)
    assert told() == ["SOUR1:VOLT 5"], "nothing was switched"
    bench.set_line([("supply", "current_limit"), ("supply", "over_voltage"), ("supply", "output")])(0.05, 18.0, 1.0)
    assert told()[-1] == "OUTP1 ON"


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


HEAD = """sequence "Products"
    product "FM-2 control board"
    serial  "FC[0-9]{5}"
needs
    supply : power_supply
    load   : electronic_load
params
    amps = 1 A
before unit
    set supply.voltage = 9 V, supply.current_limit = amps, supply.output = on
    set load.input = on
test t "T"
"""


@pytest.mark.parametrize(("lines", "told"), [
    ("set supply.voltage = 10 V", ""),
    ("set supply.voltage = 10.1 V", "10.1 W"),  # with what before unit left
    ("set supply.voltage = 15 V, supply.current_limit = 0.5 A", ""),
    ("set supply.voltage = 5 V, supply.current_limit = 2.5 A", "12.5 W"),
    ("sweep v from 4 V to 16 V step 4 V\n        set supply.voltage = v", "12 W"),
    ("sweep v over 4 V, 16 V\n        set supply.voltage = v, supply.current_limit = 8 W / v", ""),
    ("sweep v over 4 V, 16 V\n        set supply.current_limit = 0.5 A\n        set supply.voltage = v", ""),
    ("sweep v over 4 V, 8 V\n        sweep i over 1 A, 1.5 A\n            set supply.voltage = v\n            set supply.current_limit = i", "12 W"),
    ("if serial == \"a\"\n        set supply.current_limit = 0.5 A\n    set supply.voltage = 15 V", ""),  # nobody knows
    ("do supply.reset\n    set supply.voltage = 15 V", ""),
    ("sweep n over 1, 2\n        set supply.current_limit = 0.5 A\n    set supply.voltage = 15 V", ""),
])  # fmt: skip
def test_products_beyond_a_ceiling_are_found_before_the_run_where_they_are_sure(project: Path, lines: str, told: str) -> None:
    bench = project / "bench.toml"
    text = bench.read_text().replace('ceiling    = { voltage = "17 V", current_limit = "1.5 A" }', 'ceiling = { power = "10 W" }')
    assert 'power = "10 W"' in text
    bench.write_text(text)
    source = vetted(f"{HEAD}    {lines}\n", project)
    found = [source.render(one) for one in source.sorted_findings() if one.level == "mistake"]
    assert len(found) == bool(told), found
    assert not told or ("beyond the ceiling of two settings" in found[0] and f"^ {told}" in found[0] and "may be at most 10 W" in found[0])


TIMED = lambda bench: bench.replace('ceiling    = { current = "1.25 A" }', 'ceiling = { current = "1.25 A" }\nno_longer = { current = ["0.5 A", "10 s"] }')  # noqa: E731


@pytest.mark.parametrize(("lines", "told"), [
    ("set load.current = 0.6 A\n    wait 20 s", "load.current was beyond 500 mA for 10 s. All outputs were switched off"),
    ("set load.current = 0.6 A\n    wait 6 s\n    set load.current = 0.7 A\n    wait 6 s", "beyond 500 mA for 10 s"),  # it goes on
    ("set load.current = 0.6 A\n    sweep n over 1, 2, 3\n        wait 4 s", "beyond 500 mA for 10 s"),
    ("set load.current = 0.6 A\n    wait 9 s\n    set load.current = 0.4 A\n    wait 20 s\n    set load.current = 0.6 A\n    wait 9 s", ""),
    ("set load.input = off, load.current = 0.6 A\n    wait 20 s", ""),  # what is off carries nothing
])  # fmt: skip
def test_a_setting_is_not_beyond_a_level_longer_than_it_may(perform, lines: str, told: str) -> None:
    run = perform(f'test t "T"\n    {lines}\n    read v_in\n    check v_in >= 1 V\ntest u "U"\n    read v_in\n    check v_in >= 1 V\n', change=TIMED)
    assert run.verdicts == ({"t": "error", "u": "skipped"} if told else {"t": "pass", "u": "pass"}), run.ended
    assert told in run.ended["t"][1]
    if told:
        off = run.traffic.index("eload> INP OFF", run.traffic.index("eload> CURR 0.6"))
        assert "dmm> READ?" not in run.traffic[run.traffic.index("eload> CURR 0.6") : off], "at once"
