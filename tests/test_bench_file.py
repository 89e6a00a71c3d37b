"""Bench files and profiles: whatever is wrong is named by its path, with what to write."""

from pathlib import Path

import pytest

from ibexite.bench.entries import TroubleEntry
from ibexite.bench.file import read_bench
from ibexite.classes import instrument_classes
from ibexite.errors import MistakeError
from ibexite.instruments.profile import SHIPPED, load_profile
from ibexite.station.project import find_project
from ibexite.station.stand_ins import make_plan


def test_the_example_bench_is_read(project: Path) -> None:
    bench = read_bench(project / "bench.toml")
    assert bench.safe_order == ("load", "supply", "meter")
    assert bench.roles["supply"].ceiling == {"voltage": 17.0, "current_limit": 1.5}
    signal = bench.signals["i_in"]
    assert (signal.channel, signal.believe, signal.conversion) == (102, (-0.005, 2.0), "shunt 100.12 mohm")
    assert signal.chain.scale == pytest.approx(1 / 0.10012) and signal.chain.is_linear
    assert find_project(project / "fm2_final.ibx").bench == project / "bench.toml"
    path = project / "bench.toml"
    path.write_text(path.read_text().replace('wiring = { 1 = "battery" }', 'wiring = { 1 = "battery" }, trouble = [{ query = "Q", how = "silent" }]'))
    assert read_bench(path).instruments["psu"].simulated.trouble == (TroubleEntry("Q", "silent", 1, 1),), "the first, once"


PSU = 'address     = "TCPIP::127.0.0.1::50251::SOCKET"'


