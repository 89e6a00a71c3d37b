"""What is said to instruments, in a file: whole, in order, as it is said."""

import json
import re
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ibexite.errors import LinkError
from ibexite.instruments.link import LinkOptions, Reply
from ibexite.instruments.open_link import open_link
from ibexite.instruments.traffic_file import TrafficFile
from ibexite.protocols.framing import definite_block
from ibexite.records.last_said import LastSaid
from tests.link_peers import Peer
from tests.runs import spoilt
from tests.test_commands import begun, settled

TIME, TOOK = r" *\d+\.\d{6}", r"   \(\d+\.\d{3} ms\)"


def test_each_message_is_told_with_its_time_and_a_reply_with_how_long_it_took(tmp_path: Path) -> None:
    peer, path = Peer("socket"), tmp_path / "traffic"
    file = TrafficFile(path, "trial", open_link)
    link = file.open(peer.address, LinkOptions("psu", 0.2))
    peer.script.replies[:] = [b"+5\n", definite_block(b"\x00\xff" * 500) + b"\n", b"1\n", b""]
    link.send(b"VOLT 5\nOUTP ON\n")
    link.exchange(b"VOLT?\n")
    link.exchange(b"CURV?\n", Reply.BLOCK)
    link.ask(b"A?\n")
    link.receive()
    with pytest.raises(LinkError):
        link.exchange(b"B?\n")
    link.send(b"X" * 300 + b"\n")
    link.close()
    file.close()
    peer.close()
    wanted = [
        "# trial: .*", f"{TIME} psu ! connected to {peer.address}", rf"{TIME} psu > VOLT 5\\nOUTP ON", rf"{TIME} psu > VOLT\?", rf"{TIME} psu < \+5{TOOK}", rf"{TIME} psu > CURV\?",
        rf"{TIME} psu < block of 1000 bytes: (\\x00\\xff){{10}}{TOOK}", rf"{TIME} psu > A\?", rf"{TIME} psu < 1{TOOK}", rf"{TIME} psu > B\?", f"{TIME} psu ! silent for 0.2 s",
        rf"{TIME} psu > X{{200}}… \(301 bytes\)", f"{TIME} psu ! closed",
    ]  # fmt: skip
    lines = path.read_text().splitlines()
    assert len(lines) == len(wanted)
    assert [line for line, pattern in zip(lines, wanted, strict=True) if not re.fullmatch(pattern, line)] == []


def test_a_run_writes_it_behind_what_is_there_also_when_it_ends_in_an_error(ibexite, project: Path, small) -> None:
    small('test t "T"\n    read v = v_out\n    check v >= 1 V\n')
    bench = project / "bench.toml"
    bench.write_text(spoilt("silent", 2, 9)(bench.read_text()))
    for _ in range(2):
        assert ibexite("run", "small.ibx", "--serial", "A1", "--simulate", "--traffic", "traffic.txt").returncode == 3
    text = (project / "traffic.txt").read_text()
    first, second = text.split("# unit A1, run ")[1:]
    for part in (first, second):
        assert "dmm ! silent for" in part and "dmm ! connecting anew" in part
        assert part.index("OUTP1 ON") < part.rindex("psu > OUTP1 OFF") < part.index("psu ! closed")


@pytest.mark.parametrize("how", ["silent", "killed"])
def test_what_was_said_last_is_kept_of_a_run_that_did_not_end_by_itself(ibexite, project: Path, small, how: str) -> None:
    if how == "silent":
        small('test t "T"\n    read v = v_out\n    check v >= 1 V\n')
        bench = project / "bench.toml"
        bench.write_text(spoilt("silent", 2, 9)(bench.read_text()))
        ibexite("run", "small.ibx", "--serial", "A1", "--simulate")
    else:
        process, journal = begun(project)
        process.kill()
        process.communicate()
        settled(journal)
    told = ibexite("show", "last", "--traffic", "dmm").stdout.splitlines()
    assert any(re.fullmatch(rf"{TIME} dmm < \+.*{TOOK}", line) for line in told) and len(told) <= 200
    assert ("dmm ! silent for 3 s" in "\n".join(told)) == (how == "silent")
    everything = json.loads(ibexite("show", "last", "--traffic", "--format", "json").stdout)
    assert {message["instrument"] for message in everything} == {"psu", "eload", "dmm"} and [m["t"] for m in everything] == sorted(m["t"] for m in everything)
    assert "Did you mean psu?" in ibexite("show", "last", "--traffic", "psuu").stderr


def test_of_a_run_that_ended_by_itself_nothing_is_kept(ibexite, small) -> None:
    small('test t "T"\n    read v = v_out\n    check v >= 1 V\n')
    ibexite("run", "small.ibx", "--serial", "A1", "--simulate")
    assert ibexite("show", "last", "--traffic").stdout.startswith("nothing is kept: the run ended by itself")


@given(st.lists(st.lists(st.tuples(st.sampled_from("abc"), st.sampled_from("<>!"), st.text(max_size=3)), max_size=9), max_size=80), st.integers(1, 5))
def test_the_last_messages_of_each_are_those_that_came_last(batches: list[list[tuple]], most: int) -> None:
    last, clock = LastSaid(), iter(range(10_000))
    flat = [(*message, float(next(clock))) for batch in batches for message in batch]
    at = iter(flat)
    for batch in batches:
        last.take((batch, [next(at)[3] for _ in batch]))
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr("ibexite.records.last_said.MOST", most)
        rows = last.rows(10.0)
    wanted = [m for i, m in enumerate(flat) if sum(other[0] == m[0] for other in flat[i + 1 :]) < most]
    assert [(r["instrument"], r["direction"], r["message"], r["t"] + 10.0) for r in rows] == wanted


def test_a_file_that_cannot_be_written_is_told_before_anything_is_switched_on(ibexite, project: Path, small) -> None:
    small('test t "T"\n    read v = v_out\n    check v >= 1 V\n')
    done = ibexite("run", "small.ibx", "--serial", "A1", "--simulate", "--traffic", "nowhere/traffic.txt")
    assert done.returncode == 2 and "nowhere/traffic.txt: cannot be written (No such file or directory)" in done.stderr
    done = ibexite("run", "small.ibx", "--serial", "A1", "--simulate", "--traffic", "/dev/full")
    assert done.returncode in (2, 5) and "No space left on device" in done.stderr
    assert "PASS" in done.stdout, "what cannot be written does not end the run"
