"""Instruments that several views of a bench share: each is connected and reset once, nobody's set-up is changed in the
middle of a line, and what clears when it is read reaches all."""

import threading
import time
from pathlib import Path
from typing import Any

import pytest

from ibexite.bench.bench import Bench
from ibexite.bench.file import BenchFile, read_bench
from ibexite.bench.pool import Pool
from ibexite.errors import BenchError, LinkError
from ibexite.instruments.link import LinkOptions, Reply, StrayError
from tests.laboratory.stub_bench import ANSWERS, MemoryLink, memory_bench
from tests.runs import lines

CHANNELS = {"v_ok": "101", "v_other": "104"}


class SlowLink(MemoryLink):
    """Gives others a chance at every message, and notes what arrives and how often it is opened. One question at a time."""

    opened: dict[str, int] = {}
    errors: list[bytes] = []
    is_limiting = False

    def open(self) -> None:
        super().open()
        SlowLink.opened[self.name] = SlowLink.opened.get(self.name, 0) + 1

    def ask(self, data: bytes) -> None:
        assert not self.is_waiting, "two questions at a time"
        self.is_waiting = True
        self.send(data)

    def send(self, data: bytes) -> None:
        time.sleep(1e-4)
        super().send(data)

    def receive(self, reply: Reply = Reply.LINE) -> bytes:
        time.sleep(1e-4)
        self.is_waiting = False
        return super().receive(reply)

    def ask_known(self, data: bytes, wanted: bytes) -> bytes:
        """As `exchange`."""
        return self.exchange(data)

    def exchange(self, data: bytes, reply: Reply = Reply.LINE) -> bytes:
        self.ask(data)
        return self.receive(reply)

    def _answer(self, query: str) -> bytes:
        if query == "SYST:ERR?" and self.name == "psu" and SlowLink.errors:
            return SlowLink.errors.pop(0)
        if query == "STAT:QUES?" and self.name == "psu" and SlowLink.is_limiting:
            SlowLink.is_limiting = False
            return b"1"
        return super()._answer(query)


@pytest.fixture
def file(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> BenchFile:
    """The bench from memory with one more signal."""
    path = memory_bench(tmp_path).path
    path.write_text(path.read_text() + 'v_other = { read = "meter.dc_voltage", with = { channel = 104, range = "10 V" } }\n')
    monkeypatch.setitem(ANSWERS, "104", b"+7.0000E+00")
    monkeypatch.setattr(SlowLink, "opened", {})
    return read_bench(path)


def views(file: BenchFile, names: list[str], **options: Any) -> list[Bench]:
    """Two views of one pool in which these instruments are shared."""
    pool = Pool(SlowLink.opening, names)
    both = [Bench(file, pool), Bench(file, pool)]
    for bench in both:
        bench.connect(names, "a test", **options)
    return both


def test_lines_of_two_units_on_one_meter_do_not_come_between_each_other(file: BenchFile) -> None:
    both = views(file, ["dmm"])
    assert SlowLink.opened == {"dmm": 1} and both[0].sessions["dmm"] is both[1].sessions["dmm"]
    for bench in both:
        bench.take_said()
    found: dict[str, list[float]] = {name: [] for name in CHANNELS}

    def read(bench: Bench, name: str) -> None:
        line = bench.read_line([bench.signal_item(name, name)], together=False, averaging=1)
        found[name] += [line()[0] for _ in range(60)]

    threads = [threading.Thread(target=read, args=(b, n)) for b, n in zip(both, CHANNELS, strict=True)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join(30)
    assert found == {"v_ok": [5.0] * 60, "v_other": [7.0] * 60}
    for bench, channel in zip(both, CHANNELS.values(), strict=True):
        said, at = bench.take_said() or ([], [])
        told = lines(said)
        assert len(said) == len(at) and sorted(at) == at and told.count("dmm> READ?") == 60
        assert not [line for line in told if "@" in line and f"(@{channel})" not in line], "only what it has said itself"
        bench.close()


def test_an_instrument_is_closed_and_free_when_the_last_one_has_given_it_back(file: BenchFile) -> None:
    first, second = views(file, ["psu", "dmm"])
    first.close()
    assert second.set_line([("supply", "voltage")])(5.0) is None and not second.prove()
    other = Bench(file, Pool(SlowLink.opening))
    with pytest.raises(BenchError, match="is in use by"):
        other.connect(["psu"])
    second.close()
    other.connect(["psu"])
    other.close()
    assert SlowLink.opened == {"psu": 2, "dmm": 1}


def test_what_clears_when_it_is_read_reaches_all_that_share_the_instrument(file: BenchFile, monkeypatch) -> None:
    both = views(file, ["psu"])
    monkeypatch.setattr(SlowLink, "errors", [b'-222,"Data out of range"'])
    monkeypatch.setattr(SlowLink, "is_limiting", True)
    assert [bench.read_errors() for bench in both] == [['psu reports -222,"Data out of range"']] * 2
    assert [bench.take_limiting() for bench in both] == [["supply"], ["supply"]]
    assert [bench.read_errors() for bench in both] == [[], []] and [b.take_limiting() for b in both] == [[], []]
    both[0].sessions["psu"].doubt("answered nonsense")
    assert [bench.take_doubts() for bench in both] == [[("psu", "psu answered nonsense")]] * 2
    for bench in both:
        bench.close()


def test_a_lost_link_is_mended_for_all_and_the_state_of_each_is_asked_back(file: BenchFile) -> None:
    both = views(file, ["psu", "eload"])
    both[0].set_line([("supply", "voltage")])(8.0)
    both[1].set_line([("load", "current")])(0.5)
    both[1].set_line([("supply", "current_limit")])(1.2)
    for bench in both:
        bench.complete()
    link: Any = both[0].sessions["psu"].link
    kept = dict(link.held)
    link.reopen = lambda: (link.open(), link.held.update({**kept, "SOUR1:CURR": "0.3"}))
    with pytest.raises(BenchError, match="current_limit was set to 1.2 A, it has 300 mA"):
        both[0].sessions["psu"]._recover(StrayError("sent something", where="psu"))
    assert [bench.take_doubts() for bench in both] == [[("psu", "psu sent something")]] * 2
    for bench in both:
        assert [deed.problem for deed in bench.make_safe()] == ["", ""]
        bench.close()


def test_what_could_not_be_opened_is_not_held(file: BenchFile) -> None:
    def opening(address: str, options: LinkOptions) -> MemoryLink:
        if options.name == "eload":
            raise LinkError("nothing listens there", where=options.name)
        return SlowLink.opening(address, options)

    bench = Bench(file, Pool(opening))
    with pytest.raises(LinkError):
        bench.connect(["psu", "eload", "dmm"])
    assert list(bench.sessions) == ["psu"], "what is connected can be made safe"
    bench.close()
    again = Bench(file, Pool(SlowLink.opening))
    again.connect(["psu", "eload", "dmm"])
    again.close()


def test_while_an_instrument_is_slow_to_connect_its_user_is_heeded(tmp_path: Path) -> None:
    class StoppedError(BenchError):
        """The run is to end."""

    def stop() -> None:
        raise StoppedError("stopped")

    def opening(address: str, options: LinkOptions) -> MemoryLink:
        options.heed()  # as a link does in each turn of waiting
        return MemoryLink.opening(address, options)

    bench = Bench(memory_bench(tmp_path), Pool(opening))
    with pytest.raises(StoppedError):
        bench.connect(["psu"], heed=stop)
    bench.close()