@pytest.mark.parametrize(("old", "new", "where", "what", "remedy"), [
    ("[bench]", "[bench", "", "not valid TOML", "Mend it there"),
    ("[bench]", "[bank]", "bench", "is missing", ""),
    ('shunt   = "100.12 mohm"', 'thermistor = { r25 = "10 kohm", beta = "3950 K" }', "signals.i_in.thermistor", "a resistance into a temperature", "ohm"),
    ('wiring = { 1 = "battery" }', 'wirring = { 1 = "battery" }', "psu.simulated.wirring", "is not a key", "Did you mean wiring?"),
    ('wiring = { 1 = "battery" }', 'wiring = { one = "battery" }', "psu.simulated.wiring", "is not a channel number", "101 ="),
    ("safe_order", "save_order", "bench.save_order", "is not a key that is known here", "Did you mean safe_order?"),
    ('["load", "supply"]', '["loud"]', "bench.safe_order", "there is no role 'loud'", "Did you mean load?"),
    ('"scpi-power-supply"', '"scpi-power-suply"', "instruments.psu.profile", "there is no profile", "scpi-power-supply"),
    ('"scpi-power-supply"', '"mine.toml"', "mine.toml", "there is no such profile", "Check the path"),
    ("TCPIP::127.0.0.1::50251::SOCKET", "GPIB::5", "instruments.psu.address", "is not an address", "through a gateway"),
    (PSU, f'{PSU}\nlink = {{ baud = 9600 }}', "instruments.psu.link.baud", "a link by raw socket has no such key", "has no keys"),
    (PSU, 'address = "ASRL1::INSTR"\nlink = { bauds = 9600 }', "instruments.psu.link.bauds", "a link by serial port has no such key", "Did you mean baud?"),
    (PSU, 'address = "ASRL1::INSTR"\nlink = { bits = 9 }', "instruments.psu.link.bits", "9 is not between 5 and 8", ""),
    (PSU, 'address = "ASRL1::INSTR"\nlink = { parity = "evn" }', "instruments.psu.link.parity", "'evn' is none of the words", "Did you mean even?"),
    (PSU, 'address = "ASRL1::INSTR"\nlink = { pace = "1 min" }', "instruments.psu.link.pace", "not between 0 s and 2 s", ""),
    (PSU, 'address = "TCPIP::192.0.2.1::inst0::INSTR"\nlink = { port = 70000 }', "instruments.psu.link.port", "70000 is no port", "1 to 65535"),
    (PSU, f'{PSU}\nprogram = ["./gauge"]', "instruments.psu.program", "there is an address as well", "in one way"),
    (PSU, 'program = []', "instruments.psu.program", "there is nothing to start", 'program = ["./gauge"'),
    ("::50252::", "::50251::", "instruments.eload.address", "psu has the same address", "cannot share"),
    ("Firnline,PS-36.*", "(", "instruments.psu.identity", "not a regular expression", "Write, for example"),
    ("due = 2027-05-01", 'due = "soon"', "instruments.psu.calibration.due", "'soon' does not fit", "a date such as"),
    ('instrument = "eload"', 'instrument = "load"', "roles.load.instrument", "there is no instrument", "eload"),
    ('voltage = "17 V"', 'voltage = "17 A"', "roles.supply.ceiling.voltage", "'17 A' is a current", "It takes a voltage"),
    ('voltage = "17 V"', "voltage = 17", "roles.supply.ceiling.voltage", "17 does not fit", 'as "12 V"'),
    ("ceiling    = { voltage", "cieling    = { voltage", "roles.supply.cieling", "is not a key", "Did you mean ceiling?"),
    ('voltage = "17 V"', 'volts = "17 V"', "roles.supply.ceiling.volts", "no such setting", "Did you mean voltage?"),
    ('over_voltage = "18 V"', 'over_voltage = "18 Volts"', "protect.over_voltage", "no unit 'Volts'", "Did you mean V?"),
    ('read    = "meter.dc_voltage"\nwith    = { channel = 101', 'read = "dmm.dc_voltage"\nwith = { channel = 101',
     "signals.v_in.read", "there is no role 'dmm'", "There is"),
    ('"meter.dc_voltage"\nwith    = { channel = 101', '"meter.dcv"\nwith = { channel = 101', "signals.v_in.read",
     "has no reading 'dcv'", "dc_voltage"),
    ("{ channel = 101, range", "{ chanel = 101, range", "signals.v_in.with.chanel", "not a key", "Did you mean channel?"),
    ("100.12 mohm", "100.12 mA", "signals.i_in.shunt", "is a current", "a resistance"),
    ('"meter.dc_voltage"\nwith    = { channel = 102, range = "1 V" }', '"meter.resistance"\nwith = { channel = 102 }', "signals.i_in.shunt",
     "a shunt turns a voltage into a current, but this reading is a resistance", ""),
    ("100.12 mohm", "0 ohm", "signals.i_in.shunt", "is not above zero", ""),
    ('["-0.1 V", "20 V"]', '["20 V", "-0.1 V"]', "signals.v_in.believe", "first is not below", "lower end first"),
    ('["-0.1 V", "20 V"]', '["20 V"]', "signals.v_in.believe", "not two quantities", "Write it as")])  # fmt: skip
def test_mistakes_are_named_by_their_path(project: Path, old: str, new: str, where: str, what: str, remedy: str) -> None:
    path = project / "bench.toml"
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    with pytest.raises(MistakeError) as error:
        read_bench(path)
    assert where in error.value.where and what in error.value.what and remedy in error.value.remedy


def test_all_mistakes_of_a_bench_file_are_told_at_once(project: Path) -> None:
    path = project / "bench.toml"
    path.write_text(path.read_text().replace('voltage = "17 V"', 'voltage = "17 A"').replace("100.12 mohm", "0 ohm"))
    with pytest.raises(MistakeError) as error:
        read_bench(path)
    told = str(error.value)
    assert "'17 A' is a current" in told and "is not above zero" in told and "signals.i_in.shunt" in told
    path.write_text(path.read_text().replace("Firnline,DM-.*", "("))  # what stands on it is not told as well
    with pytest.raises(MistakeError) as error:
        read_bench(path)
    told = str(error.value)
    assert "not a regular expression" in told and "'17 A' is a current" in told and "i_in" not in told and "there is no" not in told


