"""The bench without a sequence: who is there, and whether it is who the bench file says."""

import json
import math
import re
import socket
import statistics
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from zeroconf import ServiceInfo, Zeroconf

from ibexite.bench.file import read_bench
from ibexite.instruments.discovery import Seen, announced, answering_broadcast
from ibexite.instruments.open_link import open_link
from ibexite.instruments.usb_device import Found, plugged_in
from ibexite.station.by_hand import Spread
from ibexite.station.finding import find
from ibexite.station.looking import differences
from tests.conftest import bench_on_links
from tests.link_peers import Peer
from tests.runs import spoilt, troubled
from tests.test_commands import begun


def change_bench(project: Path, *changes) -> None:
    """Applies changes to the bench file."""
    path = project / "bench.toml"
    for change in changes:
        path.write_text(change(path.read_text()))


@pytest.mark.parametrize(("expected", "found", "told"), [
    ("", "anything", ""), ("Firnline,PS-36.*", "Firnline,PS-36,1147,2.0", ""), ("Firnline,PS-36,1147,.*", "Firnline,PS-36,1150,2.0", "serial number 1150 instead of 1147"),
    ("Firnline,PS-36,1147,2.0", "Schneewerk,PS-36,1147,2.1", "manufacturer Schneewerk instead of Firnline, firmware 2.1 instead of 2.0"),
    ("Firnline,PS-36.*", "Firnline,EL-45,7,1", "model EL-45 instead of PS-36.*"), ("Firnline,PS-36,1147", "nobody", "it is 'nobody', not 'Firnline,PS-36,1147'"),
    ("Firn(line,PS|x).*", "Other,PS,1,1", "it is 'Other,PS,1,1', not 'Firn(line,PS|x).*'")])  # fmt: skip
def test_what_differs_is_told_in_words(expected: str, found: str, told: str) -> None:
    assert differences(expected, found) == told


def test_list_and_verify_tell_who_is_there_who_is_another_and_who_is_lost(ibexite, project: Path) -> None:
    change_bench(project, troubled('query = "*IDN?", how = "silent", times = 99', "eload"), lambda text: text.replace('"Firnline,DM-.*"', '"Firnline,DM-7.*"'))
    with bench_on_links(project, {"psu": "hislip", "eload": "vxi11", "dmm": "program"}) as server:
        done = ibexite("instruments", "list", "--format", "json")
        verified = ibexite("instruments", "verify", "--traffic", "traffic.txt")
        shown = ibexite("instruments", "list").stdout
        as_data = json.loads(ibexite("instruments", "verify", "--format", "json").stdout)
    told = {entry["name"]: (entry["state"], entry["told"]) for entry in json.loads(done.stdout)}
    assert [entry["state"] for entry in as_data] == [state for state, _ in told.values()] and as_data[2]["expected"] == "Firnline,DM-7.*"
    assert done.returncode == verified.returncode == 3
    assert (
        told["psu"] == ("there", "")
        and told["eload"][0] == as_data[1]["state"] == "lost"
        and as_data[2]["told"] == told["dmm"][1]
        and told["dmm"] == ("another", "model DM-65S instead of DM-7.*")
    )
    assert "psu is Firnline,PS-36,SIMULATED-psu" in verified.stdout and "dmm is another one: model DM-65S" in verified.stdout
    assert "eload cannot be compared: " in verified.stdout and "1 of 3 are as the bench file says" in verified.stdout
    assert "psu > *IDN?" in (project / "traffic.txt").read_text() and "psu > *RST" not in (project / "traffic.txt").read_text(), "nothing is set"
    assert "plays supply   calibrated until 2027-05-01" in shown and server.addresses["psu"] in shown


def test_what_a_run_is_using_is_left_alone(ibexite, project: Path) -> None:
    with bench_on_links(project, {}):
        process, _ = begun(project, simulate=False)
        done = ibexite("instruments", "list")
        process.terminate()
        process.communicate(timeout=60)
        after = ibexite("instruments", "list")
    assert done.returncode == 3 and done.stdout.count("in use") == 6 and f"process {process.pid}" in done.stdout
    assert after.returncode == 0 and after.stdout.count("there") == 3


# --- finding -----------------------------------------------------------------------------------------------------------


@pytest.fixture
def announcing() -> Iterator[Callable[[str, int], None]]:
    """Announces services of this computer on its own network."""
    network = Zeroconf(interfaces=["127.0.0.1"])

    def announce(kind: str, port: int) -> None:
        network.register_service(
            ServiceInfo(kind, f"PS-36 no. {port}.{kind}", port=port, addresses=[socket.inet_aton("127.0.0.1")], server=f"psu-{port}.local.")
        )

    yield announce
    network.unregister_all_services()
    network.close()


