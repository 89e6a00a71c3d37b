"""What is said to instruments, in a file: whole, in order, as it is said."""

import re
from pathlib import Path

import pytest

from ibexite.errors import LinkError
from ibexite.instruments.link import LinkOptions, Reply
from ibexite.instruments.open_link import open_link
from ibexite.instruments.traffic_file import TrafficFile
from ibexite.protocols.framing import definite_block
from tests.link_peers import Peer
from tests.runs import spoilt

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


def test_a_file_that_cannot_be_written_is_told_before_anything_is_switched_on(ibexite, project: Path, small) -> None:
    small('test t "T"\n    read v = v_out\n    check v >= 1 V\n')
    done = ibexite("run", "small.ibx", "--serial", "A1", "--simulate", "--traffic", "nowhere/traffic.txt")
    assert done.returncode == 2 and "nowhere/traffic.txt: cannot be written (No such file or directory)" in done.stderr
    done = ibexite("run", "small.ibx", "--serial", "A1", "--simulate", "--traffic", "/dev/full")
    assert done.returncode in (2, 5) and "No space left on device" in done.stderr
    assert "PASS" in done.stdout, "what cannot be written does not end the run"