@pytest.mark.parametrize(("old", "new", "where", "what"), [
    ('product = "fm2-control-board"', 'product = "fm3"', "simulation.product", "no simulated product 'fm3'"),
    ('product = "fm2-control-board"', "", "simulation.product", "no simulated product"),
    ('wiring = { 1 = "battery" }', 'wiring = { 1 = "batery" }', "psu.simulated.wiring.1", "has no 'batery'"),
    ('wiring = { 1 = "battery" }', 'wiring = { 2 = "battery" }', "psu.simulated.wiring", "channel 1 is not wired"),
    *(('wiring = { 1 = "battery" }', f'wiring = {{ 1 = "battery" }}, trouble = [{{ {entry} }}]', "psu.simulated.trouble", what) for entry, what in (
        ('query = "VOLT", how = "sillent"', "no trouble 'sillent'"), ('how = "silent"', "either query or command"), ('query = "VOLT", command = "VOLT", how = "lost"', "either query or command"),
        ('query = "VOLT", how = "late", pause = "-1 s"', "not between 0 s and 1 h"), ('query = "VOLT", how = "late", nth = 0', "0 is less than 1"), ('query = "VOLT", how = "late", times = 0', "0 is less than 1"), ('command = "VOLT", how = "instead"', "'instead' takes a message"),
        ('command = "VOLT", how = "lost", message = "VOLT 5"', "'lost' takes no message")))])  # fmt: skip
def test_mistakes_of_the_simulation_are_named(project: Path, old: str, new: str, where: str, what: str) -> None:
    path = project / "bench.toml"
    path.write_text(path.read_text().replace(old, new, 1))
    with pytest.raises(MistakeError) as error:
        make_plan(read_bench(path), "FC00400", own_ports=True)
    assert where in error.value.where and what in error.value.what


# What a class promises and SCPI-1999 has no command for.
NOT_IN_SCPI = {
    "temperature_chamber": {"humidity"}, "multimeter": {"diode"}, "oscilloscope": {"screen"}, "power_analyser": {"apparent_power", "reactive_power", "power_factor"},
    "audio_analyser": {"weighting", "distortion", "noise", "sinad", "spectrum"}, "lcr_meter": {"circuit", "speed", "reactance", "impedance", "phase", "quality", "dissipation", "open", "short"},
    "switch": {"cycles"}, "digital_io": {"clear_count"}, "connection_tester": {"threshold", "wires"}, "positioner": {"turning", "moving"}, "ac_source": {"peak_current", "power_factor"},
    "product": {"counters"},
}  # fmt: skip


@pytest.mark.parametrize("path", sorted(SHIPPED.glob("*.toml")), ids=lambda path: path.stem)
def test_each_shipped_profile_fulfils_its_class(path: Path) -> None:
    profile = load_profile(path.stem, path.parent)
    known = profile.instrument_class
    missing = (set(known.settings) - set(profile.settings)) | (set(known.readings) - set(profile.readings))
    assert missing <= NOT_IN_SCPI.get(known.name, set())
    assert set(known.actions) - set(profile.actions) <= NOT_IN_SCPI.get(known.name, set())
    for setting in profile.settings.values():
        assert "?" in setting.ask and (setting.extent or setting.feature.dimension is None)


@pytest.mark.parametrize(("old", "new", "what"), [
    ('class = "power_supply"', 'class = "power"', "there is no class 'power'"),
    ("[settings.voltage]", "[settings.volts]", "a power_supply has no setting 'volts'"),
    ("SOUR{channel}:VOLT {value}", "SOUR{channel}:VOLT", "does not say where the value goes"),
    ("output = false", "outputs = false", "is not a setting of this profile"),
    ("settling =", "settlling =", "is not a key that is known here"),
    ('"2 s"', '"2 V"', "'2 V' is a voltage (V)")])  # fmt: skip
def test_mistakes_in_a_profile_are_named(tmp_path: Path, old: str, new: str, what: str) -> None:
    text = (SHIPPED / "scpi-power-supply.toml").read_text()
    assert old in text
    (tmp_path / "my.toml").write_text(text.replace(old, new, 1))
    with pytest.raises(MistakeError) as error:
        load_profile("my.toml", tmp_path)
    assert what in error.value.what and "my.toml" in error.value.where


def test_a_profile_ships_for_each_class() -> None:
    assert {load_profile(path.stem, SHIPPED).instrument_class.name for path in SHIPPED.glob("*.toml")} == set(instrument_classes())
