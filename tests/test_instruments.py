"""The bench without a sequence: who is there, and whether it is who the bench file says."""

import json
from pathlib import Path

import pytest

from ibexite.station.looking import differences
from tests.conftest import bench_on_links
from tests.runs import troubled
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
    told = {entry["name"]: (entry["state"], entry["told"]) for entry in json.loads(done.stdout)}
    assert done.returncode == verified.returncode == 3
    assert told["psu"] == ("there", "") and told["eload"][0] == "lost" and told["dmm"] == ("another", "model DM-65S instead of DM-7.*")
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


def test_without_a_bench_it_is_said_what_to_do(ibexite, tmp_path: Path, project: Path) -> None:
    (project / "ibexite.toml").unlink()
    (project / "bench.toml").rename(tmp_path / "other.toml")
    done = ibexite("instruments", "list")
    assert done.returncode == 2 and "no bench is named" in done.stderr
    assert ibexite("instruments", "list", "--bench", str(tmp_path / "other.toml"), "--simulate").returncode == 0
