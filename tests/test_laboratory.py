"""A short round of each laboratory; `make hard` does the long one."""

import random
from collections.abc import Iterator
from pathlib import Path

import pytest

from ibexite.bench import safety
from ibexite.bench.file import BenchFile
from tests.laboratory import damaged, faults, kills, state, verdicts
from tests.laboratory.stub_bench import memory_bench


@pytest.fixture
def from_memory(tmp_path: Path) -> BenchFile:
    """A bench whose instruments answer from memory."""
    return memory_bench(tmp_path)


@pytest.mark.parametrize("part", range(4))
def test_verdicts_are_those_of_the_page(from_memory: BenchFile, part: int) -> None:
    for seed in range(part * 120, part * 120 + 120):
        plan = verdicts.draw(random.Random(seed))
        found = verdicts.difference(plan, from_memory)
        assert not found, f"{seed}: {found}\n{verdicts.text_of(plan)}only {plan.only} again {plan.again}"


@pytest.mark.parametrize("part", range(2))
def test_what_is_set_was_previewed_and_is_set_back(from_memory: BenchFile, part: int) -> None:
    for seed in range(part * 150, part * 150 + 150):
        found = state.wrong(seed, state.FromMemory(from_memory))
        assert not found, f"{seed}: {found}\n{state.text_of(random.Random(seed))[0]}"


def test_the_same_holds_on_the_simulated_bench_behind_its_sockets(tmp_path: Path) -> None:
    bench = state.OnSockets(tmp_path / "simulated")
    try:
        for seed in range(30):
            found = state.wrong(seed, bench)
            assert not found, f"{seed}: {found}\n{state.text_of(random.Random(seed))[0]}"
    finally:
        bench.laboratory.close()


@pytest.fixture(scope="module")
def faulty(tmp_path_factory: pytest.TempPathFactory) -> Iterator[faults.Laboratory]:
    """A simulated bench behind proxies."""
    laboratory = faults.Laboratory(tmp_path_factory.mktemp("faults"))
    yield laboratory
    laboratory.close()


@pytest.mark.parametrize("part", range(3))
def test_no_fault_of_a_link_or_an_instrument_makes_a_pass(faulty: faults.Laboratory, monkeypatch: pytest.MonkeyPatch, part: int) -> None:  # noqa: E501  # fmt: skip
    monkeypatch.setattr(safety, "PATIENCE", 2.0)
    for name, instrument, nth, times in faults.drawn(len(faults.FAULTS), 42)[part::3]:
        told = faulty.run(name, instrument, nth, times)
        assert not told.wrong, f"{name}, {instrument}, line {nth} x{times}: {told.verdict}: {told.wrong}; {told.reason}"


def test_no_kill_leaves_anything_on_or_loses_a_row(tmp_path: Path) -> None:
    killing = kills.Killing(tmp_path)
    try:
        for i, (kind, share) in enumerate(kills.drawn(len(kills.KINDS), 7)):
            came, wrong = killing.kill(i, kind, share, 30.0)
            assert not wrong, f"{kind} after {share:.0%} of {killing.lasts:.2f} s: {came}: {wrong}"
    finally:
        killing.close()


def test_no_damaged_input_ends_in_anything_but_a_message(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    damaged.make_files(tmp_path)
    monkeypatch.chdir(tmp_path)
    found = damaged.search(250, 3)
    assert not found, found


@pytest.mark.parametrize("link", ["hislip", "vxi11", "serial", "program", "usb"])
def test_no_fault_on_any_other_link_passes_a_unit_on_values_that_are_not_true(tmp_path: Path, link: str) -> None:
    laboratory = faults.Laboratory(tmp_path, link)
    told = [laboratory.run(*fault) for fault in random.Random(link).sample(faults.drawn(len(faults.FAULTS), 3), 8)]
    laboratory.close()
    assert [(one.fault, one.instrument, one.nth, one.wrong) for one in told if one.wrong] == []