def test_what_announces_itself_is_found_and_asked_who_it_is(project: Path, announcing) -> None:
    with bench_on_links(project, {"psu": "hislip", "eload": "vxi11"}) as server:
        file = read_bench(project / "bench.toml")
        ports = {name: int(re.findall(r"\d{4,5}", address)[0]) for name, address in server.addresses.items()}
        for kind, name in (("_hislip", "psu"), ("_vxi-11", "eload"), ("_scpi-raw", "dmm"), ("_lxi", "psu")):
            announcing(f"{kind}._tcp.local.", ports[name])
        ways = (lambda: announced(1.0), lambda: answering_broadcast(0.3, [("127.0.0.1", ports["eload"]), ("127.0.0.1", ports["psu"])]))
        mine = {name: one for one in find(file, open_link, ways) if (name := one.name or ("lxi" if str(ports["psu"]) in one.told else ""))}
        strangers = [one for one in find(None, open_link, ways) if one.address in server.addresses.values()]
    assert {name: (one.identity.split(",")[1], set(one.ways)) for name, one in mine.items() if name != "lxi"} == {
        "psu": ("PS-36", {"_hislip"}), "eload": ("EL-45", {"_vxi-11", "broadcast"}), "dmm": ("DM-65S", {"_scpi-raw"})}  # fmt: skip
    assert (mine["lxi"].identity, mine["lxi"].address, mine["lxi"].told) == ("", "", f"PS-36 no. {ports['psu']}")
    assert len(strangers) == 3 and all(one.identity and not one.name for one in strangers), "no bench file is needed"


def test_what_is_in_the_bench_file_and_not_found_is_told_and_ports_are_asked_only_where_it_is_wanted(project: Path) -> None:
    line, broken = Peer("serial"), Peer("socket")
    line.script.replies[:] = [b"Firnline,TC-120,1,1\n"]
    ways = (lambda: [Seen(line.address, "serial port", "")], lambda: 1 / 0, lambda: [Seen(broken.address, "_scpi-raw", "quiet one")])
    broken.script.replies[:] = [b"", b""]
    file = read_bench(project / "bench.toml")
    first, second = find(file, open_link, ways), find(None, open_link, ways, asks_ports=True)
    told = {one.name or one.told or one.ways[0]: (one.identity, one.problem.split(" (")[0][:12]) for one in first}
    assert told == {"serial port": ("", "not asked: w"), "quiet one": ("", "silent for 1"), **dict.fromkeys(("psu", "eload", "dmm"), ("", "nothing list"))}
    assert [one.identity for one in second] == ["Firnline,TC-120,1,1", ""] and line.script.heard == ["*IDN?"]
    line.close()
    broken.close()


def test_find_tells_it_to_people_and_programs(ibexite, project: Path) -> None:
    with bench_on_links(project, {"psu": "hislip"}) as server:
        (project / "bench.toml").write_text((project / "bench.toml").read_text().replace(server.addresses["dmm"], "TCPIP::127.0.0.1::9::SOCKET"))
        shown, data = ibexite("instruments", "find").stdout, json.loads(ibexite("instruments", "find", "--format", "json").stdout)
    assert "Firnline,PS-36,SIMULATED-psu" in shown and "but not found:\n  dmm   TCPIP::127.0.0.1::9::SOCKET   nothing listens there" in shown
    assert {entry["name"]: bool(entry["identity"]) for entry in data if entry["name"]} == {"psu": True, "eload": True, "dmm": False}


def test_the_devices_at_usb_plugs_are_found_in_sysfs(tmp_path: Path) -> None:
    device = tmp_path / "devices" / "1-1"
    interface = device / "1-1:1.0"
    interface.mkdir(parents=True)
    for place, text in ((device / "idVendor", "1234"), (device / "idProduct", "abcd"), (device / "serial", "SN 01"), (interface / "bInterfaceNumber", "02")):
        place.write_text(text + "\n")
    for number, target in ((0, interface), (1, tmp_path / "gone")):
        entry = tmp_path / "class" / "usbmisc" / f"usbtmc{number}"
        entry.mkdir(parents=True)
        (entry / "device").symlink_to(target)
    assert plugged_in(tmp_path) == [Found("/dev/usbtmc0", 0x1234, 0xABCD, "SN 01", 2)]
    (device / "serial").unlink()
    assert plugged_in(tmp_path)[0].serial == ""


