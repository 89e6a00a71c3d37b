"""Readings that were taken while a source was at its limit: when it is asked, and what becomes of them."""

import math

import pytest

from ibexite import events
from ibexite.bench.bench import Bench
from ibexite.bench.file import read_bench
from ibexite.bench.pool import Pool
from ibexite.errors import BenchError
from tests.conftest import SHORT
from tests.laboratory.stub_bench import MemoryLink, memory_bench


class Limited(MemoryLink):
    """Says of itself what stands next in `says`, then that it does not limit."""

    says: dict[str, list[str]] = {}
    asked: list[str] = []

    def _answer(self, query: str) -> bytes:
        Limited.asked.append(f"{self.name} {query}")
        if query.startswith("STAT:QUES"):
            waiting = Limited.says.get(self.name, [])
            return (waiting.pop(0) if waiting else "0").encode()
        return super()._answer(query)


@pytest.fixture
def limited(tmp_path, monkeypatch):
    """Connects a bench whose instruments limit as they are told; `mended` is what is added to the supply's profile."""
    benches: list[Bench] = []
    monkeypatch.setattr(Limited, "asked", [])

    def connected(says: dict[str, list[str]], mended: str = "", *, is_on: bool = True) -> Bench:
        Limited.says = {}
        path = memory_bench(tmp_path).path
        if mended:
            (tmp_path / "mended.toml").write_text(f'extends = "scpi-power-supply"\nclass = "power_supply"\n{mended}\n')
            path.write_text(path.read_text().replace('"scpi-power-supply"', '"mended.toml"'))
        bench = Bench(read_bench(path), Pool(Limited.opening))
        benches.append(bench)
        bench.connect(["psu", "eload", "dmm"])
        bench.set_line([("supply", "output"), ("load", "input")])(float(is_on), 0.0)
        bench.complete()
        bench.settled()
        Limited.asked.clear()
        Limited.says = says
        return bench

    yield connected
    for bench in benches:
        bench.close()


def line(bench: Bench, names: str = "v_ok", **more):
    """A read line of signals and readings of the supply."""
    items = [bench.role_item(n, "supply", "current", {}) if n == "amps" else bench.signal_item(n, n) for n in names.split()]
    return bench.read_line(items, together=len(items) > 1, averaging=1, **more)


@pytest.mark.parametrize(("names", "mended", "is_on", "asked"), [
    ("v_ok amps", "", True, ["dmm READ?", "psu MEAS1:CURR?", "psu STAT:QUES?"]),  # in one message
    ("v_ok", "", True, ["dmm READ?", "psu STAT:QUES?"]),
    ("v_ok", "", False, ["dmm READ?"]),  # what is off does not limit
    ("amps", "", False, ["psu MEAS1:CURR?", "psu STAT:QUES?"]),
    ("v_ok amps", 'limiting_read = "test"', True, ["dmm READ?", "psu MEAS1:CURR?"]),
    ("v_ok amps", "[quirks]\ncompound = false", True, ["dmm READ?", "psu MEAS1:CURR?", "psu STAT:QUES?"]),
    ("v_ok", 'limiting = { query = "STAT:QUES{channel}?", bits = [0] }', True, ["dmm READ?", "psu STAT:QUES1?"]),
])  # fmt: skip
def test_it_is_asked_with_each_reading(limited, names: str, mended: str, is_on: bool, asked: list[str]) -> None:
    bench = limited({}, mended, is_on=is_on)
    values = line(bench, names)()
    assert Limited.asked == asked and not any(map(math.isnan, values)) and not bench.bad


@pytest.mark.parametrize(
    ("names", "says", "tries", "many"),
    [
        ("v_ok", ["1"], 3, 2),
        ("v_ok amps", ["1"], 3, 2),
        ("v_ok", ["512", "2"], 3, 3),
        ("v_ok amps", ["1"] * 3, 3, 3),
        ("v_ok", ["1"], 1, 1),
        ("v_bad", ["1"], 3, 6),
    ],
)
def test_it_is_read_again_and_bad_if_it_still_limits(limited, names: str, says: list[str], tries: int, many: int) -> None:
    bench, is_bad = limited({"psu": list(says)}), len(says) >= tries
    values = line(bench, names, tries=tries)()
    assert Limited.asked.count("dmm READ?") == many
    told = [(bad.name, bad.reason.code) for bad in bench.bad]
    assert told == ([("v_bad", "overload")] if names == "v_bad" else [(name, "limiting") for name in names.split()] if is_bad else [])
    assert all(math.isnan(v) == (is_bad or names == "v_bad") for v in values)
    assert bench.take_limiting() == ["supply"] and bench.take_limiting() == []  # the test that trusted it fails as well


def test_what_a_test_expects_is_neither_asked_nor_held_against_its_readings(limited) -> None:
    bench = limited({"psu": ["1"]})
    bench.expects_limiting = True
    assert line(bench)() == [5.0] and Limited.asked == ["dmm READ?"] and not bench.bad and bench.take_limiting() == ["supply"]


def test_a_load_that_starves_before_anything_was_waited_for_has_not_limited(limited) -> None:
    bench = limited({"eload": ["512", "512"]}, is_on=False)
    bench.set_line([("load", "input"), ("supply", "output")])(1.0, 1.0)
    read = line(bench)
    assert read() == [5.0] and not bench.bad
    bench.settled()
    Limited.says["eload"] = ["512"] * 3
    assert math.isnan(read()[0]) and "load" in bench.bad[0].reason.text


@pytest.mark.parametrize("answer", ["", "NONE", "nan?"])
def test_an_instrument_that_does_not_say_whether_it_limits_gives_no_reading(limited, answer: str) -> None:
    bench = limited({"psu": [answer] * 9})
    with pytest.raises(BenchError, match="when its status was asked"):
        line(bench)()


def test_an_answer_that_is_left_out_puts_what_was_read_in_doubt(limited, monkeypatch) -> None:
    bench = limited({})
    read = line(bench, "amps")
    monkeypatch.setattr(Limited, "receive", lambda self, reply=None: b"0.25")
    assert read() == [0.25] and "gave 1 answers to 2 questions" in bench.take_doubts()[0][1]


SHORTED = 'test a "A"\n    read v_in, amps = supply.current together\n    let power = v_in * amps\n    check v_in >= 0 V\n'


@pytest.mark.parametrize(("expected", "verdicts"), [("", {"a": "fail", "b": "error"}), ("    expect limiting\n", {"a": "pass", "b": "pass"})])
def test_no_test_passes_on_what_another_one_read_while_its_source_limited(perform, expected: str, verdicts: dict[str, str]) -> None:
    run = perform(f'{SHORTED}{expected}test b "B"\n    check a.power >= 0 W\n    expect limiting\n', SHORT)
    assert run.verdicts == verdicts, run.ended
    assert ("limiting" in str(run.of(events.Value)[0].bad)) == (not expected)