# --- reading by hand ---------------------------------------------------------------------------------------------------


def test_a_signal_a_reading_of_a_role_and_one_without_a_bench_are_read_and_nothing_is_reset(ibexite, project: Path) -> None:
    with bench_on_links(project, {"psu": "hislip", "dmm": "vxi11"}) as server:
        supply = next(one.device for one in server.instruments if one.stand_in.name == "psu")
        supply.receive("SOUR1:CURR 1;VOLT 9;:OUTP1 ON")
        read = ("instruments", "read")
        told = [
            ibexite(*read, "v_in"), ibexite(*read, "supply", "voltage"), ibexite(*read, "meter", "dc_voltage", "--with", "range=100 V", "--with", "channel=101"),
            ibexite(*read, "voltage", "--address", server.addresses["psu"], "--profile", "scpi-power-supply", "--traffic", "t.txt")]  # fmt: skip
        assert supply.source.is_on, "nothing is reset or switched"
    assert [re.fullmatch(r"([\w.]+) = (8\.9|9|9\.0)\d* V\n", done.stdout)[1] for done in told] == ["v_in", "supply.voltage", "meter.dc_voltage", "voltage"]
    assert {line.split()[3] for line in (project / "t.txt").read_text().splitlines()[1:] if " > " in line} == {"*IDN?", "MEAS1:VOLT?"}


def test_many_readings_come_to_a_mean_and_bad_ones_are_counted(ibexite, project: Path) -> None:
    change_bench(project, spoilt("overload", 3, 9))
    with bench_on_links(project, {}) as server:
        server.instruments[0].device.receive("SOUR1:CURR 1;VOLT 9;:OUTP1 ON")
        shown = ibexite("instruments", "read", "v_in", "--count", "4").stdout
        data = json.loads(ibexite("instruments", "read", "i_in", "--count", "3", "--every", "1 ms", "--format", "json").stdout)
    assert len(re.findall(r"^ +\d+\.\d\d s   (?:9|8\.9)\S* V +mean", shown, re.MULTILINE)) == 2 and len(re.findall("bad: overload", shown)) == 2
    assert "v_in: 2 readings, mean " in shown and ", 2 bad" in shown
    assert data["name"] == "i_in" and len(data["t"]) == len(data["values"]) == 3


@pytest.mark.parametrize(("words", "told"), [
    (("v_uot",), "Did you mean v_out?"), (("suply", "voltage"), "Did you mean supply?"), (("supply", "volt"), "Did you mean voltage?"),
    (("meter", "dc_voltage", "--with", "range=1 A"), "It is a voltage"), (("meter", "dc_voltage", "--with", "rnge=1 V"), "Did you mean range?"), (("v_out", "--with", "range=1 V"), "in the bench file"),
    (("v_out", "--every", "1 V"), "is no time"), (("a", "b", "c"), "two words at most"), (("voltage", "--address", "ASRL1::INSTR"), "go together"),
    (("voltage", "--address", "ASRL", "--profile", "scpi-power-supply"), "is not an address"), (("voltage", "--address", "ASRL1::INSTR", "--profile", "scpi-power"), "there is no profile")])  # fmt: skip
def test_what_cannot_be_read_is_told(ibexite, words: tuple[str, ...], told: str) -> None:
    done = ibexite("instruments", "read", *words)
    assert done.returncode == 2 and told in done.stderr


@given(st.lists(st.floats(-1e6, 1e6), min_size=2, max_size=30), st.floats(-1e9, 1e9))
def test_mean_and_deviation_are_those_of_two_passes(values: list[float], offset: float) -> None:
    spread = Spread()
    for value in [offset + value for value in values] + [math.nan]:
        spread.take(value)
    shifted = [offset + value for value in values]
    assert spread.mean == pytest.approx(statistics.fmean(shifted), rel=1e-9, abs=1e-6)
    assert spread.deviation == pytest.approx(statistics.stdev(shifted), rel=1e-6, abs=1e-5 * (1 + abs(offset) * 1e-6))
    assert (spread.least, spread.greatest, spread.count, spread.bad) == (min(shifted), max(shifted), len(values), 1)


def test_without_a_bench_it_is_said_what_to_do(ibexite, tmp_path: Path, project: Path) -> None:
    (project / "ibexite.toml").unlink()
    (project / "bench.toml").rename(tmp_path / "other.toml")
    done = ibexite("instruments", "list")
    assert done.returncode == 2 and "no bench is named" in done.stderr
    assert ibexite("instruments", "list", "--bench", str(tmp_path / "other.toml"), "--simulate").returncode == 0
